//! RAR, the forms of 4 and 5: headers with checksums, one behind the other.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// The most headers of an archive.
const MOST_HEADERS: u32 = 1 << 22;

/// Walks an archive.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let is_fifth = walk.is(0, b"Rar!\x1a\x07\x01\0")?;
    let mut at = if is_fifth { 8 } else { 7 };
    for _ in 0..MOST_HEADERS {
        let (end, is_last) = if is_fifth { fifth(walk, at)? } else { fourth(walk, at)? };
        walk.reaches(end)?;
        at = end;
        walk.hold(at);
        if is_last {
            walk.trust(u64::MAX);
            return Ok(Read::to(at, "the checksum of every header holds"));
        }
    }
    wrong("it has more headers than any has")
}

fn fourth(walk: &mut Walk<'_>, at: u64) -> Step<(u64, bool)> {
    let (sum, kind, flags, size) = (walk.le16(at)?, walk.u8(at + 2)?, walk.le16(at + 3)?, u64::from(walk.le16(at + 5)?));
    if !(0x72..=0x7B).contains(&kind) || size < 7 {
        return wrong("what follows is no header");
    }
    if (walk.crc32(at + 2, at + size)? & 0xFFFF) as u16 != sum {
        return wrong("the checksum of a header does not hold");
    }
    let mut end = at + size;
    if flags & 0x8000 != 0 || matches!(kind, 0x74 | 0x7A) {
        end += u64::from(walk.le32(at + 7)?);
        // The upper half of a length of 64 bits.
        if flags & 0x100 != 0 && matches!(kind, 0x74 | 0x7A) {
            end = end.checked_add(u64::from(walk.le32(at + 32)?) << 32).ok_or(Broken::End)?;
        }
    }
    Ok((end, kind == 0x7B))
}

fn fifth(walk: &mut Walk<'_>, at: u64) -> Step<(u64, bool)> {
    let sum = walk.le32(at)?;
    let mut here = at + 4;
    let size = number(walk, &mut here)?;
    let end = here.checked_add(size).ok_or(Broken::End)?;
    if size > 2 << 20 || walk.crc32(at + 4, end)? != sum {
        return wrong("the checksum of a header does not hold");
    }
    let (kind, flags) = (number(walk, &mut here)?, number(walk, &mut here)?);
    if flags & 1 != 0 {
        number(walk, &mut here)?;
    }
    let data = if flags & 2 != 0 { number(walk, &mut here)? } else { 0 };
    Ok((end.checked_add(data).ok_or(Broken::End)?, kind == 5))
}

fn number(walk: &mut Walk<'_>, at: &mut u64) -> Step<u64> {
    let mut value = 0;
    for shift in (0..63).step_by(7) {
        let byte = walk.u8(*at)?;
        *at += 1;
        value |= u64::from(byte & 0x7F) << shift;
        if byte < 0x80 {
            return Ok(value);
        }
    }
    wrong("a number in a header is too long")
}
