//! What single sectors of an ext volume look like.

use keel_source::{ByteOffset, Source};
use serde::{Deserialize, Serialize};

use crate::clue::{Clues, append, keep, tidy};
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

/// Clues to ext volumes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ExtClues {
    /// Superblocks.
    pub supers: Vec<SuperClue>,
    /// Directory starts.
    pub directories: Vec<DirectoryStart>,
}

impl ExtClues {
    /// Adds what another worker saw, as it comes.
    pub fn append(&mut self, other: Self) {
        append(&mut self.supers, other.supers);
        append(&mut self.directories, other.directories);
    }

    /// Sorts and removes doubles.
    pub fn tidy(&mut self) {
        tidy(&mut self.supers);
        tidy(&mut self.directories);
    }

    /// How many clues there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.supers.len() + self.directories.len()
    }

    /// How many clues a new volume could begin with.
    #[must_use]
    pub fn leads(&self) -> usize {
        self.supers.len()
    }
}

/// True when a sector may belong to an ext volume: a superblock's magic, or the `.` entry of a directory.
#[inline]
#[must_use]
pub fn is_marked(sector: &[u8; 512]) -> bool {
    (sector[56] == 0x53 && sector[57] == 0xEF) || (sector[4] == 12 && sector[5] == 0 && sector[6] == 1 && sector[8] == b'.')
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
