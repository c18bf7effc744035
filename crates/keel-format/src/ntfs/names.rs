//! Names that only the indexes of folders keep: those of files whose records do not stand any more. Their content is not to be
//! had by them (a name states no runs); what they were called, how long they were and where they lay is.

use std::collections::{HashMap, HashSet};
use std::ops::{ControlFlow, Range};

use keel_source::ByteOffset;

use super::index::{self, IndexedName, entry_of_index};
use super::layout::{FIRST_USER, NUMBER_MASK};
use super::{LooseBlock, NtfsVolume};
use crate::device::{hold, step};
use crate::{Entry, Existence, NodeKind};

/// The most stretches of records that do not stand which are kept; a surface of every other record must not fill memory.
const MOST_STRETCHES: usize = 65_536;
/// The most names that are kept of records that do not stand.
const MOST_NAMES: usize = 1 << 18;

/// Numbers of records that do not stand: unreadable, overwritten, or of which no piece of the MFT is left.
#[derive(Debug, Default)]
pub(super) struct Lost {
    /// Numbers that were looked at and do not stand, rising.
    stretches: Vec<Range<u64>>,
    /// Numbers that have a place.
    placed: Vec<Range<u64>>,
    /// First of the numbers at the end which hold nothing but zeros.
    blank_from: Option<u64>,
}

impl Lost {
    /// Notes that records of these numbers have a place.
    pub(super) fn place(&mut self, numbers: Range<u64>) {
        match self.placed.last_mut() {
            Some(last) if last.end == numbers.start => last.end = numbers.end,
            _ => self.placed.push(numbers),
        }
    }

    /// Notes that something stands at the place of record `number`: zeros before it are no room that was set aside.
    pub(super) fn stands(&mut self, number: u64) {
        if let Some(from) = self.blank_from.take() {
            self.add(from..number);
        }
    }

    /// Notes that record `number` does not stand; `is_blank` where its place holds nothing but zeros.
    pub(super) fn gone(&mut self, number: u64, is_blank: bool) {
        if is_blank {
            self.blank_from.get_or_insert(number);
        } else {
            self.stands(number);
            self.add(number..number + 1);
        }
    }

    /// Room at the end of the MFT of which `is_used` (told by the MFT's own bitmap) says that it is not free holds records no more.
    pub(super) fn close_end(&mut self, records: u64, is_used: &dyn Fn(u64) -> bool) {
        let Some(from) = self.blank_from.take() else { return };
        (from..records).filter(|number| is_used(*number)).for_each(|number| self.add(number..number + 1));
    }

    /// True where the last records hold nothing but zeros.
    pub(super) fn ends_blank(&self) -> bool {
        self.blank_from.is_some()
    }

    fn add(&mut self, numbers: Range<u64>) {
        let has_room = self.stretches.len() < MOST_STRETCHES;
        match self.stretches.last_mut() {
            Some(last) if last.end >= numbers.start => last.end = last.end.max(numbers.end),
            _ if has_room => self.stretches.push(numbers),
            _ => {}
        }
    }

    /// True where some record does not stand, or the MFT has gaps.
    pub(super) fn is_any(&self) -> bool {
        !self.stretches.is_empty() || self.placed.len() > 1 || self.placed.first().is_some_and(|placed| placed.start > 0)
    }

    /// True for a record that does not stand.
    pub(super) fn is_lost(&self, number: u64) -> bool {
        let within = |ranges: &[Range<u64>]| {
            let after = ranges.partition_point(|range| range.end <= number);
            ranges.get(after).is_some_and(|range| range.contains(&number))
        };
        within(&self.stretches) || !within(&self.placed)
    }
}

/// A name and the folder that it stands in.
pub(super) struct Kept {
    /// Number of the folder's record.
    pub(super) parent: u64,
    /// What the index says of it.
    pub(super) entry: Entry,
}

/// The names in indexes of folders whose records do not stand.
pub(super) struct Names<'a> {
    volume: &'a NtfsVolume,
    is_lost: &'a dyn Fn(u64) -> bool,
    seen: HashSet<(u64, u64, String)>,
    kept: Vec<Kept>,
}

impl<'a> Names<'a> {
    /// Of `volume`, for numbers of records that `is_lost` says do not stand.
    pub(super) fn new(volume: &'a NtfsVolume, is_lost: &'a dyn Fn(u64) -> bool) -> Self {
        Self { volume, is_lost, seen: HashSet::new(), kept: Vec::new() }
    }

