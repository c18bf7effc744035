//! xz: a stream's footer leads back over its index to its header.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// The most records of an index.
const MOST_RECORDS: u64 = 1 << 20;

/// Walks a stream: looks for the footer that fits it.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let flags = walk.array::<2>(6)?;
    if walk.crc32(6, 8)? != walk.le32(8)? {
        return wrong("the checksum of its header does not hold");
    }
    walk.hold(12);
    let mut at = 12;
    while let Some(found) = walk.find(at, u64::MAX, b"YZ")? {
        at = found + 1;
        let end = found + 2;
        if !end.is_multiple_of(4) || end < 32 || walk.array::<2>(end - 4)? != flags {
            continue;
        }
        if walk.crc32(end - 8, end - 2)? != walk.le32(end - 12)? {
            continue;
        }
        let index = (u64::from(walk.le32(end - 8)?) + 1) * 4;
        if let Some(from) = (end - 12).checked_sub(index)
            && index_leads_back(walk, from, end - 12)?
        {
            walk.trust(u64::MAX);
            walk.hold(end);
            return Ok(Read::to(end, "its footer and its index lead back to its header"));
        }
    }
    Err(crate::walk::Broken::End)
}

/// True where the index from `from` to `end` tells of blocks that lie between the header and itself.
fn index_leads_back(walk: &mut Walk<'_>, from: u64, end: u64) -> Step<bool> {
    if walk.u8(from)? != 0 || walk.crc32(from, end - 4)? != walk.le32(end - 4)? {
        return Ok(false);
    }
    let mut at = from + 1;
    let mut number = |walk: &mut Walk<'_>| -> Step<u64> {
        let mut value = 0;
        for shift in (0..63).step_by(7) {
            let byte = walk.u8(at)?;
            at += 1;
            value |= u64::from(byte & 0x7F) << shift;
            if byte < 0x80 {
                return Ok(value);
            }
        }
        wrong("a number of its index is too long")
    };
    let count = number(walk)?;
    if count > MOST_RECORDS {
        return Ok(false);
    }
    let mut all = 12u64;
    for _ in 0..count {
        all = all.saturating_add(number(walk)?.checked_next_multiple_of(4).unwrap_or(u64::MAX));
        number(walk)?;
    }
    Ok(all == from)
}
