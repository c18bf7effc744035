//! Who holds which block of a new volume: the structures of its groups, and what is taken for its files.

use std::collections::BTreeMap;

use keel_source::Payload;
use zerocopy::little_endian::{U16, U32};
use zerocopy::{FromZeros, IntoBytes};

use super::super::layout::{BG_BLOCK_UNINIT, BG_INODE_UNINIT, ExtGeometry, INCOMPAT_FLEX_BG, RawDescriptor, crc32c};
use super::{FIRST_INODE, MOST_TOGETHER};
use crate::make::Part;

/// Blocks of superblock and descriptors, where `group` keeps copies of them.
fn head_blocks(geometry: &ExtGeometry, group: u32) -> u64 {
    let descriptors = u64::from(geometry.groups()) * u64::from(geometry.descriptor_bytes);
    match geometry.has_superblock(group) {
        true => 1 + descriptors.div_ceil(u64::from(geometry.block_bytes)),
        false => 0,
    }
}

/// Blocks of a group's inode table.
pub(super) fn table_blocks(geometry: &ExtGeometry) -> u64 {
    u64::from(geometry.inodes_per_group) * u64::from(geometry.inode_bytes) / u64::from(geometry.block_bytes)
}

/// Blocks that `group` needs for itself when nothing of it stands elsewhere.
pub(super) fn own_blocks(geometry: &ExtGeometry, group: u32) -> u64 {
    head_blocks(geometry, group) + 2 + table_blocks(geometry)
}

/// Where the structures of a group stand, in blocks.
#[derive(Debug, Clone, Copy)]
struct Own {
    block_bitmap: u64,
    inode_bitmap: u64,
    inode_table: u64,
}

/// The blocks of a volume.
pub(super) struct Ground {
    /// Groups whose structures stand together: a power of two.
    together: u32,
    own: Vec<Own>,
    /// Blocks that each group holds at its start: head, and the structures that stand in it.
    start: Vec<u64>,
    /// Blocks taken for files, by group: runs within it, ascending.
    taken: BTreeMap<u32, Vec<(u64, u64)>>,
    blocks: u64,
    blocks_per_group: u64,
    first_data_block: u64,
    /// True where bitmaps that follow from the descriptors are not written.
    is_lazy: bool,
}

impl Ground {
    pub(super) fn new(geometry: &ExtGeometry) -> Self {
        let groups = geometry.groups();
        let is_lazy = geometry.counts_unwritten();
        let table = table_blocks(geometry);
        // As many as fit in three quarters of a group; and no more than there are.
        let fits = |count: u32| {
            u64::from(count) * (2 + table) + head_blocks(geometry, 0) <= u64::from(geometry.blocks_per_group) / 4 * 3
        };
        let together = match geometry.incompat & INCOMPAT_FLEX_BG != 0 {
            true => (0..=MOST_TOGETHER.ilog2()).rev().map(|shift| 1 << shift).find(|count| fits(*count)).unwrap_or(1),
            false => 1,
        };
        let (mut own, mut start) = (Vec::new(), Vec::new());
        for group in 0..groups {
            let first = group / together * together;
            let count = u64::from(together.min(groups - first));
            let base = geometry.first_block(first) + head_blocks(geometry, first);
            let index = u64::from(group - first);
            own.push(Own {
                block_bitmap: base + index,
                inode_bitmap: base + count + index,
                inode_table: base + 2 * count + index * table,
            });
            let structures = if group == first { count * (2 + table) } else { 0 };
            start.push(head_blocks(geometry, group) + structures);
        }
        Self {
            together,
            own,
            start,
            taken: BTreeMap::new(),
            blocks: geometry.blocks,
            blocks_per_group: u64::from(geometry.blocks_per_group),
            first_data_block: u64::from(geometry.first_data_block),
            is_lazy,
        }
    }

    pub(super) fn together(&self) -> u32 {
        self.together
    }

    /// First block of the inode table of `group`.
    pub(super) fn inode_table(&self, group: u32) -> u64 {
        self.own.get(group as usize).map_or(0, |own| own.inode_table)
    }