    /// Those that were met, each once.
    pub(super) fn into_kept(self) -> Vec<Kept> {
        self.kept
    }

    fn take(&mut self, found: IndexedName) -> ControlFlow<()> {
        let parent = found.name.raw.parent.get() & NUMBER_MASK;
        if found.number < FIRST_USER || found.name.is_dos_alias() || !(self.is_lost)(found.number) {
            return ControlFlow::Continue(());
        }
        let bytes = 2 * found.name.name.len() as u64 + size_of::<Kept>() as u64;
        if self.kept.len() >= MOST_NAMES || hold(self.volume.source().as_ref(), ByteOffset(0), "index block", bytes).is_err() {
            return ControlFlow::Break(());
        }
        if self.seen.insert((parent, found.number, found.name.name.clone())) {
            let entry = Entry { existence: Existence::Named, ..entry_of_index(found, false) };
            self.kept.push(Kept { parent, entry });
        }
        ControlFlow::Continue(())
    }

    /// Takes what stands in the index of the folder with record `number`. A damaged index keeps the names before its damage.
    pub(super) fn of_folder(&mut self, number: u64) {
        let volume = self.volume;
        if step(volume.source().as_ref(), ByteOffset(0), "index block", 1).is_err() {
            return;
        }
        let Ok(record) = volume.record(number) else { return };
        let mut take = |found: IndexedName| self.take(found);
        let _ = index::each_name(volume.source(), volume.geometry(), volume.mft(), number, &record, &mut take);
    }

    /// Takes what stands in a loose block. One that names folders of `folders` (number, and the folder each stands in and its name)
    /// otherwise than their records do is of yet another volume.
    pub(super) fn of_loose(&mut self, loose: &LooseBlock, folders: &HashMap<u64, (u64, String)>) {
        let (mut right, mut wrong, mut names) = (0, 0, Vec::new());
        let _ = index::each_name_of_block(self.volume.source().as_ref(), loose.at, &mut |found| {
            if let Some((_, name)) = folders.get(&found.number) {
                let count = if *name == found.name.name { &mut right } else { &mut wrong };
                *count += 1;
            }
            names.push(found);
            ControlFlow::Continue(())
        });
        if wrong > right {
            return;
        }
        for found in names {
            if self.take(found).is_break() {
                return;
            }
        }
    }
}

