//! What single sectors of an exFAT volume look like.

use keel_source::{ByteOffset, Source};
use serde::{Deserialize, Serialize};

use crate::clue::{Clues, Placed, clue_lists, keep};
use crate::exfat::ExFatGeometry;
use crate::exfat::layout::{BITMAP, FILE, IN_USE, LABEL, RawAllocation, STREAM, UPCASE};
use crate::registry::marked_sector;
use crate::{Geometry, View};

/// The first units of every up-case table: 0, 1, 2, 3.
const UPCASE_START: [u8; 8] = [0, 0, 1, 0, 2, 0, 3, 0];

/// The first sector of a root directory: it names the allocation bitmap and the up-case table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct RootClue {
    /// Where.
    pub at: ByteOffset,
    /// First cluster of the bitmap.
    pub bitmap_cluster: u32,
    /// Bytes of the bitmap.
    pub bitmap_bytes: u64,
    /// First cluster of the up-case table.
    pub upcase_cluster: u32,
    /// Bytes of the up-case table.
    pub upcase_bytes: u64,
}

impl Placed for RootClue {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// Clues to exFAT volumes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ExFatClues {
    /// Boot sectors, main or backup.
    pub boots: Vec<ByteOffset>,
    /// Root directories.
    pub roots: Vec<RootClue>,
    /// Starts of up-case tables.
    pub upcases: Vec<ByteOffset>,
    /// Starts of FATs.
    pub fats: Vec<ByteOffset>,
    /// Empty extended boot sectors: the second sector of a boot region, and the seven behind it.
    pub extended: Vec<ByteOffset>,
    /// Sectors that begin with a directory entry set: directories other than the root, or the inside of one.
    pub sets: Vec<ByteOffset>,
}

clue_lists!(ExFatClues {
    all: boots, roots, upcases, fats, extended, sets;
    tried: boots, roots;
    leads: |lists| lists.boots.len() + lists.roots.len()
});

/// True when a sector may belong to an exFAT volume. Sectors with a boot mark are looked at anyway.
#[inline]
#[must_use]
pub fn is_marked(sector: &[u8; 512]) -> bool {
    let kind = sector[0];
    let directory = kind == FILE && sector[32] == STREAM;
    let root = matches!(kind | IN_USE, LABEL | BITMAP) && (sector[32] == BITMAP || sector[32] == UPCASE);
    directory || root || sector.starts_with(&UPCASE_START) || is_fat_start(sector)
}

fn is_fat_start(sector: &[u8]) -> bool {
    sector.starts_with(&[0xF8, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF])
}

/// Looks at one sector and keeps a clue.
pub fn look(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    let Some(sector) = bytes.get(..512) else { return };
    let clues = &mut clues.exfat;
    if sector.ends_with(&[0x55, 0xAA]) {
        if ExFatGeometry::parse(View::new("exFAT boot sector", at, sector)).is_ok() {
            keep(&mut clues.boots, at);
        } else if sector.iter().take(510).all(|byte| *byte == 0) {
            keep(&mut clues.extended, at);
        }
    }
    if is_fat_start(sector) {
        keep(&mut clues.fats, at);
    } else if sector.starts_with(&UPCASE_START) {
        keep(&mut clues.upcases, at);
    } else if sector.first() == Some(&FILE) && sector.get(32) == Some(&STREAM) {
        keep(&mut clues.sets, at);
    } else if let Some(root) = root(sector, at) {
        keep(&mut clues.roots, root);
    }
}

/// The bitmap and up-case entries among the first four of a directory.
fn root(sector: &[u8], at: ByteOffset) -> Option<RootClue> {
    let view = View::new("root directory", at, sector);
    let entries = || (0..4usize).filter_map(move |index| view.at::<RawAllocation>(index * 32, "entry").ok());
    let find = |kind: u8| entries().find(|entry| entry.entry_type == kind && entry.first_cluster.get() >= 2);
    let (bitmap, upcase) = (find(BITMAP)?, find(UPCASE)?);
    Some(RootClue {
        at,
        bitmap_cluster: bitmap.first_cluster.get(),
        bitmap_bytes: bitmap.data_length.get(),
        upcase_cluster: upcase.first_cluster.get(),
        upcase_bytes: upcase.data_length.get(),
    })
}

/// Reads the boot sector at byte `at` of a drive.
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    let sector = marked_sector(source, at)?;
    ExFatGeometry::parse(View::new("exFAT boot sector", at, &sector)).ok().map(Geometry::ExFat)
}
