//! Writing to a simulated drive.

use std::sync::Arc;

use super::State;
use crate::split::SplitTarget;
use crate::target::FileTarget;
use crate::{ByteOffset, ByteRange, ExclusiveLock, ReadCause, SourceError, WriteTarget};

/// A stretch of the spill file, addressed from its own start.
pub(super) struct Shifted {
    pub(super) inner: FileTarget,
    pub(super) gap: ByteRange,
}

impl WriteTarget for Shifted {
    fn len(&self) -> u64 {
        self.gap.len()
    }

    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        self.inner.write_at(self.gap.start + at.0, bytes)
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        self.inner.flush()
    }

    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        self.inner.read_back(self.gap.start + at.0, buf)
    }

    fn forget(&mut self) {
        self.inner.forget();
    }
}

/// A simulated drive opened for writing: it takes writes as the drive does, faults, cache and lie included.
pub(super) struct SimulatedTarget {
    pub(super) state: Arc<State>,
    pub(super) store: SplitTarget,
    pub(super) _lock: ExclusiveLock,
}

impl WriteTarget for SimulatedTarget {
    fn len(&self) -> u64 {
        self.state.identity.bytes
    }

    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        let failed = |at, reason: String| SourceError::Write { action: "write", at, reason };
        let wanted = ByteRange::sized(at, bytes.len() as u64);
        if wanted.end.0 > self.len() {
            return Err(failed(at, format!("{} bytes reach behind the end at byte {}", bytes.len(), self.len())));
        }
        let mut carried = self.state.transfer(wanted);
        for _ in 0..super::SYSTEM_TRIES {
            if carried.as_ref().is_err_and(|error| error.cause == ReadCause::Interface) {
                carried = self.state.transfer(wanted);
            }
        }
        carried.map_err(|error| failed(at, error.reason))?;
        self.state.tick_write(bytes.len() as u64);
        if self.state.write_protected {
            return Err(failed(at, "the drive is write-protected".into()));
        }
        if let Some(hit) = self.state.faults.unwritable(wanted) {
            return Err(failed(hit, "uncorrectable medium error".into()));
        }
        self.state.medium.write(&mut self.store, at.0, bytes)
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        if self.state.medium.flush_empties {
            self.state.medium.write_through(&mut self.store)?;
        }
        self.store.flush()
    }

    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        self.state.read(at, buf, false).map_err(|error| {
            let place = error.bad.first().map_or(at, |bad| bad.start);
            SourceError::Write { action: "read back", at: place, reason: error.reason }
        })
    }
}

impl Drop for SimulatedTarget {
    /// A drive that is left alone writes down what its cache holds.
    fn drop(&mut self) {
        let _ = self.state.medium.write_through(&mut self.store);
    }
}
