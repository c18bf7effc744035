//! The image or device that a copy goes to, and its log.

use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::{FileExt, FileTypeExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use keel_source::{
    ByteOffset, ByteRange, COPY_LOG_VERSION, CopyHead, CopyLog, CopyMap, CopyState, SharedSource, WriteTarget, copy_log_of,
};

use super::CopyOptions;
use super::writer::{Place, Writer};
use crate::case;
use crate::error::{CoreError, Refusal, file_error};
use crate::leave::{Confirmation, Purpose, leave};
use crate::whose::{holds_the_same, not_on_its_own_medium};

/// An opened copy.
pub(super) struct Dest {
    file: Arc<File>,
    path: PathBuf,
    writer: Writer,
    pub(super) log_path: PathBuf,
    pub(super) map: CopyMap,
    pub(super) resumed: bool,
    /// Bytes that were handed over and may not be in the file yet.
    under_way: bool,
    /// Holds the lock of a device.
    _device: Option<Box<dyn WriteTarget>>,
}

/// True when `path` is a block device.
fn is_device(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|about| about.file_type().is_block_device())
}

/// The log of the copy at `path`, unless it is told otherwise: beside an image, in the state folder of a device.
///
/// # Errors
/// [`CoreError::Source`] for a device that does not open.
pub(super) fn log_of(path: &Path) -> Result<PathBuf, CoreError> {
    if is_device(path) {
        let device = keel_source::open(path, keel_source::OpenOptions::default())?;
        return Ok(device_log(device.identity()));
    }
    Ok(copy_log_of(path))
}

/// The log of a copy on a device.
pub(super) fn device_log(identity: &keel_source::Identity) -> PathBuf {
    case::drive_folder(identity).join("copy.ykcopy")
}

impl Dest {
    /// Begins the copy of `source` at `path`, or opens it for going on.
    pub(super) fn open(source: &SharedSource, path: &Path, options: &CopyOptions) -> Result<Self, CoreError> {
        let identity = source.identity();
        let same = |own: &PathBuf| path.canonicalize().is_ok_and(|path| Some(path) == own.canonicalize().ok());
        if identity.path.as_ref().is_some_and(same) {
            return Err(Refusal::CopyOntoItself.into());
        }
        if source.is_empty() {
            return Err(CoreError::Nothing("the drive reports 0 bytes: there is nothing to copy"));
        }
        let head = CopyHead {
            version: COPY_LOG_VERSION,
            source: identity.key(),
            bytes: source.len(),
            sector: u32::try_from(identity.logical_sector.bytes()).unwrap_or(512),
            log: None,
        };
        not_on_its_own_medium(source.as_ref(), path)?;
        options.log.iter().try_for_each(|log| not_on_its_own_medium(source.as_ref(), log))?;
        match is_device(path) {
            true => Self::on_device(source, path, &head, options),
            false => Self::as_image(source, path, &head, options),
        }
    }

    fn as_image(source: &SharedSource, path: &Path, head: &CopyHead, options: &CopyOptions) -> Result<Self, CoreError> {
        let beside = copy_log_of(path);
        let log_path = options.log.clone().unwrap_or_else(|| beside.clone());
        // A log that stands elsewhere is named beside the copy: nobody shall open the copy without it, and nobody shall
        // take it for the log of another file.
        let named = match log_path == beside {
            true => None,
            false => Some(std::path::absolute(&log_path).map_err(file_error("find", &log_path))?),
        };
        let is_named = named.is_none() || CopyLog::head(&beside).is_ok_and(|head| head.log == named);
        if path.exists() && !(is_named && log_path.exists()) {
            return Err(Refusal::CopyExists { path: path.into() }.into());
        }
        if log_path.exists() {
            return Self::go_on(source, path, log_path, head);
        }
        if named.is_some() && !is_named {
            CopyLog::create(&beside, &CopyHead { log: named, ..head.clone() })?;
        }
        let log = CopyLog::create(&log_path, head)?;
        let file = image(path, true)?;
        file.set_len(head.bytes).map_err(file_error("write", path))?;
        file.sync_all().map_err(file_error("flush", path))?;
        Ok(Self::of(file, path, log, log_path, CopyMap::new(head.bytes), false, None))
    }

    fn go_on(source: &SharedSource, path: &Path, log_path: PathBuf, head: &CopyHead) -> Result<Self, CoreError> {
        // Looked at before it is opened for going on: the log of another copy stays as it is.
        let (of, map) = CopyLog::read(&log_path)?;
        if of != *head {
            return Err(Refusal::OtherCopy { log: log_path }.into());
        }
        // Killed before anything was copied, a copy has a log and no file yet, or an empty one.
        let fresh = map == CopyMap::new(head.bytes);
        let file = image(path, fresh && !path.exists())?;
        let len = file.metadata().map_err(file_error("read", path))?.len();
        if fresh && len == 0 {
            file.set_len(head.bytes).map_err(file_error("write", path))?;
        } else if len != head.bytes {
            return Err(Refusal::OtherCopy { log: log_path }.into());
        }
        if !is_of(&file, &map, source) {
            return Err(Refusal::OtherCopy { log: log_path }.into());
        }
        let (log, _, map) = CopyLog::go_on(&log_path)?;
        Ok(Self::of(file, path, log, log_path, map, true, None))
    }

