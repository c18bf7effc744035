//! TrueType and OpenType fonts (ISO/IEC 14496-22): tables, each with its checksum.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a font.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (tables, range, selector) = (u64::from(walk.be16(4)?), walk.be16(6)?, walk.be16(8)?);
    let floor = u32::try_from(tables).ok().filter(|count| (4..=64).contains(count)).map(u32::ilog2);
    if floor.is_none_or(|floor| u32::from(selector) != floor || u32::from(range) != 16 << floor) {
        return wrong("its header is none");
    }
    let (mut end, mut before, mut head) = (12 + 16 * tables, [0; 4], false);
    for table in 0..tables {
        let own = 12 + 16 * table;
        let (tag, sum, from, len) =
            (walk.array::<4>(own)?, walk.be32(own + 4)?, u64::from(walk.be32(own + 8)?), u64::from(walk.be32(own + 12)?));
        if tag <= before || !tag.iter().all(|byte| (0x20..0x7F).contains(byte)) {
            return wrong("its tables are not in order");
        }
        walk.reaches(from + len)?;
        // The table with the checksum over the whole font leaves out that field.
        let skipped = (tag == *b"head").then_some(from + 8);
        head |= skipped.is_some();
        if sum_of(walk, from, from + len, skipped)? != sum {
            return wrong("the checksum of a table does not hold");
        }
        (before, end) = (tag, end.max(from + len));
    }
    if !head {
        return wrong("it has no table of what it is");
    }
    // Tables begin at multiples of four: so does what would follow the last.
    let filled = end.next_multiple_of(4);
    let end = if walk.is_blank(end, filled).unwrap_or(false) { filled } else { end };
    walk.hold(end);
    Ok(Read::to(end, "the checksum of every table holds"))
}

fn sum_of(walk: &mut Walk<'_>, from: u64, end: u64, skipped: Option<u64>) -> Step<u32> {
    let (mut sum, mut word, mut at) = (0u32, 0u32, from);
    walk.pieces(from, end, &mut |piece| {
        for byte in piece {
            let is_skipped = skipped.is_some_and(|skipped| (skipped..skipped + 4).contains(&at));
            word = word << 8 | if is_skipped { 0 } else { u32::from(*byte) };
            at += 1;
            if (at - from).is_multiple_of(4) {
                sum = sum.wrapping_add(std::mem::take(&mut word));
            }
        }
    })?;
    let rest = (end - from) % 4;
    if rest > 0 {
        sum = sum.wrapping_add(word << (8 * (4 - rest)));
    }
    Ok(sum)
}
