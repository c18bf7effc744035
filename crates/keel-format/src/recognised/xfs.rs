//! XFS: superblocks, one at the start of each allocation group. Source: "XFS Algorithms & Data Structures", chapter
//! "Superblocks"; big-endian.

use super::kind::CLOSED;
use crate::kind::{Driver, KindFacts, MbrTypes};
use crate::table::gpt::LINUX;
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen, text};
use crate::{View, read_bytes};

/// XFS.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "XFS",
    letters: "XF",
    gpt: LINUX,
    mbr: MbrTypes::new(0x83, &[]),
    drivers: &[Driver::kernel("xfs", "norecovery,nouuid")],
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(b"XFSB")
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("XFS superblock", at, bytes);
    let word = |offset| view.u32(offset, "sb_field").ok().map(u32::swap_bytes);
    let (block, blocks) = (u64::from(word(4)?), view.u64(8, "sb_dblocks").ok()?.swap_bytes());
    let (group_blocks, groups) = (u64::from(word(84)?), u64::from(word(88)?));
    let sector = usize::from(view.u16(102, "sb_sectsize").ok()?.swap_bytes());
    let sizes = block.is_power_of_two()
        && (512..=65_536).contains(&block)
        && sector.is_power_of_two()
        && (512..=32_768).contains(&sector);
    if !sizes || blocks >> 52 != 0 || group_blocks == 0 || blocks.div_ceil(group_blocks) != groups {
        return None;
    }
    // The free-space header behind each superblock says which group this is.
    let free = read_bytes(drive, at + sector as u64, 16, "AGF").ok();
    let free = free.as_ref().map(|bytes| View::new("AGF", at, bytes)).filter(|view| view.bytes().starts_with(b"XAGF"));
    let group = match free {
        Some(view) => u64::from(view.u32(8, "agf_seqno").ok()?.swap_bytes()),
        None => 0,
    };
    let start = at.0.checked_sub(group.checked_mul(group_blocks)?.checked_mul(block)?)?;
    let version = view.u16(100, "sb_versionnum").ok()?.swap_bytes() & 15;
    let checked = version == 5 && sector <= bytes.len() && {
        let mut copy = bytes.get(..sector)?.to_vec();
        copy.get_mut(224..228)?.fill(0);
        crc32c::crc32c(&copy) == view.u32(224, "sb_crc").ok()?
    };
    let says = match group {
        0 => "XFS superblock stands at the start".to_string(),
        group => format!("XFS superblock of allocation group {group} of {groups} stands at its place"),
    };
    let (label, identifier) = (text(bytes.get(108..120)?), sixteen(bytes, 32));
    Some(Known { start: ByteOffset(start), bytes: blocks * block, label, identifier, main: group == 0, checked, says })
}
