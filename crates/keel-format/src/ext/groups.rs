//! The block groups of a volume: their descriptors, and the copies of these.

use keel_source::ByteOffset;

use super::layout::{RO_COMPAT_GDT_CSUM, RawDescriptor, crc32c};
use super::read::Takes;
use super::{ExtGeometry, ExtVolume};
use crate::{Finding, FormatError, Severity, View};

/// The most group descriptors that an examination looks at.
const MOST_GROUPS: u32 = 65_536;
/// The most copies of a group descriptor that are tried.
const MOST_KEEPERS: usize = 8;

impl ExtVolume {
    /// The group descriptor of `group`, with the high halves zero where the volume keeps none.
    ///
    /// # Errors
    /// [`FormatError`] when it cannot be read.
    pub fn descriptor(&self, group: u32) -> Result<RawDescriptor, FormatError> {
        self.descriptor_from(self.geometry.descriptor_at(group))
    }

    /// The descriptor of `group`, or the first copy of it that points into the volume where the main one does not.
    pub(super) fn best_descriptor(&self, group: u32) -> Result<RawDescriptor, FormatError> {
        let main = self.descriptor(group);
        if self.takes != Takes::ByChecksum && main.as_ref().is_ok_and(|raw| descriptor_points_inside(raw, &self.geometry)) {
            return main;
        }
        let keepers = self.geometry.descriptor_keepers(group).into_iter().take(MOST_KEEPERS);
        let copies = keepers.filter_map(|keeper| self.geometry.descriptor_copy_at(group, keeper));
        let mut sound = copies.filter_map(|at| self.descriptor_from(at).ok());
        sound.find(|raw| descriptor_points_inside(raw, &self.geometry)).map_or(main, Ok)
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
        let at = self.geometry.descriptor_at(group);
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

/// First block of a group's inode table.
#[must_use]
pub(super) fn inode_table(raw: &RawDescriptor) -> u64 {
    u64::from(raw.bg_inode_table_lo.get()) | u64::from(raw.bg_inode_table_hi.get()) << 32
}
