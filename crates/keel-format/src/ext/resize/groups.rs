//! The groups: their descriptors, and what these name.

use std::collections::BTreeSet;
use std::ops::Range;

use keel_source::SharedSource;

use super::super::groups::descriptor_sum;
use super::super::layout::{BG_BLOCK_UNINIT, BG_INODE_UNINIT, COMPAT_RESIZE_INODE, RawSuperblock, crc32c};
use super::super::{ExtGeometry, ExtVolume};
use super::{descriptor_blocks, may_stand_anywhere, no_room};
use crate::resize::{NotResized, Sheet, Units};

/// Fields of a descriptor: offsets of the lower and of the upper half, and bytes of each.
type Field = (usize, usize, usize);
const BLOCK_BITMAP: Field = (0, 32, 4);
const INODE_BITMAP: Field = (4, 36, 4);
const INODE_TABLE: Field = (8, 40, 4);
const FREE_BLOCKS: Field = (12, 44, 2);
const FREE_INODES: Field = (14, 46, 2);
const USED_DIRS: Field = (16, 48, 2);
const BLOCK_BITMAP_SUM: Field = (24, 56, 2);
const INODE_BITMAP_SUM: Field = (26, 58, 2);
const UNUSED_INODES: Field = (28, 50, 2);
const FLAGS: usize = 18;
const SUM: usize = 30;

/// The groups of a volume, those that are added among them.
pub(super) struct Groups {
    /// Descriptors as stored.
    descriptors: Vec<Vec<u8>>,
    /// Inode bitmaps; empty for one that was never written.
    inode_bits: Vec<Vec<u8>>,
    /// Groups of which bitmap and counts change.
    pub(super) is_touched: BTreeSet<u32>,
    /// Inodes that came to a group: how many, how many of them folders.
    came: std::collections::BTreeMap<u32, (u64, u64)>,
}

fn part(bytes: &[u8], at: usize, len: usize) -> u64 {
    bytes.get(at..at + len).map_or(0, |bytes| bytes.iter().rev().fold(0, |value, byte| value << 8 | u64::from(*byte)))
}

impl Groups {
    pub(super) fn read(volume: &ExtVolume, window: &SharedSource) -> Result<Self, NotResized> {
        let geometry = volume.geometry();
        let sheet = Sheet::new(window);
        let size = usize::from(geometry.descriptor_bytes);
        let mut groups = Self {
            descriptors: Vec::new(),
            inode_bits: Vec::new(),
            is_touched: BTreeSet::new(),
            came: std::collections::BTreeMap::new(),
        };
        for group in 0..geometry.groups() {
            let descriptor = sheet.read(geometry.descriptor_at(group).0, size)?;
            groups.descriptors.push(descriptor);
            let never = geometry.counts_unwritten() && groups.flags(group) & BG_INODE_UNINIT != 0;
            let bytes = (geometry.inodes_per_group as usize).div_ceil(8);
            let at = groups.get(group, INODE_BITMAP) * u64::from(geometry.block_bytes);
            groups.inode_bits.push(if never { Vec::new() } else { sheet.read(at, bytes)? });
        }
        Ok(groups)
    }

    fn get(&self, group: u32, (low, high, len): Field) -> u64 {
        let Some(bytes) = self.descriptors.get(group as usize) else { return 0 };
        let upper = if bytes.len() >= 64 { part(bytes, high, len) } else { 0 };
        part(bytes, low, len) | upper << (8 * len)
    }

    fn set(&mut self, group: u32, (low, high, len): Field, value: u64) {
        let Some(bytes) = self.descriptors.get_mut(group as usize) else { return };
        let halves = [(low, 0), (high, len)];
        let wide = bytes.len() >= 64;
        for (at, from) in halves.into_iter().filter(|(at, _)| *at < 32 || wide) {
            let value = value.to_le_bytes();
            let half = value.get(from..from + len).unwrap_or_default();
            bytes.get_mut(at..at + len).into_iter().for_each(|slot| slot.copy_from_slice(half));
        }
    }

    fn flags(&self, group: u32) -> u16 {
        self.descriptors.get(group as usize).map_or(0, |bytes| part(bytes, FLAGS, 2) as u16)
    }

