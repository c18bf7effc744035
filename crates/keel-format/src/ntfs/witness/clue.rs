//! What single sectors of an NTFS volume look like.

use keel_source::{ByteOffset, Source};
use serde::{Deserialize, Serialize};

use crate::clue::{Clues, FormatClues, MOST_CLUES, MOST_LEADS, Placed, append, keep, thin, tidy};
use crate::ntfs::layout::{INDEX_ALLOCATION, IS_DIRECTORY, NUMBER_MASK};
use crate::ntfs::{NtfsGeometry, Record};
use crate::registry::marked_sector;
use crate::{Geometry, View};

/// Consecutive file records whose numbers rise with their places: a piece of an MFT.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Streak {
    /// Where its first record stands.
    pub at: ByteOffset,
    /// Number of the first record.
    pub first: u64,
    /// Count of records seen.
    pub count: u64,
    /// Size of a record in bytes.
    pub record_bytes: u32,
}

impl Placed for Streak {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// A directory's file record and where it says its index lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct DirectoryRecord {
    /// Where the record stands.
    pub at: ByteOffset,
    /// Its number.
    pub number: u64,
    /// First cluster of its index blocks.
    pub lcn: u64,
    /// Cluster size that its sizes and runs give.
    pub cluster_bytes: u32,
}

impl Placed for DirectoryRecord {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// An index block and the directory whose names it holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct IndexBlock {
    /// Where.
    pub at: ByteOffset,
    /// Its VCN in the index.
    pub vcn: u64,
    /// Record number of the directory, from its first entry's parent.
    pub owner: u64,
}

impl Placed for IndexBlock {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// Clues to NTFS volumes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NtfsClues {
    /// Boot sectors, main or backup.
    pub boots: Vec<ByteOffset>,
    /// Pieces of MFTs.
    pub streaks: Vec<Streak>,
    /// Records with number 0: of an MFT or of a mirror.
    pub zeros: Vec<ByteOffset>,
    /// Directories with index blocks.
    pub directories: Vec<DirectoryRecord>,
    /// Index blocks with VCN 0.
    pub blocks: Vec<IndexBlock>,
    /// Index blocks with any other VCN.
    #[serde(default)]
    pub further: Vec<IndexBlock>,
}

impl NtfsClues {
    /// Adds what another worker saw, as it comes.
    pub fn append(&mut self, other: Self) {
        append(&mut self.boots, other.boots);
        append(&mut self.zeros, other.zeros);
        append(&mut self.directories, other.directories);
        append(&mut self.blocks, other.blocks);
        append(&mut self.further, other.further);
        append(&mut self.streaks, other.streaks);
    }
}

impl FormatClues for NtfsClues {
    fn tidy(&mut self) {
        // Streaks that continue one another become one.
        tidy(&mut self.boots);
        tidy(&mut self.zeros);
        tidy(&mut self.directories);
        tidy(&mut self.blocks);
        tidy(&mut self.further);
        self.streaks.sort_unstable();
        self.streaks.dedup();
        let mut joined: Vec<Streak> = Vec::with_capacity(self.streaks.len());
        for streak in self.streaks.drain(..) {
            match joined.last_mut() {
                Some(last) if continues(last, streak.at, streak.first, streak.record_bytes) => last.count += streak.count,
                _ => joined.push(streak),
            }
        }
        joined.truncate(MOST_CLUES);
        self.streaks = joined;
    }

    fn thin_leads(&mut self) {
        thin(&mut self.boots, MOST_LEADS);
        thin(&mut self.zeros, MOST_LEADS);
    }

    fn count(&self) -> usize {
        self.boots.len() + self.streaks.len() + self.directories.len() + self.blocks.len() + self.further.len()
    }

    fn leads(&self) -> usize {
        self.boots.len() + self.zeros.len()
    }
}

fn continues(last: &Streak, at: ByteOffset, number: u64, record_bytes: u32) -> bool {
    last.record_bytes == record_bytes && last.first + last.count == number && last.at + last.count * u64::from(record_bytes) == at
}

/// True when a sector may belong to an NTFS volume. Sectors with a boot mark are looked at anyway.
#[inline]
#[must_use]
pub fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(b"FILE") || sector.starts_with(b"INDX")
}

/// Looks at one sector and keeps a clue.
pub fn look(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    if bytes.starts_with(b"FILE") {
        file_record(clues, at, bytes);
    } else if bytes.starts_with(b"INDX") {
        index_block(clues, at, bytes);
    } else if bytes.get(3..11) == Some(b"NTFS    ")
        && let Some(sector) = bytes.get(..512)
        && sector.ends_with(&[0x55, 0xAA])
        && NtfsGeometry::parse(View::new("boot sector", at, sector)).is_ok()
    {
        keep(&mut clues.ntfs.boots, at);
    }
}

fn file_record(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    let view = View::new("file record", at, bytes);
    let (Ok(size), Ok(number), Ok(offset)) =
        (view.u32(28, "allocated_size"), view.u32(44, "record_number"), view.u16(4, "usa_offset"))
    else {
        return;
    };
    // Before NTFS 3.1 the number was not kept, and the update sequence stands in its place.
    if !matches!(size, 1024 | 2048 | 4096) || offset < 48 {
        return;
    }
    let number = u64::from(number);
    match clues.ntfs.streaks.last_mut() {
        Some(last) if continues(last, at, number, size) => last.count += 1,
        _ => keep(&mut clues.ntfs.streaks, Streak { at, first: number, count: 1, record_bytes: size }),
    }
    if number == 0 {
        keep(&mut clues.ntfs.zeros, at);
    }
    let directory = view.u16(22, "flags").is_ok_and(|flags| flags & IS_DIRECTORY != 0);
    if directory && clues.ntfs.directories.len() < MOST_CLUES / 16 {
        let Some(record) = bytes.get(..size as usize).and_then(|raw| Record::parse(raw.to_vec(), at).ok()) else { return };
        let Some(attribute) = record.attribute(INDEX_ALLOCATION, "$I30") else { return };
        let first = attribute.runs(u64::MAX >> 1).ok().and_then(|runs| runs.first()?.lcn);
        if let (Some(lcn), Some(cluster_bytes)) = (first, attribute.implied_cluster_bytes()) {
            clues.ntfs.directories.push(DirectoryRecord { at, number, lcn, cluster_bytes });
        }
    }
}

fn index_block(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    let view = View::new("index block", at, bytes);
    let (Ok(vcn), Ok(entries)) = (view.u64(16, "vcn"), view.u32(24, "entries_offset")) else { return };
    let first = 24 + entries as usize;
    // The parent reference opens the key of the first entry; it stands before the first protected word.
    let key_length = view.u16(first.saturating_add(10), "key_length").unwrap_or(0);
    if first + 24 <= 510
        && key_length >= 66
        && let Ok(owner) = view.u64(first + 16, "parent")
    {
        let list = if vcn == 0 { &mut clues.ntfs.blocks } else { &mut clues.ntfs.further };
        keep(list, IndexBlock { at, vcn, owner: owner & NUMBER_MASK });
    }
}

/// Reads the boot sector at byte `at` of a drive.
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    let sector = marked_sector(source, at)?;
    NtfsGeometry::parse(View::new("NTFS boot sector", at, &sector)).ok().map(Geometry::Ntfs)
}
