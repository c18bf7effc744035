//! PNG (ISO/IEC 15948): chunks, each with its CRC.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// Bytes before the first chunk.
const SIGNATURE: u64 = 8;
/// Bytes of a chunk beside its data: length, type, CRC.
const AROUND: u64 = 12;

/// Types of what follows a chunk.
const FOLLOWING: &[&[u8]] = &[b"IDAT", b"IEND", b"tEXt", b"iTXt", b"zTXt", b"tIME", b"eXIf"];

/// Walks a PNG.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut at, mut facts, mut data) = (SIGNATURE, Facts::default(), false);
    loop {
        let (len, kind) = (u64::from(walk.be32(at)?), walk.array::<4>(at + 4)?);
        if len > 0x7FFF_FFFF || !kind.iter().all(u8::is_ascii_alphabetic) {
            return wrong("what follows is no chunk");
        }
        let end = at + AROUND + len;
        if kind != *b"IEND" {
            walk.expect(end + 4, FOLLOWING);
        }
        walk.reaches(end)?;
        if walk.crc32(at + 4, end - 4)? != walk.be32(end - 4)? {
            return wrong("the checksum of a chunk does not hold");
        }
        match &kind {
            b"IHDR" if at == SIGNATURE && len == 13 => facts.pixels = Some((walk.be32(at + 8)?, walk.be32(at + 12)?)),
            _ if at == SIGNATURE => return wrong("it does not begin with its header"),
            b"tEXt" => text(walk, at + 8, len, &mut facts)?,
            b"tIME" if len == 7 => {
                let [a, b, month, day, hour, minute, second] = walk.array::<7>(at + 8)?;
                let year = u16::from_be_bytes([a, b]);
                facts.made = Some(format!("{year:04}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}"));
            }
            b"IDAT" => data = true,
            _ => {}
        }
        walk.hold(end);
        if kind == *b"IEND" {
            return if data {
                Ok(Read::to(end, "the checksum of every chunk holds").telling(facts))
            } else {
                wrong("it holds no picture")
            };
        }
        at = end;
    }
}

fn text(walk: &mut Walk<'_>, at: u64, len: u64, facts: &mut Facts) -> Step<()> {
    if len > 4096 {
        return Ok(());
    }
    let bytes = walk.bytes(at, len)?;
    let (key, value) = bytes.split_at(bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len()));
    // Latin-1: each byte is the sign of its number.
    let value: String = value.iter().skip(1).map(|byte| char::from(*byte)).collect();
    match key {
        b"Title" => facts.title = Some(value),
        b"Author" => facts.by = Some(value),
        _ => {}
    }
    Ok(())
}
