//! Directories: short ones inside the inode, and directory blocks with the entries in use and those that a deletion left between
//! them. Source: "XFS Algorithms & Data Structures", chapter "Directories".

use keel_source::ByteOffset;

use super::XfsGeometry;
use super::layout::checksum_holds;
use crate::spelling::spelled_bytes;
use crate::{Finding, FormatError, Severity, View};

/// Marks of directory blocks that hold entries: alone with their index, or one of several; versions 4 and 5.
const MARKS: [&[u8; 4]; 4] = [b"XD2B", b"XD2D", b"XDB3", b"XDD3"];
/// `freetag`.
const FREE: u16 = 0xFFFF;
/// Entries begin at multiples of so many bytes.
const ALIGN: usize = 8;
/// Where the checksum of a block stands.
const CRC_AT: usize = 4;

/// A directory entry as stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RawName {
    /// Inode it points at.
    pub inode: u64,
    /// Name, as bytes.
    pub name: Vec<u8>,
    /// `ftype`: 1 file, 2 directory, 7 symbolic link; 0 where it is not kept.
    pub file_type: u8,
    /// False for an entry that a deletion left between others.
    pub present: bool,
}

impl RawName {
    /// The name as text: UTF-8 as it is, every other byte as `\xNN`, so that no two names become one.
    #[must_use]
    pub fn text(&self) -> String {
        spelled_bytes(&self.name)
    }

    /// True for the entries of a folder itself and of its parent.
    #[must_use]
    pub fn is_dot(&self) -> bool {
        self.name == b"." || self.name == b".."
    }
}

/// The entries of a directory that is kept in its inode: `bytes`, which stand at byte `at` of the volume.
#[must_use]
pub fn short_entries(geometry: &XfsGeometry, bytes: &[u8], at: ByteOffset) -> (Vec<RawName>, Option<Finding>) {
    let mut names = Vec::new();
    let view = View::new("short directory", at, bytes);
    let result = short(geometry, view, &mut names);
    (names, result.err().map(|error| broken(&error)))
}

fn broken(error: &FormatError) -> Finding {
    let what = "a directory is damaged: its entries from here on are missing";
    Finding::at(Severity::Broken, error.at, what, error.to_string())
}

fn short(geometry: &XfsGeometry, view: View<'_>, names: &mut Vec<RawName>) -> Result<(), FormatError> {
    let (count, wide) = (view.u8(0, "count")?, view.u8(1, "i8count")?);
    // Where one number needs 8 bytes all have them; then `i8count` counts those and `count` all of them.
    let number = if wide > 0 { 8 } else { 4 };
    let mut offset = 2 + number;
    for _ in 0..count {
        let len = usize::from(view.u8(offset, "namelen")?);
        let name = view.slice(offset + 3, len, "name")?;
        let behind = offset + 3 + len;
        let file_type = if geometry.has_types { view.u8(behind, "ftype")? } else { 0 };
        let at = behind + usize::from(geometry.has_types);
        let inode = if wide > 0 { view.u64_be(at, "inumber")? } else { u64::from(view.u32_be(at, "inumber")?) };
        if len == 0 || geometry.inode_at(inode).is_none() {
            return Err(view.wrong(at, "inumber", inode, "an inode of the volume, by a name"));
        }
        names.push(RawName { inode, name: name.to_vec(), file_type, present: true });
        offset = at + number;
    }
    Ok(())
}

/// The entries of one directory block, which stands at byte `at` of the volume, and what was wrong in it. Reading goes on behind what
/// cannot be an entry where the next one can be found.
#[must_use]
pub fn block_entries(geometry: &XfsGeometry, block: &[u8], at: ByteOffset) -> (Vec<RawName>, Vec<Finding>) {
    let view = View::new("directory block", at, block);
    let (mut names, mut findings) = (Vec::new(), Vec::new());
    if !MARKS.iter().any(|mark| block.starts_with(*mark)) {
        let found = view.u32_be(0, "magic").unwrap_or(0);
        findings.push(broken(&view.wrong(0, "magic", u64::from(found), "the mark of a directory block")));
        return (names, findings);
    }
    if geometry.has_checksums() && !checksum_holds(block, CRC_AT) {
        let what = "the checksum of a directory block does not hold: its names may be wrong";
        findings.push(Finding::at(Severity::Doubt, at, what, "CRC-32C over the block"));
    }
    let (mut offset, end) = (if geometry.has_checksums() { 64 } else { 16 }, end_of_entries(view));
    while offset + ALIGN < end {
        match step(geometry, view, offset, end, &mut names) {
            Ok(next) => offset = next,
            Err(error) => {
                findings.push(broken(&error));
                break;
            }
        }
    }
    (names, findings)
}

