//! Zstandard (RFC 8878): frames and their blocks by their lengths.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a file of one or several frames.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let mut at = 0;
    loop {
        at = frame(walk, at)?;
        walk.hold(at);
        match walk.le32(at) {
            Ok(0xFD2F_B528) => {}
            Ok(mark) if mark & 0xFFFF_FFF0 == 0x184D_2A50 => {
                at += 8 + u64::from(walk.le32(at + 4)?);
                walk.reaches(at)?;
            }
            _ => break,
        }
    }
    walk.trust(u64::MAX);
    Ok(Read::to(at, "its blocks lead to its end"))
}

fn frame(walk: &mut Walk<'_>, start: u64) -> Step<u64> {
    if walk.le32(start)? != 0xFD2F_B528 {
        return wrong("what follows is no frame");
    }
    let shape = walk.u8(start + 4)?;
    let (single, summed) = (shape & 0x20 != 0, shape & 4 != 0);
    if shape & 8 != 0 {
        return wrong("its header is none");
    }
    let dictionary = [0, 1, 2, 4].get(usize::from(shape & 3)).copied().unwrap_or(0);
    let size = match shape >> 6 {
        0 => u64::from(single),
        code => 1 << code,
    };
    let mut at = start + 5 + u64::from(!single) + dictionary + size;
    loop {
        let [a, b, c] = walk.array::<3>(at)?;
        let head = u32::from_le_bytes([a, b, c, 0]);
        let (last, kind, len) = (head & 1 == 1, head >> 1 & 3, u64::from(head >> 3));
        if kind == 3 || (kind != 1 && len > 128 << 10) {
            return wrong("a block of it is none");
        }
        at += 3 + if kind == 1 { 1 } else { len };
        walk.reaches(at)?;
        walk.hold(at);
        if last {
            break;
        }
    }
    let end = at + if summed { 4 } else { 0 };
    walk.reaches(end)?;
    Ok(end)
}
