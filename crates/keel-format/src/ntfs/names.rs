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
