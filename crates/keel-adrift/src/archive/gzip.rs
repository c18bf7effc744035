//! gzip (RFC 1952): members, each with its checksum.

use super::inflate;
use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// Walks a file of one or several members.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut at, mut facts) = (0, Facts::default());
    loop {
        at = member(walk, at, &mut facts)?;
        walk.hold(at);
        if !walk.is(at, b"\x1f\x8b\x08").unwrap_or(false) {
            return Ok(Read::to(at, "it unpacks, and its checksum holds").telling(facts));
        }
    }
}

fn member(walk: &mut Walk<'_>, start: u64, facts: &mut Facts) -> Step<u64> {
    let flags = walk.u8(start + 3)?;
    if flags & 0xE0 != 0 {
        return wrong("its header is none");
    }
    let seconds = walk.le32(start + 4)?;
    if seconds > 0 && facts.made.is_none() {
        facts.made = Some(crate::date::since_1970(i64::from(seconds)));
    }
    let mut at = start + 10;
    if flags & 4 != 0 {
        at += 2 + u64::from(walk.le16(at)?);
    }
    for is_name in [true, false] {
        if flags & if is_name { 8 } else { 16 } == 0 {
            continue;
        }
        let end = walk.find(at, at + 4096, b"\0")?.map_or_else(|| wrong("its name does not end"), Ok)?;
        if is_name && facts.title.is_none() {
            facts.title = Some(String::from_utf8_lossy(&walk.bytes(at, end - at)?).into_owned());
        }
        at = end + 1;
    }
    if flags & 2 != 0 {
        at += 2;
    }
    let plain = inflate(walk, at, u64::MAX, false)?;
    let sums = (walk.le32(plain.end)?, walk.le32(plain.end + 4)?);
    if sums != (plain.crc32, (plain.bytes & 0xFFFF_FFFF) as u32) {
        return wrong("its checksum does not hold");
    }
    Ok(plain.end + 8)
}
