//! What a head that is gone leaves: bad bands that come back in even steps, since the heads of a drive take turns along its addresses.
//! Learnt from the bands that were met, so that the next ones are gone around and not into.

use std::collections::VecDeque;

use keel_source::{ByteOffset, ByteRange};

/// Bands that a pattern is learnt from.
const LEARNT_FROM: usize = 3;
/// What steps and widths may differ by, as a part of them: drives have fewer sectors on their inner tracks.
const DIFFERS: u64 = 8;

/// Bad bands and the pattern that they follow.
#[derive(Debug, Clone, Default)]
pub(super) struct Heads {
    /// The last bands whose sides were both found, ascending.
    met: VecDeque<ByteRange>,
    pattern: Option<Pattern>,
}

#[derive(Debug, Clone, Copy)]
struct Pattern {
    /// Start of the last band that was met.
    last: ByteOffset,
    /// From start to start, in bytes.
    every: u64,
    /// Bytes of a band.
    width: u64,
}

/// True where `one` and `other` differ by less than a part of them.
fn is_about(one: u64, other: u64) -> bool {
    one.abs_diff(other) <= one.max(other) / DIFFERS
}

impl Heads {
    /// Takes a band that was met, both sides of it known.
    pub(super) fn note(&mut self, band: ByteRange) {
        if self.met.back().is_some_and(|last| band.start < last.end) {
            // Behind the last one only: a step back is another way over the drive.
            self.met.clear();
        }
        self.met.push_back(band);
        if self.met.len() > LEARNT_FROM {
            self.met.pop_front();
        }
        self.pattern = self.learnt();
    }

    fn learnt(&self) -> Option<Pattern> {
        let starts: Vec<u64> = self.met.iter().map(|band| band.start.0).collect();
        let steps: Vec<u64> = starts.windows(2).map(|pair| pair[1] - pair[0]).collect();
        let widths: Vec<u64> = self.met.iter().map(|band| band.len()).collect();
        let even = |values: &[u64]| values.iter().all(|value| values.first().is_some_and(|first| is_about(*first, *value)));
        if self.met.len() < LEARNT_FROM || !even(&steps) || !even(&widths) {
            return None;
        }
        let every = steps.iter().sum::<u64>() / steps.len() as u64;
        let width = widths.iter().copied().max()?;
        // Bands that meet one another are no pattern of a head.
        (width < every).then_some(Pattern { last: self.met.back()?.start, every, width })
    }

    /// The band that `at` lies in, or the first one behind it, where a pattern is known.
    pub(super) fn next(&self, at: ByteOffset) -> Option<ByteRange> {
        let pattern = self.pattern?;
        let turn = at.0.saturating_sub(pattern.last.0) / pattern.every;
        let band = |turn: u64| {
            let start = pattern.last.checked_add(turn.checked_mul(pattern.every)?)?;
            Some(ByteRange::new(start, start.checked_add(pattern.width)?))
        };
        band(turn).filter(|band| at < band.end).or_else(|| band(turn + 1))
    }

    /// What a place that does not read, at `at`, is to the pattern; `around` is the band that was gone around last.
    pub(super) fn trouble(&self, at: ByteOffset, around: Option<ByteRange>) -> Trouble {
        let Some(pattern) = self.pattern else { return Trouble::New };
        let near = pattern.every / DIFFERS;
        match () {
            () if around.is_some_and(|around| around.end <= at && at - around.end <= near) => Trouble::Late,
            () if self.next(at).is_some_and(|next| next.start.0.abs_diff(at.0) <= near) => Trouble::Early,
            () => Trouble::New,
        }
    }

    /// Takes it that a band begins at `start`, and not quite where it was to: the ones behind it move along.
    pub(super) fn begins(&mut self, start: ByteOffset) {
        if let Some(pattern) = &mut self.pattern {
            pattern.last = start;
        }
        self.met.clear();
    }

    /// Takes it that a band ends at `end`, and not quite where it was to.
    pub(super) fn ends(&mut self, end: ByteOffset) {
        let width = self.pattern.map_or(0, |pattern| pattern.width);
        self.begins(ByteOffset(end.0.saturating_sub(width)));
    }

    /// A bad place where none was to come: nothing is taken for known any more.
    pub(super) fn forget(&mut self) {
        *self = Self::default();
    }
}

/// What a place that does not read is to a pattern.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Trouble {
    /// The band that was to come begins before its time.
    Early,
    /// The one that was gone around goes on behind where it was to end.
    Late,
    /// It belongs to none.
    New,
}

