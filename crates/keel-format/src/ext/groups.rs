//! The block groups of a volume: their descriptors, and the copies of these.

use std::sync::PoisonError;

use keel_source::ByteOffset;

use super::layout::{INCOMPAT_META_BG, RO_COMPAT_GDT_CSUM, RO_COMPAT_METADATA_CSUM, RawDescriptor, crc32c, inode_table};
use super::read::Takes;
use super::{ExtGeometry, ExtVolume};
use crate::{Finding, FormatError, Severity, View};

/// The most group descriptors that an examination looks at.
const MOST_GROUPS: u32 = 65_536;
/// The most copies of a group descriptor that are tried.
const MOST_KEEPERS: usize = 8;

/// The most descriptors that are kept in mind.
const MOST_KNOWN: u32 = 65_536;

/// True when both name the same places of bitmaps and inode table.
fn has_same_places(one: &RawDescriptor, other: &RawDescriptor) -> bool {
    let places = |raw: &RawDescriptor| (raw.bg_block_bitmap_lo.get(), raw.bg_inode_bitmap_lo.get(), inode_table(raw));
    places(one) == places(other)
}

impl ExtVolume {
    /// The group descriptor of `group`, with the high halves zero where the volume keeps none.
    ///
    /// # Errors
    /// [`FormatError`] when it cannot be read.
    pub fn descriptor(&self, group: u32) -> Result<RawDescriptor, FormatError> {
        self.descriptor_from(self.geometry.descriptor_at(group))
    }

    /// The descriptor of `group` by which its inodes are found: the main one, or a copy where that one points out of the volume, its
    /// checksum does not hold, or (where none is kept) two copies agree on other places.
    pub(super) fn best_descriptor(&self, group: u32) -> Result<RawDescriptor, FormatError> {
        let known = self.best.lock().unwrap_or_else(PoisonError::into_inner).get(&group).copied();
        if let Some(best) = known {
            return Ok(best);
        }
        let best = self.chosen_descriptor(group)?;
        // Of more groups than are kept in mind the first ones are.
        if group < MOST_KNOWN {
            self.best.lock().unwrap_or_else(PoisonError::into_inner).insert(group, best);
        }
        Ok(best)
    }

    fn chosen_descriptor(&self, group: u32) -> Result<RawDescriptor, FormatError> {
        let main = self.descriptor(group);
        let inside = |raw: &RawDescriptor| descriptor_points_inside(raw, &self.geometry);
        let summed = self.geometry.ro_compat & (RO_COMPAT_GDT_CSUM | RO_COMPAT_METADATA_CSUM) != 0;
        let own = main.as_ref().ok().filter(|raw| self.takes != Takes::ByChecksum && inside(raw));
        if let Some(own) = own.filter(|_| summed && self.sum_holds_at(group, self.geometry.descriptor_at(group))) {
            return Ok(*own);
        }
        let keepers = self.geometry.descriptor_keepers(group).into_iter().take(MOST_KEEPERS);
        let places = keepers.filter_map(|keeper| self.geometry.descriptor_copy_at(group, keeper));
        let mut copies = places.filter_map(|at| Some((at, self.descriptor_from(at).ok().filter(inside)?)));
        let found = match own {
            Some(own) if !summed => {
                let others: Vec<RawDescriptor> =
                    copies.map(|(_, raw)| raw).filter(|raw| !has_same_places(raw, own)).take(2).collect();
                others.first().filter(|_| matches!(others.as_slice(), [one, other] if has_same_places(one, other))).copied()
            }
            Some(_) => copies.find(|(at, _)| self.sum_holds_at(group, *at)).map(|(_, raw)| raw),
            None => copies.next().map(|(_, raw)| raw),
        };
        found.or(own.copied()).map_or(main, Ok)
    }

    fn descriptor_from(&self, at: ByteOffset) -> Result<RawDescriptor, FormatError> {
        let mut bytes = self.pages.bytes(at, usize::from(self.geometry.descriptor_bytes).min(64), "group descriptor")?;
        bytes.resize(64, 0);
        View::new("group descriptor", at, &bytes).at::<RawDescriptor>(0, "descriptor").copied()
    }

    /// Every group's descriptor has its checksum and points at blocks of the volume.
    pub(super) fn examine_groups(&self, findings: &mut Vec<Finding>) {
        let (mut wrong_sums, mut outside, mut unreadable) = (0u32, 0u32, 0u32);
        let mut first = None;
        for group in 0..self.geometry.groups().min(MOST_GROUPS) {
            let bad = match self.descriptor(group) {
                Err(_) => &mut unreadable,
                Ok(raw) if !descriptor_points_inside(&raw, &self.geometry) => &mut outside,
                Ok(_) if !self.descriptor_sum_holds(group) => &mut wrong_sums,
                Ok(_) => continue,
            };
            *bad += 1;
            first.get_or_insert(self.geometry.descriptor_at(group));
        }
        for (count, severity, what) in [
            (unreadable, Severity::Broken, "group descriptors cannot be read"),
            (outside, Severity::Broken, "group descriptors point out of the volume"),
            (wrong_sums, Severity::Doubt, "group descriptors have a wrong checksum"),
        ] {
            if count > 0 {
                let how = format!("of {} groups", self.geometry.groups());
                findings.push(Finding { what: format!("{count} {what}"), at_byte: first, how, severity });
            }
        }
    }

    fn descriptor_sum_holds(&self, group: u32) -> bool {
        self.sum_holds_at(group, self.geometry.descriptor_at(group))
    }

