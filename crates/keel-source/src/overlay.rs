//! A copy-on-write view: a source with staged edits laid over it.

use std::collections::BTreeMap;

use crate::{Budget, ByteOffset, ByteRange, Identity, LinkKind, Payload, ReadError, SharedSource, Source};

/// A part of an edit, which no other one overlaps.
#[derive(Debug, Clone)]
struct Part {
    /// First byte behind it.
    end: u64,
    /// What the edit writes.
    payload: Payload,
    /// The byte of the payload that stands at its start.
    from: u64,
}

/// The drive *as it would be*: reads come from below, with the edits laid over. Nothing below is ever written. Edits are kept by their
/// places, none over another: laying one and reading through them costs as much as they touch.
pub struct Overlay {
    below: SharedSource,
    parts: BTreeMap<u64, Part>,
    identity: Identity,
}

impl Overlay {
    /// A view of `below` without edits.
    #[must_use]
    pub fn new(below: SharedSource) -> Self {
        let mut identity = below.identity().clone();
        (identity.link, identity.bytes) = (LinkKind::Derived, below.len());
        Self { below, parts: BTreeMap::new(), identity }
    }

    /// Lays `bytes` over the drive at byte `at`. A later edit wins over an earlier one where they overlap; what
    /// reaches behind the end is cut.
    pub fn lay(&mut self, at: ByteOffset, bytes: &[u8]) {
        self.lay_payload(at, bytes.into());
    }

    /// As [`Overlay::lay`], for bytes that may be a long run: they are made when they are read.
    pub fn lay_payload(&mut self, at: ByteOffset, payload: Payload) {
        let end = at.0.saturating_add(payload.len()).min(self.below.len());
        if at.0 >= end {
            return;
        }
        let first = self.first_over(at.0);
        let touched: Vec<u64> = self.parts.range(first..end).map(|(start, _)| *start).collect();
        for start in touched {
            let Some(old) = self.parts.remove(&start) else { continue };
            if old.end > end {
                let from = old.from + (end - start);
                self.parts.insert(end, Part { end: old.end, payload: old.payload.clone(), from });
            }
            if start < at.0 {
                self.parts.insert(start, Part { end: at.0.min(old.end), ..old });
            }
        }
        self.parts.insert(at.0, Part { end, payload, from: 0 });
    }

    /// The start of the part that holds byte `at`, or `at` itself where none does.
    fn first_over(&self, at: u64) -> u64 {
        let before = self.parts.range(..=at).next_back();
        before.filter(|(_, part)| part.end > at).map_or(at, |(start, _)| *start)
    }

    /// The edited ranges, ascending.
    pub fn edited(&self) -> impl Iterator<Item = ByteRange> {
        self.parts.iter().map(|(start, part)| ByteRange::new(ByteOffset(*start), ByteOffset(part.end)))
    }

    /// The parts that touch `wanted`, ascending.
    fn touching(&self, wanted: ByteRange) -> impl Iterator<Item = (ByteRange, &Part)> {
        let first = self.first_over(wanted.start.0).min(wanted.end.0);
        self.parts
            .range(first..wanted.end.0)
            .map(|(start, part)| (ByteRange::new(ByteOffset(*start), ByteOffset(part.end)), part))
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
        for (range, part) in self.touching(wanted) {
            let Some(both) = range.overlap(wanted) else { continue };
            let to = (both.start - wanted.start) as usize;
            part.payload.fill(part.from + (both.start - range.start), &mut buf[to..to + both.len() as usize]);
            if !bad.is_empty() {
                bad = bad.into_iter().flat_map(|piece| without(piece, both)).collect();
            }
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
        let mut at = from.0;
        while at < self.len() {
            let first = self.first_over(at);
            let next = self.parts.range(first..).next();
            match next {
                // A run of zeros is a hole, whatever lies below.
                Some((start, part)) if *start <= at && part.payload.is_zeros() => at = part.end,
                Some((start, part)) if *start <= at => return Some(ByteRange::new(ByteOffset(at), ByteOffset(part.end))),
                _ => {
                    let edit = next.map(|(start, _)| *start);
                    match (self.below.next_data(ByteOffset(at)), edit) {
                        (Some(below), Some(edit)) if below.start.0 < edit => {
                            return Some(ByteRange::new(below.start, below.end.min(ByteOffset(edit))));
                        }
                        (_, Some(edit)) => at = edit,
                        (below, None) => return below,
                    }
                }
            }
        }
        None
    }
}

/// `piece` less `hole`.
fn without(piece: ByteRange, hole: ByteRange) -> impl Iterator<Item = ByteRange> {
    let before = ByteRange::new(piece.start, piece.end.min(hole.start));
    let after = ByteRange::new(piece.start.max(hole.end), piece.end);
    [before, after].into_iter().filter(|range| !range.is_empty())
}
