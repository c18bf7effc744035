//! A copy-on-write view: a source with staged edits laid over it.

use std::collections::BTreeMap;

use crate::{Budget, ByteOffset, ByteRange, Identity, LinkKind, ReadError, SharedSource, Source};

/// The drive *as it would be*: reads come from below, with the edits laid over. Nothing below is ever written.
pub struct Overlay {
    below: SharedSource,
    edits: BTreeMap<u64, Vec<u8>>,
    identity: Identity,
}

impl Overlay {
    /// A view of `below` without edits.
    #[must_use]
    pub fn new(below: SharedSource) -> Self {
        let mut identity = below.identity().clone();
        (identity.link, identity.bytes) = (LinkKind::Derived, below.len());
        Self { below, edits: BTreeMap::new(), identity }
    }

    /// Lays `bytes` over the drive at byte `at`. A later edit wins over an earlier one where they overlap; what
    /// reaches behind the end is cut.
    pub fn lay(&mut self, at: ByteOffset, bytes: &[u8]) {
        let room = usize::try_from(ByteOffset(self.below.len()) - at).unwrap_or(usize::MAX);
        let bytes = &bytes[..bytes.len().min(room)];
        if bytes.is_empty() {
            return;
        }
        let new = ByteRange::sized(at, bytes.len() as u64);
        let touched: Vec<u64> = self
            .edits
            .range(..new.end.0)
            .filter(|(start, old)| **start + old.len() as u64 > new.start.0)
            .map(|(start, _)| *start)
            .collect();
        for start in touched {
            let Some(old) = self.edits.remove(&start) else { continue };
            let old_end = start + old.len() as u64;
            if start < new.start.0 {
                self.edits.insert(start, old[..(new.start.0 - start) as usize].to_vec());
            }
            if old_end > new.end.0 {
                self.edits.insert(new.end.0, old[(new.end.0 - start) as usize..].to_vec());
            }
        }
        self.edits.insert(at.0, bytes.to_vec());
    }

    /// The edited ranges, ascending, with their bytes.
    pub fn edits(&self) -> impl Iterator<Item = (ByteOffset, &[u8])> {
        self.edits.iter().map(|(at, bytes)| (ByteOffset(*at), bytes.as_slice()))
    }

    fn touching(&self, wanted: ByteRange) -> impl Iterator<Item = (ByteRange, &[u8])> {
        self.edits
            .range(..wanted.end.0)
            .map(|(at, bytes)| (ByteRange::sized(ByteOffset(*at), bytes.len() as u64), bytes.as_slice()))
            .filter(move |(range, _)| range.overlap(wanted).is_some())
    }
}

impl Source for Overlay {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn budget(&self) -> Option<&Budget> {
        self.below.budget()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let below = self.below.read_at(at, buf);
        let mut bad = match &below {
            Ok(()) => Vec::new(),
            Err(error) => error.bad.clone(),
        };
        for (range, bytes) in self.touching(wanted) {
            let Some(both) = range.overlap(wanted) else { continue };
            let from = (both.start - range.start) as usize;
            let to = (both.start - wanted.start) as usize;
            let count = both.len() as usize;
            buf[to..to + count].copy_from_slice(&bytes[from..from + count]);
            bad = bad.into_iter().flat_map(|piece| without(piece, both)).collect();
        }
        match below {
            Err(error) if !bad.is_empty() => Err(ReadError { bad, ..error }),
            _ => Ok(()),
        }
    }

    /// What was missing below stays in the list where an edit covers it.
    fn missing(&self) -> &[ByteRange] {
        self.below.missing()
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        let below = self.below.next_data(from);
        let rest = ByteRange::new(from, ByteOffset(self.len()));
        let edit = self.touching(rest).find_map(|(range, _)| range.overlap(rest));
        match (below, edit) {
            (Some(below), Some(edit)) if edit.start < below.start => Some(edit),
            (None, edit) => edit,
            (below, _) => below,
        }
    }
}

/// `piece` less `hole`.
fn without(piece: ByteRange, hole: ByteRange) -> impl Iterator<Item = ByteRange> {
    let before = ByteRange::new(piece.start, piece.end.min(hole.start));
    let after = ByteRange::new(piece.start.max(hole.end), piece.end);
    [before, after].into_iter().filter(|range| !range.is_empty())
}
