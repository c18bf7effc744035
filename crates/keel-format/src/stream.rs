//! Reading a file's bytes through its map of extents.

use keel_source::{ByteOffset, ByteRange, SharedSource};
use serde::Serialize;

/// A stretch of a stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Extent {
    /// First byte within the stream.
    pub stream_at: u64,
    /// First byte in the volume; `None` for a hole that reads as zeros.
    pub volume_at: Option<ByteOffset>,
    /// Length in bytes.
    pub bytes: u64,
}

/// A stream that can be read at any position.
pub trait StreamReader: Send {
    /// Length in bytes.
    fn bytes(&self) -> u64;

    /// Fills `buf` from byte `at` of the stream; `buf` must not reach behind the end. Answers with the parts that
    /// could not be read, in bytes of the stream; those are zeroed.
    fn read(&mut self, at: u64, buf: &mut [u8]) -> Vec<ByteRange>;
}

/// A stream kept in memory: a resident attribute.
pub struct MemoryStream(pub Vec<u8>);

impl StreamReader for MemoryStream {
    fn bytes(&self) -> u64 {
        self.0.len() as u64
    }

    fn read(&mut self, at: u64, buf: &mut [u8]) -> Vec<ByteRange> {
        let from = usize::try_from(at).unwrap_or(usize::MAX).min(self.0.len());
        let have = self.0.get(from..).unwrap_or_default();
        let count = have.len().min(buf.len());
        buf.fill(0);
        for (slot, byte) in buf.iter_mut().zip(have) {
            *slot = *byte;
        }
        missing_tail(at, count, buf.len())
    }
}

fn missing_tail(at: u64, count: usize, wanted: usize) -> Vec<ByteRange> {
    let tail = ByteRange::new(ByteOffset(at) + count as u64, ByteOffset(at) + wanted as u64);
    if tail.is_empty() { Vec::new() } else { vec![tail] }
}

/// A stream laid out in extents of the volume.
pub struct ExtentStream {
    source: SharedSource,
    extents: Vec<Extent>,
    bytes: u64,
    initialized: u64,
}

impl ExtentStream {
    /// A stream of `bytes` bytes over `extents` (ascending by `stream_at`); what lies behind `initialized` reads as
    /// zeros. A stretch without an extent is unreadable.
    #[must_use]
    pub fn new(source: SharedSource, extents: Vec<Extent>, bytes: u64, initialized: u64) -> Self {
        Self { source, extents, bytes, initialized }
    }
}

impl StreamReader for ExtentStream {
    fn bytes(&self) -> u64 {
        self.bytes
    }

    fn read(&mut self, at: u64, buf: &mut [u8]) -> Vec<ByteRange> {
        buf.fill(0);
        let wanted = ByteRange::sized(ByteOffset(at), buf.len() as u64);
        let mut bad = Vec::new();
        let mut done = wanted.start;
        let limit = ByteOffset(self.bytes.min(self.initialized));
        let first = self.extents.partition_point(|extent| extent.stream_at.saturating_add(extent.bytes) <= at);
        for extent in self.extents.iter().skip(first) {
            let here = ByteRange::sized(ByteOffset(extent.stream_at), extent.bytes);
            let Some(both) = here.overlap(wanted) else { break };
            if both.start > done {
                bad.push(ByteRange::new(done, both.start));
            }
            done = both.end;
            let Some(volume_at) = extent.volume_at else { continue };
            let Some(live) = both.overlap(ByteRange::new(ByteOffset(0), limit)) else { continue };
            let from = usize::try_from(live.start - wanted.start).unwrap_or(usize::MAX);
            let count = usize::try_from(live.len()).unwrap_or(0);
            let Some(piece) = buf.get_mut(from..from.saturating_add(count)) else { continue };
            let place = volume_at + (live.start - here.start);
            if let Err(error) = self.source.read_at(place, piece) {
                bad.extend(error.moved(live.start.0, place.0).bad);
            }
        }
        let end = wanted.end.min(ByteOffset(self.bytes));
        // A tail that was never written needs no clusters.
        if done < end.min(limit) {
            bad.push(ByteRange::new(done, end));
        }
        if wanted.end > end {
            bad.push(ByteRange::new(end.max(wanted.start), wanted.end));
        }
        bad
    }
}

/// Reads the first `limit` bytes of a stream; answers with them and whether all of them could be read.
pub fn read_whole(stream: &mut dyn StreamReader, limit: usize) -> (Vec<u8>, bool) {
    let len = usize::try_from(stream.bytes()).unwrap_or(usize::MAX).min(limit);
    let mut bytes = vec![0; len];
    let bad = stream.read(0, &mut bytes);
    (bytes, bad.is_empty())
}