    fn first(&self, group: u32) -> u64 {
        self.first_data_block + u64::from(group) * self.blocks_per_group
    }

    fn blocks_of(&self, group: u32) -> u64 {
        self.blocks.min(self.first(group) + self.blocks_per_group).saturating_sub(self.first(group))
    }

    fn groups(&self) -> u32 {
        u32::try_from(self.own.len()).unwrap_or(u32::MAX)
    }

    fn taken_of(&self, group: u32) -> u64 {
        self.taken.get(&group).map_or(0, |runs| runs.iter().map(|(_, count)| count).sum())
    }

    /// Takes `count` blocks from the first free ones of `group` on, and of those behind it: runs of blocks, ascending. None where there are
    /// not so many.
    pub(super) fn take(&mut self, group: u32, count: u64) -> Option<Vec<(u64, u64)>> {
        let mut runs: Vec<(u64, u64)> = Vec::new();
        let mut left = count;
        for group in group..self.groups() {
            if left == 0 {
                break;
            }
            // Taken from the front only: what is free is one run.
            let used = self.start.get(group as usize).copied().unwrap_or(0) + self.taken_of(group);
            let free = self.blocks_of(group).saturating_sub(used);
            let here = free.min(left);
            if here == 0 {
                continue;
            }
            let first = self.first(group) + used;
            self.taken.entry(group).or_default().push((first, here));
            match runs.last_mut().filter(|(at, count)| *at + *count == first) {
                Some((_, count)) => *count += here,
                None => runs.push((first, here)),
            }
            left -= here;
        }
        (left == 0).then_some(runs)
    }

    pub(super) fn free_blocks(&self) -> u64 {
        (0..self.groups()).map(|group| self.free_of(group)).sum()
    }

    fn used_of(&self, group: u32) -> u64 {
        self.start.get(group as usize).copied().unwrap_or(0) + self.taken_of(group)
    }

    fn free_of(&self, group: u32) -> u64 {
        self.blocks_of(group).saturating_sub(self.used_of(group))
    }

    /// True where the block bitmap of `group` follows from the descriptors, and is not written: nothing of it is taken, no structures of
    /// other groups stand in it, and it is not the last.
    fn has_no_bitmap(&self, group: u32) -> bool {
        let is_first = group.is_multiple_of(self.together);
        self.is_lazy && group + 1 < self.groups() && self.taken_of(group) == 0 && (!is_first || self.together == 1)
    }

    /// The block bitmap of `group`: what is used stands at its start, and bits behind its end are set.
    fn bitmap(&self, group: u32, block_bytes: u32) -> Vec<u8> {
        bits(self.used_of(group), self.blocks_of(group), block_bytes)
    }

    /// All descriptors, padded to a block.
    pub(super) fn descriptors(&self, geometry: &ExtGeometry) -> Vec<u8> {
        let mut bytes = Vec::new();
        for group in 0..self.groups() {
            let raw = self.descriptor(geometry, group);
            bytes.extend_from_slice(raw.as_bytes().get(..usize::from(geometry.descriptor_bytes)).unwrap_or_default());
        }
        bytes.resize(bytes.len().next_multiple_of(geometry.block_bytes as usize), 0);
        bytes
    }

