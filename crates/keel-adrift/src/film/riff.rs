//! RIFF: WAV, AVI (also of several parts) and WebP, chunk by chunk.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// The most chunks of a list that are walked one by one.
const MOST_CHUNKS: u32 = 1 << 22;

/// Walks a RIFF file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let form = walk.array::<4>(8)?;
    let suffix = match &form {
        b"WAVE" => "wav",
        b"AVI " => "avi",
        b"WEBP" => "webp",
        b"ACON" => "ani",
        b"RMID" => "rmi",
        b"sfbk" => "sf2",
        _ => return wrong("it is of a form that is not known"),
    };
    walk.name(suffix);
    let (mut at, mut facts) = (0, Facts::default());
    loop {
        let end = at + 8 + u64::from(walk.le32(at + 4)?);
        chunks(walk, at + 12, end, &mut facts)?;
        at = end + end % 2;
        if walk.reaches(at).is_err() {
            at = end;
        }
        walk.hold(at);
        // A film of more than one part goes on with another RIFF.
        let goes_on = form == *b"AVI " && walk.is(at, b"RIFF").unwrap_or(false) && walk.is(at + 8, b"AVIX").unwrap_or(false);
        if !goes_on {
            break;
        }
    }
    walk.trust(u64::MAX);
    Ok(Read::to(at, "its chunks end where it does").telling(facts))
}

fn chunks(walk: &mut Walk<'_>, from: u64, end: u64, facts: &mut Facts) -> Step<()> {
    let mut at = from;
    for _ in 0..MOST_CHUNKS {
        if at >= end {
            break;
        }
        let (name, len) = (walk.array::<4>(at)?, u64::from(walk.le32(at + 4)?));
        if !name.iter().all(|byte| (0x20..0x7F).contains(byte)) {
            return wrong("what follows is no chunk");
        }
        if name == *b"avih" {
            facts.pixels = Some((walk.le32(at + 8 + 32)?, walk.le32(at + 8 + 36)?));
        }
        if name == *b"VP8X" {
            let [a, b, c, d, e, f] = walk.array::<6>(at + 12)?;
            let of = |a: u8, b: u8, c: u8| u32::from_le_bytes([a, b, c, 0]) + 1;
            facts.pixels = Some((of(a, b, c), of(d, e, f)));
        }
        // Lists are walked from within: what they hold are chunks again.
        let is_list = name == *b"LIST";
        let next = if is_list { at + 12 } else { at + 8 + len + len % 2 };
        if next > end + 1 || (is_list && at + 8 + len > end) {
            return wrong("a chunk reaches behind its end");
        }
        walk.reaches(next.min(end))?;
        at = next;
        walk.hold(at.min(end));
    }
    if at >= end { Ok(()) } else { wrong("it has more chunks than any has") }
}