/// Where the entries of a block end: before its index, where it has one.
fn end_of_entries(view: View<'_>) -> usize {
    let len = view.bytes().len();
    let alone = matches!(view.bytes().first_chunk::<4>(), Some(b"XD2B" | b"XDB3"));
    let index = || len.checked_sub(8 + usize::try_from(view.u32_be(len - 8, "count").ok()?).ok()?.checked_mul(8)?);
    // An index that does not fit is none: entries say themselves where they end.
    if alone { index().unwrap_or(len - 8) } else { len }
}

/// Reads what stands at `offset`: an entry, or room between entries. Answers with the offset behind it.
fn step(
    geometry: &XfsGeometry,
    view: View<'_>,
    offset: usize,
    end: usize,
    names: &mut Vec<RawName>,
) -> Result<usize, FormatError> {
    if view.u16_be(offset, "freetag")? == FREE {
        let length = usize::from(view.u16_be(offset + 2, "length")?);
        if length == 0 || !length.is_multiple_of(ALIGN) || offset + length > end {
            return Err(view.wrong(offset + 2, "length", length as u64, "a multiple of 8 inside the block"));
        }
        room(geometry, view, (offset, offset + length), names);
        return Ok(offset + length);
    }
    let (name, next) = entry(geometry, view, offset, end)?;
    names.push(name);
    Ok(next)
}

/// The entry at `offset`, and the offset behind it.
fn entry(geometry: &XfsGeometry, view: View<'_>, offset: usize, end: usize) -> Result<(RawName, usize), FormatError> {
    let inode = view.u64_be(offset, "inumber")?;
    let len = usize::from(view.u8(offset + 8, "namelen")?);
    let name = view.slice(offset + 9, len, "name")?;
    let file_type = if geometry.has_types { view.u8(offset + 9 + len, "ftype")? } else { 0 };
    let next = offset + size(geometry, len);
    if len == 0 || next > end {
        return Err(view.wrong(offset + 8, "namelen", len as u64, "a name inside the block"));
    }
    if geometry.inode_at(inode).is_none() {
        return Err(view.wrong(offset, "inumber", inode, "an inode of the volume"));
    }
    Ok((RawName { inode, name: name.to_vec(), file_type, present: true }, next))
}

/// Bytes of an entry with a name of `len` bytes: number, length, name, type, and its own offset at the end.
fn size(geometry: &XfsGeometry, len: usize) -> usize {
    (8 + 1 + len + usize::from(geometry.has_types) + 2).next_multiple_of(ALIGN)
}

/// Entries that a deletion left in the room between `bounds`: the mark of free room went over the upper half of their inode's number,
/// their end holds their offset, or that of the room before them.
fn room(geometry: &XfsGeometry, view: View<'_>, (start, end): (usize, usize), names: &mut Vec<RawName>) {
    let mut offset = start;
    while offset + ALIGN < end {
        let read = || {
            let marked = view.u16_be(offset, "freetag").ok()? == FREE;
            let low = u64::from(view.u32_be(offset + 4, "inumber").ok()?);
            let inode = if marked { low } else { view.u64_be(offset, "inumber").ok()? };
            let len = usize::from(view.u8(offset + 8, "namelen").ok()?);
            let name = view.slice(offset + 9, len, "name").ok()?;
            let file_type = if geometry.has_types { view.u8(offset + 9 + len, "ftype").ok()? } else { 0 };
            let next = offset + size(geometry, len);
            let tag = usize::from(view.u16_be(next.checked_sub(2)?, "tag").ok()?);
            let plain = len > 0 && !name.contains(&0) && !name.contains(&b'/') && next <= end;
            let kind = !geometry.has_types || matches!(file_type, 1 | 2 | 7);
            // Room that grew over entries put the offset that it had by then at the end of each.
            let own = (start..=offset).contains(&tag) && tag.is_multiple_of(ALIGN);
            let raw = RawName { inode, name: name.to_vec(), file_type, present: false };
            (plain && kind && own && geometry.inode_at(inode).is_some() && !raw.is_dot()).then_some((next, raw))
        };
        match read() {
            Some((next, name)) => {
                names.push(name);
                offset = next;
            }
            None => offset += ALIGN,
        }
    }
}
