//! ELF: the end of the furthest segment, section or table.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a program.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let [class, order, version] = walk.array::<3>(4)?;
    let wide = class == 2;
    if !(1..=2).contains(&class) || !(1..=2).contains(&order) || version != 1 {
        return wrong("its header is none");
    }
    let little = order == 1;
    let half = |walk: &mut Walk<'_>, at| if little { walk.le16(at) } else { walk.be16(at) }.map(u64::from);
    let word = |walk: &mut Walk<'_>, at| if little { walk.le32(at) } else { walk.be32(at) }.map(u64::from);
    let long = |walk: &mut Walk<'_>, at| match (wide, little) {
        (true, true) => walk.le64(at),
        (true, false) => walk.be64(at),
        (false, _) => word(walk, at),
    };
    let (segments, sections) = (long(walk, if wide { 32 } else { 28 })?, long(walk, if wide { 40 } else { 32 })?);
    let tail = if wide { 54 } else { 42 };
    let (segment_size, segment_count) = (half(walk, tail)?, half(walk, tail + 2)?);
    let (section_size, section_count) = (half(walk, tail + 4)?, half(walk, tail + 6)?);
    if segment_count + section_count == 0 || segments.max(sections) > walk.len() {
        return wrong("its header leads nowhere");
    }
    let mut end = (sections + section_size * section_count).max(segments + segment_size * segment_count);
    for index in 0..segment_count {
        let at = segments + index * segment_size;
        let (from, len) = (long(walk, at + if wide { 8 } else { 4 })?, long(walk, at + if wide { 32 } else { 16 })?);
        end = end.max(from.saturating_add(len));
    }
    for index in 0..section_count {
        let at = sections + index * section_size;
        let (kind, from, len) =
            (word(walk, at + 4)?, long(walk, at + if wide { 24 } else { 16 })?, long(walk, at + if wide { 32 } else { 20 })?);
        // What has no bytes in the file counts with none.
        if kind != 8 && kind != 0 {
            end = end.max(from.saturating_add(len));
        }
    }
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its tables lead to its end"))
}
