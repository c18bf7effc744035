//! Bytes in memory, with unreadable ranges on request: for examples and tests.

use crate::{ByteOffset, ByteRange, Identity, LinkKind, ReadCause, ReadError, SectorSize, Source};

/// A source in memory.
pub struct MemorySource {
    bytes: Vec<u8>,
    bad: Vec<ByteRange>,
    identity: Identity,
}

impl MemorySource {
    /// `bytes` as a drive called `name` with logical sectors of `sector` bytes.
    #[must_use]
    pub fn new(name: &str, bytes: Vec<u8>, sector: u32) -> Self {
        let mut identity = Identity::bare(name, bytes.len() as u64, LinkKind::Derived);
        identity.logical_sector = SectorSize(sector);
        identity.physical_sector = SectorSize(sector);
        Self { bytes, bad: Vec::new(), identity }
    }

    /// The same drive with `range` unreadable.
    #[must_use]
    pub fn with_bad(mut self, range: ByteRange) -> Self {
        self.bad.push(range);
        self
    }
}

impl Source for MemorySource {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let from = usize::try_from(at.0).unwrap_or(usize::MAX).min(self.bytes.len());
        let count = buf.len().min(self.bytes.len() - from);
        buf[..count].copy_from_slice(&self.bytes[from..from + count]);
        buf[count..].fill(0);
        let mut bad = blank_out(&self.bad, wanted, buf);
        // Near the largest number there is the range itself is cut.
        let past_end = count < buf.len();
        if past_end {
            bad.push(ByteRange::new(at + count as u64, wanted.end));
        }
        if bad.is_empty() {
            return Ok(());
        }
        let (reason, cause) =
            if past_end { ("behind the end of the source", ReadCause::PastEnd) } else { ("unreadable", ReadCause::Medium) };
        Err(ReadError { bad, reason: reason.into(), cause })
    }
}

/// Zeroes the parts of `buf` (which holds `wanted`) that lie in `bad` and returns those parts.
pub(crate) fn blank_out(bad: &[ByteRange], wanted: ByteRange, buf: &mut [u8]) -> Vec<ByteRange> {
    let hit: Vec<ByteRange> = bad.iter().filter_map(|range| range.overlap(wanted)).collect();
    for range in &hit {
        let start = (range.start - wanted.start) as usize;
        buf[start..start + range.len() as usize].fill(0);
    }
    hit
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_behind_the_end_is_told_wherever_that_is() {
        let source = MemorySource::new("quay", (0..100).collect(), 512).with_bad(ByteRange::sized(ByteOffset(10), 5));
        for (at, len, left) in [(0, 10, 10), (90, 20, 10), (100, 1, 0), (1 << 40, 64, 0), (u64::MAX - 3, 64, 0), (u64::MAX, 8, 0)]
        {
            let mut buf = vec![0xEE; len];
            let read = source.read_at(ByteOffset(at), &mut buf);
            assert_eq!(read.is_ok(), left == len, "{at}");
            let there: Vec<u8> = (0..left as u64).map(|index| (at + index) as u8).collect();
            assert!(buf[..left] == there && buf[left..].iter().all(|byte| *byte == 0), "{at}: {buf:?}");
            assert!(read.is_ok() || read.is_err_and(|error| error.cause == ReadCause::PastEnd), "{at}");
        }
        let mut buf = [0xEE; 20];
        let error = source.read_at(ByteOffset(0), &mut buf).unwrap_err();
        assert_eq!((error.cause, error.bad), (ReadCause::Medium, vec![ByteRange::sized(ByteOffset(10), 5)]));
        assert!(buf[10..15] == [0; 5] && buf[15] == 15);
    }
}
