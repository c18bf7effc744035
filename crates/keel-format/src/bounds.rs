//! What bounds a volume of which no boot sector states start or length: entries of every table that reads, the volumes beside
//! it, the drive itself.

use std::collections::BTreeSet;

use keel_source::{ByteOffset, ByteRange, SharedSource};

use crate::clue::Clues;
use crate::table;

/// Customary alignment of partitions in bytes.
pub(crate) const ALIGNMENT: u64 = 1 << 20;

/// What stands around a volume.
pub(crate) struct Bounds {
    entries: Vec<ByteRange>,
    starts: BTreeSet<ByteOffset>,
    /// Length of the drive in bytes.
    pub(crate) drive: u64,
    /// True when sector 0 holds a table: no volume starts there.
    pub(crate) has_table: bool,
}

/// An end, how much it is worth as evidence, and how it is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct End {
    pub(crate) at: ByteOffset,
    pub(crate) weight: i32,
    pub(crate) how: &'static str,
}

/// Where the end of a volume may lie by its own metadata.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Open {
    /// First byte of the volume.
    pub(crate) start: ByteOffset,
    /// The least end.
    pub(crate) least: ByteOffset,
    /// The farthest end.
    pub(crate) most: ByteOffset,
    /// True when its own count of clusters is exact: what is open is less than one of them.
    pub(crate) exact: bool,
}

impl Bounds {
    pub(crate) fn new(drive: &SharedSource, clues: &Clues) -> Self {
        let read = table::read(drive.as_ref());
        let sector = drive.sector_size();
        let lists = [&read.partitions, &read.mbr.partitions, &read.primary.partitions, &read.backup.partitions];
        let entries: BTreeSet<ByteRange> = lists.into_iter().flatten().map(|entry| entry.range(sector)).collect();
        let boots = [&clues.ntfs.boots, &clues.fat.boots, &clues.exfat.boots].into_iter().flatten().copied();
        let starts = boots.chain(entries.iter().map(|entry| entry.start)).collect();
        let has_table = read.mbr.signature && !read.mbr.is_volume && read.scheme.is_some() && !entries.is_empty();
        Self { entries: entries.into_iter().collect(), starts, drive: drive.len(), has_table }
    }

    /// The entry that holds byte `at` and starts before `before`.
    pub(crate) fn entry(&self, before: ByteOffset, at: ByteOffset) -> Option<ByteRange> {
        self.entries.iter().copied().filter(|entry| entry.start < before && entry.contains(at)).max_by_key(|entry| entry.start)
    }

    /// The entry that starts at `start`.
    pub(crate) fn entry_at(&self, start: ByteOffset) -> Option<ByteRange> {
        self.entries.iter().copied().find(|entry| entry.start == start)
    }

    /// The ground of the table entry that holds byte `at`, or the whole drive where it has no table.
    pub(crate) fn around(&self, at: ByteOffset) -> Option<(ByteOffset, ByteOffset)> {
        match self.entry(at, at) {
            Some(entry) => Some((entry.start, entry.end.min(ByteOffset(self.drive)))),
            None => (!self.has_table).then_some((ByteOffset(0), ByteOffset(self.drive))),
        }
    }

    /// The end that something states inside of what is `open`, the surest first: a table entry (`entry`, where one gave the
    /// start), the next volume, the drive, a customary boundary. `legal` says whether the volume may end there.
    pub(crate) fn end(&self, open: Open, entry: Option<ByteRange>, legal: &dyn Fn(ByteOffset) -> bool) -> Option<End> {
        let most = open.most.min(ByteOffset(self.drive));
        let inside = |at: ByteOffset| (open.least <= at && at <= most && legal(at)).then_some(at);
        let end = |at: Option<ByteOffset>, weight: i32, how: &'static str| at.map(|at| End { at, weight, how });
        let entry = end(entry.and_then(|entry| inside(entry.end)), 14, "a table entry gives the end");
        let to_drive = || end(inside(ByteOffset(self.drive)), 8, "the drive ends there");
        let next = self.starts.iter().find(|at| **at >= open.least);
        let to_next = || end(next.and_then(|at| inside(*at)), 8, "the next volume starts there");
        let boundary = ByteOffset(most.0 / ALIGNMENT * ALIGNMENT);
        // Where several boundaries lie in what is open, none of them is stated.
        let only = most - open.least.min(most) < ALIGNMENT;
        let to_boundary = || match open.exact && only {
            true => end(inside(boundary), 8, "a boundary of 1 MiB lies there"),
            false => end(inside(boundary), 2, "the last boundary of 1 MiB that its metadata has room for"),
        };
        let whole = open.start.0 == 0 && !self.has_table;
        let first = match open.exact {
            true => to_next().or_else(to_boundary).or_else(to_drive),
            false => to_next().or_else(|| to_drive().filter(|_| whole)),
        };
        entry.or(first).or_else(to_drive).or_else(to_boundary)
    }
}
