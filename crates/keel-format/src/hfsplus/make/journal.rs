//! The journal of a new volume, and of one that has none yet. Source: Technical Note 1150, "Journal".

use zerocopy::IntoBytes;

use crate::Volume;
use crate::hfsplus::HfsVolume;
use crate::hfsplus::layout::{ATTRIBUTE_JOURNALED, HEADER_AT};

/// A journal info block for a ring of `bytes` bytes at byte `at` of the volume.
pub(super) fn journal_info(at: u64, bytes: u64) -> Vec<u8> {
    // In the volume itself: no device is named.
    let mut block = 1u32.to_be_bytes().to_vec();
    block.resize(36, 0);
    block.extend(at.to_be_bytes());
    block.extend(bytes.to_be_bytes());
    block
}

/// Bytes of a journal's header: one sector.
const JOURNAL_HEADER: usize = 512;

/// The header of an empty journal whose ring, header and all, has `bytes` bytes. Technical Note 1150, "Journal".
#[must_use]
pub fn journal_header(bytes: u64) -> Vec<u8> {
    let first = (JOURNAL_HEADER as u64).to_be_bytes();
    let mut header = [&b"JNLx"[..], &0x1234_5678u32.to_be_bytes(), &first, &first, &bytes.to_be_bytes()].concat();
    header.extend(4096u32.to_be_bytes());
    header.extend([0; 4]);
    header.extend((JOURNAL_HEADER as u32).to_be_bytes());
    let sum = crate::hfsplus::journal::checksum(&header, 36).to_be_bytes();
    header.resize(JOURNAL_HEADER, 0);
    header.iter_mut().skip(36).zip(sum).for_each(|(slot, byte)| *slot = byte);
    header
}

/// Switches journaling on: the writes (place and bytes) by which `volume`, which has none, gets an empty journal of `bytes` bytes in the
/// first free ground that is large enough. `None` when it has one, or no such ground.
#[must_use]
pub fn journal(volume: &HfsVolume, bytes: u64) -> Option<Vec<(u64, Vec<u8>)>> {
    let geometry = volume.geometry();
    let size = u64::from(geometry.block_bytes);
    if geometry.attributes & ATTRIBUTE_JOURNALED != 0 {
        return None;
    }
    let allocation = volume.allocation()?;
    let wanted = bytes.div_ceil(size) + 1;
    let mut run = 0;
    let last = (0..allocation.units).find(|unit| {
        run = if allocation.is_used(*unit) { 0 } else { run + 1 };
        run == wanted
    })?;
    let info = last + 1 - wanted;
    let ground = info..last + 1;
    let mut pieces: Vec<(u64, Vec<u8>)> =
        allocation.marked(std::slice::from_ref(&ground), true).into_iter().map(|repair| (repair.at.0, repair.bytes)).collect();
    pieces.push((info * size, journal_info((info + 1) * size, bytes)));
    pieces.push(((info + 1) * size, journal_header(bytes)));
    for at in [HEADER_AT, geometry.alternate_at().0] {
        let mut raw = volume.header_at(keel_source::ByteOffset(at))?;
        raw.attributes.set(raw.attributes.get() | ATTRIBUTE_JOURNALED);
        raw.journal_info_block.set(u32::try_from(info).ok()?);
        raw.free_blocks.set(raw.free_blocks.get().checked_sub(u32::try_from(wanted).ok()?)?);
        pieces.push((at, raw.as_bytes().to_vec()));
    }
    Some(pieces)
}
