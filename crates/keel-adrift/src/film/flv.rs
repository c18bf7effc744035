//! FLV: tags, each with the length of the one before.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// Walks a file to the first thing that is no tag.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let mut at = u64::from(walk.be32(5)?);
    if at != 9 || walk.be32(at)? != 0 {
        return wrong("its header is none");
    }
    at += 4;
    let mut tags = 0;
    loop {
        let [kind, a, b, c] = match walk.array::<4>(at) {
            Ok(head) => head,
            Err(Broken::End) if tags > 2 => break,
            Err(broken) => return Err(broken),
        };
        let len = 11 + u64::from(u32::from_be_bytes([0, a, b, c]));
        if !matches!(kind, 8 | 9 | 18) || walk.be32(at + len).ok().map(u64::from) != Some(len) {
            break;
        }
        at += len + 4;
        tags += 1;
        walk.hold(at);
    }
    if tags < 3 {
        return wrong("too few tags follow one another");
    }
    walk.trust(u64::MAX);
    Ok(Read::to(at, "its tags follow one another to its end"))
}