    fn set_flags(&mut self, group: u32, flags: u16) {
        let bytes = self.descriptors.get_mut(group as usize).and_then(|bytes| bytes.get_mut(FLAGS..FLAGS + 2));
        bytes.into_iter().for_each(|slot| slot.copy_from_slice(&flags.to_le_bytes()));
    }

    fn table_blocks(geometry: &ExtGeometry) -> u64 {
        (u64::from(geometry.inodes_per_group) * u64::from(geometry.inode_bytes)).div_ceil(u64::from(geometry.block_bytes))
    }

    /// Blocks that `group` needs for itself when all of it stands in it.
    pub(super) fn own_blocks(&self, geometry: &ExtGeometry, raw: &RawSuperblock, group: u32) -> u64 {
        let reserved = if geometry.compat & COMPAT_RESIZE_INODE != 0 { u64::from(raw.s_reserved_gdt_blocks.get()) } else { 0 };
        let head = if geometry.has_superblock(group) { 1 + descriptor_blocks(geometry) + reserved } else { 0 };
        head + 2 + Self::table_blocks(geometry)
    }

    /// The most that a group holds for itself.
    pub(super) fn own_most(&self, geometry: &ExtGeometry) -> u64 {
        1 + descriptor_blocks(geometry) + 2 + Self::table_blocks(geometry)
    }

    /// Blocks that files hold, and inodes in use.
    pub(super) fn in_use(&self, geometry: &ExtGeometry) -> (u64, u64) {
        let free: u64 = (0..geometry.groups()).map(|group| self.get(group, FREE_BLOCKS)).sum();
        let own: u64 = (0..geometry.groups())
            .map(|group| self.structures(geometry, group).iter().map(|range| range.end - range.start).sum::<u64>())
            .sum();
        let free_inodes: u64 = (0..geometry.groups()).map(|group| self.get(group, FREE_INODES)).sum();
        let used = geometry.blocks.saturating_sub(u64::from(geometry.first_data_block)).saturating_sub(free);
        (used.saturating_sub(own), u64::from(geometry.inodes).saturating_sub(free_inodes))
    }

    /// Bitmaps and inode table of `group`, wherever they stand.
    pub(super) fn structures(&self, geometry: &ExtGeometry, group: u32) -> Vec<Range<u64>> {
        let [blocks, inodes, table] = [BLOCK_BITMAP, INODE_BITMAP, INODE_TABLE].map(|field| self.get(group, field));
        vec![blocks..blocks + 1, inodes..inodes + 1, table..table + Self::table_blocks(geometry)]
    }

    /// Where an inode stands, in bytes of the volume.
    pub(super) fn inode_at(&self, geometry: &ExtGeometry, number: u32) -> u64 {
        let index = number.saturating_sub(1);
        let (group, inside) = (index / geometry.inodes_per_group.max(1), index % geometry.inodes_per_group.max(1));
        self.get(group, INODE_TABLE) * u64::from(geometry.block_bytes) + u64::from(inside) * u64::from(geometry.inode_bytes)
    }

    /// Inodes in use of some groups, by the bitmaps that they had.
    pub(super) fn used_inodes(&self, geometry: &ExtGeometry, groups: Range<u32>) -> Vec<u32> {
        let of = |group: u32| {
            let bits = self.inode_bits.get(group as usize).map(Vec::as_slice).unwrap_or_default();
            let used = (0..geometry.inodes_per_group)
                .filter(|inside| bits.get((inside / 8) as usize).is_some_and(|byte| byte >> (inside % 8) & 1 == 1));
            used.map(|inside| group * geometry.inodes_per_group + inside + 1).collect::<Vec<u32>>()
        };
        groups.flat_map(of).collect()
    }

    /// Which inodes of the first `groups` groups are taken. Those of groups whose table was never written come last.
    pub(super) fn inodes(&self, groups: &u32, geometry: &ExtGeometry) -> Units {
        let mut units = Units::new(u64::from(*groups) * u64::from(geometry.inodes_per_group));
        for number in self.used_inodes(geometry, 0..*groups) {
            units.take(u64::from(number - 1)..u64::from(number));
        }
        units
    }

