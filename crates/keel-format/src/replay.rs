//! A volume as its journal would leave it: blocks that the journal holds are read from there. Nothing is written.

use std::collections::HashMap;

use keel_source::{Budget, ByteOffset, ByteRange, Identity, ReadError, SharedSource, Source};

/// The most units that a replay redirects: a bound on memory (about 64 MiB).
pub(crate) const MOST_UNITS: usize = 1 << 20;

/// Where the newest content of one unit stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Newer {
    /// First byte of it in the same volume, inside the journal.
    pub(crate) at: ByteOffset,
    /// Bytes that the journal keeps elsewhere, because they look like its own marks: they go over the first ones.
    pub(crate) head: Option<[u8; 4]>,
}

/// A source in which units of `unit` bytes are redirected.
pub(crate) struct Replayed {
    below: SharedSource,
    unit: u64,
    newer: HashMap<u64, Newer>,
}

impl Replayed {
    /// `below` with the units of `newer`, keyed by their number, redirected.
    pub(crate) fn new(below: SharedSource, unit: u64, newer: HashMap<u64, Newer>) -> Self {
        Self { below, unit: unit.max(512), newer }
    }
}

impl Source for Replayed {
    fn identity(&self) -> &Identity {
        self.below.identity()
    }

    fn budget(&self) -> Option<&Budget> {
        self.below.budget()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        if self.newer.is_empty() {
            return self.below.read_at(at, buf);
        }
        let mut failure: Option<ReadError> = None;
        let mut done = 0usize;
        while done < buf.len() {
            let here = ByteOffset(at.0.saturating_add(done as u64));
            let (number, inside) = (here.0 / self.unit, here.0 % self.unit);
            let left = buf.get_mut(done..).unwrap_or_default();
            let count = left.len().min(usize::try_from(self.unit - inside).unwrap_or(usize::MAX));
            let Some(piece) = left.get_mut(..count) else { break };
            let newer = self.newer.get(&number);
            let place = newer.map_or(here, |newer| newer.at + inside);
            if let Err(error) = self.below.read_at(place, piece) {
                let moved = error.moved(here.0, place.0);
                match &mut failure {
                    Some(all) => all.bad.extend(moved.bad),
                    None => failure = Some(moved),
                }
            }
            if let Some(head) = newer.and_then(|newer| newer.head) {
                let from = usize::try_from(inside).unwrap_or(usize::MAX);
                head.iter().skip(from).zip(piece.iter_mut()).for_each(|(byte, slot)| *slot = *byte);
            }
            done += count;
        }
        failure.map_or(Ok(()), Err)
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        // What the journal holds may fall into holes: none are told.
        (from.0 < self.len()).then(|| ByteRange::new(from, ByteOffset(self.len())))
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::MemorySource;

    use super::*;

    /// Eight blocks of 1024 bytes, each full of its own number.
    fn blocks() -> MemorySource {
        MemorySource::new("r", (0..8192).map(|at| (at / 1024) as u8).collect(), 512)
    }

    #[test]
    fn redirected_blocks_are_read_from_the_journal_and_the_others_from_their_places() {
        let newer =
            [(1, Newer { at: ByteOffset(6 * 1024), head: None }), (3, Newer { at: ByteOffset(7 * 1024), head: Some([9; 4]) })];
        let replayed = Replayed::new(Arc::new(blocks()), 1024, newer.into());
        let mut buf = vec![0xAA; 4096];
        replayed.read_at(ByteOffset(512), &mut buf).unwrap();
        let wanted = [vec![0; 512], vec![6; 1024], vec![2; 1024], vec![9; 4], vec![7; 1020], vec![4; 512]].concat();
        assert!(buf == wanted);
        // A read that begins inside an escaped head takes the rest of it.
        let mut four = [0; 4];
        replayed.read_at(ByteOffset(3 * 1024 + 2), &mut four).unwrap();
        assert_eq!(four, [9, 9, 7, 7]);
        assert_eq!(replayed.next_data(ByteOffset(100)), Some(ByteRange::new(ByteOffset(100), ByteOffset(8192))));
    }

    #[test]
    fn a_bad_sector_of_the_journal_is_told_at_the_place_that_was_asked_for() {
        let below = blocks().with_bad(ByteRange::sized(ByteOffset(6 * 1024 + 512), 512));
        let newer = [(1, Newer { at: ByteOffset(6 * 1024), head: None })];
        let replayed = Replayed::new(Arc::new(below), 1024, newer.into());
        let mut buf = vec![0; 3072];
        let error = replayed.read_at(ByteOffset(0), &mut buf).unwrap_err();
        assert_eq!(error.bad, [ByteRange::sized(ByteOffset(1024 + 512), 512)]);
        assert_eq!((buf[1024], buf[2048]), (6, 2));
    }
}
