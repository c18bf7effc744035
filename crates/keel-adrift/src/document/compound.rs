//! Compound files (MS-CFB): documents, tables, letters of offices before they became archives. The table of sectors tells how far they reach.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

const HEADER: u64 = 512;
/// Entries in the header that lead to sectors of the table.
const IN_HEADER: u64 = 109;
const FREE: u32 = 0xFFFF_FFFF;
const LAST: u32 = 0xFFFF_FFFE;
/// The most sectors of the table: 8 GiB of file.
const MOST_TABLES: usize = 1 << 17;

/// Walks a file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (order, shift, mini) = (walk.le16(28)?, walk.le16(30)?, walk.le16(32)?);
    if order != 0xFFFE || !matches!(shift, 9 | 12) || mini != 6 {
        return wrong("its header is none");
    }
    let sector = 1u64 << shift;
    let place = |number: u32| (u64::from(number) + 1) * sector;
    let tables = tables(walk, sector)?;
    walk.hold(HEADER);
    // The highest sector that is in use is the last one.
    let (mut highest, per) = (None, sector / 4);
    for (index, table) in tables.iter().enumerate() {
        let at = place(*table);
        walk.reaches(at + sector)?;
        highest = highest.max(Some(u64::from(*table)));
        for (slot, entry) in walk.bytes(at, sector)?.as_chunks::<4>().0.iter().enumerate() {
            let entry = u32::from_le_bytes(*entry);
            if entry != FREE {
                highest = highest.max(Some(index as u64 * per + slot as u64));
            }
            if entry < 0xFFFF_FFFA && u64::from(entry) >= tables.len() as u64 * per {
                return wrong("a sector of it leads to one that is not there");
            }
        }
    }
    let end = (highest.ok_or(Broken::Wrong("none of its sectors is in use".into()))? + 2) * sector;
    let directory = place(walk.le32(48)?);
    let suffix = suffix(walk, directory, sector)?;
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its table of sectors leads to its end").named(suffix))
}

/// Sectors of the table, by the header and the sectors that it goes on in.
fn tables(walk: &mut Walk<'_>, sector: u64) -> Step<Vec<u32>> {
    let (count, mut next) = (walk.le32(44)?, walk.le32(68)?);
    let count = usize::try_from(count).unwrap_or(usize::MAX);
    if count == 0 || count > MOST_TABLES {
        return wrong("its table has a length that cannot be");
    }
    let mut all = Vec::new();
    for index in 0..IN_HEADER.min(count as u64) {
        all.push(walk.le32(76 + 4 * index)?);
    }
    while all.len() < count {
        if next >= LAST {
            return wrong("its table is shorter than it says");
        }
        let bytes = walk.bytes((u64::from(next) + 1) * sector, sector)?;
        let mut entries: Vec<u32> = bytes.as_chunks::<4>().0.iter().map(|entry| u32::from_le_bytes(*entry)).collect();
        next = entries.pop().unwrap_or(LAST);
        entries.truncate(count - all.len());
        all.extend(entries);
    }
    Ok(all)
}

/// What it is, by the names of its streams.
fn suffix(walk: &mut Walk<'_>, directory: u64, sector: u64) -> Step<&'static str> {
    let bytes = walk.bytes(directory, sector)?;
    let Some(b"R\0") = bytes.get(..2) else { return wrong("its first folder is none") };
    let mut found = "ole";
    for entry in bytes.as_chunks::<128>().0 {
        let len = usize::from(u16::from_le_bytes([entry[64], entry[65]])).clamp(2, 64) - 2;
        let units: Vec<u16> = entry.as_chunks::<2>().0.iter().take(len / 2).map(|unit| u16::from_le_bytes(*unit)).collect();
        found = match String::from_utf16_lossy(&units).as_str() {
            "WordDocument" => "doc",
            "Workbook" | "Book" => "xls",
            "PowerPoint Document" => "ppt",
            "__properties_version1.0" => "msg",
            _ => continue,
        };
        break;
    }
    Ok(found)
}
