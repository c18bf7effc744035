//! The blocks of an inode, and the maps that lead to them.

use std::ops::Range;

use zerocopy::IntoBytes;

use super::super::Inode;
use super::super::layout::{COMPAT_ORPHAN_FILE, FLAG_EXTENTS, RawInode, crc32c};
use super::{Work, no_room};
use crate::NodeKind;
use crate::resize::NotResized;

/// Bytes of a header and of an entry of an extent tree.
const ENTRY: usize = 12;
/// Lengths above it are of blocks that were never written.
const WRITTEN: u64 = 32_768;
/// The deepest tree that the format allows.
const DEEPEST: u16 = 5;
/// Offset of `h_checksum` in a block of attributes.
const H_CHECKSUM: usize = 16;

/// An inode on its way.
pub(super) struct Moving {
    /// Seed of the checksums of what belongs to it, under the number that it becomes.
    pub(super) seed: u32,
    /// True where it has another number: every checksum is another one.
    pub(super) is_renumbered: bool,
    /// True for a folder, and for the file of orphans: the content is a structure, and is looked at where it lies then.
    pub(super) is_structure: bool,
    /// Where that content lies then.
    pub(super) content: Vec<Range<u64>>,
}

fn number(bytes: &[u8], at: usize, len: usize) -> u64 {
    bytes.get(at..at + len).map_or(0, |bytes| bytes.iter().rev().fold(0, |value, byte| value << 8 | u64::from(*byte)))
}

fn put(bytes: &mut [u8], at: usize, len: usize, value: u64) {
    let value = value.to_le_bytes();
    bytes.get_mut(at..at + len).into_iter().for_each(|slot| slot.copy_from_slice(value.get(..len).unwrap_or_default()));
}

/// An entry of a leaf of an extent tree.
#[derive(Clone, Copy)]
struct Leaf {
    first: u64,
    start: u64,
    count: u64,
    is_written: bool,
}