#[cfg(test)]
mod tests {
    use super::*;

    const MIB: u64 = 1 << 20;

    fn band(start: u64, bytes: u64) -> ByteRange {
        ByteRange::sized(ByteOffset(start), bytes)
    }

    fn after(bands: &[(u64, u64)]) -> Heads {
        let mut heads = Heads::default();
        bands.iter().for_each(|(start, bytes)| heads.note(band(*start, *bytes)));
        heads
    }

    #[test]
    fn three_even_bands_tell_where_the_next_ones_are() {
        let heads = after(&[(10 * MIB, 2 * MIB), (18 * MIB, 2 * MIB)]);
        assert_eq!(heads.next(ByteOffset(20 * MIB)), None, "two may be chance");
        let heads = after(&[(10 * MIB, 2 * MIB), (18 * MIB, 2 * MIB), (26 * MIB, 2 * MIB)]);
        assert_eq!(heads.next(ByteOffset(28 * MIB)), Some(band(34 * MIB, 2 * MIB)));
        assert_eq!(heads.next(ByteOffset(34 * MIB)), Some(band(34 * MIB, 2 * MIB)));
        assert_eq!(heads.next(ByteOffset(35 * MIB)), Some(band(34 * MIB, 2 * MIB)), "inside of it");
        assert_eq!(heads.next(ByteOffset(36 * MIB)), Some(band(42 * MIB, 2 * MIB)));
        assert_eq!(heads.next(ByteOffset(8026 * MIB - MIB)), Some(band(8026 * MIB, 2 * MIB)), "far ahead");
    }

    #[test]
    fn steps_that_shrink_a_little_hold_and_uneven_ones_do_not() {
        let shrinking = after(&[(10 * MIB, 2 * MIB), (18 * MIB, 2 * MIB), (26 * MIB - MIB / 2, 2 * MIB)]);
        assert!(shrinking.next(ByteOffset(30 * MIB)).is_some());
        for uneven in [
            [(10 * MIB, 2 * MIB), (18 * MIB, 2 * MIB), (40 * MIB, 2 * MIB)],
            [(10 * MIB, 2 * MIB), (18 * MIB, 4096), (26 * MIB, 2 * MIB)],
            [(10 * MIB, 8 * MIB), (18 * MIB, 8 * MIB), (26 * MIB, 8 * MIB)],
            [(26 * MIB, 2 * MIB), (18 * MIB, 2 * MIB), (10 * MIB, 2 * MIB)],
        ] {
            assert!(after(&uneven).next(ByteOffset(50 * MIB)).is_none(), "{uneven:?}");
        }
    }

    #[test]
    fn a_band_that_comes_a_little_early_moves_the_rest_and_one_out_of_turn_ends_it() {
        let mut heads = after(&[(10 * MIB, 2 * MIB), (18 * MIB, 2 * MIB), (26 * MIB, 2 * MIB)]);
        let expected = heads.next(ByteOffset(28 * MIB));
        let early = ByteOffset(34 * MIB - MIB / 2);
        assert_eq!(heads.trouble(early, None), Trouble::Early);
        assert_eq!(heads.trouble(ByteOffset(30 * MIB), None), Trouble::New);
        assert_eq!(heads.trouble(ByteOffset(36 * MIB), expected), Trouble::Late);
        assert_eq!(heads.trouble(ByteOffset(38 * MIB), expected), Trouble::New);
        heads.begins(early);
        assert_eq!(heads.next(early), Some(band(early.0, 2 * MIB)));
        assert_eq!(heads.next(ByteOffset(36 * MIB)), Some(band(42 * MIB - MIB / 2, 2 * MIB)));
        heads.ends(ByteOffset(45 * MIB));
        assert_eq!(heads.next(ByteOffset(45 * MIB)), Some(band(51 * MIB, 2 * MIB)));
        heads.forget();
        assert!(heads.next(ByteOffset(0)).is_none() && heads.trouble(early, expected) == Trouble::New);
    }

    #[test]
    fn addresses_at_the_end_of_the_range_do_not_overflow() {
        let far = u64::MAX - 40 * MIB;
        let heads = after(&[(far, 2 * MIB), (far + 8 * MIB, 2 * MIB), (far + 16 * MIB, 2 * MIB)]);
        assert!(heads.next(ByteOffset(far + 18 * MIB)).is_some());
        assert_eq!(heads.next(ByteOffset(u64::MAX - 1)), None);
    }
}
