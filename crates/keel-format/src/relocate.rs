//! Clusters that are numbered in one row (FAT, exFAT) when the row gets another length or begins elsewhere.

use std::collections::BTreeMap;
use std::ops::Range;

use crate::resize::{NotResized, Units};

/// Number of the first cluster.
pub(crate) const FIRST: u32 = 2;

/// Where clusters go. Numbers in front are those of the volume as it is, numbers behind those of it as it becomes.
pub(crate) struct Relocation {
    /// Clusters by which the row begins later: a cluster that stays in its place has a number that is so much smaller.
    shift: u32,
    /// Clusters of the volume as it becomes.
    count: u32,
    /// Clusters that leave their place.
    moved: BTreeMap<u32, u32>,
    ground: Units,
}

impl Relocation {
    /// A row of `before` clusters, of which `is_used` says which hold something, that gets `count` and begins `shift` later.
    pub(crate) fn new(before: u32, count: u32, shift: u32, is_used: &dyn Fn(u32) -> bool) -> Self {
        let mut ground = Units::new(u64::from(count));
        let mut taken: Option<Range<u64>> = None;
        for cluster in (FIRST..before.saturating_add(FIRST)).filter(|cluster| is_used(*cluster)) {
            let Some(unit) = cluster.checked_sub(FIRST + shift).map(u64::from).filter(|unit| *unit < u64::from(count)) else {
                continue;
            };
            match &mut taken {
                Some(range) if range.end == unit => range.end += 1,
                _ => {
                    taken.take().into_iter().for_each(|range| ground.take(range));
                    taken = Some(unit..unit + 1);
                }
            }
        }
        taken.into_iter().for_each(|range| ground.take(range));
        Self { shift, count, moved: BTreeMap::new(), ground }
    }

    /// True where the place of `cluster` is no cluster of the volume as it becomes.
    pub(crate) fn has_to_go(&self, cluster: u32) -> bool {
        cluster.checked_sub(FIRST + self.shift).is_none_or(|unit| unit >= self.count)
    }

    /// Gives the clusters of `runs` (first, count), which lose their places, places anew: each run in one piece, where there is one.
    pub(crate) fn place(&mut self, runs: &[(u32, u32)]) -> Result<(), NotResized> {
        for (first, count) in runs {
            let pieces = self.ground.take_pieces(u64::from(*count)).ok_or_else(no_room)?;
            let places = pieces.into_iter().flatten();
            for (cluster, unit) in (*first..first.saturating_add(*count)).zip(places) {
                self.moved.insert(cluster, number(unit));
            }
        }
        Ok(())
    }

    /// Gives a run of clusters a place anew in one piece; what of it would have stayed gives its ground back.
    pub(crate) fn place_whole(&mut self, first: u32, count: u32) -> Result<(), NotResized> {
        let place = self.ground.take_run(u64::from(count)).ok_or_else(no_room)?;
        for (cluster, unit) in (first..first.saturating_add(count)).zip(place..) {
            if !self.has_to_go(cluster) {
                let own = u64::from(cluster - FIRST - self.shift);
                self.ground.free(own..own + 1);
            }
            self.moved.insert(cluster, number(unit));
        }
        Ok(())
    }

    /// Takes `count` clusters that follow one another for something new.
    pub(crate) fn take_run(&mut self, count: u32) -> Result<u32, NotResized> {
        self.ground.take_run(u64::from(count)).map(number).ok_or_else(no_room)
    }

    /// Gives the place of a cluster back that stays and is not needed any more.
    pub(crate) fn give_back(&mut self, cluster: u32) {
        if !self.has_to_go(cluster) && !self.moved.contains_key(&cluster) {
            let own = u64::from(cluster - FIRST - self.shift);
            self.ground.free(own..own + 1);
        }
    }

    /// The number of `cluster` in the volume as it becomes.
    pub(crate) fn of(&self, cluster: u32) -> u32 {
        self.moved.get(&cluster).copied().unwrap_or_else(|| cluster.saturating_sub(self.shift))
    }

    /// True where a number of the volume as it becomes is taken.
    pub(crate) fn is_taken(&self, cluster: u32) -> bool {
        cluster.checked_sub(FIRST).is_none_or(|unit| self.ground.is_taken(u64::from(unit)))
    }

