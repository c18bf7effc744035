//! Directory blocks: entries in use, and those that a deletion left in the slack behind them.

use keel_source::ByteOffset;

use crate::spelling::spelled_bytes;
use crate::{Finding, FormatError, Severity, View};

/// Bytes of an entry before its name.
const HEAD: usize = 8;
/// `file_type` of the checksum at the end of a block.
const TAIL: u8 = 0xDE;

/// A directory entry as stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RawName {
    /// Inode it points at.
    pub inode: u32,
    /// Name, as bytes.
    pub name: Vec<u8>,
    /// `file_type`: 1 file, 2 directory, 7 symbolic link; 0 where it is not kept.
    pub file_type: u8,
    /// False for an entry that a deletion left in the slack.
    pub present: bool,
}

impl RawName {
    /// The name as text: UTF-8 as it is, every other byte as `\xNN`, so that no two names become one.
    #[must_use]
    pub fn text(&self) -> String {
        spelled_bytes(&self.name)
    }
}

/// The entries of one directory block, which stands at byte `at` of the volume, and what was wrong in it. Reading ends
/// at the first entry that cannot be.
#[must_use]
pub fn entries(block: &[u8], at: ByteOffset, inodes: u32) -> (Vec<RawName>, Option<Finding>) {
    let view = View::new("directory block", at, block);
    let mut names = Vec::new();
    let mut offset = 0;
    while offset + HEAD <= block.len() {
        let (length, used) = match entry(view, offset, inodes, &mut names) {
            Ok(found) => found,
            Err(error) => {
                let what = "a directory block is damaged: its entries from here on are missing";
                return (names, Some(Finding::at(Severity::Broken, error.at, what, error.to_string())));
            }
        };
        slack(view, offset + used, offset + length, inodes, &mut names);
        offset += length;
    }
    (names, None)
}

/// Reads the entry at `offset`; answers with its record length and the bytes that it needs.
fn entry(view: View<'_>, offset: usize, inodes: u32, names: &mut Vec<RawName>) -> Result<(usize, usize), FormatError> {
    let inode = view.u32(offset, "inode")?;
    // With blocks of 64 KiB the whole block is written as 0xFFFF.
    let length = match usize::from(view.u16(offset + 4, "rec_len")?) {
        0xFFFF | 0 if view.bytes().len() >= 0x1_0000 => view.bytes().len() - offset,
        length => length,
    };
    let name_len = usize::from(view.u8(offset + 6, "name_len")?);
    let file_type = view.u8(offset + 7, "file_type")?;
    if length < HEAD + 4 || !length.is_multiple_of(4) || offset + length > view.bytes().len() {
        return Err(view.wrong(offset + 4, "rec_len", length as u64, "a multiple of 4 inside the block"));
    }
    if inode == 0 || file_type == TAIL {
        return Ok((length, if file_type == TAIL { length } else { 0 }));
    }
    let needed = (HEAD + name_len).next_multiple_of(4);
    if name_len == 0 || needed > length {
        return Err(view.wrong(offset + 6, "name_len", name_len as u64, "a name inside its entry"));
    }
    if inode > inodes {
        return Err(view.wrong(offset, "inode", u64::from(inode), "an inode of the volume"));
    }
    names.push(RawName { inode, name: view.slice(offset + HEAD, name_len, "name")?.to_vec(), file_type, present: true });
    Ok((length, needed))
}

/// Entries that lie in the slack from `offset` to `end`: deleted, their inode number may be left.
fn slack(view: View<'_>, mut offset: usize, end: usize, inodes: u32, names: &mut Vec<RawName>) {
    while offset + HEAD + 4 <= end {
        let read = || {
            let inode = view.u32(offset, "inode").ok()?;
            let length = usize::from(view.u16(offset + 4, "rec_len").ok()?);
            let name_len = usize::from(view.u8(offset + 6, "name_len").ok()?);
            let file_type = view.u8(offset + 7, "file_type").ok()?;
            let needed = (HEAD + name_len).next_multiple_of(4);
            let fits = name_len > 0 && needed <= length && offset + length <= end && length.is_multiple_of(4);
            let name = view.slice(offset + HEAD, name_len, "name").ok()?;
            let plain = !name.contains(&0) && !name.contains(&b'/') && matches!(file_type, 1 | 2 | 7);
            (fits && plain && inode <= inodes && name != b"." && name != b"..")
                .then(|| (needed, RawName { inode, name: name.to_vec(), file_type, present: false }))
        };
        match read() {
            Some((needed, name)) => {
                names.push(name);
                offset += needed;
            }
            None => offset += 4,
        }
    }
}
