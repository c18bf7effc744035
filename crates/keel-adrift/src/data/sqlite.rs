//! SQLite: a header that counts its pages, and the log beside a database, whose frames carry checksums.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// Kinds of pages of a tree.
const TREE_PAGES: [u8; 4] = [2, 5, 10, 13];
/// Places at which a page is looked at.
const LOOKS: u64 = 256;

/// Walks a database.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let size = match walk.be16(16)? {
        1 => 65_536,
        size if size.is_power_of_two() && size >= 512 => u64::from(size),
        _ => return wrong("its pages have a size that cannot be"),
    };
    let [write, read, reserved, most, least, leaf] = walk.array::<6>(18)?;
    if !(1..=2).contains(&write)
        || !(1..=2).contains(&read)
        || [most, least, leaf] != [64, 32, 32]
        || u64::from(reserved) + 480 > size
    {
        return wrong("its header is none");
    }
    if !TREE_PAGES.contains(&walk.u8(100)?) {
        return wrong("its first page is none of a tree");
    }
    walk.hold(size);
    let (pages, changes, valid_for) = (u64::from(walk.be32(28)?), walk.be32(24)?, walk.be32(92)?);
    if pages == 0 || changes != valid_for {
        return wrong("it does not count its pages");
    }
    let end = pages * size;
    walk.reaches(end)?;
    // Free and overflow pages hold anything: of the others, those that a tree is made of begin as such.
    let step = pages.div_ceil(LOOKS).max(1);
    let mut trees = 0;
    for page in (1..pages).step_by(usize::try_from(step).unwrap_or(usize::MAX)) {
        trees += u64::from(TREE_PAGES.contains(&walk.u8(page * size)?));
    }
    if pages > 16 && trees == 0 {
        return wrong("none of its pages is one of a tree");
    }
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "it counts its pages"))
}

/// Walks a log to the last frame whose checksum holds.
pub(crate) fn wal(walk: &mut Walk<'_>) -> Step<Read> {
    let big_endian = walk.u8(3)? & 1 == 1;
    let (version, size, salts) = (walk.be32(4)?, u64::from(walk.be32(8)?), walk.array::<8>(16)?);
    if version != 3_007_000 || !size.is_power_of_two() || !(512..=65_536).contains(&size) {
        return wrong("its header is none");
    }
    let mut sums = (0, 0);
    checksum(&walk.bytes(0, 24)?, big_endian, &mut sums);
    if (walk.be32(24)?, walk.be32(28)?) != sums {
        return wrong("the checksum of its header does not hold");
    }
    let mut at = 32;
    walk.hold(at);
    loop {
        let end = at + 24 + size;
        let mut own = sums;
        match walk.bytes(at, 24 + size) {
            Ok(frame) => {
                checksum(frame.get(..8).unwrap_or_default(), big_endian, &mut own);
                checksum(frame.get(24..).unwrap_or_default(), big_endian, &mut own);
            }
            Err(Broken::End) => break,
            Err(broken) => return Err(broken),
        }
        // Frames of an earlier use of the log stand behind; they are no part of it.
        if walk.array::<8>(at + 8)? != salts || (walk.be32(at + 16)?, walk.be32(at + 20)?) != own {
            break;
        }
        (sums, at) = (own, end);
        walk.hold(at);
    }
    Ok(Read::to(at, "the checksum of every frame holds"))
}

fn checksum(bytes: &[u8], big_endian: bool, sums: &mut (u32, u32)) {
    for [a, b, c, d, e, f, g, h] in bytes.as_chunks::<8>().0 {
        let word = |bytes| if big_endian { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) };
        sums.0 = sums.0.wrapping_add(word([*a, *b, *c, *d])).wrapping_add(sums.1);
        sums.1 = sums.1.wrapping_add(word([*e, *f, *g, *h])).wrapping_add(sums.0);
    }
}