/// Folders among `kept`, by number: the folder each stands in and its name.
pub(super) fn folders_of(kept: &[Kept]) -> HashMap<u64, (u64, String)> {
    let folders = kept.iter().filter(|kept| kept.entry.kind == NodeKind::Directory);
    folders.map(|kept| (kept.entry.id.0 & NUMBER_MASK, (kept.parent, kept.entry.name.clone()))).collect()
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::{MemorySource, SharedSource};

    use super::*;
    use crate::ntfs::index::each_name_of_block;
    use crate::ntfs::record::redo_fixups;
    use crate::ntfs::{FormerNtfs, MftPiece, NtfsGeometry};
    use crate::{Deleted, Volume};

    /// Notes records as a scan does: `.` one that stands, `0` zeros, `x` anything else.
    fn noted(first: u64, records: &str, lost: &mut Lost) {
        for (number, sort) in (first..).zip(records.chars()) {
            lost.place(number..number + 1);
            match sort {
                '.' => lost.stands(number),
                '0' => lost.gone(number, true),
                _ => lost.gone(number, false),
            }
        }
    }

    fn lost_of(lost: &Lost, numbers: Range<u64>) -> Vec<u64> {
        numbers.filter(|number| lost.is_lost(*number)).collect()
    }

    #[test]
    fn records_that_do_not_stand_are_those_before_others_that_do() {
        let mut lost = Lost::default();
        noted(0, "...x..00.0x..", &mut lost);
        assert!(lost.is_any() && !lost.ends_blank());
        assert_eq!(lost_of(&lost, 0..13), [3, 6, 7, 9, 10]);
        // Behind the last record none has a place.
        assert_eq!(lost_of(&lost, 13..15), [13, 14]);
    }

    #[test]
    fn zeros_at_the_end_are_room_unless_the_bitmap_says_otherwise() {
        let mut room = Lost::default();
        noted(0, "....0000", &mut room);
        assert!(room.ends_blank() && !room.is_any());
        room.close_end(8, &|_| false);
        assert_eq!((room.is_any(), lost_of(&room, 0..8)), (false, vec![]));
        let mut used = Lost::default();
        noted(0, "....0000", &mut used);
        used.close_end(8, &|number| number == 4 || number == 6);
        assert_eq!((used.is_any(), lost_of(&used, 0..8)), (true, vec![4, 6]));
        // An end that was closed stays so.
        used.close_end(8, &|_| true);
        assert_eq!(lost_of(&used, 0..8), [4, 6]);
    }

    #[test]
    fn gaps_between_pieces_are_lost_and_pieces_that_meet_have_none() {
        let mut apart = Lost::default();
        noted(2, "...", &mut apart);
        noted(10, "..", &mut apart);
        assert!(apart.is_any(), "a gap before the first, and one between");
        assert_eq!(lost_of(&apart, 0..13), [0, 1, 5, 6, 7, 8, 9, 12]);
        let mut whole = Lost::default();
        noted(0, "...", &mut whole);
        noted(3, "..", &mut whole);
        assert!(!whole.is_any());
    }

    #[test]
    fn a_surface_of_every_other_record_keeps_no_more_than_it_may() {
        let mut lost = Lost::default();
        for number in 0..4 * MOST_STRETCHES as u64 {
            lost.place(number..number + 1);
            if number % 2 == 0 { lost.gone(number, false) } else { lost.stands(number) }
        }
        assert_eq!((lost.stretches.len(), lost.placed.len()), (MOST_STRETCHES, 1));
        assert!(lost.is_lost(0) && !lost.is_lost(1));
    }

    /// A name in the folder with record `parent`.
    struct Name {
        number: u64,
        parent: u64,
        text: &'static str,
        namespace: u8,
        is_folder: bool,
    }

    fn name(number: u64, parent: u64, text: &'static str) -> Name {
        Name { number, parent, text, namespace: 1, is_folder: false }
    }

    /// An index block of 4096 bytes with these names, fixups done.
    fn block(names: &[Name]) -> Vec<u8> {
        let mut bytes = vec![0; 4096];
        bytes[..8].copy_from_slice(b"INDX\x28\0\x09\0");
        let mut at = 64;
        let put = |bytes: &mut Vec<u8>, at: usize, value: &[u8]| bytes[at..at + value.len()].copy_from_slice(value);
        for name in names {
            let units: Vec<u8> = name.text.encode_utf16().flat_map(u16::to_le_bytes).collect();
            let key = 66 + units.len();
            let length = (16 + key).next_multiple_of(8);
            put(&mut bytes, at, &(name.number | 1 << 48).to_le_bytes());
            put(&mut bytes, at + 8, &(length as u16).to_le_bytes());
            put(&mut bytes, at + 10, &(key as u16).to_le_bytes());
            put(&mut bytes, at + 16, &(name.parent | 1 << 48).to_le_bytes());
            put(&mut bytes, at + 16 + 48, &700u64.to_le_bytes());
            put(&mut bytes, at + 16 + 56, &(if name.is_folder { 0x1000_0000u32 } else { 0x20 }).to_le_bytes());
            bytes[at + 16 + 64] = units.len() as u8 / 2;
            bytes[at + 16 + 65] = name.namespace;
            put(&mut bytes, at + 16 + 66, &units);
            at += length;
        }
        put(&mut bytes, at + 8, &16u16.to_le_bytes());
        put(&mut bytes, at + 12, &2u16.to_le_bytes());
        for (field, value) in [(24, 40), (28, at as u32 + 16 - 24), (32, 4096 - 24)] {
            put(&mut bytes, field, &u32::to_le_bytes(value));
        }
        assert!(redo_fixups(&mut bytes));
        bytes
    }

    fn names_in(bytes: &[u8]) -> Result<Vec<(u64, String)>, crate::FormatError> {
        let source = MemorySource::new("block", bytes.to_vec(), 512);
        let mut names = Vec::new();
        let _ = each_name_of_block(&source, ByteOffset(0), &mut |found| {
            names.push((found.number, found.name.name));
            ControlFlow::Continue(())
        })?;
        Ok(names)
    }

    #[test]
    fn a_block_by_itself_hands_out_its_names_and_one_that_cannot_be_is_refused() {
        let good = block(&[name(70, 64, "ropes.txt"), name(71, 64, "Überfahrt ⛴.csv")]);
        assert_eq!(names_in(&good).unwrap(), [(70, "ropes.txt".to_string()), (71, "Überfahrt ⛴.csv".to_string())]);
        // Torn: the second sector is of another write.
        let mut torn = good.clone();
        torn[1022..1024].copy_from_slice(&[0xEE, 0xEE]);
        assert!(names_in(&torn).is_err());
        for allocated in [0u32, 1, 4096, 1 << 30, u32::MAX] {
            let mut wrong = good.clone();
            wrong[32..36].copy_from_slice(&allocated.to_le_bytes());
            assert!(names_in(&wrong).is_err(), "{allocated}");
        }
        assert!(names_in(&good[..2048]).is_err(), "cut off");
        // An entry that leads nowhere ends the block, and keeps the names before it.
        let mut short = block(&[name(70, 64, "ropes.txt"), name(71, 64, "fenders.txt")]);
        let second = 64 + (16 + 66 + 18usize).next_multiple_of(8);
        short[second + 8] = 3;
        assert_eq!(names_in(&short).unwrap(), [(70, "ropes.txt".to_string())]);
    }

    /// What is left of a volume: no record but one, and blocks of names.
    fn former(blocks: &[(u64, Vec<u8>)]) -> NtfsVolume {
        let mut bytes = vec![0; 1 << 20];
        let mut loose = Vec::new();
        for (index, (folder, block)) in blocks.iter().enumerate() {
            let at = 65_536 + index * 4096;
            bytes[at..at + 4096].copy_from_slice(block);
            loose.push(LooseBlock { at: ByteOffset(at as u64), folder: *folder });
        }
        let geometry = NtfsGeometry {
            bytes_per_sector: 512,
            cluster_bytes: 4096,
            mft_lcn: 4,
            mirror_lcn: 8,
            record_bytes: 1024,
            index_bytes: 4096,
            total_sectors: 2047,
            serial: 0,
        };
        let pieces = vec![MftPiece { first: 100, count: 2, at: ByteOffset(16_384) }];
        let source: SharedSource = Arc::new(MemorySource::new("former", bytes, 512));
        NtfsVolume::open_former(source, &FormerNtfs { geometry, pieces, loose }).unwrap()
    }

    fn walked(volume: &NtfsVolume) -> Vec<(String, Existence, NodeKind)> {
        let mut found = Vec::new();
        let _ = volume.walk(Deleted::Hide, &mut |item| {
            found.push((item.path(), item.entry.existence, item.entry.kind));
            ControlFlow::Continue(())
        });
        found.sort_by(|one, other| one.0.cmp(&other.0));
        found
    }

    #[test]
    fn names_of_loose_blocks_stand_in_the_folders_that_other_blocks_name() {
        let folder = Name { is_folder: true, ..name(64, 5, "Quay") };
        let alias = Name { namespace: 2, ..name(71, 64, "FENDER~1.TXT") };
        let blocks = [
            (5, block(&[folder, name(3, 5, "$Volume")])),
            (64, block(&[name(70, 64, "ropes.txt"), name(71, 64, "fenders of the quay.txt"), alias])),
            // The same block as it was written before.
            (64, block(&[name(70, 64, "ropes.txt")])),
        ];
        let volume = former(&blocks);
        let named = |path: &str, kind| (path.to_string(), Existence::Named, kind);
        let wanted = [
            named("Quay", NodeKind::Directory),
            named("Quay/fenders of the quay.txt", NodeKind::File),
            named("Quay/ropes.txt", NodeKind::File),
        ];
        assert_eq!(walked(&volume), wanted);
        // A folder without a record is listed by its blocks, and what it names has no content.
        let mut below = Vec::new();
        let findings = volume.list(crate::NodeId(64), Deleted::Hide, &mut |entry| {
            below.push((entry.name.clone(), entry.bytes, volume.open(entry.id, "").is_err()));
            ControlFlow::Continue(())
        });
        below.sort();
        assert_eq!(below, [("fenders of the quay.txt".to_string(), 700, true), ("ropes.txt".to_string(), 700, true)]);
        assert_eq!(findings.unwrap().len(), 1);
    }

    #[test]
    fn folders_that_name_one_another_in_a_circle_end() {
        let one = Name { is_folder: true, ..name(64, 65, "North") };
        let other = Name { is_folder: true, ..name(65, 64, "South") };
        let volume = former(&[(65, block(&[one])), (64, block(&[other]))]);
        let found = walked(&volume);
        assert_eq!(found.len(), 2, "{found:?}");
        assert!(found.iter().all(|(path, ..)| path.len() < 16_384));
    }
}
