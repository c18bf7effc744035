//! Linux RAID members: superblocks of versions 0.90 and 1.x. Source: the kernel's `md_p.h`; little-endian.

use super::closed::CLOSED;
use crate::kind::{Holds, KindFacts, MbrTypes};
use crate::table::gpt::{LINUX, LINUX_RAID};
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen, text};
use crate::View;

/// A member of a Linux RAID.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "RAID",
    letters: "RA",
    gpt: (LINUX_RAID, &[LINUX.0]),
    mbr: MbrTypes::new(0xFD, &[0x83]),
    closed: Some("a RAID member holds a part of the volume; the others are needed to put it together"),
    holds: Holds::Volumes,
    make: None,
    resize: None,
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(&[0xFC, 0x4E, 0x2B, 0xA9])
}

pub(super) fn read(_drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("RAID superblock", at, bytes);
    match (view.u32(4, "major_version").ok()?, view.u32(8, "minor_version").ok()?) {
        (1, _) => version_1(view, at),
        (0, 90) => version_0(view, at),
        _ => None,
    }
}

fn version_1(view: View<'_>, at: ByteOffset) -> Option<Known> {
    let own = view.u64(144, "super_offset").ok()?;
    let (data, size) = (view.u64(128, "data_offset").ok()?, view.u64(136, "data_size").ok()?);
    if own >> 50 != 0 || data >> 50 != 0 || size >> 50 != 0 || size == 0 {
        return None;
    }
    let start = at.0.checked_sub(own * 512)?;
    // Version 1.0 stands behind the data, 8 to 16 sectors before the end.
    let sectors = (data + size).max(own + 8);
    let (level, disks) = (view.u32(72, "level").ok()?.cast_signed(), view.u32(92, "raid_disks").ok()?);
    let says = format!("RAID superblock 1.x of level {level} with {disks} members stands {own} sectors into the member");
    let (label, identifier) = (text(view.slice(32, 32, "set_name").ok()?), sixteen(view.bytes(), 16));
    Some(Known { start: ByteOffset(start), bytes: sectors * 512, label, identifier, main: true, checked: sum_holds(view), says })
}

/// The checksum of version 1: the sum of all 32-bit words up to the end of the list of devices, folded once.
fn sum_holds(view: View<'_>) -> bool {
    let check = || {
        let devices = view.u32(220, "max_dev").ok().filter(|devices| *devices <= 1792)?;
        let stored = view.u32(216, "sb_csum").ok()?;
        let bytes = view.slice(0, 256 + devices as usize * 2, "superblock").ok()?;
        let (words, rest) = bytes.as_chunks::<4>();
        let mut sum: u64 = words.iter().map(|word| u64::from(u32::from_le_bytes(*word))).sum::<u64>() - u64::from(stored);
        if let [low, high] = rest {
            sum += u64::from(u16::from_le_bytes([*low, *high]));
        }
        Some((sum & 0xFFFF_FFFF) + (sum >> 32) == u64::from(stored))
    };
    check() == Some(true)
}

/// Version 0.90 stands in the last whole 64 KiB but one, behind the data.
fn version_0(view: View<'_>, at: ByteOffset) -> Option<Known> {
    let size = u64::from(view.u32(32, "size").ok()?) * 1024;
    let start = at.0.checked_sub(size.next_multiple_of(64 << 10)).filter(|_| size > 0)?;
    let mut identifier = [0; 16];
    let parts = view.slice(20, 4, "set_uuid0").ok()?.iter().chain(view.slice(52, 12, "set_uuid1").ok()?);
    identifier.iter_mut().zip(parts).for_each(|(slot, byte)| *slot = *byte);
    let (level, disks) = (view.u32(28, "level").ok()?.cast_signed(), view.u32(40, "raid_disks").ok()?);
    let says = format!("RAID superblock 0.90 of level {level} with {disks} members stands behind the data");
    let bytes = at.0 - start + (64 << 10);
    Some(Known { start: ByteOffset(start), bytes, label: None, identifier, main: false, checked: false, says })
}