    /// An inode came to the group of `number`.
    pub(super) fn note_inode(&mut self, geometry: &ExtGeometry, number: u32, is_folder: bool) {
        let index = number.saturating_sub(1);
        let group = index / geometry.inodes_per_group.max(1);
        let came = self.came.entry(group).or_default();
        *came = (came.0 + 1, came.1 + u64::from(is_folder));
        self.is_touched.insert(group);
        let unused = u64::from(geometry.inodes_per_group - index % geometry.inodes_per_group.max(1) - 1);
        if geometry.counts_unwritten() && self.get(group, UNUSED_INODES) > unused {
            self.set(group, UNUSED_INODES, unused);
        }
    }

    /// Bitmaps and tables that stand on ground which has to be left go elsewhere.
    pub(super) fn leave(
        &mut self,
        gone: &[Range<u64>],
        blocks: &mut Units,
        (old, new): (&ExtGeometry, &ExtGeometry),
        sheet: &mut Sheet<'_>,
    ) -> Result<(), NotResized> {
        let block = u64::from(old.block_bytes);
        for group in 0..old.groups().min(new.groups()) {
            let whats = [("block bitmap", BLOCK_BITMAP), ("inode bitmap", INODE_BITMAP), ("inode table", INODE_TABLE)];
            for ((what, field), range) in whats.into_iter().zip(self.structures(old, group)) {
                if !gone.iter().any(|gone| gone.start < range.end && range.start < gone.end) {
                    continue;
                }
                let count = range.end - range.start;
                let own = old.first_block(group)..(old.first_block(group) + u64::from(old.blocks_per_group)).min(new.blocks);
                let inside = blocks.take_run_in(own, count);
                let to =
                    inside.or_else(|| may_stand_anywhere(old).then(|| blocks.take_run(count)).flatten()).ok_or_else(no_room)?;
                sheet.copy(what, range.start * block, to * block, count * block)?;
                for one in range.start..range.end {
                    let stays = !gone.iter().any(|gone| gone.contains(&one)) && one < new.blocks;
                    if stays {
                        blocks.free(one..one + 1);
                    }
                }
                self.set(group, field, to);
                self.touch(old, to..to + count);
                self.touch(old, range);
                self.is_touched.insert(group);
            }
        }
        Ok(())
    }

    fn touch(&mut self, geometry: &ExtGeometry, range: Range<u64>) {
        let of = |block: u64| {
            let inside = block.saturating_sub(u64::from(geometry.first_data_block));
            u32::try_from(inside / u64::from(geometry.blocks_per_group)).unwrap_or(0)
        };
        self.is_touched.extend(of(range.start)..=of(range.end.saturating_sub(1)));
    }

    /// A further group: its own structures stand in it, behind `head` blocks of descriptors where it keeps a superblock.
    pub(super) fn add(&mut self, geometry: &ExtGeometry, (group, head): (u32, u64), blocks: &mut Units, sheet: &mut Sheet<'_>) {
        let first = geometry.first_block(group);
        let table = Self::table_blocks(geometry);
        let bitmaps = first + if geometry.has_superblock(group) { 1 + head } else { 0 };
        let own = bitmaps - first + 2 + table;
        blocks.take(first..first + own);
        self.descriptors.push(vec![0; usize::from(geometry.descriptor_bytes)]);
        self.inode_bits.push(Vec::new());
        self.set(group, BLOCK_BITMAP, bitmaps);
        self.set(group, INODE_BITMAP, bitmaps + 1);
        self.set(group, INODE_TABLE, bitmaps + 2);
        self.set(group, FREE_INODES, u64::from(geometry.inodes_per_group));
        if geometry.counts_unwritten() {
            self.set(group, UNUSED_INODES, u64::from(geometry.inodes_per_group));
            // Bitmaps follow from the descriptors but for the last group's.
            let is_last = group + 1 == geometry.groups();
            self.set_flags(group, BG_INODE_UNINIT | if is_last { 0 } else { BG_BLOCK_UNINIT });
        } else {
            sheet.zero("inode table", (bitmaps + 2) * u64::from(geometry.block_bytes), table * u64::from(geometry.block_bytes));
        }
        self.is_touched.insert(group);
    }

