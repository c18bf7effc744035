//! The image that a copy goes to, and its log: the image is durable before the log says so.

use std::fs::{File, OpenOptions};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use keel_source::{ByteOffset, ByteRange, COPY_LOG_VERSION, CopyHead, CopyLog, CopyMap, CopyState, SharedSource, copy_log_of};

use crate::error::{CoreError, Refusal, file_error};

/// What at most is read again after a power loss: flushing oftener costs more than it saves.
const FLUSH_BYTES: u64 = 1 << 30;
/// As above, in time: a sick drive delivers little.
const FLUSH_EVERY: Duration = Duration::from_secs(10);

/// An opened copy.
pub(super) struct Dest {
    file: File,
    path: PathBuf,
    log: CopyLog,
    pub(super) log_path: PathBuf,
    pub(super) map: CopyMap,
    pub(super) resumed: bool,
    /// What became known since the last flush, neighbours joined.
    waiting: Vec<(ByteRange, CopyState)>,
    waiting_bytes: u64,
    flushed: Instant,
}

impl Dest {
    /// Begins the copy of `source` at `path`, or opens it for going on.
    pub(super) fn open(source: &SharedSource, path: &Path, log: Option<&Path>) -> Result<Self, CoreError> {
        let identity = source.identity();
        let same = |own: &PathBuf| path.canonicalize().is_ok_and(|path| Some(path) == own.canonicalize().ok());
        if identity.path.as_ref().is_some_and(same) {
            return Err(Refusal::CopyOntoItself.into());
        }
        let beside = copy_log_of(path);
        let log_path = log.map_or_else(|| beside.clone(), PathBuf::from);
        let head = CopyHead {
            version: COPY_LOG_VERSION,
            source: identity.key(),
            bytes: source.len(),
            sector: u32::try_from(identity.logical_sector.bytes()).unwrap_or(512),
            log: None,
        };
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
            return Self::go_on(path, log_path, &head);
        }
        if named.is_some() && !is_named {
            CopyLog::create(&beside, &CopyHead { log: named, ..head.clone() })?;
        }
        let log = CopyLog::create(&log_path, &head)?;
        let file = image(path, true)?;
        file.set_len(head.bytes).map_err(file_error("write", path))?;
        file.sync_all().map_err(file_error("flush", path))?;
        Ok(Self::of(file, path, log, log_path, CopyMap::new(head.bytes), false))
    }

    fn go_on(path: &Path, log_path: PathBuf, head: &CopyHead) -> Result<Self, CoreError> {
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
        let (log, _, map) = CopyLog::go_on(&log_path)?;
        Ok(Self::of(file, path, log, log_path, map, true))
    }

    fn of(file: File, path: &Path, log: CopyLog, log_path: PathBuf, map: CopyMap, resumed: bool) -> Self {
        let (waiting, flushed) = (Vec::new(), Instant::now());
        Self { file, path: path.into(), log, log_path, map, resumed, waiting, waiting_bytes: 0, flushed }
    }

    /// Writes what was read at `at`. Zeros stay a hole.
    pub(super) fn write(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), CoreError> {
        if bytes.iter().any(|byte| *byte != 0) || (self.resumed && self.holds_something(at, bytes.len())) {
            self.file.write_all_at(bytes, at.0).map_err(file_error("write", &self.path))?;
        }
        self.settle(ByteRange::sized(at, bytes.len() as u64), CopyState::Copied)
    }

    /// What the copy holds at `at`.
    pub(super) fn read(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), CoreError> {
        self.file.read_exact_at(buf, at.0).map_err(file_error("read", &self.path))
    }

    /// Whether something stands at `at` in a copy that goes on: what was written when the power failed.
    fn holds_something(&self, at: ByteOffset, len: usize) -> bool {
        let mut there = vec![0; len];
        self.file.read_exact_at(&mut there, at.0).is_err() || there.iter().any(|byte| *byte != 0)
    }

    /// Notes what became known of a stretch.
    pub(super) fn settle(&mut self, range: ByteRange, state: CopyState) -> Result<(), CoreError> {
        if range.is_empty() {
            return Ok(());
        }
        self.map.set(range, state);
        match self.waiting.last_mut() {
            Some((last, as_well)) if *as_well == state && last.end == range.start => last.end = range.end,
            _ => self.waiting.push((range, state)),
        }
        self.waiting_bytes += range.len();
        if self.waiting_bytes >= FLUSH_BYTES || self.flushed.elapsed() >= FLUSH_EVERY {
            self.flush()?;
        }
        Ok(())
    }

    /// Makes the copy durable, then the log.
    pub(super) fn flush(&mut self) -> Result<(), CoreError> {
        self.file.sync_data().map_err(file_error("flush", &self.path))?;
        self.waiting.drain(..).for_each(|(range, state)| self.log.note(range, state));
        self.log.flush()?;
        (self.waiting_bytes, self.flushed) = (0, Instant::now());
        Ok(())
    }
}

/// Opens the image at `path`, or makes it.
fn image(path: &Path, new: bool) -> Result<File, CoreError> {
    let (action, mut options) = (if new { "create" } else { "open" }, OpenOptions::new());
    options.read(true).write(true).create_new(new).open(path).map_err(file_error(action, path))
}
