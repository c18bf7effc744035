//! What single sectors of an HFS+ volume look like.

use keel_source::{ByteOffset, Source};
use serde::{Deserialize, Serialize};

use crate::clue::{Clues, Placed, clue_lists, keep};
use crate::hfsplus::HfsGeometry;
use crate::hfsplus::header_of;
use crate::hfsplus::layout::{ATTRIBUTES_KEY, CATALOG_KEY, EXTENTS_KEY, HEADER_AT};
use crate::{Geometry, View, read_bytes};

/// A volume header, main or alternate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct HeaderClue {
    /// Where.
    pub at: ByteOffset,
}

impl Placed for HeaderClue {
    fn place(&self) -> ByteOffset {
        // The header stands two sectors behind the start.
        ByteOffset(self.at.0.saturating_sub(1024))
    }
}

/// The header node of a B-tree.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct TreeClue {
    /// Where.
    pub at: ByteOffset,
    /// Its `maxKeyLength`, which tells catalog, extents overflow and attributes apart.
    pub max_key_length: u16,
    /// Bytes of a node.
    pub node_bytes: u16,
}

impl Placed for TreeClue {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// Clues to HFS+ volumes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct HfsClues {
    /// Volume headers.
    pub headers: Vec<HeaderClue>,
    /// Header nodes of catalogs, extents overflow and attributes files.
    pub trees: Vec<TreeClue>,
    /// Leaves of B-trees.
    pub leaves: Vec<ByteOffset>,
}

clue_lists!(HfsClues {
    all: headers, trees, leaves;
    tried: headers;
    leads: |lists| {
    lists.headers.len() + lists.trees.iter().filter(|tree| tree.max_key_length == CATALOG_KEY).count()
}
});

/// True when a sector may belong to an HFS+ volume: a header's signature, a B-tree's header node or leaf.
#[inline]
#[must_use]
pub fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(&[b'H', b'+', 0, 4])
        || sector.starts_with(&[b'H', b'X', 0, 5])
        || is_tree_header(sector)
        || is_leaf(sector)
}

/// `kind` 1, `height` 0, three records, nothing reserved.
#[inline]
fn is_tree_header(sector: &[u8]) -> bool {
    sector.get(8..14) == Some(&[1, 0, 0, 3, 0, 0])
}

/// `kind` -1, `height` 1, nothing reserved, and a first key that is no longer than any tree of the format has.
#[inline]
fn is_leaf(sector: &[u8; 512]) -> bool {
    sector[8] == 0xFF && sector[9] == 1 && sector[12] == 0 && sector[13] == 0 && sector[14] <= 2 && sector[11] != 0
}

/// Looks at one sector and keeps a clue.
pub fn look(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    let Some(sector) = bytes.get(..512) else { return };
    let view = View::new("sector", at, sector);
    if matches!(sector, [b'H', b'+' | b'X', ..]) && HfsGeometry::parse(view).is_ok() {
        keep(&mut clues.hfsplus.headers, HeaderClue { at });
    }
    if sector.first_chunk::<512>().is_some_and(is_leaf) {
        keep(&mut clues.hfsplus.leaves, at);
    }
    if is_tree_header(sector)
        && let Ok(header) = header_of(view)
        && matches!(header.max_key_length.get(), CATALOG_KEY | EXTENTS_KEY | ATTRIBUTES_KEY)
    {
        let clue = TreeClue { at, max_key_length: header.max_key_length.get(), node_bytes: header.node_size.get() };
        keep(&mut clues.hfsplus.trees, clue);
    }
}

/// Reads the header of a volume that starts at byte `at` of a drive.
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    let at = at + HEADER_AT;
    let bytes = read_bytes(source, at, 512, "volume header").ok()?;
    HfsGeometry::parse(View::new("volume header", at, &bytes)).ok().map(Geometry::HfsPlus)
}
