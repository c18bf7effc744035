//! What single sectors of an XFS volume look like.

use keel_source::{ByteOffset, Source};
use serde::{Deserialize, Serialize};

use crate::clue::{Clues, Placed, clue_lists, keep};
use crate::xfs::XfsGeometry;
use crate::xfs::former::geometry_at;
use crate::xfs::layout::SUPERBLOCK_MAGIC;
use crate::{Geometry, View};

/// A superblock: at the start, or a copy in a later group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct SuperClue {
    /// Where.
    pub at: ByteOffset,
}

impl Placed for SuperClue {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// Clues to XFS volumes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct XfsClues {
    /// Superblocks.
    pub supers: Vec<SuperClue>,
}

clue_lists!(XfsClues {
    all: supers;
    tried: supers;
    leads: |lists| lists.supers.len()
});

/// True when a sector may belong to an XFS volume: a superblock's mark.
#[inline]
#[must_use]
pub fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(SUPERBLOCK_MAGIC)
}

/// Looks at one sector and keeps a clue.
pub fn look(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    let Some(sector) = bytes.first_chunk::<512>().filter(|sector| is_marked(sector)) else { return };
    if XfsGeometry::parse(View::new("superblock", at, sector)).is_ok() {
        keep(&mut clues.xfs.supers, SuperClue { at });
    }
}

/// Reads the superblock of a volume that starts at byte `at` of a drive.
#[must_use]
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    geometry_at(source, at).ok().map(Geometry::Xfs)
}
