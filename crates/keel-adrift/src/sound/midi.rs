//! Standard MIDI files: tracks, every event of which is followed.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a MIDI file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (form, tracks) = (walk.be16(8)?, walk.be16(10)?);
    if form > 2 || tracks == 0 {
        return wrong("its header is none");
    }
    let mut at = 14;
    walk.hold(at);
    for _ in 0..tracks {
        if !walk.is(at, b"MTrk")? {
            return wrong("a track is missing");
        }
        let end = at + 8 + u64::from(walk.be32(at + 4)?);
        walk.reaches(end)?;
        track(walk, at + 8, end)?;
        at = end;
        walk.hold(at);
    }
    // An event is a few bytes of which nearly any value may be one.
    walk.trust(u64::MAX);
    Ok(Read::to(at, "every event of its tracks is one"))
}

fn number(walk: &mut Walk<'_>, at: &mut u64) -> Step<u64> {
    let mut value = 0;
    for _ in 0..4 {
        let byte = walk.u8(*at)?;
        *at += 1;
        value = value << 7 | u64::from(byte & 0x7F);
        if byte < 0x80 {
            return Ok(value);
        }
    }
    wrong("a length in it is too long")
}

fn track(walk: &mut Walk<'_>, mut at: u64, end: u64) -> Step<()> {
    let mut status = 0;
    while at < end {
        number(walk, &mut at)?;
        let byte = walk.u8(at)?;
        if byte >= 0x80 {
            status = byte;
            at += 1;
        }
        match status {
            0xFF => {
                let kind = walk.u8(at)?;
                at += 1;
                at += number(walk, &mut at)?;
                if kind == 0x2F {
                    return if at == end { Ok(()) } else { wrong("a track ends before its length") };
                }
            }
            0xF0 | 0xF7 => at += number(walk, &mut at)?,
            0x80..=0xBF | 0xE0..=0xEF => at += 2,
            0xC0..=0xDF => at += 1,
            _ => return wrong("an event of a track is none"),
        }
    }
    wrong("a track does not end")
}
