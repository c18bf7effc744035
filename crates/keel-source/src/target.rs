//! Writing: a trait apart from reading, with a latch that blocks everything after the first failure.

use std::fs::{File, OpenOptions};
use std::os::unix::fs::FileExt;
use std::path::Path;

use crate::lock::ExclusiveLock;
use crate::{ByteOffset, SourceError};

/// A source opened for writing under an exclusive lock.
///
/// After the first failed write or flush every later write answers with an error until the target is opened anew:
/// what the drive holds is then unknown, and the undo bundle is the way back.
pub trait WriteTarget: Send {
    /// Length in bytes.
    fn len(&self) -> u64;

    /// True for a target of no bytes.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Writes all of `bytes` at byte `at`.
    ///
    /// # Errors
    /// [`SourceError::Write`] with the position; also for a range behind the end.
    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError>;

    /// Makes everything written durable.
    ///
    /// # Errors
    /// [`SourceError::Write`] when the system cannot promise it.
    fn flush(&mut self) -> Result<(), SourceError>;

    /// Reads back what the drive holds now.
    ///
    /// # Errors
    /// [`SourceError::Write`] when it does not read.
    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError>;

    /// Lets the system forget what it keeps of the drive in memory, so that the next reading asks the drive itself. Only
    /// what was flushed is forgotten.
    fn forget(&mut self) {}
}

#[expect(clippy::needless_pass_by_value, reason = "errors are handed over as they come")]
fn failed(action: &'static str, at: ByteOffset, reason: impl ToString) -> SourceError {
    SourceError::Write { action, at, reason: reason.to_string() }
}

fn check_range(at: ByteOffset, bytes: usize, len: u64) -> Result<(), SourceError> {
    match at.checked_add(bytes as u64) {
        Some(end) if end.0 <= len => Ok(()),
        _ => Err(failed("write", at, format!("{bytes} bytes reach behind the end at byte {len}"))),
    }
}

/// A file or device opened for writing.
pub(crate) struct FileTarget {
    file: File,
    len: u64,
    poisoned: Option<String>,
    _lock: Option<ExclusiveLock>,
}

impl FileTarget {
    pub(crate) fn open(path: &Path, len: u64, lock: Option<ExclusiveLock>) -> Result<Self, SourceError> {
        let file = OpenOptions::new()
            .read(true)
            .write(true)
            .open(path)
            .map_err(|source| SourceError::Open { path: path.into(), source })?;
        Ok(Self { file, len, poisoned: None, _lock: lock })
    }

    fn latch<T>(&mut self, action: &'static str, at: ByteOffset, result: std::io::Result<T>) -> Result<T, SourceError> {
        result.map_err(|error| {
            self.poisoned = Some(error.to_string());
            failed(action, at, error)
        })
    }

    fn refuse_when_poisoned(&self, at: ByteOffset) -> Result<(), SourceError> {
        self.poisoned.as_ref().map_or(Ok(()), |reason| Err(failed("write", at, format!("an earlier write failed ({reason})"))))
    }
}

impl WriteTarget for FileTarget {
    fn len(&self) -> u64 {
        self.len
    }

    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        self.refuse_when_poisoned(at)?;
        check_range(at, bytes.len(), self.len)?;
        let result = self.file.write_all_at(bytes, at.0);
        self.latch("write", at, result)
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        self.refuse_when_poisoned(ByteOffset(0))?;
        let result = self.file.sync_all();
        self.latch("flush", ByteOffset(0), result)
    }

    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        self.file.read_exact_at(buf, at.0).map_err(|error| failed("read back", at, error))
    }

    fn forget(&mut self) {
        // What cannot be forgotten is read from memory: the drive's own cache is met with other means.
        let _ = rustix::fs::fadvise(&self.file, 0, None, rustix::fs::Advice::DontNeed);
    }
}

/// A target in memory that records every write and flush: what the crash tests rebuild their images from.
#[derive(Debug, Clone, Default)]
pub struct MemoryTarget {
    /// The bytes as they are now.
    pub bytes: Vec<u8>,
    /// Every step so far: `Some((at, bytes))` for a write, `None` for a flush.
    pub steps: Vec<Option<(ByteOffset, Vec<u8>)>>,
    /// Fail the n-th write from now on, once this many steps were taken.
    pub fail_after: Option<usize>,
}

impl MemoryTarget {
    /// A target over `bytes`.
    #[must_use]
    pub fn new(bytes: Vec<u8>) -> Self {
        Self { bytes, ..Self::default() }
    }

    fn step(&mut self, at: ByteOffset, action: &'static str) -> Result<(), SourceError> {
        match self.fail_after {
            Some(limit) if self.steps.len() >= limit => Err(failed(action, at, "the drive does not take it")),
            _ => Ok(()),
        }
    }
}

impl WriteTarget for MemoryTarget {
    fn len(&self) -> u64 {
        self.bytes.len() as u64
    }

    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        check_range(at, bytes.len(), self.len())?;
        self.step(at, "write")?;
        let start = usize::try_from(at.0).map_err(|error| failed("write", at, error))?;
        self.bytes[start..start + bytes.len()].copy_from_slice(bytes);
        self.steps.push(Some((at, bytes.to_vec())));
        Ok(())
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        self.step(ByteOffset(0), "flush")?;
        self.steps.push(None);
        Ok(())
    }

    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        check_range(at, buf.len(), self.len())?;
        let start = usize::try_from(at.0).map_err(|error| failed("read back", at, error))?;
        buf.copy_from_slice(&self.bytes[start..start + buf.len()]);
        Ok(())
    }
}
