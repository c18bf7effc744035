//! A volume as its journal would leave it: blocks that the journal holds are read from there. Nothing is written.

use std::collections::HashMap;

use keel_source::{ByteOffset, ByteRange, Identity, ReadError, SharedSource, Source};

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
