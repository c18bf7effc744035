//! PE: the end of the furthest section, and of the certificates behind.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a program.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let head = u64::from(walk.le32(60)?);
    if !walk.is(head, b"PE\0\0")? {
        return wrong("no header of a program stands where it says");
    }
    let (sections, optional, flags) = (u64::from(walk.le16(head + 6)?), u64::from(walk.le16(head + 20)?), walk.le16(head + 22)?);
    let wide = match walk.le16(head + 24)? {
        0x10B => false,
        0x20B => true,
        _ => return wrong("its header is none"),
    };
    if sections == 0 || sections > 96 {
        return wrong("it has no sections");
    }
    let table = head + 24 + optional;
    walk.hold(table + 40 * sections);
    let mut end = table + 40 * sections;
    for section in 0..sections {
        let own = table + 40 * section;
        let (len, from) = (u64::from(walk.le32(own + 16)?), u64::from(walk.le32(own + 20)?));
        if len > 0 {
            end = end.max(from + len);
        }
    }
    let directories = head + 24 + if wide { 112 } else { 96 };
    if walk.le32(directories - 4)? > 4 {
        let (from, len) = (u64::from(walk.le32(directories + 32)?), u64::from(walk.le32(directories + 36)?));
        if from > 0 && from + len <= walk.len() && from >= end {
            end = from + len;
        }
    }
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its sections lead to its end").named(if flags & 0x2000 != 0 { "dll" } else { "exe" }))
}
