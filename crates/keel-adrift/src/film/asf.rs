//! ASF (and WMV, WMA): objects by their lengths.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// The most objects of a file.
const MOST_OBJECTS: u32 = 1000;
/// Identifiers of objects: data, index, simple index, media index, timecode index.
const KNOWN: [[u8; 4]; 5] = [
    [0x36, 0x26, 0xB2, 0x75],
    [0xD3, 0x29, 0xE2, 0xD6],
    [0x90, 0x08, 0x00, 0x33],
    [0xF8, 0x03, 0xB1, 0xFE],
    [0xD0, 0x3F, 0xB7, 0x3C],
];
/// The object that says how long the file is.
const FILE_PROPERTIES: [u8; 4] = [0xA1, 0xDC, 0xAB, 0x8C];
/// Type of a stream of moving pictures.
const VIDEO: [u8; 4] = [0xC0, 0xEF, 0x19, 0xBC];

/// Walks a file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let header = walk.le64(16)?;
    if header > 16 << 20 {
        return wrong("its header is none");
    }
    walk.reaches(header)?;
    let (mut at, mut stated, mut film) = (30, None, false);
    while at + 24 <= header {
        let (id, len) = (walk.array::<4>(at)?, walk.le64(at + 16)?);
        if len < 24 || at.saturating_add(len) > header {
            return wrong("an object of its header is none");
        }
        if id == FILE_PROPERTIES {
            stated = Some(walk.le64(at + 40)?);
        }
        film |= len >= 40 && walk.array::<4>(at + 24)? == VIDEO;
        at += len;
    }
    at = header;
    walk.hold(at);
    for _ in 0..MOST_OBJECTS {
        let Ok(id) = walk.array::<4>(at) else { break };
        let Some(len) = KNOWN.iter().any(|known| id.starts_with(known)).then(|| walk.le64(at + 16)).transpose()? else { break };
        if len < 24 {
            return wrong("one of its objects is none");
        }
        walk.reaches(at.saturating_add(len))?;
        at += len;
        walk.hold(at);
    }
    if stated.is_some_and(|stated| stated != at && stated > 0) {
        return wrong("its objects do not end where it says");
    }
    walk.trust(u64::MAX);
    Ok(Read::to(at, "its objects lead to its end").named(if film { "wmv" } else { "wma" }))
}