    /// Bitmaps and counts of every group of which anything changed.
    pub(super) fn bitmaps(
        &mut self,
        (old, new): (&ExtGeometry, &ExtGeometry),
        blocks: &Units,
        inodes: &Units,
        sheet: &mut Sheet<'_>,
    ) -> Result<(), NotResized> {
        self.descriptors.truncate(new.groups() as usize);
        let block = u64::from(new.block_bytes);
        let touched: Vec<u32> = self.is_touched.iter().copied().filter(|group| *group < new.groups()).collect();
        for group in touched {
            let first = new.first_block(group);
            let count = u64::from(new.blocks_per_group).min(new.blocks - first);
            let bits = bitmap(&|bit| bit >= count || blocks.is_taken(first + bit), new.block_bytes);
            let free = (0..count).filter(|bit| !blocks.is_taken(first + bit)).count() as u64;
            self.set(group, FREE_BLOCKS, free);
            let is_new = group >= old.groups();
            let never = new.counts_unwritten() && self.flags(group) & BG_BLOCK_UNINIT != 0;
            if !(never && is_new) {
                sheet.write("block bitmap", self.get(group, BLOCK_BITMAP) * block, &bits)?;
                self.set_flags(group, self.flags(group) & !BG_BLOCK_UNINIT);
                self.set_sum(new, group, BLOCK_BITMAP_SUM, bits.get(..new.blocks_per_group as usize / 8).unwrap_or_default());
            }
            let came = self.came.get(&group).copied();
            let is_written = !new.counts_unwritten() || self.flags(group) & BG_INODE_UNINIT == 0;
            if came.is_some() || (is_new && is_written) {
                let per_group = u64::from(new.inodes_per_group);
                let is_taken = |bit: u64| !is_new && inodes.is_taken(u64::from(group) * per_group + bit);
                let bits = bitmap(&|bit| bit >= per_group || is_taken(bit), new.block_bytes);
                sheet.write("inode bitmap", self.get(group, INODE_BITMAP) * block, &bits)?;
                self.set_flags(group, self.flags(group) & !BG_INODE_UNINIT);
                self.set_sum(new, group, INODE_BITMAP_SUM, bits.get(..new.inodes_per_group as usize / 8).unwrap_or_default());
                let (files, folders) = came.unwrap_or_default();
                self.set(group, FREE_INODES, self.get(group, FREE_INODES).saturating_sub(files));
                self.set(group, USED_DIRS, self.get(group, USED_DIRS) + folders);
            }
        }
        Ok(())
    }

    fn set_sum(&mut self, geometry: &ExtGeometry, group: u32, field: Field, bits: &[u8]) {
        if geometry.has_checksums() {
            self.set(group, field, u64::from(crc32c(geometry.checksum_seed, bits)));
        }
    }

    /// Free blocks and free inodes of all groups.
    pub(super) fn free(&self, geometry: &ExtGeometry) -> (u64, u32) {
        let sum = |field| (0..geometry.groups()).map(|group| self.get(group, field)).sum::<u64>();
        (sum(FREE_BLOCKS), u32::try_from(sum(FREE_INODES)).unwrap_or(u32::MAX))
    }

    /// All descriptors with their checksums, in whole blocks.
    pub(super) fn sealed(&mut self, geometry: &ExtGeometry) -> Vec<u8> {
        let mut all = Vec::new();
        for (group, descriptor) in (0..).zip(&mut self.descriptors) {
            if let Some(sum) = descriptor_sum(geometry, group, descriptor) {
                descriptor.get_mut(SUM..SUM + 2).into_iter().for_each(|slot| slot.copy_from_slice(&sum.to_le_bytes()));
            }
            all.extend_from_slice(descriptor);
        }
        all.resize(all.len().next_multiple_of(geometry.block_bytes as usize), 0);
        all
    }
}

/// A bitmap of one block.
fn bitmap(is_set: &dyn Fn(u64) -> bool, block_bytes: u32) -> Vec<u8> {
    let byte = |index: u64| (0..8).filter(|bit| is_set(index * 8 + bit)).fold(0u8, |byte, bit| byte | 1 << bit);
    (0..u64::from(block_bytes)).map(byte).collect()
}
