//! What single sectors of a FAT volume look like.

use keel_source::{ByteOffset, Source};
use serde::{Deserialize, Serialize};

use crate::clue::{Clues, Placed, clue_lists, keep};
use crate::fat::FatGeometry;
use crate::fat::directory::holds_entries;
use crate::fat::layout::{ATTR_ARCHIVE, ATTR_LONG_NAME};
use crate::registry::marked_sector;
use crate::{Geometry, View};

/// The first sector of a FAT.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct FatStart {
    /// Where.
    pub at: ByteOffset,
    /// Bits of an entry: 12, 16 or 32.
    pub bits: u8,
    /// Media byte.
    pub media: u8,
    /// CRC-32 of the sector, to pair copies.
    pub crc: u32,
}

impl Placed for FatStart {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// The first sector of a directory: its `.` and `..` entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Dot {
    /// Where.
    pub at: ByteOffset,
    /// The cluster that `.` names: the one that starts here.
    pub own: u32,
    /// The cluster that `..` names; 0 for the root.
    pub parent: u32,
}

impl Placed for Dot {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// Clues to FAT volumes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FatClues {
    /// Boot sectors, main or backup.
    pub boots: Vec<ByteOffset>,
    /// FAT starts.
    pub starts: Vec<FatStart>,
    /// FSInfo sectors.
    pub fs_info: Vec<ByteOffset>,
    /// Directory starts.
    pub dots: Vec<Dot>,
    /// Sectors of directories behind their first one: nothing but entries with names, attributes and dates that can be.
    pub slots: Vec<ByteOffset>,
}

clue_lists!(FatClues {
    all: boots, starts, fs_info, dots, slots;
    tried: boots;
    leads: |lists| lists.boots.len() + lists.starts.len()
});

/// True when a sector may belong to a FAT volume: a directory's `.` entry, or a FAT's media byte and what follows it.
/// Sectors with a boot mark are looked at anyway.
#[inline]
#[must_use]
pub fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(b".   ") || (sector[0] >= 0xF0 && sector[1] == 0xFF && sector[2] == 0xFF) || is_slots(sector)
}

/// A long name's part among the first two entries of a directory's sector, or two files with short names.
#[inline]
fn is_slots(sector: &[u8; 512]) -> bool {
    let first = sector[11] == ATTR_LONG_NAME && sector[12] == 0 && sector[26] == 0 && sector[27] == 0;
    let second = sector[43] == ATTR_LONG_NAME && sector[44] == 0 && sector[58] == 0 && sector[59] == 0;
    let short = sector[11] == ATTR_ARCHIVE && sector[43] == ATTR_ARCHIVE && (sector[12] | sector[44]) & 0xE7 == 0;
    first || second || short
}

/// Looks at one sector and keeps a clue.
pub fn look(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    let Some(sector) = bytes.get(..512) else { return };
    let view = View::new("sector", at, sector);
    if sector.ends_with(&[0x55, 0xAA]) {
        if FatGeometry::parse(view).is_ok() {
            keep(&mut clues.fat.boots, at);
        }
        if sector.starts_with(b"RRaA") && view.u32(484, "FSI_StrucSig") == Ok(0x6141_7272) {
            keep(&mut clues.fat.fs_info, at);
        }
    }
    if let Some((bits, media)) = fat_start(view) {
        keep(&mut clues.fat.starts, FatStart { at, bits, media, crc: crc32fast::hash(sector) });
    }
    if let Some(dot) = dot(view, at) {
        keep(&mut clues.fat.dots, dot);
    } else if sector.first_chunk::<512>().is_some_and(is_slots) && holds_entries(sector) {
        keep(&mut clues.fat.slots, at);
    }
}

fn fat_start(view: View<'_>) -> Option<(u8, u8)> {
    let media = view.u8(0, "media").ok().filter(|media| matches!(media, 0xF0 | 0xF8..=0xFE))?;
    let first = view.u32(0, "entry 0").ok()?;
    let second = view.u32(4, "entry 1").ok()?;
    if first & 0xFFFF_FF00 == 0x0FFF_FF00
        && second & 0x03FF_FFFF == 0x03FF_FFFF
        && view.u32(8, "entry 2").is_ok_and(|third| third != 0)
    {
        return Some((32, media));
    }
    if first & 0xFF00 == 0xFF00 && first >> 16 & 0x3FFF == 0x3FFF {
        return Some((16, media));
    }
    (first & 0x00FF_FF00 == 0x00FF_FF00).then_some((12, media))
}

/// The `.` and `..` entries that `view` begins with.
pub(in crate::fat) fn dot(view: View<'_>, at: ByteOffset) -> Option<Dot> {
    let own = view.slice(0, 11, ".").ok()?;
    let parent = view.slice(32, 11, "..").ok()?;
    let directory = |offset: usize| view.u8(offset + 11, "DIR_Attr").is_ok_and(|attr| attr & 0x18 == 0x10);
    if own != b".          " || parent != b"..         " || !directory(0) || !directory(32) {
        return None;
    }
    let cluster =
        |offset: usize| Some(u32::from(view.u16(offset + 20, "hi").ok()?) << 16 | u32::from(view.u16(offset + 26, "lo").ok()?));
    let dot = Dot { at, own: cluster(0)?, parent: cluster(32)? };
    (dot.own >= 2).then_some(dot)
}

/// Reads the boot sector at byte `at` of a drive.
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    let sector = marked_sector(source, at)?;
    FatGeometry::parse(View::new("FAT boot sector", at, &sector)).ok().map(Geometry::Fat)
}
