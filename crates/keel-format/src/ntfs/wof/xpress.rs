//! Plain pieces of 4, 8 or 16 KiB under one prefix code each. Source: [MS-XCA] 2.2, "LZ77+Huffman".

use super::code::{Bits, Code, repeat};

/// Symbols: bytes, and matches by the bits of their distance and a part of their length.
const SYMBOLS: usize = 512;
/// The shortest match.
const LEAST_MATCH: usize = 3;

/// Unpacks a piece into all of `out`; false for what cannot be. Bounded by the length of `out`.
pub(super) fn unpack(input: &[u8], out: &mut [u8]) -> bool {
    try_unpack(input, out).is_some()
}

fn try_unpack(input: &[u8], out: &mut [u8]) -> Option<()> {
    let (lengths, rest) = input.split_at_checked(SYMBOLS / 2)?;
    let lengths: Vec<u8> = lengths.iter().flat_map(|pair| [pair & 15, pair >> 4]).collect();
    let code = Code::new(&lengths)?;
    let mut bits = Bits::new(rest);
    let mut at = 0;
    while at < out.len() {
        // An encoder is a word ahead of its bits when it writes a byte between them.
        bits.keep_ahead();
        let symbol = code.next(&mut bits)?;
        if let Ok(byte) = u8::try_from(symbol) {
            *out.get_mut(at)? = byte;
            at += 1;
            continue;
        }
        bits.keep_ahead();
        let (distance_bits, mut length) = (u32::try_from(symbol >> 4 & 15).ok()?, symbol & 15);
        if length == 15 {
            length = usize::from(bits.byte()?);
            if length == 255 {
                length = usize::from(u16::from_le_bytes([bits.byte()?, bits.byte()?]));
                if length == 0 {
                    let word = [bits.byte()?, bits.byte()?, bits.byte()?, bits.byte()?];
                    length = usize::try_from(u32::from_le_bytes(word)).ok()?;
                }
                length = length.checked_sub(15)?;
            }
            length = length.checked_add(15)?;
        }
        let distance = (1usize << distance_bits) + bits.take(distance_bits) as usize;
        length = length.checked_add(LEAST_MATCH)?.min(out.len() - at);
        if !repeat(out, at, distance, length) {
            return None;
        }
        at += length;
    }
    Some(())
}
