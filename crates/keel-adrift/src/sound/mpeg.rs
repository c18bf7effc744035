//! MPEG audio (ISO/IEC 11172-3, 13818-3) and ADTS: frames, one behind the other.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// Frames that have to follow one another before anything is called sound.
const LEAST_FRAMES: u32 = 16;

/// Walks an MP3 with its tags.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut at, mut facts) = (0, Facts::default());
    while walk.is(at, b"ID3")? {
        let [major, _, _, a, b, c, d] = walk.array::<7>(at + 3)?;
        if major > 4 || (a | b | c | d) & 0x80 != 0 {
            return wrong("its tag is none");
        }
        let len = [a, b, c, d].iter().fold(0, |len, byte| len << 7 | u64::from(*byte));
        if at == 0 {
            // What a tag tells is told, or is not.
            let _ = tag(walk, at + 10, at + 10 + len, major, &mut facts);
        }
        at += 10 + len;
        walk.reaches(at)?;
    }
    // Some leave a few zeros behind the tag.
    let from = (at..at + 4096).find(|at| walk.u8(*at).is_ok_and(|byte| byte != 0)).unwrap_or(at);
    let end = frames(walk, if at == 0 { 0 } else { from }, &mut |walk, at| layer(walk, at))?;
    let end = if walk.is(end, b"TAG").unwrap_or(false) && walk.reaches(end + 128).is_ok() { end + 128 } else { end };
    Ok(Read::to(end, "its frames follow one another to its end").telling(facts))
}

/// Walks an ADTS stream.
pub(crate) fn adts(walk: &mut Walk<'_>) -> Step<Read> {
    let mut shape = None;
    let end = frames(walk, 0, &mut |walk, at| {
        let [sync, second, third, fourth, fifth, sixth, _] = walk.array::<7>(at)?;
        let own = (second, third & 0xFD, fourth & 0xC0);
        if sync != 0xFF || second & 0xF6 != 0xF0 || third >> 2 & 15 > 12 || *shape.get_or_insert(own) != own {
            return wrong("what follows is no frame");
        }
        Ok(u64::from(fourth & 3) << 11 | u64::from(fifth) << 3 | u64::from(sixth >> 5))
    })?;
    Ok(Read::to(end, "its frames follow one another to its end"))
}

/// The length of the frame at a place.
type Length<'f> = &'f mut dyn FnMut(&mut Walk<'_>, u64) -> Step<u64>;

/// Goes from frame to frame; the end of the last one that is whole.
fn frames(walk: &mut Walk<'_>, first: u64, length: Length<'_>) -> Step<u64> {
    let (mut at, mut count) = (first, 0);
    let ended = loop {
        match length(walk, at) {
            Ok(len) if len >= 8 && walk.reaches(at + len).is_ok() => (at, count) = (at + len, count + 1),
            Ok(len) if len < 8 => break wrong("what follows is no frame"),
            Ok(_) => break Err(crate::walk::Broken::End),
            Err(broken) => break Err(broken),
        }
        if count >= LEAST_FRAMES {
            walk.hold(at);
        }
    };
    if count < LEAST_FRAMES {
        return ended.map(|()| at);
    }
    walk.trust(u64::MAX);
    match ended {
        Err(crate::walk::Broken::Stopped) => Err(crate::walk::Broken::Stopped),
        Err(crate::walk::Broken::Unreadable) => Err(crate::walk::Broken::Unreadable),
        _ => Ok(at),
    }
}

/// Length of the layer III frame at `at`.
fn layer(walk: &mut Walk<'_>, at: u64) -> Step<u64> {
    const FIRST: [u64; 15] = [0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320];
    const SECOND: [u64; 15] = [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160];
    let [sync, second, third, _] = walk.array::<4>(at)?;
    let (version, layer, rate, frequency) = (second >> 3 & 3, second >> 1 & 3, third >> 4, third >> 2 & 3);
    if sync != 0xFF || second >> 5 != 7 || version == 1 || layer != 1 || !(1..15).contains(&rate) || frequency == 3 {
        return wrong("what follows is no frame");
    }
    let rates = if version == 3 { FIRST } else { SECOND };
    let bits = rates.get(usize::from(rate)).copied().unwrap_or(0) * 1000;
    let hertz = [44_100u64, 48_000, 32_000].get(usize::from(frequency)).copied().unwrap_or(44_100)
        >> match version {
            3 => 0,
            2 => 1,
            _ => 2,
        };
    let samples = if version == 3 { 144 } else { 72 };
    Ok(samples * bits / hertz + u64::from(third >> 1 & 1))
}

/// Title and artist of an ID3 tag, version 2.3 or 2.4.
fn tag(walk: &mut Walk<'_>, at: u64, end: u64, major: u8, facts: &mut Facts) -> Step<()> {
    let mut at = at;
    while major >= 3 && at + 10 < end {
        let (name, len) = (walk.array::<4>(at)?, walk.array::<4>(at + 4)?);
        let shift = if major == 4 { 7 } else { 8 };
        let len = len.iter().fold(0u64, |all, byte| all << shift | u64::from(*byte));
        if name[0] == 0 || len == 0 || at + 10 + len > end {
            break;
        }
        if matches!(&name, b"TIT2" | b"TPE1") && len < 1024 {
            let bytes = walk.bytes(at + 10, len)?;
            let text = match bytes.split_first() {
                Some((0, text)) => text.iter().map(|byte| char::from(*byte)).collect(),
                Some((1, text)) => {
                    let units: Vec<u16> = text.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
                    String::from_utf16_lossy(&units).trim_start_matches('\u{feff}').to_string()
                }
                Some((_, text)) => String::from_utf8_lossy(text).into_owned(),
                None => String::new(),
            };
            let text = Some(text.trim_end_matches('\0').to_string()).filter(|text| !text.is_empty());
            if name == *b"TIT2" { facts.title = text } else { facts.by = text }
        }
        at += 10 + len;
    }
    Ok(())
}
