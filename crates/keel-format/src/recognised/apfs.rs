//! APFS: the container superblock in block 0, and newer ones in the checkpoint descriptor area. Source: "Apple File
//! System Reference"; little-endian.

use super::closed::CLOSED;
use crate::kind::{Holds, KindFacts, MbrTypes, Promise};
use crate::table::gpt::APFS;
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen};
use crate::{View, read_bytes};

/// The most blocks of the descriptor area that are looked at.
const MOST_CHECKPOINTS: u64 = 64;

/// An APFS container.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "APFS",
    letters: "AP",
    gpt: (APFS, &[]),
    mbr: MbrTypes::new(0xAF, &[]),
    apm: &["Apple_APFS"],
    promised: Promise::Known,
    holds: Holds::Volumes,
    make: None,
    resize: None,
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.get(32..36) == Some(b"NXSB")
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("APFS container superblock", at, bytes);
    let block = u64::from(view.u32(36, "nx_block_size").ok()?);
    let blocks = view.u64(40, "nx_block_count").ok()?;
    if !block.is_power_of_two() || !(4096..=65_536).contains(&block) || blocks >> 48 != 0 || blocks == 0 {
        return None;
    }
    let whole = read_bytes(drive, at, usize::try_from(block).ok()?, "APFS container superblock").ok()?;
    let checked = fletcher(whole.get(8..)?) == view.u64(0, "o_cksum").ok()?;
    let (first, count) = (view.u64(112, "nx_xp_desc_base").ok()?, u64::from(view.u32(104, "nx_xp_desc_blocks").ok()?));
    let identifier = sixteen(bytes, 72);
    // The superblock of block 0 leads to the descriptor area, where others of the same container stand.
    let places =
        (0..count.min(MOST_CHECKPOINTS)).filter_map(|index| first.checked_add(index)?.checked_mul(block)?.checked_add(at.0));
    let main = places.filter(|place| *place != at.0).any(|place| is_superblock(drive, place, &identifier));
    // The superblock is the last block of its checkpoint, whose place in the area it knows.
    let (index, length) = (u64::from(view.u32(136, "nx_xp_desc_index").ok()?), u64::from(view.u32(140, "nx_xp_desc_len").ok()?));
    let own = (index + length).checked_sub(1)?.checked_rem(count)?.checked_add(first)?.checked_mul(block)?;
    let start = if main { at.0 } else { at.0.checked_sub(own)? };
    let says = match main {
        true => "APFS container superblock stands in block 0 and leads to its checkpoints",
        false => "APFS container superblock of a checkpoint stands in the descriptor area",
    };
    Some(Known { start: ByteOffset(start), bytes: blocks * block, label: None, identifier, main, checked, says: says.into() })
}

fn is_superblock(drive: &dyn Source, at: u64, identifier: &[u8; 16]) -> bool {
    let head = read_bytes(drive, ByteOffset(at), 88, "APFS container superblock").unwrap_or_default();
    head.get(32..36) == Some(b"NXSB") && sixteen(&head, 72) == *identifier
}

/// The object checksum: Fletcher's over 32-bit words, modulo 2^32 - 1.
fn fletcher(bytes: &[u8]) -> u64 {
    const MODULUS: u64 = 0xFFFF_FFFF;
    let (mut low, mut high) = (0u64, 0u64);
    for word in bytes.as_chunks::<4>().0 {
        low = (low + u64::from(u32::from_le_bytes(*word))) % MODULUS;
        high = (high + low) % MODULUS;
    }
    let first = MODULUS - (low + high) % MODULUS;
    let second = MODULUS - (low + first) % MODULUS;
    second << 32 | first
}
