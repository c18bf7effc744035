//! A raw image in one file.

use std::fs::File;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::Arc;

use rustix::io::Errno;

use crate::error::{ReadCause, ReadError, SourceError};
use crate::filling::ReadBytes;
use crate::lock::{ExclusiveLock, lock_shared};
use crate::target::{FileTarget, WriteTarget};
use crate::{ByteOffset, ByteRange, Identity, Leave, LinkKind, SectorSize, Source, holders, printable, sys};

/// A raw image file, opened read-only under a shared advisory lock. Holes are known and skipped.
pub struct FileSource {
    file: Arc<File>,
    identity: Identity,
}

impl FileSource {
    /// Opens the image at `path` with logical sectors of `sector`.
    ///
    /// # Errors
    /// [`SourceError`] when it cannot be opened, is no regular file, or is smaller than one sector.
    pub fn open(path: &Path, sector: SectorSize) -> Result<Self, SourceError> {
        let opening = |source| SourceError::Open { path: path.into(), source };
        let file = File::open(path).map_err(opening)?;
        let metadata = file.metadata().map_err(opening)?;
        if !metadata.is_file() {
            let what = if metadata.is_dir() { "a folder" } else { "a special file" };
            return Err(SourceError::NotASource { path: path.into(), what });
        }
        let name = file_name(path);
        let bytes = metadata.len();
        if bytes < sector.bytes() {
            return Err(SourceError::TooSmall { name, bytes, sector: sector.0 });
        }
        lock_shared(&file, &name)?;
        let mut identity = Identity::bare(name, bytes, LinkKind::Image);
        identity.path = Some(path.canonicalize().map_err(opening)?);
        identity.logical_sector = sector;
        identity.physical_sector = sector;
        Ok(Self { file: Arc::new(file), identity })
    }
}

pub(crate) fn file_name(path: &Path) -> String {
    printable(&path.file_name().unwrap_or(path.as_os_str()).to_string_lossy())
}

impl Source for FileSource {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        read_descriptor(self.file.as_ref(), at, buf, self.identity.bytes, self.identity.logical_sector)
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        read_once(self.file.as_ref(), at, buf)
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        sys::next_data(&self.file, from.0, self.identity.bytes)
            .map(|(start, end)| ByteRange::new(ByteOffset(start), ByteOffset(end)))
    }

    fn change_mark(&self) -> Option<String> {
        let metadata = self.file.metadata().ok()?;
        Some(format!("{}.{:09} {} {}", metadata.mtime(), metadata.mtime_nsec(), metadata.ino(), metadata.len()))
    }

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        match leave.is_for(&self.identity) {
            true => self.target(),
            false => Err(SourceError::NoLeave { name: self.identity.name.clone() }),
        }
    }
}

impl FileSource {
    /// Opens the image for writing, for a source that it is a part of or that is this image: the leave was asked for there.
    pub(crate) fn target(&self) -> Result<Box<dyn WriteTarget>, SourceError> {
        let name = &self.identity.name;
        let path = self.identity.path.clone().ok_or_else(|| SourceError::NotWritable { name: name.clone() })?;
        let about = self.file.metadata().map_err(|source| SourceError::Open { path: path.clone(), source })?;
        if let Some(how) = holders::use_of_image(holders::file_id(&about)) {
            return Err(SourceError::Mounted { name: name.clone(), how });
        }
        let lock = ExclusiveLock::take(std::slice::from_ref(&self.file), name)?;
        Ok(Box::new(FileTarget::open(&path, &self.file, self.identity.bytes, Some(lock))?))
    }
}

/// Reads `buf` from byte `at` of `file`. When a large read fails it is repeated sector by sector, so that the error
/// names exactly the sectors that do not read; a file that shrank is an error of the missing bytes.
pub(crate) fn read_descriptor(
    file: &dyn ReadBytes,
    at: ByteOffset,
    buf: &mut [u8],
    len: u64,
    sector: SectorSize,
) -> Result<(), ReadError> {
    let wanted = ByteRange::sized(at, buf.len() as u64);
    let readable = usize::try_from(ByteOffset(len) - at).unwrap_or(usize::MAX).min(buf.len());
    let (inside, outside) = buf.split_at_mut(readable);
    outside.fill(0);
    let mut failure = read_whole(file, at, inside, sector);
    if !outside.is_empty() {
        let behind = ByteRange::new(wanted.start.max(ByteOffset(len)), wanted.end);
        match &mut failure {
            Some(error) => error.bad.push(behind),
            None => failure = Some(ReadError::past_end(behind)),
        }
    }
    failure.map_or(Ok(()), Err)
}

fn read_whole(file: &dyn ReadBytes, at: ByteOffset, buf: &mut [u8], sector: SectorSize) -> Option<ReadError> {
    let error = match file.read_bytes(at.0, buf) {
        Ok(filled) if filled == buf.len() => return None,
        Ok(filled) => {
            buf[filled..].fill(0);
            let range = ByteRange::new(at + filled as u64, at + buf.len() as u64);
            let mut shrunk = ReadError::past_end(range);
            shrunk.reason = "the source became shorter while it was open".into();
            return Some(shrunk);
        }
        Err(error) => error,
    };
    let mut bad: Vec<ByteRange> = Vec::new();
    let mut done = 0;
    while done < buf.len() {
        let here = at + done as u64;
        let to_boundary = sector.bytes() - here.0 % sector.bytes();
        let step = usize::try_from(to_boundary).unwrap_or(512).min(buf.len() - done);
        let piece = &mut buf[done..done + step];
        if !matches!(file.read_bytes(here.0, piece), Ok(filled) if filled == step) {
            piece.fill(0);
            match bad.last_mut() {
                Some(last) if last.end == here => last.end = here + step as u64,
                _ => bad.push(ByteRange::sized(here, step as u64)),
            }
        }
        done += step;
    }
    // The repeated reads may all succeed: a transient error that a second try cured.
    (!bad.is_empty()).then(|| ReadError { bad, reason: error.to_string(), cause: cause_of(&error) })
}

/// Reads `buf` from byte `at` of `file` with one request.
pub(crate) fn read_once(file: &dyn ReadBytes, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
    let wanted = ByteRange::sized(at, buf.len() as u64);
    match file.read_bytes(at.0, buf) {
        Ok(filled) if filled == buf.len() => Ok(()),
        Ok(filled) => Err(ReadError::past_end(ByteRange::new(at + filled as u64, wanted.end))),
        Err(error) => Err(ReadError::of(wanted, error.to_string()).because(cause_of(&error))),
    }
}

/// The errors of a device that went away, and of a transfer that failed on its way (the kernel's words for a link, and for
/// a checksum of it); everything else counts as the medium's.
fn cause_of(error: &io::Error) -> ReadCause {
    let is = |causes: &[Errno]| error.raw_os_error().is_some_and(|raw| causes.iter().any(|errno| errno.raw_os_error() == raw));
    if is(&[Errno::NODEV, Errno::NXIO, Errno::NOMEDIUM, Errno::SHUTDOWN]) {
        ReadCause::LinkLost
    } else if is(&[Errno::NOLINK, Errno::ILSEQ, Errno::COMM]) {
        ReadCause::Interface
    } else {
        ReadCause::Medium
    }
}
