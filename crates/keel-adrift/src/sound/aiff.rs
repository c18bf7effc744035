//! AIFF and what else stands in a `FORM`: chunks by their lengths.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a FORM.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let end = 8 + u64::from(walk.be32(4)?);
    let kind = walk.array::<4>(8)?;
    if !matches!(&kind, b"AIFF" | b"AIFC") {
        return wrong("it is of a kind that is not known");
    }
    let (mut at, mut sound) = (12, false);
    while at < end {
        let (name, len) = (walk.array::<4>(at)?, u64::from(walk.be32(at + 4)?));
        if !name.iter().all(|byte| (0x20..0x7F).contains(byte)) {
            return wrong("what follows is no chunk");
        }
        sound |= name == *b"SSND";
        at += 8 + len + len % 2;
        walk.reaches(at.min(end))?;
        walk.hold(at.min(end));
    }
    // The byte that fills up the last chunk is not always counted.
    if !sound || at > end + 1 {
        return wrong("its chunks do not end where it does");
    }
    walk.trust(u64::MAX);
    Ok(Read::to(end, "its chunks end where it does"))
}
