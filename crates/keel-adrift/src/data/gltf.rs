//! glTF 2.0, binary (ISO/IEC 12113): chunks up to the length of the whole.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a model.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (version, end) = (walk.le32(4)?, u64::from(walk.le32(8)?));
    if version != 2 || end < 20 || !walk.is(16, b"JSON")? {
        return wrong("its header is none");
    }
    walk.hold(20);
    walk.reaches(end)?;
    let mut at = 12;
    while at < end {
        let len = u64::from(walk.le32(at)?);
        at += 8 + len;
        if at > end {
            return wrong("a chunk of it reaches behind its end");
        }
        walk.hold(at);
    }
    walk.trust(u64::MAX);
    Ok(Read::to(end, "its chunks lead to its end"))
}
