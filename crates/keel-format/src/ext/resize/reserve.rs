//! Blocks that are reserved behind the descriptors for more of them: inode 7 holds them, so that a driver can add groups later.

use super::super::Inode;
use super::{RESIZE_INODE, Work, descriptor_blocks};
use crate::resize::NotResized;

/// Number in `i_block` of the block that leads to the reserved ones, two levels above the copies.
const DOUBLE: usize = 13;

impl Work<'_> {
    /// The map of inode 7: for each reserved block behind the first superblock an entry, and in that block the places of those behind
    /// the copies.
    pub(super) fn reserve(&mut self) -> Result<(), NotResized> {
        let size = usize::from(self.old.inode_bytes);
        let block_bytes = self.old.block_bytes as usize;
        let at = self.groups.inode_at(&self.old, RESIZE_INODE);
        let bytes = self.sheet.read(at, size)?;
        let inode = Inode::parse(RESIZE_INODE, keel_source::ByteOffset(at), bytes).map_err(|why| NotResized(why.to_string()))?;
        let mut raw = inode.raw;
        let double =
            raw.i_block.get(DOUBLE * 4..DOUBLE * 4 + 4).and_then(<[u8]>::first_chunk).map_or(0, |word| u32::from_le_bytes(*word));
        if double == 0 {
            return Ok(());
        }
        let mut held_at = u64::from(double);
        if self.has_to_go(&(held_at..held_at + 1)) {
            held_at = self.take(1)?.first().map_or(0, |range| range.start);
            raw.i_block
                .get_mut(DOUBLE * 4..DOUBLE * 4 + 4)
                .into_iter()
                .for_each(|slot| slot.copy_from_slice(&(held_at as u32).to_le_bytes()));
        }
        let copies: Vec<u32> = (1..self.new.groups()).filter(|group| self.new.has_superblock(*group)).collect();
        let (descriptors, reserved) = (descriptor_blocks(&self.new), self.reserved());
        let per_block = block_bytes / 4;
        let mut map = vec![0u8; block_bytes];
        for index in descriptors..descriptors + reserved {
            let own = u64::from(self.new.first_data_block) + 1 + index;
            let places = copies.iter().map(|group| self.new.first_block(*group) + 1 + index);
            let mut list: Vec<u8> = places.flat_map(|place| u32::try_from(place).unwrap_or(0).to_le_bytes()).collect();
            list.resize(block_bytes, 0);
            self.sheet.write("reserved descriptor block", self.place(own), &list)?;
            let slot = (index as usize % per_block) * 4;
            map.get_mut(slot..slot + 4)
                .into_iter()
                .for_each(|slot| slot.copy_from_slice(&u32::try_from(own).unwrap_or(0).to_le_bytes()));
        }
        self.sheet.write("map of reserved descriptor blocks", self.place(held_at), &map)?;
        // The map's block, and each reserved one with its copies, in units of 512 bytes.
        let blocks = 1 + reserved * (1 + copies.len() as u64);
        raw.i_blocks_lo.set(u32::try_from(blocks * block_bytes as u64 / 512).unwrap_or(u32::MAX));
        self.sheet.write("inode", at, &inode.with(&self.old, &raw))
    }
}
