//! A source of which some places are known to be missing: the copy of a sick drive.

use crate::hand_on::hand_on;
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

    hand_on!(self, self.below);

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        self.below.open_target(leave)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::MemorySource;

    fn range(start: u64, end: u64) -> ByteRange {
        ByteRange::new(ByteOffset(start), ByteOffset(end))
    }

    #[test]
    fn what_is_missing_is_an_error_with_its_reason_and_never_zeros_that_were_read() {
        let below: SharedSource = Arc::new(MemorySource::new("quay", vec![7; 8192], 512));
        let masked = Masked::new(below, vec![range(512, 1024), range(4096, 4608)], "not copied");
        let mut buf = [1; 8192];
        let error = masked.read_at(ByteOffset(0), &mut buf).unwrap_err();
        assert_eq!(error.bad, [range(512, 1024), range(4096, 4608)]);
        assert!(error.to_string().contains("not copied") || error.reason.contains("not copied"));
        assert!(buf[..512] == [7; 512] && buf[512..1024] == [0; 512] && buf[1024] == 7);
        // Beside them everything reads.
        masked.read_at(ByteOffset(1024), &mut buf[..3072]).unwrap();
        let edge = masked.read_at(ByteOffset(1000), &mut buf[..100]).unwrap_err();
        assert_eq!(edge.bad, [range(1000, 1024)]);
        assert_eq!(masked.missing().len(), 2);
    }

    #[test]
    fn a_missing_place_is_data_also_where_the_image_has_a_hole() {
        let file = tempfile::NamedTempFile::new().unwrap();
        file.as_file().set_len(1 << 20).unwrap();
        let below = crate::open(file.path(), crate::OpenOptions::default()).unwrap();
        assert_eq!(below.next_data(ByteOffset(0)), None, "a hole from end to end");
        let masked = Masked::new(below, vec![range(8192, 12_288)], "not copied");
        assert_eq!(masked.next_data(ByteOffset(0)), Some(range(8192, 12_288)));
        assert_eq!(masked.next_data(ByteOffset(10_000)), Some(range(10_000, 12_288)));
        assert_eq!(masked.next_data(ByteOffset(12_288)), None);
    }
}
