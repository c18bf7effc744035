//! A drive that claims more than it stores, as far as it stores.

use std::time::Duration;

use crate::hand_on::hand_on;
use crate::{
    Budget, ByteOffset, ByteRange, Identity, Leave, ReadCause, ReadError, SharedSource, Source, SourceError, WriteTarget,
};

/// The drive below up to its true end. Its identity stays what the drive claims; only its length is the true one.
pub struct Stored {
    below: SharedSource,
    len: u64,
}

impl Stored {
    /// `below` up to byte `len`.
    #[must_use]
    pub fn new(below: SharedSource, len: u64) -> Self {
        let len = len.min(below.len());
        Self { below, len }
    }

    /// Reads by `read` what lies before the true end.
    fn cut(
        &self,
        at: ByteOffset,
        buf: &mut [u8],
        read: impl FnOnce(&mut [u8]) -> Result<(), ReadError>,
    ) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let inside = usize::try_from(ByteOffset(self.len) - at).unwrap_or(usize::MAX).min(buf.len());
        let (head, tail) = buf.split_at_mut(inside);
        tail.fill(0);
        let result = if head.is_empty() { Ok(()) } else { read(head) };
        if tail.is_empty() {
            return result;
        }
        let behind = ByteRange::new(wanted.start.max(ByteOffset(self.len)), wanted.end);
        let mut error = result.err().unwrap_or_else(|| ReadError { bad: Vec::new(), ..ReadError::past_end(behind) });
        error.bad.push(behind);
        error.cause = ReadCause::PastEnd;
        Err(error)
    }
}

impl Source for Stored {
    fn identity(&self) -> &Identity {
        self.below.identity()
    }

    fn budget(&self) -> Option<&Budget> {
        self.below.budget()
    }

    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.cut(at, buf, |head| self.below.read_at(at, head))
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.cut(at, buf, |head| self.below.read_once(at, head))
    }

    fn missing(&self) -> &[ByteRange] {
        self.below.missing()
    }

    fn elapsed(&self) -> Option<Duration> {
        self.below.elapsed()
    }

    hand_on!(self, self.below);

    fn look_up_anew(&self) -> Result<SharedSource, SourceError> {
        self.below.look_up_anew()
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        if from.0 >= self.len {
            return None;
        }
        self.below.next_data(from)?.overlap(ByteRange::new(from, ByteOffset(self.len)))
    }

    fn change_mark(&self) -> Option<String> {
        self.below.change_mark().map(|mark| format!("{mark} up to {}", self.len))
    }

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        self.below.open_target(leave)
    }
}
