//! Writing: a trait apart from reading, with a latch that blocks everything after the first failure.

use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::{FileExt, FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};

use rustix::fs::{FallocateFlags, OFlags};
use rustix::io::Errno;

use crate::direct::Direct;
use crate::filling::ReadBytes;
use crate::lock::ExclusiveLock;
use crate::{ByteOffset, Payload, SourceError, holders, sys};

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

    /// Writes `bytes` zeros from byte `at` on: by one request where the system knows how, else piece by piece.
    ///
    /// # Errors
    /// As [`WriteTarget::write_at`].
    fn write_zeros(&mut self, at: ByteOffset, bytes: u64) -> Result<(), SourceError> {
        Payload::zeros(bytes).each_piece(|from, piece| self.write_at(at + from, piece))
    }

    /// Writes all of `payload` at byte `at`.
    ///
    /// # Errors
    /// As [`WriteTarget::write_at`].
    fn write_payload(&mut self, at: ByteOffset, payload: &Payload) -> Result<(), SourceError> {
        match payload.is_zeros() {
            true => self.write_zeros(at, payload.len()),
            false => payload.each_piece(|from, piece| self.write_at(at + from, piece)),
        }
    }

    /// As [`WriteTarget::write_at`], past the system's memory where it can be: at the rate of the drive. Bytes of whole sectors that begin
    /// at a page of memory ([`crate::PageBuf`]) are written so.
    ///
    /// # Errors
    /// As [`WriteTarget::write_at`].
    fn write_direct(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        self.write_at(at, bytes)
    }

    /// As [`WriteTarget::read_back`], past the system's memory where it can be.
    ///
    /// # Errors
    /// As [`WriteTarget::read_back`].
    fn read_direct(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        self.read_back(at, buf)
    }

    /// Asks the target itself for `bytes` zeros from byte `at` on, by one request, without handing them over: by giving the ground up
    /// where it then reads zeros for certain, or by its own writing. False where it knows neither; nothing is written then.
    ///
    /// # Errors
    /// As [`WriteTarget::write_at`].
    fn zero_itself(&mut self, _at: ByteOffset, _bytes: u64) -> Result<bool, SourceError> {
        Ok(false)
    }

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

    /// Another handle on what is written, for a writer of its own; none where there is no single file.
    fn descriptor(&self) -> Option<File> {
        None
    }

    /// Lets the system forget what it keeps of the drive in memory, so that the next reading asks the drive itself. Only
    /// what was flushed is forgotten.
    fn forget(&mut self) {}
}

#[expect(clippy::needless_pass_by_value, reason = "errors are handed over as they come")]
fn failed(action: &'static str, at: ByteOffset, reason: impl ToString) -> SourceError {
    SourceError::Write { action, at, reason: reason.to_string() }
}

fn check_range(at: ByteOffset, bytes: u64, len: u64) -> Result<(), SourceError> {
    match at.checked_add(bytes) {
        Some(end) if end.0 <= len => Ok(()),
        _ => Err(failed("write", at, format!("{bytes} bytes reach behind the end at byte {len}"))),
    }
}

/// Targets that are open now.
static OPEN: AtomicUsize = AtomicUsize::new(0);

/// True while anything is open for writing: whoever ends the program waits for that.
#[must_use]
pub fn is_writing() -> bool {
    OPEN.load(Ordering::SeqCst) > 0
}

/// Counts among the open targets while it lives.
struct Counted;

impl Counted {
    fn new() -> Self {
        OPEN.fetch_add(1, Ordering::SeqCst);
        Self
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        OPEN.fetch_sub(1, Ordering::SeqCst);
    }
}

/// A file or device opened for writing.
pub(crate) struct FileTarget {
    file: File,
    path: PathBuf,
    len: u64,
    poisoned: Option<String>,
    /// The same, past the system's memory; none where the system cannot, or nobody asked yet.
    direct: Option<Direct>,
    _lock: Option<ExclusiveLock>,
    _counted: Counted,
}

impl FileTarget {
    /// Opens what stands under `path` for writing, when it is the file that `read` was opened of, with `len` bytes: what was looked
    /// at is what is written. A device is opened exclusively: the kernel refuses while anything of its own holds it or a part of it.
    pub(crate) fn open(path: &Path, read: &File, len: u64, lock: Option<ExclusiveLock>) -> Result<Self, SourceError> {
        let opening = |source| SourceError::Open { path: path.into(), source };
        let about = read.metadata().map_err(opening)?;
        let is_device = about.file_type().is_block_device();
        // The path was canonical when it was opened: a link there was put since.
        let flags = if is_device { OFlags::NOFOLLOW | OFlags::EXCL } else { OFlags::NOFOLLOW };
        let opened = OpenOptions::new().read(true).write(true).custom_flags(flags.bits().cast_signed()).open(path);
        let file = match opened {
            Err(error) if is_device && error.raw_os_error() == Some(Errno::BUSY.raw_os_error()) => {
                let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                return Err(SourceError::Mounted { name, how: "the kernel holds it or a part of it".into() });
            }
            Err(error) if error.raw_os_error() == Some(Errno::LOOP.raw_os_error()) => {
                return Err(SourceError::Replaced { path: path.into(), what: "a link stands there now" });
            }
            other => other.map_err(opening)?,
        };
        let target = Self { file, path: path.into(), len, poisoned: None, direct: None, _lock: lock, _counted: Counted::new() };
        let own = target.file.metadata().map_err(opening)?;
        if holders::file_id(&own) != holders::file_id(&about) || own.rdev() != about.rdev() {
            return Err(SourceError::Replaced { path: path.into(), what: "another file or device stands there now" });
        }
        target.still_there()?;
        Ok(target)
    }

