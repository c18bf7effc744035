//! A file's stream as the packages want it, within what a preview may cost.

use std::io::{self, Read, Seek, SeekFrom};
use std::sync::{Mutex, PoisonError};

use keel_format::StreamReader;
use symphonia::core::io::MediaSource;

use crate::job::Cancel;

/// The most bytes that are read of one file.
const MOST_READ: u64 = 48 << 20;
/// The most bytes of one read.
const STEP: usize = 1 << 20;

/// A stream that is read from any place, for so many bytes; what does not read is an error.
pub(super) struct Within {
    stream: Mutex<Box<dyn StreamReader>>,
    bytes: u64,
    at: u64,
    left: u64,
    cancel: Cancel,
}

impl Within {
    pub(super) fn new(stream: Box<dyn StreamReader>, cancel: Cancel) -> Self {
        Self { bytes: stream.bytes(), stream: Mutex::new(stream), at: 0, left: MOST_READ, cancel }
    }

    pub(super) fn len(&self) -> u64 {
        self.bytes
    }
}

impl Read for Within {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        if self.cancel.is_cancelled() {
            return Err(io::Error::other("stopped"));
        }
        let behind = self.bytes.saturating_sub(self.at);
        let len = usize::try_from(behind).unwrap_or(STEP).min(buf.len()).min(STEP);
        self.left = self.left.checked_sub(len as u64).ok_or_else(|| io::Error::other("it takes more than a preview may cost"))?;
        let Some(buf) = buf.get_mut(..len).filter(|buf| !buf.is_empty()) else { return Ok(0) };
        let bad = self.stream.get_mut().unwrap_or_else(PoisonError::into_inner).read(self.at, buf);
        if let Some(first) = bad.first() {
            return Err(io::Error::other(format!("byte {} of it does not read", first.start.0)));
        }
        self.at += len as u64;
        Ok(len)
    }
}

impl Seek for Within {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let to = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.bytes.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = to.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "before the start"))?;
        Ok(self.at)
    }
}

impl MediaSource for Within {
    fn is_seekable(&self) -> bool {
        true
    }

    fn byte_len(&self) -> Option<u64> {
        Some(self.bytes)
    }
}
