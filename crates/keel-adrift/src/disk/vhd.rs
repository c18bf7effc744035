//! VHD (Virtual Hard Disk Image Format Specification 1.0), of the kinds that grow: a copy of the footer at the start, a map of blocks, the footer.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

const SECTOR: u64 = 512;
/// What an entry of the map says of a block that is not there.
const NONE: u32 = u32::MAX;

/// Walks a disk.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    if !sums(walk, 0, SECTOR, 64)? || !matches!(walk.be32(60)?, 3 | 4) {
        return wrong("the checksum of its footer does not hold");
    }
    let header = walk.be64(16)?;
    if header < SECTOR || header > walk.len() || !walk.is(header, b"cxsparse")? || !sums(walk, header, 1024, 36)? {
        return wrong("no header stands where its footer says");
    }
    walk.hold(header + 1024);
    let (map, blocks, block) = (walk.be64(header + 16)?, u64::from(walk.be32(header + 28)?), u64::from(walk.be32(header + 32)?));
    if block < SECTOR || blocks > 1 << 24 {
        return wrong("its header is none");
    }
    // Each block begins with a bit for each of its sectors.
    let bits = (block / SECTOR / 8).next_multiple_of(SECTOR);
    let mut end = map.saturating_add((4 * blocks).next_multiple_of(SECTOR));
    for number in 0..blocks {
        let sector = walk.be32(map + 4 * number)?;
        if sector != NONE {
            end = end.max(u64::from(sector) * SECTOR + bits + block);
        }
    }
    let end = end.checked_add(SECTOR).ok_or(Broken::End)?;
    walk.reaches(end)?;
    if !walk.is(end - SECTOR, b"conectix")? {
        return wrong("its footer does not stand behind its blocks");
    }
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its map of blocks leads to its footer"))
}

/// True where the sum of `len` bytes, without the field at `field`, is what stands there.
fn sums(walk: &mut Walk<'_>, at: u64, len: u64, field: u64) -> Step<bool> {
    let bytes = walk.bytes(at, len)?;
    let own = usize::try_from(field).unwrap_or(0);
    let counted = bytes.iter().enumerate().filter(|(index, _)| !(own..own + 4).contains(index));
    let sum = counted.fold(0u32, |sum, (_, byte)| sum.wrapping_add(u32::from(*byte)));
    Ok(!sum == walk.be32(at + field)?)
}
