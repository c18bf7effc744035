//! What single sectors of an ext volume look like.

use keel_source::{ByteOffset, Source};
use serde::{Deserialize, Serialize};

use crate::clue::{Clues, Placed, clue_lists, keep};
use crate::ext::ExtGeometry;
use crate::ext::layout::SUPERBLOCK_AT;
use crate::{Geometry, View, read_bytes};

/// A superblock, main or copy.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct SuperClue {
    /// Where.
    pub at: ByteOffset,
    /// The block group that it says it stands in.
    pub group: u32,
}

impl Placed for SuperClue {
    fn place(&self) -> ByteOffset {
        // The main superblock stands behind the boot block.
        if self.group == 0 { ByteOffset(self.at.0.saturating_sub(1024)) } else { self.at }
    }
}

/// The first block of a directory: its `.` and `..` entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct DirectoryStart {
    /// Where.
    pub at: ByteOffset,
    /// The inode that `.` names.
    pub own: u32,
    /// The inode that `..` names.
    pub parent: u32,
}

impl Placed for DirectoryStart {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// The first sector of what looks like a table of group descriptors.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct DescriptorClue {
    /// Where.
    pub at: ByteOffset,
    /// Bytes of a descriptor: 32 or 64.
    pub bytes: u16,
}

impl Placed for DescriptorClue {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// The superblock of a journal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct JournalClue {
    /// Where.
    pub at: ByteOffset,
    /// `s_blocksize`, in bytes.
    pub block_bytes: u32,
    /// `s_maxlen`, in blocks.
    pub blocks: u32,
}

impl Placed for JournalClue {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// Clues to ext volumes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ExtClues {
    /// Superblocks.
    pub supers: Vec<SuperClue>,
    /// Directory starts.
    pub directories: Vec<DirectoryStart>,
    /// Tables of group descriptors, main and copies.
    pub descriptors: Vec<DescriptorClue>,
    /// Superblocks of journals.
    #[serde(default)]
    pub journals: Vec<JournalClue>,
}

clue_lists!(ExtClues {
    all: supers, directories, descriptors, journals;
    tried: supers;
    leads: |lists| lists.supers.len() + lists.descriptors.len()
});

/// The farthest that the bitmaps and the inode table of one group stand apart, in blocks.
const FARTHEST: u32 = 4096;

/// True when a sector may belong to an ext volume: a superblock's magic, the `.` entry of a directory, or a group
/// descriptor, whose bitmaps and inode table follow each other.
#[inline]
#[must_use]
pub fn is_marked(sector: &[u8; 512]) -> bool {
    (sector[56] == 0x53 && sector[57] == 0xEF)
        || (sector[4] == 12 && sector[5] == 0 && sector[6] == 1 && sector[8] == b'.')
        || starts_descriptor(sector)
        || starts_journal(sector)
}

/// `h_magic` and `h_blocktype` of a journal's superblock, version 1 or 2; big-endian.
#[inline]
fn starts_journal(sector: &[u8; 512]) -> bool {
    matches!(sector, [0xC0, 0x3B, 0x39, 0x98, 0, 0, 0, 3 | 4, ..])
}

#[inline]
fn starts_descriptor(bytes: &[u8; 512]) -> bool {
    let [a0, a1, a2, a3, b0, b1, b2, b3, c0, c1, c2, c3, ..] = *bytes;
    let block_bitmap = u32::from_le_bytes([a0, a1, a2, a3]);
    let inode_bitmap = u32::from_le_bytes([b0, b1, b2, b3]);
    let inode_table = u32::from_le_bytes([c0, c1, c2, c3]);
    let follows = |later: u32, earlier: u32| later.wrapping_sub(earlier).wrapping_sub(1) < FARTHEST;
    block_bitmap != 0 && follows(inode_bitmap, block_bitmap) && follows(inode_table, inode_bitmap)
}

/// The size of the descriptors that `sector` begins with: the second one goes on in step with the first, or there is
/// none and the rest is zero.
fn descriptor_bytes(sector: &[u8]) -> Option<u16> {
    let first = sector.first_chunk::<512>().filter(|sector| starts_descriptor(sector))?;
    let numbers = |at: usize| {
        let bytes = first.get(at..at + 12)?;
        let (words, _) = bytes.as_chunks::<4>();
        let mut words = words.iter().map(|word| u32::from_le_bytes(*word));
        Some((words.next()?, words.next()?, words.next()?))
    };
    let (a, b, c) = numbers(0)?;
    let in_step = |bytes: &u16| {
        let zero_behind = first.get(usize::from(*bytes)..).is_some_and(|rest| rest.iter().all(|byte| *byte == 0));
        let next = numbers(usize::from(*bytes)).is_some_and(|(next_a, next_b, next_c)| {
            let step = next_a.wrapping_sub(a);
            (1..=1 << 16).contains(&step) && next_b.wrapping_sub(b) == step && next_c > c && next_c - c <= 1 << 16
        });
        // Above 16 TiB the high halves are not zero; such volumes are found by their superblocks.
        let high = *bytes == 32 || first.get(32..44).is_some_and(|high| high.iter().all(|byte| *byte == 0));
        high && (zero_behind || next)
    };
    // A directory or a table of numbers in step has no flags in the right place.
    let flags = first.get(18..20).is_some_and(|flags| matches!(flags, [0..=7, 0]));
    [64, 32].into_iter().find(in_step).filter(|_| flags)
}

/// Looks at one sector and keeps a clue.
pub fn look(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    let view = View::new("sector", at, bytes);
    if let Some(copy) = bytes.get(..1024)
        && copy.get(56..58) == Some(&[0x53, 0xEF])
        && let Ok((_, group)) = ExtGeometry::parse(View::new("superblock", at, copy))
    {
        keep(&mut clues.ext.supers, SuperClue { at, group });
    }
    if let Some(bytes) = descriptor_bytes(bytes) {
        keep(&mut clues.ext.descriptors, DescriptorClue { at, bytes });
    }
    if bytes.first_chunk().is_some_and(starts_journal)
        && let (Ok(size), Ok(blocks)) = (view.slice(12, 4, "s_blocksize"), view.slice(16, 4, "s_maxlen"))
    {
        let number = |bytes: &[u8]| bytes.first_chunk().map_or(0, |word| u32::from_be_bytes(*word));
        keep(&mut clues.ext.journals, JournalClue { at, block_bytes: number(size), blocks: number(blocks) });
    }
    let dots = view.slice(4, 8, "dot").is_ok_and(|dot| matches!(dot, [12, 0, 1, 0 | 2, b'.', 0, 0, 0]));
    if dots
        && view.slice(18, 4, "dots").is_ok_and(|dots| matches!(dots, [2, 0 | 2, b'.', b'.']))
        && let (Ok(own), Ok(parent)) = (view.u32(0, "inode"), view.u32(12, "inode"))
    {
        keep(&mut clues.ext.directories, DirectoryStart { at, own, parent });
    }
}

/// Reads the superblock of a volume that starts at byte `at` of a drive.
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    let at = at + SUPERBLOCK_AT;
    let bytes = read_bytes(source, at, 1024, "superblock").ok()?;
    let (geometry, group) = ExtGeometry::parse(View::new("superblock", at, &bytes)).ok()?;
    (group == 0).then_some(Geometry::Ext(geometry))
}
