//! Matroska and WebM (RFC 8794, RFC 9559): elements by their lengths.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

const SEGMENT: u32 = 0x1853_8067;
const CLUSTER: u32 = 0x1F43_B675;
/// Elements that stand in a segment: seek head, void, info, tracks, cluster, cues, attachments, chapters, tags, CRC-32.
const INSIDE: [u32; 10] =
    [0x114D_9B74, 0xEC, 0x1549_A966, 0x1654_AE6B, CLUSTER, 0x1C53_BB6B, 0x1941_A469, 0x1043_A770, 0x1254_C367, 0xBF];
/// Elements that stand in a cluster of unknown length.
const IN_CLUSTER: [u32; 7] = [0xE7, 0xA3, 0xA0, 0xAB, 0xA7, 0xEC, 0xBF];

/// Walks a file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (_, head, len) = element(walk, 0)?;
    let len = len.filter(|len| *len < 4096).ok_or(Broken::Wrong("its head is none".into()))?;
    let header = walk.bytes(head, len)?;
    let suffix = if header.windows(4).any(|window| window == b"webm") { "webm" } else { "mkv" };
    walk.name(suffix);
    let (id, mut at, len) = element(walk, head + len)?;
    if id != SEGMENT {
        return wrong("no segment stands behind its head");
    }
    let end = len.map(|len| at.saturating_add(len));
    end.map_or(Ok(()), |end| walk.reaches(end))?;
    let mut clusters = 0;
    while end.is_none_or(|end| at < end) {
        let (id, body, len) = match element(walk, at) {
            Ok(element) if INSIDE.contains(&element.0) => element,
            // A live recording ends where nothing of it follows.
            Ok(_) | Err(Broken::End | Broken::Wrong(_)) if end.is_none() => break,
            Ok(_) => return wrong("what follows is no part of a segment"),
            Err(broken) => return Err(broken),
        };
        clusters += u32::from(id == CLUSTER);
        at = match len {
            Some(len) => body.saturating_add(len),
            None if id == CLUSTER => cluster(walk, body)?,
            None => return wrong("a part of it has no length"),
        };
        walk.reaches(at)?;
        walk.hold(at);
    }
    if clusters == 0 || end.is_some_and(|end| end != at) {
        return wrong("its parts do not end where it does");
    }
    walk.trust(u64::MAX);
    Ok(Read::to(at, "its parts lead to its end"))
}

/// The end of a cluster of unknown length.
fn cluster(walk: &mut Walk<'_>, mut at: u64) -> Step<u64> {
    while let Ok((id, body, Some(len))) = element(walk, at) {
        if !IN_CLUSTER.contains(&id) || walk.reaches(body.saturating_add(len)).is_err() {
            break;
        }
        at = body + len;
    }
    Ok(at)
}

/// Identifier, first byte of the content, and its length; none for an unknown one.
fn element(walk: &mut Walk<'_>, at: u64) -> Step<(u32, u64, Option<u64>)> {
    let first = walk.u8(at)?;
    let width = u64::from(first.leading_zeros()) + 1;
    if width > 4 {
        return wrong("what follows is no element");
    }
    let id = walk.bytes(at, width)?.iter().fold(0, |id, byte| id << 8 | u32::from(*byte));
    let at = at + width;
    let first = walk.u8(at)?;
    let width = u64::from(first.leading_zeros()) + 1;
    if width > 8 {
        return wrong("what follows is no element");
    }
    let bytes = walk.bytes(at, width)?;
    let len = bytes.iter().fold(0u64, |len, byte| len << 8 | u64::from(*byte)) & ((1u64 << (7 * width)) - 1);
    Ok((id, at + width, (len != (1u64 << (7 * width)) - 1).then_some(len)))
}
