//! FLAC (RFC 9639): blocks, and frames of which each has its CRC.

use crate::judged::{Facts, Read};
use crate::walk::{Broken, Step, Walk, wrong};

/// The longest frame.
const MOST_FRAME: u64 = 16 << 20;

/// CRC-16 with the polynomial 0x8005.
const CRC16: [u16; 256] = {
    let (mut table, mut index) = ([0u16; 256], 0);
    while index < 256 {
        let (mut value, mut bit) = ((index as u16) << 8, 0);
        while bit < 8 {
            value = if value >> 15 == 1 { value << 1 ^ 0x8005 } else { value << 1 };
            bit += 1;
        }
        table[index] = value;
        index += 1;
    }
    table
};

/// Walks a FLAC file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut at, mut facts, mut samples) = (4, Facts::default(), 0);
    loop {
        let head = walk.be32(at)?;
        let (kind, len) = (head >> 24 & 0x7F, u64::from(head & 0xFF_FFFF));
        if (at == 4) != (kind == 0) || kind > 6 {
            return wrong("one of its blocks is none");
        }
        let end = at + 4 + len;
        walk.reaches(end)?;
        match kind {
            0 if len == 34 => samples = walk.be64(at + 4 + 10)? & 0xF_FFFF_FFFF,
            0 => return wrong("its header is none"),
            4 => {
                comments(walk, at + 4, end, &mut facts);
                walk.trust(len);
            }
            1 if walk.is_blank(at + 4, end)? => {}
            _ => walk.trust(len),
        }
        at = end;
        walk.hold(at);
        if head >> 31 == 1 {
            break;
        }
    }
    let end = frames(walk, at, samples)?;
    Ok(Read::to(end, "the checksum of every frame holds").telling(facts))
}

/// Goes from frame to frame; the end of the last one.
fn frames(walk: &mut Walk<'_>, first: u64, samples: u64) -> Step<u64> {
    let (mut at, mut done) = (first, 0);
    let mut count = header(walk, at)?.ok_or(Broken::Wrong("no frame stands behind its blocks".into()))?;
    loop {
        let total = if samples > 0 { Some(samples) } else { None };
        let is_last = total.is_some_and(|total| done + count >= total);
        let (end, next) = frame_end(walk, at, is_last || total.is_none())?;
        done += count;
        at = end;
        walk.hold(at);
        match next {
            Some(next) if total.is_none_or(|total| done < total) => count = next,
            _ => return Ok(at),
        }
    }
}

/// The end of the frame at `at`: where its CRC comes to nothing and another frame begins, with the samples of that one, or, where it `may_be_last`,
/// where none does.
fn frame_end(walk: &mut Walk<'_>, at: u64, may_be_last: bool) -> Step<(u64, Option<u64>)> {
    let (mut sum, mut here, mut last) = (0u16, at, None);
    let mut buf = [0; 4096];
    while here - at < MOST_FRAME {
        let len = usize::try_from(walk.len() - here).unwrap_or(buf.len()).min(buf.len());
        if len == 0 {
            break;
        }
        let piece = buf.get_mut(..len).unwrap_or_default();
        if let Err(broken) = walk.fill(here, piece) {
            return last.map_or(Err(broken), |end| Ok((end, None)));
        }
        for (index, byte) in piece.iter().enumerate() {
            let turn = (sum >> 8) as u8 ^ byte;
            sum = sum << 8 ^ CRC16.get(usize::from(turn)).copied().unwrap_or(0);
            let end = here + index as u64 + 1;
            if sum != 0 || end - at < 10 {
                continue;
            }
            match header(walk, end) {
                Ok(Some(count)) => return Ok((end, Some(count))),
                _ if may_be_last && last.is_none() => return Ok((end, None)),
                _ => last = last.or(Some(end)),
            }
        }
        here += len as u64;
    }
    wrong("a frame of it does not end")
}

/// Samples of the frame whose header stands at `at`; none where there is none.
fn header(walk: &mut Walk<'_>, at: u64) -> Step<Option<u64>> {
    if at.checked_add(17).is_none_or(|end| end > walk.len()) {
        return Ok(None);
    }
    let bytes = walk.array::<17>(at)?;
    let [sync, second, sizes, shape, number, ..] = bytes;
    if sync != 0xFF || second & 0xFE != 0xF8 || shape & 1 != 0 || shape >> 4 > 10 || sizes >> 4 == 0 || sizes & 15 == 15 {
        return Ok(None);
    }
    // The number is coded as UTF-8 codes signs.
    let mut len = 4 + match number.leading_ones() {
        0 => 1,
        1 | 8 => return Ok(None),
        ones => ones as usize,
    };
    let byte = |at: usize| u64::from(bytes.get(at).copied().unwrap_or(0));
    let count = match sizes >> 4 {
        1 => 192,
        code @ 2..=5 => 576 << (code - 2),
        6 => {
            len += 1;
            byte(len - 1) + 1
        }
        7 => {
            len += 2;
            (byte(len - 2) << 8 | byte(len - 1)) + 1
        }
        code => 256 << (code - 8),
    };
    len += match sizes & 15 {
        12 => 1,
        13 | 14 => 2,
        _ => 0,
    };
    let sum = bytes
        .get(..len)
        .unwrap_or_default()
        .iter()
        .fold(0u8, |sum, byte| (0..8).fold(sum ^ byte, |sum, _| if sum >> 7 == 1 { sum << 1 ^ 7 } else { sum << 1 }));
    Ok((byte(len) == u64::from(sum)).then_some(count))
}

/// Title and artist.
fn comments(walk: &mut Walk<'_>, at: u64, end: u64, facts: &mut Facts) {
    let _ = (|| -> Step<()> {
        let mut at = at + 4 + u64::from(walk.le32(at)?);
        let count = walk.le32(at)?.min(256);
        at += 4;
        for _ in 0..count {
            let len = u64::from(walk.le32(at)?);
            if at + 4 + len > end {
                break;
            }
            if len < 1024 {
                let bytes = walk.bytes(at + 4, len)?;
                let text = String::from_utf8_lossy(&bytes);
                match text.split_once('=') {
                    Some((key, value)) if key.eq_ignore_ascii_case("title") => facts.title = Some(value.into()),
                    Some((key, value)) if key.eq_ignore_ascii_case("artist") => facts.by = Some(value.into()),
                    _ => {}
                }
            }
            at += 4 + len;
        }
        Ok(())
    })();
}
