//! Where the content of one file lies, put together stretch by stretch, for formats that keep it in blocks.

use std::ops::Range;

use keel_source::ByteOffset;

use crate::Extent;

/// Bytes that an extent and what it holds take in memory.
pub(crate) const EXTENT_BYTES: u64 = (size_of::<Extent>() + size_of::<Range<u64>>()) as u64;

/// Where the blocks of one file are.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct FileMap {
    /// Its content, in order. Holes and blocks that were never written have no place.
    pub(crate) extents: Vec<Extent>,
    /// Every block of the volume that it holds, counted from the start of the volume: content, written or not, and the blocks of the
    /// map itself.
    pub(crate) held: Vec<Range<u64>>,
}

/// Extents put together in order; what lies between them is a hole.
pub(crate) struct FileMapBuilder {
    map: FileMap,
    end: u64,
    /// Bytes of the content.
    pub(crate) limit: u64,
    /// Blocks that may still be held: no file has more than its volume.
    left: u64,
}

impl FileMapBuilder {
    /// The map of a file of `bytes` bytes on a volume of `blocks` blocks.
    pub(crate) fn new(bytes: u64, blocks: u64) -> Self {
        Self { map: FileMap::default(), end: 0, limit: bytes, left: blocks }
    }

    /// How many extents there are.
    pub(crate) fn extents(&self) -> usize {
        self.map.extents.len()
    }

    /// Takes blocks into what the file holds; false when they are more than the volume has.
    pub(crate) fn holds(&mut self, blocks: Range<u64>) -> bool {
        let Some(left) = self.left.checked_sub(blocks.end.saturating_sub(blocks.start)) else { return false };
        self.left = left;
        match self.map.held.last_mut().filter(|last| last.end == blocks.start) {
            Some(last) => last.end = blocks.end,
            None => self.map.held.push(blocks),
        }
        true
    }

    /// Adds `bytes` at `stream_at`; a hole before them is filled. What overlaps what is there already is left out.
    pub(crate) fn add(&mut self, stream_at: u64, volume_at: Option<ByteOffset>, bytes: u64) {
        if stream_at < self.end || bytes == 0 {
            return;
        }
        self.hole_to(stream_at);
        self.end = stream_at.saturating_add(bytes);
        match self.map.extents.last_mut() {
            Some(last) if last.volume_at.map(|at| at + last.bytes) == volume_at && last.volume_at.is_some() => {
                last.bytes += bytes;
            }
            Some(last) if last.volume_at.is_none() && volume_at.is_none() => last.bytes += bytes,
            _ => self.map.extents.push(Extent { stream_at, volume_at, bytes }),
        }
    }

    fn hole_to(&mut self, stream_at: u64) {
        if stream_at > self.end {
            let (from, bytes) = (self.end, stream_at - self.end);
            self.end = stream_at;
            self.map.extents.push(Extent { stream_at: from, volume_at: None, bytes });
        }
    }

    /// The map; what is left up to the end of the file is a hole.
    pub(crate) fn finish(mut self) -> FileMap {
        self.hole_to(self.limit);
        self.map
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_between_extents_is_a_hole_and_neighbours_are_one() {
        let mut builder = FileMapBuilder::new(50, 10);
        assert!(builder.holds(3..5) && builder.holds(5..6) && !builder.holds(20..28));
        builder.add(10, Some(ByteOffset(100)), 10);
        builder.add(20, Some(ByteOffset(110)), 5);
        builder.add(15, Some(ByteOffset(0)), 100);
        builder.add(30, None, 5);
        let map = builder.finish();
        let seen: Vec<_> =
            map.extents.iter().map(|extent| (extent.stream_at, extent.volume_at.map(|at| at.0), extent.bytes)).collect();
        assert_eq!(seen, [(0, None, 10), (10, Some(100), 15), (25, None, 10), (35, None, 15)]);
        assert_eq!((map.held.len(), map.held.first()), (1, Some(&(3..6))));
    }
}