    /// True when the descriptor of `group` at byte `at` has its checksum, or none is kept.
    fn sum_holds_at(&self, group: u32, at: ByteOffset) -> bool {
        let Ok(bytes) = self.pages.bytes(at, usize::from(self.geometry.descriptor_bytes), "group descriptor") else {
            return false;
        };
        let stored = bytes.get(30..32).and_then(<[u8]>::first_chunk).map(|sum| u16::from_le_bytes(*sum));
        descriptor_sum(&self.geometry, group, &bytes).is_none_or(|sum| Some(sum) == stored)
    }

    /// Free blocks and free inodes, by the descriptors.
    #[must_use]
    pub fn free_counts(&self) -> (u64, u32) {
        let wide = self.geometry.descriptor_bytes >= 64;
        let high = |raw: &RawDescriptor, offset: usize| {
            let half = raw.bg_high.get(offset..offset + 2).and_then(<[u8]>::first_chunk).filter(|_| wide);
            half.map_or(0, |half| u32::from(u16::from_le_bytes(*half)) << 16)
        };
        let groups = (0..self.geometry.groups()).filter_map(|group| self.best_descriptor(group).ok());
        groups.fold((0, 0), |(blocks, inodes), raw| {
            let own_blocks = u32::from(raw.bg_free_blocks_count_lo.get()) | high(&raw, 0);
            let own_inodes = u32::from(raw.bg_free_inodes_count_lo.get()) | high(&raw, 2);
            (blocks + u64::from(own_blocks), inodes.saturating_add(own_inodes))
        })
    }
}

/// The checksum of a group descriptor; `None` on volumes that keep none.
#[must_use]
pub(super) fn descriptor_sum(geometry: &ExtGeometry, group: u32, descriptor: &[u8]) -> Option<u16> {
    let (head, tail) = (descriptor.get(..30)?, descriptor.get(32..).unwrap_or_default());
    if geometry.has_checksums() {
        let sum = crc32c(crc32c(geometry.checksum_seed, &group.to_le_bytes()), head);
        return u16::try_from(crc32c(crc32c(sum, &[0, 0]), tail) & 0xFFFF).ok();
    }
    if geometry.ro_compat & RO_COMPAT_GDT_CSUM == 0 {
        return None;
    }
    let counted = geometry.uuid.iter().chain(&group.to_le_bytes()).chain(head).chain(tail).copied().collect::<Vec<u8>>();
    Some(crc16(&counted))
}

/// True when bitmaps and inode table lie inside the volume.
#[must_use]
pub(super) fn descriptor_points_inside(raw: &RawDescriptor, geometry: &ExtGeometry) -> bool {
    let wide = |low: u32, high: u32| u64::from(low) | u64::from(high) << 32;
    let places = [
        wide(raw.bg_block_bitmap_lo.get(), raw.bg_block_bitmap_hi.get()),
        wide(raw.bg_inode_bitmap_lo.get(), raw.bg_inode_bitmap_hi.get()),
        inode_table(raw),
    ];
    places.iter().all(|block| (1..geometry.blocks).contains(block))
}

/// CRC-16 with the reflected polynomial 0xA001, from 0xFFFF on.
fn crc16(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0xFFFFu16, |sum, byte| {
        (0..8).fold(sum ^ u16::from(*byte), |sum, _| if sum & 1 == 1 { sum >> 1 ^ 0xA001 } else { sum >> 1 })
    })
}

/// Blocks of the metadata of group `group`: its bitmaps and inode table, wherever they stand, and what stands at its beginning.
pub(super) fn metadata(volume: &ExtVolume, group: u32) -> Vec<std::ops::Range<u64>> {
    let geometry = volume.geometry();
    let table =
        (u64::from(geometry.inodes_per_group) * u64::from(geometry.inode_bytes)).div_ceil(u64::from(geometry.block_bytes));
    let table = table.min(u64::from(geometry.blocks_per_group));
    let Ok(raw) = volume.best_descriptor(group) else { return Vec::new() };
    let bitmaps = [
        u64::from(raw.bg_block_bitmap_lo.get()) | u64::from(raw.bg_block_bitmap_hi.get()) << 32,
        u64::from(raw.bg_inode_bitmap_lo.get()) | u64::from(raw.bg_inode_bitmap_hi.get()) << 32,
    ];
    let first = inode_table(&raw);
    let own = bitmaps.map(|block| block..block + 1).into_iter().chain(std::iter::once(first..first + table));
    // With blocks of 1024 bytes and bigalloc, the first one is the boot block.
    let boot = (group == 0 && geometry.first_data_block == 0 && geometry.block_bytes == 1024).then_some(0..1);
    own.chain(copies_in(volume, group)).chain(boot).collect()
}

/// Blocks of group `group` that hold a copy of the superblock and of the descriptors, and those that are reserved behind them.
pub(super) fn copies_in(volume: &ExtVolume, group: u32) -> Option<std::ops::Range<u64>> {
    let geometry = volume.geometry();
    let per_block = (geometry.block_bytes / u32::from(geometry.descriptor_bytes)).max(1);
    let first = geometry.first_block(group);
    let has = geometry.has_superblock(group);
    if geometry.incompat & INCOMPAT_META_BG != 0 && group / per_block >= geometry.first_meta_bg {
        // In a meta group the first, the second and the last group keep its block of descriptors.
        let keeps = matches!(group % per_block, 0 | 1) || group % per_block == per_block - 1;
        let blocks = u64::from(has) + u64::from(keeps);
        return (blocks > 0).then_some(first..first + blocks);
    }
    let reserved = volume.superblock().map_or(0, |raw| u64::from(raw.s_reserved_gdt_blocks.get()));
    has.then(|| first..first + 1 + u64::from(geometry.groups().div_ceil(per_block)) + reserved)
}
