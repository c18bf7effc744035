//! ISO 9660: the primary volume descriptor, 16 sectors of 2048 bytes into the volume. Source: ECMA-119.

use super::closed::CLOSED;
use crate::kind::{Holds, KindFacts, MbrTypes};
use std::collections::BTreeSet;

use keel_source::{ByteOffset, Source};

use super::{Known, sixteen, text};
use crate::{View, read_bytes};

/// Bytes from the volume's start to the descriptor.
const BEFORE: u64 = 32_768;

/// ISO 9660.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "ISO 9660",
    letters: "IS",
    mbr: MbrTypes::new(0x83, &[0x07, 0x17, 0x00]),
    holds: Holds::FilesBehindTables,
    make: None,
    resize: None,
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(b"\x01CD001\x01")
}

/// The most folders that are looked at to see whether the volume still stands.
const MOST_FOLDERS: usize = 64;
/// The most bytes of one folder that are read.
const MOST_FOLDER_BYTES: u32 = 64 << 10;

/// True when every folder looked at begins with the record of itself: nothing was written over them.
fn stands(drive: &dyn Source, start: ByteOffset, block: u64, root: (u32, u32)) -> bool {
    let (mut open, mut seen) = (vec![root], BTreeSet::new());
    while let Some((extent, bytes)) = open.pop() {
        if seen.len() >= MOST_FOLDERS || !seen.insert(extent) {
            continue;
        }
        let Some(at) = u64::from(extent).checked_mul(block).and_then(|offset| start.checked_add(offset)) else { return false };
        let len = bytes.clamp(34, MOST_FOLDER_BYTES) as usize;
        let Ok(folder) = read_bytes(drive, at, len, "directory") else { return false };
        let view = View::new("directory", at, &folder);
        // The first record names the folder itself by a single zero.
        let own = (view.u32(2, "Location of Extent"), view.u8(32, "Length of File Identifier"), view.u8(33, "File Identifier"));
        if own != (Ok(extent), Ok(1), Ok(0)) {
            return false;
        }
        open.extend(folders(view, len));
    }
    true
}

/// Extent and length of the folders that a folder names. Records do not cross sectors of 2048 bytes.
fn folders(view: View<'_>, len: usize) -> Vec<(u32, u32)> {
    let (mut found, mut offset) = (Vec::new(), 0);
    while offset + 34 <= len {
        let record = view.u8(offset, "Length of Directory Record").map_or(0, usize::from);
        if record < 34 {
            offset = (offset / 2048 + 1) * 2048;
            continue;
        }
        let is_folder = view.u8(offset + 25, "File Flags").is_ok_and(|flags| flags & 2 != 0);
        let is_other = view.u8(offset + 33, "File Identifier").is_ok_and(|name| name > 1);
        if let (true, true, Ok(extent), Ok(bytes)) =
            (is_folder, is_other, view.u32(offset + 2, "Location of Extent"), view.u32(offset + 10, "Data Length"))
        {
            found.push((extent, bytes));
        }
        offset += record;
    }
    found
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("primary volume descriptor", at, bytes);
    // Both byte orders are kept and must agree.
    let blocks = view.u32(80, "Volume Space Size").ok()?;
    let size = view.u16(128, "Logical Block Size").ok()?;
    let agree = view.u32(84, "Volume Space Size").ok()?.swap_bytes() == blocks
        && view.u16(130, "Logical Block Size").ok()?.swap_bytes() == size;
    if !agree || blocks == 0 || !matches!(size, 512 | 1024 | 2048) {
        return None;
    }
    let start = ByteOffset(at.0.checked_sub(BEFORE)?);
    let root = (view.u32(158, "Location of Extent").ok()?, view.u32(166, "Data Length").ok()?);
    let stands = stands(drive, start, u64::from(size), root);
    let says = format!(
        "ISO 9660 primary volume descriptor stands 32 KiB into the volume, both byte orders of its sizes agree; {}",
        if stands { "its folders stand where it says" } else { "its folders do not stand where it says" }
    );
    let identifier = sixteen(bytes, 813);
    Some(Known {
        start,
        bytes: u64::from(blocks) * u64::from(size),
        label: text(bytes.get(40..72)?),
        identifier,
        main: true,
        checked: stands,
        says,
    })
}