    fn descriptor(&self, geometry: &ExtGeometry, group: u32) -> RawDescriptor {
        let mut raw = RawDescriptor::new_zeroed();
        let Some(own) = self.own.get(group as usize) else { return raw };
        let low = |value: u64| U32::new((value & 0xFFFF_FFFF) as u32);
        let high = |value: u64| U32::new((value >> 32) as u32);
        let half = |value: u64| U16::new((value & 0xFFFF) as u16);
        let used_inodes = if group == 0 { FIRST_INODE } else { 0 };
        let free_inodes = u64::from(geometry.inodes_per_group - used_inodes);
        raw.bg_block_bitmap_lo = low(own.block_bitmap);
        raw.bg_inode_bitmap_lo = low(own.inode_bitmap);
        raw.bg_inode_table_lo = low(own.inode_table);
        raw.bg_free_blocks_count_lo = half(self.free_of(group));
        raw.bg_free_inodes_count_lo = half(free_inodes);
        raw.bg_used_dirs_count_lo = U16::new(if group == 0 { 2 } else { 0 });
        let wide = geometry.descriptor_bytes >= 64;
        if wide {
            raw.bg_block_bitmap_hi = high(own.block_bitmap);
            raw.bg_inode_bitmap_hi = high(own.inode_bitmap);
            raw.bg_inode_table_hi = high(own.inode_table);
        }
        if !self.is_lazy {
            return raw;
        }
        let mut flags = 0;
        if group > 0 {
            flags |= BG_INODE_UNINIT;
        }
        if self.has_no_bitmap(group) {
            flags |= BG_BLOCK_UNINIT;
        }
        raw.bg_flags = U16::new(flags);
        // Inodes behind the last one in use were never written: the kernel writes them when it has time.
        raw.bg_itable_unused_lo = half(free_inodes);
        let sum = |bitmap: &[u8], bits: u32| crc32c(geometry.checksum_seed, bitmap.get(..bits as usize / 8).unwrap_or_default());
        if flags & BG_BLOCK_UNINIT == 0 {
            let sum = sum(&self.bitmap(group, geometry.block_bytes), geometry.blocks_per_group);
            raw.bg_block_bitmap_csum_lo = half(u64::from(sum));
            put(&mut raw, 12, sum >> 16);
        }
        if flags & BG_INODE_UNINIT == 0 {
            let sum = sum(&inode_bitmap(geometry, group), geometry.inodes_per_group);
            raw.bg_inode_bitmap_csum_lo = half(u64::from(sum));
            put(&mut raw, 14, sum >> 16);
        }
        let bytes = raw.as_bytes().get(..usize::from(geometry.descriptor_bytes)).unwrap_or_default();
        let sum = crc32c(crc32c(geometry.checksum_seed, &group.to_le_bytes()), bytes);
        raw.bg_checksum = half(u64::from(sum));
        raw
    }

    /// Bitmaps, and inode tables where they are not left to the kernel.
    pub(super) fn parts(&self, geometry: &ExtGeometry) -> Vec<Part> {
        let block = u64::from(geometry.block_bytes);
        let mut parts = Vec::new();
        for (group, own) in (0..).zip(&self.own) {
            if !self.has_no_bitmap(group) {
                parts.push(Part::new("block bitmap", own.block_bitmap * block, self.bitmap(group, geometry.block_bytes)));
            }
            if group == 0 || !self.is_lazy {
                parts.push(Part::new("inode bitmap", own.inode_bitmap * block, inode_bitmap(geometry, group)));
            }
            if group > 0 && !self.is_lazy {
                let zeros = Payload::zeros(table_blocks(geometry) * block);
                parts.push(Part::new("inode table", own.inode_table * block, zeros));
            }
        }
        parts
    }
}

/// Puts `value` into the upper halves of a descriptor, `at` bytes behind its 44th.
fn put(raw: &mut RawDescriptor, at: usize, value: u32) {
    let half = ((value & 0xFFFF) as u16).to_le_bytes();
    raw.bg_high.iter_mut().skip(at).zip(half).for_each(|(slot, byte)| *slot = byte);
}

/// A bitmap of one block: the first `used` bits, and those from `end` on.
fn bits(used: u64, end: u64, block_bytes: u32) -> Vec<u8> {
    let all = u64::from(block_bytes) * 8;
    let is_set = |bit: u64| bit < used || bit >= end;
    let byte = |index: u64| (0..8).filter(|bit| is_set(index * 8 + bit)).fold(0u8, |byte, bit| byte | 1 << bit);
    (0..all / 8).map(byte).collect()
}

fn inode_bitmap(geometry: &ExtGeometry, group: u32) -> Vec<u8> {
    let used = if group == 0 { FIRST_INODE } else { 0 };
    bits(u64::from(used), u64::from(geometry.inodes_per_group), geometry.block_bytes)
}