    /// The file still stands under its path, as long as it was.
    fn still_there(&self) -> Result<(), SourceError> {
        let replaced = |what| Err(SourceError::Replaced { path: self.path.clone(), what });
        let (Ok(own), Ok(there)) = (self.file.metadata(), fs::symlink_metadata(&self.path)) else {
            return replaced("nothing stands there now");
        };
        let len = match own.file_type().is_block_device() {
            true => sys::device_bytes(&self.file).unwrap_or(0),
            false => own.len(),
        };
        if holders::file_id(&own) != holders::file_id(&there) {
            return replaced("another file or device stands there now");
        }
        if len < self.len { replaced("it was cut short") } else { Ok(()) }
    }

    fn latch<T>(&mut self, action: &'static str, at: ByteOffset, result: std::io::Result<T>) -> Result<T, SourceError> {
        result.map_err(|error| {
            self.poisoned = Some(error.to_string());
            failed(action, at, error)
        })
    }

    fn is_device(&self) -> bool {
        self.file.metadata().is_ok_and(|about| about.file_type().is_block_device())
    }

    fn direct(&mut self) -> Option<&Direct> {
        if self.direct.is_none() {
            // Of a file any multiple of a page is whole.
            let unit = if self.is_device() { u64::from(sys::device_logical_sector(&self.file).ok()?) } else { 4096 };
            self.direct = Direct::open_to_write(&self.file, unit);
        }
        self.direct.as_ref()
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
        check_range(at, bytes.len() as u64, self.len)?;
        let result = self.file.write_all_at(bytes, at.0);
        self.latch("write", at, result)
    }

    fn write_zeros(&mut self, at: ByteOffset, bytes: u64) -> Result<(), SourceError> {
        self.refuse_when_poisoned(at)?;
        check_range(at, bytes, self.len)?;
        // An image gets a hole, a device is asked to write zeros itself. What knows neither is written to.
        let how = if self.is_device() { FallocateFlags::ZERO_RANGE } else { FallocateFlags::PUNCH_HOLE };
        if bytes > 0 && rustix::fs::fallocate(&self.file, how | FallocateFlags::KEEP_SIZE, at.0, bytes).is_ok() {
            return Ok(());
        }
        Payload::zeros(bytes).each_piece(|from, piece| self.write_at(at + from, piece))
    }

    fn write_direct(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        self.refuse_when_poisoned(at)?;
        check_range(at, bytes.len() as u64, self.len)?;
        match self.direct().and_then(|direct| direct.write_bytes(at.0, bytes)) {
            Some(written) => self.latch("write", at, written),
            None => self.write_at(at, bytes),
        }
    }

    fn read_direct(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        let read = self.direct().map(|direct| direct.read_bytes(at.0, buf));
        match read {
            Some(Ok(bytes)) if bytes == buf.len() => Ok(()),
            Some(Err(error)) => Err(failed("read back", at, error)),
            _ => self.read_back(at, buf),
        }
    }

    fn zero_itself(&mut self, at: ByteOffset, bytes: u64) -> Result<bool, SourceError> {
        self.refuse_when_poisoned(at)?;
        check_range(at, bytes, self.len)?;
        let asked = |how: FallocateFlags| rustix::fs::fallocate(&self.file, how | FallocateFlags::KEEP_SIZE, at.0, bytes).is_ok();
        Ok(bytes == 0 || asked(FallocateFlags::PUNCH_HOLE) || asked(FallocateFlags::ZERO_RANGE))
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        self.refuse_when_poisoned(ByteOffset(0))?;
        let result = self.file.sync_all();
        self.latch("flush", ByteOffset(0), result)?;
        self.still_there()
    }

    fn descriptor(&self) -> Option<File> {
        self.file.try_clone().ok()
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
        check_range(at, bytes.len() as u64, self.len())?;
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
        check_range(at, buf.len() as u64, self.len())?;
        let start = usize::try_from(at.0).map_err(|error| failed("read back", at, error))?;
        buf.copy_from_slice(&self.bytes[start..start + buf.len()]);
        Ok(())
    }
}
