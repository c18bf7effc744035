//! A set of bytes, kept as ranges.

use serde::{Deserialize, Serialize};

use crate::{ByteOffset, ByteRange};

/// Bytes of a drive: ranges, ascending, apart from one another.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RangeSet(Vec<ByteRange>);

impl RangeSet {
    /// The ranges, ascending.
    #[must_use]
    pub fn ranges(&self) -> &[ByteRange] {
        &self.0
    }

    /// Bytes in the set.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.0.iter().map(|range| range.len()).sum()
    }

    /// Puts `range` in.
    pub fn add(&mut self, range: ByteRange) {
        if range.is_empty() {
            return;
        }
        let from = self.0.partition_point(|own| own.end < range.start);
        let to = self.0.partition_point(|own| own.start <= range.end).max(from);
        let touching = self.0.get(from..to).unwrap_or_default();
        let joined = touching.iter().fold(range, |all, own| ByteRange::new(all.start.min(own.start), all.end.max(own.end)));
        self.0.splice(from..to, [joined]);
    }

    /// The parts of `range` that are not in the set, ascending.
    #[must_use]
    pub fn lacking(&self, range: ByteRange) -> Vec<ByteRange> {
        let (mut at, mut lacking) = (range.start, Vec::new());
        let from = self.0.partition_point(|own| own.end <= range.start);
        for own in self.0.iter().skip(from).take_while(|own| own.start < range.end) {
            lacking.push(ByteRange::new(at, own.start));
            at = own.end;
        }
        lacking.push(ByteRange::new(at.min(range.end), range.end));
        lacking.retain(|range| !range.is_empty());
        lacking
    }

    /// True when byte `at` is in the set.
    #[must_use]
    pub fn contains(&self, at: ByteOffset) -> bool {
        let index = self.0.partition_point(|own| own.end <= at);
        self.0.get(index).is_some_and(|own| own.contains(at))
    }
}

/// Ranges in any order: sorted first, so that very many cost no more than that.
impl FromIterator<ByteRange> for RangeSet {
    fn from_iter<I: IntoIterator<Item = ByteRange>>(ranges: I) -> Self {
        let mut sorted: Vec<ByteRange> = ranges.into_iter().collect();
        sorted.sort_unstable_by_key(|range| range.start);
        let mut set = Self::default();
        sorted.into_iter().for_each(|range| set.add(range));
        set
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_set_holds_what_was_put_in_and_lacks_the_rest(
            adds in proptest::collection::vec((0u64..200, 0u64..40), 0..30), asked in (0u64..200, 0u64..80),
        ) {
            let (mut plain, mut set) = (vec![false; 400], RangeSet::default());
            for (at, len) in adds {
                set.add(ByteRange::sized(ByteOffset(at), len));
                (at..at + len).for_each(|byte| plain[byte as usize] = true);
            }
            prop_assert!(set.ranges().windows(2).all(|pair| pair[0].end < pair[1].start));
            prop_assert_eq!(set.bytes(), plain.iter().filter(|held| **held).count() as u64);
            let asked = ByteRange::sized(ByteOffset(asked.0), asked.1);
            let lacking: Vec<u64> = set.lacking(asked).iter().flat_map(|range| range.start.0..range.end.0).collect();
            let wanted: Vec<u64> = (asked.start.0..asked.end.0).filter(|byte| !plain[*byte as usize]).collect();
            prop_assert_eq!(lacking, wanted);
            prop_assert!((0..400).all(|at| set.contains(ByteOffset(at)) == plain[at as usize]));
        }
    }
}
