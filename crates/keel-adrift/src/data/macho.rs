//! Mach-O: the end of the furthest segment, table of symbols, or what commands lead to.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a program.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let [first, .., last] = walk.array::<4>(0)?;
    let (little, wide) = (first != 0xFE, first == 0xCF || last == 0xCF);
    let word = |walk: &mut Walk<'_>, at| if little { walk.le32(at) } else { walk.be32(at) }.map(u64::from);
    let long = |walk: &mut Walk<'_>, at| if little { walk.le64(at) } else { walk.be64(at) };
    let (kind, count, len) = (word(walk, 12)?, word(walk, 16)?, word(walk, 20)?);
    let head = if wide { 32 } else { 28 };
    if !(1..=12).contains(&kind) || !(1..=4096).contains(&count) || len > 1 << 20 || len < 8 * count {
        return wrong("its header is none");
    }
    let mut end = head + len;
    let mut at = head;
    for _ in 0..count {
        let (command, size) = (word(walk, at)? & 0x7FFF_FFFF, word(walk, at + 4)?);
        if size < 8 || at + size > head + len {
            return wrong("a command of it is none");
        }
        let reached = match command {
            0x01 => word(walk, at + 32)? + word(walk, at + 36)?,
            0x19 => long(walk, at + 40)?.saturating_add(long(walk, at + 48)?),
            // Symbols, and their names.
            0x02 => {
                let symbols = word(walk, at + 8)? + word(walk, at + 12)? * if wide { 16 } else { 12 };
                symbols.max(word(walk, at + 16)? + word(walk, at + 20)?)
            }
            // Signature, starts of functions, data among code, and other runs of data.
            0x1D | 0x1E | 0x26 | 0x29 | 0x2B | 0x2E | 0x33 | 0x34 => word(walk, at + 8)? + word(walk, at + 12)?,
            _ => 0,
        };
        end = end.max(reached);
        at += size;
    }
    walk.hold(head + len);
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its commands lead to its end"))
}
