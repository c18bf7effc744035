//! Folders whose entries name inodes by other numbers.

use super::super::Inode;
use super::super::layout::{FLAG_INDEX, crc32c};
use super::Work;
use super::maps::Moving;
use crate::resize::NotResized;

/// Bytes of an entry before its name.
const HEAD: usize = 8;
/// Bytes of the tail that keeps a checksum, and how it begins.
const TAIL: usize = 12;
const TAIL_HEAD: [u8; 8] = [0, 0, 0, 0, 12, 0, 0, 0xDE];
/// Bytes of an entry of an index, and where the count of the first block's stands.
const INDEX_ENTRY: usize = 8;
const IN_ROOT: usize = 32;
/// The same in the blocks below it.
const IN_NODE: usize = 8;

fn word(bytes: &[u8], at: usize) -> usize {
    bytes.get(at..at + 2).and_then(<[u8]>::first_chunk).map_or(0, |word| usize::from(u16::from_le_bytes(*word)))
}

fn long(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(<[u8]>::first_chunk).map_or(0, |word| u32::from_le_bytes(*word))
}

fn put(bytes: &mut [u8], at: usize, value: u32) {
    bytes.get_mut(at..at + 4).into_iter().for_each(|slot| slot.copy_from_slice(&value.to_le_bytes()));
}

impl Work<'_> {
    /// Gives every entry of a folder the number that its inode has then.
    pub(super) fn folder(&mut self, moving: &Moving, inode: &Inode) -> Result<(), NotResized> {
        let size = self.old.block_bytes as usize;
        for block in moving.content.iter().flat_map(Clone::clone) {
            let at = self.place(block);
            let mut held = self.sheet.read(at, size)?;
            let changed = self.entries(&mut held);
            if !changed && !moving.is_renumbered {
                continue;
            }
            if self.old.has_checksums() && !seal(&mut held, moving.seed, inode.has_flag(FLAG_INDEX)) {
                return Err(NotResized("a block of a folder has no room for its checksum".into()));
            }
            self.sheet.write("directory", at, &held)?;
        }
        Ok(())
    }

    /// True when any entry of the block changed.
    fn entries(&self, block: &mut [u8]) -> bool {
        let (mut at, mut changed) = (0, false);
        while at + HEAD <= block.len() {
            let length = match word(block, at + 4) {
                0xFFFF | 0 if block.len() >= 0x1_0000 => block.len() - at,
                length => length,
            };
            if length < HEAD {
                break;
            }
            if let Some(becomes) = self.renumbered.get(&long(block, at)) {
                put(block, at, *becomes);
                changed = true;
            }
            at += length;
        }
        changed
    }
}

/// Sets the checksum of a block of a folder; false where it keeps none.
fn seal(block: &mut [u8], seed: u32, is_indexed: bool) -> bool {
    let size = block.len();
    if let Some(tail) = size.checked_sub(TAIL).filter(|tail| block.get(*tail..tail + TAIL_HEAD.len()) == Some(&TAIL_HEAD)) {
        let sum = crc32c(seed, block.get(..tail).unwrap_or_default());
        put(block, tail + 8, sum);
        return true;
    }
    let first = word(block, 4);
    let counts = match first {
        12 if word(block, 16) == size - 12 && block.get(29) == Some(&8) => IN_ROOT,
        _ if first == size || (first == 0 && size >= 0x1_0000) => IN_NODE,
        _ => return false,
    };
    let (limit, count) = (word(block, counts), word(block, counts + 2));
    let tail = counts + limit * INDEX_ENTRY;
    if !is_indexed || count > limit || tail + 8 > size {
        return false;
    }
    let sum = crc32c(seed, block.get(..counts + count * INDEX_ENTRY).unwrap_or_default());
    let sum = crc32c(crc32c(sum, block.get(tail..tail + 4).unwrap_or_default()), &[0; 4]);
    put(block, tail + 4, sum);
    true
}
