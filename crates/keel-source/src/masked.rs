//! A source of which some places are known to be missing: the copy of a sick drive.

use crate::memory::blank_out;
use crate::{
    Budget, ByteOffset, ByteRange, Identity, Leave, ReadCause, ReadError, SharedSource, Source, SourceError, WriteTarget,
};

/// `below` with `missing` places that do not read: they are errors, never zeros.
pub struct Masked {
    below: SharedSource,
    missing: Vec<ByteRange>,
    reason: &'static str,
}

impl Masked {
    /// `below` without `missing`, for `reason`.
    #[must_use]
    pub fn new(below: SharedSource, missing: Vec<ByteRange>, reason: &'static str) -> Self {
        Self { below, missing, reason }
    }
}

impl Source for Masked {
    fn identity(&self) -> &Identity {
        self.below.identity()
    }

    fn budget(&self) -> Option<&Budget> {
        self.below.budget()
    }

    fn len(&self) -> u64 {
        self.below.len()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let read = self.below.read_at(at, buf);
        let from = self.missing.partition_point(|range| range.end <= wanted.start);
        let near = self.missing.get(from..).unwrap_or_default();
        let to = near.partition_point(|range| range.start < wanted.end);
        let bad = blank_out(near.get(..to).unwrap_or_default(), wanted, buf);
        if bad.is_empty() {
            return read;
        }
        let mut error = ReadError { bad, reason: self.reason.into(), cause: ReadCause::Medium };
        if let Err(other) = read {
            error.bad.extend(other.bad);
            error.cause = other.cause;
        }
        Err(error)
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        // A missing place reads as an error, not as a hole.
        let data = self.below.next_data(from);
        let index = self.missing.partition_point(|range| range.end <= from);
        let missing = self.missing.get(index).map(|range| ByteRange::new(range.start.max(from), range.end));
        match (data, missing) {
            (Some(data), Some(missing)) if missing.start < data.start => Some(missing),
            (data, missing) => data.or(missing),
        }
    }

    fn missing(&self) -> &[ByteRange] {
        &self.missing
    }

    fn change_mark(&self) -> Option<String> {
        let missing: u64 = self.missing.iter().map(|range| range.len()).sum();
        self.below.change_mark().map(|mark| format!("{mark} without {missing}"))
    }

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        self.below.open_target(leave)
    }
}