impl Work<'_> {
    /// What becomes of the fields of `inode`, which becomes number `becomes`; none where they stay.
    pub(super) fn inode(&mut self, inode: &Inode, becomes: u32) -> Result<Option<RawInode>, NotResized> {
        let generation = inode.raw.i_generation.get().to_le_bytes();
        let seed = crc32c(crc32c(self.old.checksum_seed, &becomes.to_le_bytes()), &generation);
        let is_folder = inode.kind() == Some(NodeKind::Directory);
        let is_orphans = self.old.compat & COMPAT_ORPHAN_FILE != 0 && inode.number == self.raw.s_orphan_file_inum.get();
        let (is_renumbered, is_structure) = (becomes != inode.number, is_folder || is_orphans);
        let mut moving = Moving { seed, is_renumbered, is_structure, content: Vec::new() };
        let mut raw = inode.raw;
        let mut map = raw.i_block.to_vec();
        if inode.kind().is_some() && inode.inline().is_none() {
            if inode.has_flag(FLAG_EXTENTS) {
                self.node(&mut map, 0, &mut moving)?;
            } else {
                for index in 0..15 {
                    let level = (index as u32).saturating_sub(11);
                    let becomes = self.pointer(number(&map, index * 4, 4), level, &mut moving)?;
                    put(&mut map, index * 4, 4, becomes);
                }
            }
        }
        raw.i_block.copy_from_slice(&map);
        if let Some(block) = inode.attribute_block() {
            let becomes = self.attributes(block)?;
            raw.i_file_acl_lo.set((becomes & 0xFFFF_FFFF) as u32);
            put(&mut raw.osd2, 2, 2, becomes >> 32);
        }
        if is_folder && !(self.renumbered.is_empty()) {
            self.folder(&moving, inode)?;
        }
        if is_orphans && raw.i_block != inode.raw.i_block {
            self.orphans(&moving)?;
        }
        Ok((raw.as_bytes() != inode.raw.as_bytes()).then_some(raw))
    }

    /// A node of an extent tree, `depth` levels below the inode; true when it changed.
    fn node(&mut self, node: &mut [u8], depth: u16, moving: &mut Moving) -> Result<bool, NotResized> {
        let bad = || NotResized("the extent tree of a file is damaged".into());
        let (count, below) = (number(node, 2, 2) as usize, number(node, 6, 2));
        if number(node, 0, 2) != 0xF30A || depth > DEEPEST || (count + 1) * ENTRY > node.len() {
            return Err(bad());
        }
        if below == 0 {
            return self.leaf(node, count, moving);
        }
        let mut changed = false;
        for index in 0..count {
            let at = (index + 1) * ENTRY;
            let block = number(node, at + 4, 4) | number(node, at + 8, 2) << 32;
            let becomes = self.block(block, "extent tree")?;
            if becomes != block {
                put(node, at + 4, 4, becomes & 0xFFFF_FFFF);
                put(node, at + 8, 2, becomes >> 32);
                changed = true;
            }
            let size = self.old.block_bytes as usize;
            let mut held = self.sheet.read(self.place(becomes), size)?;
            if self.node(&mut held, depth + 1, moving)? || moving.is_renumbered {
                let tail = ENTRY + number(&held, 4, 2) as usize * ENTRY;
                if self.old.has_checksums() && tail + 4 <= size {
                    let sum = crc32c(moving.seed, held.get(..tail).unwrap_or_default());
                    put(&mut held, tail, 4, u64::from(sum));
                }
                self.sheet.write("extent tree", self.place(becomes), &held)?;
            }
        }
        Ok(changed)
    }

    /// The extents of a leaf with `count` entries; true when any of them changed.
    fn leaf(&mut self, node: &mut [u8], count: usize, moving: &mut Moving) -> Result<bool, NotResized> {
        let most = (number(node, 4, 2) as usize).min(node.len() / ENTRY - 1);
        let entry = |index: usize| {
            let at = (index + 1) * ENTRY;
            let (len, start) = (number(node, at + 4, 2), number(node, at + 8, 4) | number(node, at + 6, 2) << 32);
            let is_written = len <= WRITTEN;
            Leaf { first: number(node, at, 4), start, count: if is_written { len } else { len - WRITTEN }, is_written }
        };
        let own: Vec<Leaf> = (0..count).map(entry).collect();
        let mut spare = most.saturating_sub(count);
        let mut becomes: Vec<Leaf> = Vec::new();
        let mut changed = false;
        for leaf in own {
            let range = leaf.start..leaf.start + leaf.count;
            if !self.has_to_go(&range) {
                becomes.push(leaf);
                continue;
            }
            changed = true;
            let pieces = self.pieces(leaf, spare, moving)?;
            spare -= pieces.len() - 1;
            becomes.extend(pieces);
        }
        if moving.is_structure {
            moving.content.extend(becomes.iter().map(|leaf| leaf.start..leaf.start + leaf.count));
        }
        if changed {
            put(node, 2, 2, becomes.len() as u64);
            for (index, leaf) in becomes.iter().enumerate() {
                let at = (index + 1) * ENTRY;
                put(node, at, 4, leaf.first);
                put(node, at + 4, 2, leaf.count + if leaf.is_written { 0 } else { WRITTEN });
                put(node, at + 6, 2, leaf.start >> 32);
                put(node, at + 8, 4, leaf.start & 0xFFFF_FFFF);
            }
        }
        Ok(changed)
    }

    /// An extent of which blocks have to go, in at most `spare` more pieces than one.
    fn pieces(&mut self, leaf: Leaf, spare: usize, moving: &Moving) -> Result<Vec<Leaf>, NotResized> {
        // What stays and what goes, one behind the other.
        let mut runs: Vec<(Range<u64>, bool)> = Vec::new();
        for block in leaf.start..leaf.start + leaf.count {
            let goes = self.has_to_go(&(block..block + 1));
            match runs.last_mut() {
                Some((range, own)) if *own == goes => range.end += 1,
                _ => runs.push((block..block + 1, goes)),
            }
        }
        let mut placed: Vec<Leaf> = Vec::new();
        if runs.len() <= spare + 1 {
            let mut taken: Vec<Range<u64>> = Vec::new();
            let mut fits = true;
            for (range, goes) in &runs {
                let first = leaf.first + (range.start - leaf.start);
                if !goes {
                    placed.push(Leaf { first, start: range.start, count: range.end - range.start, ..leaf });
                    continue;
                }
                let mut next = first;
                for piece in self.blocks.take_pieces(range.end - range.start).ok_or_else(no_room)? {
                    let count = piece.end - piece.start;
                    placed.push(Leaf { first: next, start: piece.start, count, ..leaf });
                    taken.push(piece);
                    next += count;
                }
                fits = placed.len() <= spare + 1;
                if !fits {
                    break;
                }
            }
            if !fits {
                taken.into_iter().for_each(|piece| self.blocks.free(piece));
                placed.clear();
            }
        }
        if placed.is_empty() {
            let at = self.blocks.take_run(leaf.count).ok_or_else(|| {
                NotResized(format!("no {} blocks in one piece are free for what has to move: a smaller step may do", leaf.count))
            })?;
            placed.push(Leaf { start: at, ..leaf });
            runs.iter().filter(|(_, goes)| !goes).for_each(|(range, _)| self.free(range.clone()));
        }
        for piece in &placed {
            let from = leaf.start + (piece.first - leaf.first);
            if piece.start == from {
                continue;
            }
            self.touch(piece.start..piece.start + piece.count);
            self.touch(from..(from + piece.count).min(self.new.blocks).max(from + 1));
            let (at, to, len) = (self.place(from), self.place(piece.start), self.place(piece.count));
            match (moving.is_structure, leaf.is_written) {
                (true, _) => self.sheet.copy("directory", at, to, len)?,
                (false, true) => self.sheet.carry(at, to, len)?,
                (false, false) => {}
            }
        }
        Ok(placed)
    }

    /// A structure of one block that may have to go; where it stands then.
    fn block(&mut self, block: u64, what: &'static str) -> Result<u64, NotResized> {
        if !self.has_to_go(&(block..block + 1)) {
            return Ok(block);
        }
        if let Some(to) = self.moved.get(&block) {
            return Ok(*to);
        }
        let to = self.take(1)?.first().ok_or_else(no_room)?.start;
        self.sheet.copy(what, self.place(block), self.place(to), self.place(1))?;
        self.moved.insert(block, to);
        Ok(to)
    }

    /// A number of a block map, `level` levels above the content; what it becomes.
    fn pointer(&mut self, block: u64, level: u32, moving: &mut Moving) -> Result<u64, NotResized> {
        if block == 0 {
            return Ok(0);
        }
        if level == 0 {
            let becomes = if moving.is_structure { self.block(block, "directory")? } else { self.content_block(block)? };
            if moving.is_structure {
                moving.content.push(becomes..becomes + 1);
            }
            return Ok(becomes);
        }
        let becomes = self.block(block, "indirect block")?;
        let mut held = self.sheet.read(self.place(becomes), self.old.block_bytes as usize)?;
        let mut changed = false;
        for index in 0..held.len() / 4 {
            let below = number(&held, index * 4, 4);
            let now = self.pointer(below, level - 1, moving)?;
            if now != below {
                put(&mut held, index * 4, 4, now);
                changed = true;
            }
        }
        if changed {
            self.sheet.write("indirect block", self.place(becomes), &held)?;
        }
        Ok(becomes)
    }

    fn content_block(&mut self, block: u64) -> Result<u64, NotResized> {
        if !self.has_to_go(&(block..block + 1)) {
            return Ok(block);
        }
        let to = self.take(1)?.first().ok_or_else(no_room)?.start;
        self.sheet.carry(self.place(block), self.place(to), self.place(1))?;
        Ok(to)
    }

    /// The checksums of the file of orphans count the places of its blocks.
    fn orphans(&mut self, moving: &Moving) -> Result<(), NotResized> {
        let size = self.old.block_bytes as usize;
        for block in moving.content.iter().flat_map(Clone::clone).filter(|_| self.old.has_checksums()) {
            let mut held = self.sheet.read(self.place(block), size)?;
            let sum = crc32c(crc32c(moving.seed, &block.to_le_bytes()), held.get(..size - 8).unwrap_or_default());
            put(&mut held, size - 4, 4, u64::from(sum));
            self.sheet.write("file of orphans", self.place(block), &held)?;
        }
        Ok(())
    }

    /// A block of attributes, which several inodes may share; its checksum counts its place.
    fn attributes(&mut self, block: u64) -> Result<u64, NotResized> {
        let is_known = self.moved.contains_key(&block);
        let becomes = self.block(block, "extended attributes")?;
        if becomes != block && !is_known && self.old.has_checksums() {
            let mut held = self.sheet.read(self.place(becomes), self.old.block_bytes as usize)?;
            put(&mut held, H_CHECKSUM, 4, 0);
            let sum = crc32c(crc32c(self.old.checksum_seed, &becomes.to_le_bytes()), &held);
            put(&mut held, H_CHECKSUM, 4, u64::from(sum));
            self.sheet.write("extended attributes", self.place(becomes), &held)?;
        }
        Ok(becomes)
    }
}