    /// Clusters that are taken.
    pub(crate) fn taken(&self) -> u64 {
        self.ground.taken()
    }
}

fn number(unit: u64) -> u32 {
    u32::try_from(unit).unwrap_or(u32::MAX - FIRST) + FIRST
}

fn no_room() -> NotResized {
    NotResized("what would have to move finds no room: too little of the volume is free".into())
}

/// Ascending numbers as runs of first and count.
pub(crate) fn runs(numbers: impl Iterator<Item = u32>) -> Vec<(u32, u32)> {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for number in numbers {
        match runs.last_mut() {
            Some((first, count)) if first.checked_add(*count) == Some(number) => *count += 1,
            _ => runs.push((number, 1)),
        }
    }
    runs
}

/// The entries of a file allocation table, held whole.
pub(crate) struct Entries {
    bits: u64,
    bytes: Vec<u8>,
}

impl Entries {
    /// Entries of `bits` bits (12, 16 or 32) in `bytes`.
    pub(crate) fn new(bits: u64, bytes: Vec<u8>) -> Self {
        Self { bits, bytes }
    }

    fn word(&self, at: usize) -> u32 {
        let bytes = self.bytes.get(at..at + 2).unwrap_or(&[0, 0]);
        bytes.iter().rev().fold(0, |word, byte| word << 8 | u32::from(*byte))
    }

    /// The entry of `cluster` as it stands.
    pub(crate) fn get(&self, cluster: u32) -> u32 {
        let index = cluster as usize;
        match self.bits {
            12 => self.word(index * 3 / 2) >> (index % 2 * 4) & 0xFFF,
            16 => self.word(index * 2),
            _ => self.word(index * 4) | self.word(index * 4 + 2) << 16,
        }
    }

    /// Sets the entry of `cluster`.
    pub(crate) fn set(&mut self, cluster: u32, value: u32) {
        let index = cluster as usize;
        let (at, value, len) = match self.bits {
            12 => {
                let (at, shift) = (index * 3 / 2, index % 2 * 4);
                (at, self.word(at) & !(0xFFF << shift) | (value & 0xFFF) << shift, 2)
            }
            16 => (index * 2, value, 2),
            _ => (index * 4, value, 4),
        };
        if let Some(slot) = self.bytes.get_mut(at..at + len) {
            slot.iter_mut().zip(value.to_le_bytes()).for_each(|(slot, byte)| *slot = byte);
        }
    }

    /// All of them.
    pub(crate) fn bytes(&self) -> &[u8] {
        &self.bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_of_every_width_are_set_and_read() {
        for bits in [12, 16, 32] {
            let mut entries = Entries::new(bits, vec![0; 64]);
            let most = if bits == 32 { 0xFFFF_FFF0 } else { (1 << bits) - 16 };
            (0..12).for_each(|cluster| entries.set(cluster, most + cluster));
            assert!((0..12).all(|cluster| entries.get(cluster) == most + cluster), "{bits}");
            entries.set(5, 7);
            assert_eq!((entries.get(4), entries.get(5), entries.get(6)), (most + 4, 7, most + 6));
            entries.set(1000, 3);
            assert_eq!(entries.get(1000), 0, "there is no such entry");
        }
    }

    #[test]
    fn clusters_keep_their_place_or_get_one_anew() {
        let used = |cluster: u32| (2..6).contains(&cluster) || (90..100).contains(&cluster);
        // Two clusters are given up at the start, and the row ends at 50.
        let mut moves = Relocation::new(100, 50, 2, &used);
        let gone: Vec<u32> = (2..102).filter(|cluster| used(*cluster) && moves.has_to_go(*cluster)).collect();
        assert_eq!(runs(gone.iter().copied()), [(2, 2), (90, 10)]);
        moves.place(&runs(gone.into_iter())).unwrap();
        assert_eq!((moves.of(4), moves.of(5)), (2, 3), "they stay where they are");
        assert_eq!((moves.of(2), moves.of(3), moves.of(90), moves.of(99)), (4, 5, 6, 15));
        assert!(moves.is_taken(15) && !moves.is_taken(16) && moves.taken() == 14);
        assert_eq!(moves.take_run(30).unwrap(), 16);
        assert!(moves.take_run(7).is_err());
        moves.give_back(4);
        assert_eq!(moves.take_run(1).unwrap(), 2);
    }
}
