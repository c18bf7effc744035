//! One door for every kind of source.

use std::fs;
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use crate::block::{BlockDevice, Patience};
use crate::{
    CopyLog, FileSource, Masked, Returning, SectorSize, SharedSource, SimulatedDrive, SourceError, SplitSource, copy_log_of,
};

/// How to open a source.
#[derive(Debug, Clone, Copy, Default)]
pub struct OpenOptions {
    /// Logical sector size in bytes to use instead of what the source says.
    pub sector_size: Option<u32>,
    /// How long a device may take to answer one request of a copy; by default a minute.
    pub deadline: Option<Duration>,
    /// A device that does not answer in time is reset: itself, then its port.
    pub resets: bool,
}

/// How long reads wait for a device that was pulled.
const LINK_WAIT: Duration = Duration::from_secs(60);

/// An opened source.
pub type Opened = SharedSource;

/// Opens `path`: a raw image, the first part of a split image (`NAME.001`), a block device, or a simulated drive
/// (`NAME.drive.toml`). Read-only, under a shared advisory lock.
///
/// # Errors
/// [`SourceError`], naming the path and what is wrong with it.
pub fn open(path: &Path, options: OpenOptions) -> Result<Opened, SourceError> {
    let forced = match options.sector_size {
        Some(bytes) => Some(SectorSize::new(bytes).ok_or(SourceError::SectorSize(bytes))?),
        None => None,
    };
    let metadata = fs::metadata(path).map_err(|source| SourceError::Open { path: path.into(), source })?;
    if metadata.file_type().is_block_device() {
        let device = Arc::new(BlockDevice::open(path, forced, Patience { deadline: options.deadline, resets: options.resets })?);
        return Ok(Arc::new(Returning::new(device, LINK_WAIT)));
    }
    // A pipe would be waited for, and a device without an end read for ever.
    if !metadata.is_file() {
        let kind = metadata.file_type();
        let what = match () {
            () if metadata.is_dir() => "a folder",
            () if kind.is_fifo() => "a pipe",
            () if kind.is_socket() => "a socket",
            () if kind.is_char_device() => "a device without places",
            () => "a special file",
        };
        return Err(SourceError::NotASource { path: path.into(), what });
    }
    if path.to_string_lossy().ends_with(".drive.toml") {
        return Ok(Arc::new(SimulatedDrive::open(path, forced)?));
    }
    let sector = forced.unwrap_or_default();
    let parts = split_parts(path);
    if parts.len() > 1 {
        return Ok(Arc::new(SplitSource::open(&parts, sector)?));
    }
    let file = Arc::new(FileSource::open(path, sector)?);
    let log = copy_log_of(path);
    if !log.is_file() {
        return Ok(file);
    }
    // The copy of a drive: what is not in it must not be taken for zeros.
    let (head, map) = CopyLog::read(&log)?;
    let sector = forced.or(SectorSize::new(head.sector)).unwrap_or_default();
    let file = Arc::new(FileSource::open(path, sector)?);
    Ok(Arc::new(Masked::new(file, map.missing(), "the drive did not deliver this place when it was copied")))
}

/// The parts of a split image, when `path` is its first one: `NAME.000` or `NAME.001` and what follows without a gap.
fn split_parts(path: &Path) -> Vec<PathBuf> {
    let mut parts = vec![path.to_path_buf()];
    let first =
        path.extension().and_then(|text| text.to_str()).filter(|text| text.len() == 3).and_then(|text| text.parse::<u32>().ok());
    if let Some(first @ (0 | 1)) = first {
        let more = (first + 1..1000).map(|number| path.with_extension(format!("{number:03}")));
        parts.extend(more.take_while(|part| part.is_file()));
    }
    parts
}