    /// A copy on a device of its own: everything on it is lost, so that its code is wanted, also for going on.
    fn on_device(source: &SharedSource, path: &Path, head: &CopyHead, options: &CopyOptions) -> Result<Self, CoreError> {
        let device = keel_source::open(path, keel_source::OpenOptions::default())?;
        let identity = device.identity();
        let leave = leave(&device, options.confirmation.as_ref().unwrap_or(&Confirmation::Yes), Purpose::Overwrite)?;
        if device.len() < head.bytes {
            return Err(Refusal::DestinationSmall { name: identity.name.clone(), bytes: device.len(), wanted: head.bytes }.into());
        }
        let target = device.open_target(&leave)?;
        let log_path = options.log.clone().unwrap_or_else(|| device_log(identity));
        if let Some(folder) = log_path.parent() {
            fs::create_dir_all(folder).map_err(file_error("create", folder))?;
        }
        // What the leave was for is what is written, whatever stands under the path by now.
        let file = target.descriptor().ok_or(CoreError::Nothing("the device does not open for writing"))?;
        if log_path.exists() {
            let (of, map) = CopyLog::read(&log_path)?;
            if of != *head || !is_of(&file, &map, source) {
                return Err(Refusal::OtherCopy { log: log_path }.into());
            }
            let (log, _, map) = CopyLog::go_on(&log_path)?;
            return Ok(Self::of(file, path, log, log_path, map, true, Some(target)));
        }
        let log = CopyLog::create(&log_path, head)?;
        Ok(Self::of(file, path, log, log_path, CopyMap::new(head.bytes), false, Some(target)))
    }

    fn of(
        file: File,
        path: &Path,
        log: CopyLog,
        log_path: PathBuf,
        map: CopyMap,
        resumed: bool,
        device: Option<Box<dyn WriteTarget>>,
    ) -> Self {
        let file = Arc::new(file);
        let place = Place { file: Arc::clone(&file), path: path.into(), holds_something: resumed, device: device.is_some() };
        let writer = Writer::start(place, log);
        Self { file, path: path.into(), writer, log_path, map, resumed, under_way: false, _device: device }
    }

    /// Takes what was read at `at`: the first `len` bytes of the buffer. A buffer for the next read comes back.
    pub(super) fn write(&mut self, at: ByteOffset, bytes: Vec<u8>, len: usize) -> Result<Vec<u8>, CoreError> {
        if len == 0 {
            return Ok(bytes);
        }
        self.map.set(ByteRange::sized(at, len as u64), CopyState::Copied);
        self.under_way = true;
        self.writer.data(at, bytes, len)
    }

    /// Notes a stretch that the drive knows to be a hole.
    pub(super) fn hole(&mut self, range: ByteRange) -> Result<(), CoreError> {
        if range.is_empty() {
            return Ok(());
        }
        self.map.set(range, CopyState::Copied);
        self.writer.hole(range)
    }

    /// What the copy holds at `at`.
    pub(super) fn read(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), CoreError> {
        if self.under_way {
            self.flush()?;
        }
        self.file.read_exact_at(buf, at.0).map_err(file_error("read", &self.path))
    }

    /// Notes what became known of a stretch.
    pub(super) fn set_state(&mut self, range: ByteRange, state: CopyState) -> Result<(), CoreError> {
        if range.is_empty() {
            return Ok(());
        }
        self.map.set(range, state);
        self.writer.state(range, state)
    }

    /// Makes the copy durable, then the log.
    pub(super) fn flush(&mut self) -> Result<(), CoreError> {
        self.writer.flush()?;
        self.under_way = false;
        Ok(())
    }

    /// Makes everything durable and ends; what is known of the copy comes back.
    pub(super) fn end(self) -> Result<CopyMap, CoreError> {
        self.writer.end()?;
        Ok(self.map)
    }
}

/// True when the copy in `file` is one of `source`. Another card in the same reader calls itself alike.
pub(super) fn is_of(file: &File, map: &CopyMap, source: &SharedSource) -> bool {
    let read = |at: ByteOffset, buf: &mut [u8]| file.read_exact_at(buf, at.0).is_ok();
    holds_the_same(&read, &map.ranges(&[CopyState::Copied]), source)
}

/// Opens the image at `path`, or makes it.
fn image(path: &Path, new: bool) -> Result<File, CoreError> {
    let (action, mut options) = (if new { "create" } else { "open" }, OpenOptions::new());
    // A link is not followed: what it leads to was never begun as this copy.
    let flags = rustix::fs::OFlags::NOFOLLOW.bits().cast_signed();
    let file = options.read(true).write(true).create_new(new).custom_flags(flags).open(path).map_err(file_error(action, path))?;
    Ok(file)
}
