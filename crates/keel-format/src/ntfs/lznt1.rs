//! LZNT1, the compression of NTFS streams. Source: [MS-XCA] §2.5.

use crate::{FormatError, Problem, View};

/// Bytes of one chunk.
const CHUNK: usize = 4096;

/// Unpacks `input` into `out`, which is one compression unit long; what the input does not fill is zero. Bounded by
/// the length of `out`.
///
/// # Errors
/// [`FormatError`] for a token that points before the chunk, or a chunk that is cut off.
pub(crate) fn unpack(input: View<'_>, out: &mut [u8]) -> Result<(), FormatError> {
    out.fill(0);
    let mut offset = 0;
    for chunk in out.chunks_mut(CHUNK) {
        let Ok(header) = input.u16(offset, "chunk header") else { return Ok(()) };
        if header == 0 {
            return Ok(());
        }
        let length = usize::from(header & 0x0FFF) + 1;
        let body = input.slice(offset + 2, length, "chunk")?;
        if header & 0x8000 == 0 {
            for (slot, byte) in chunk.iter_mut().zip(body) {
                *slot = *byte;
            }
        } else if !unpack_chunk(body, chunk) {
            return Err(input.error(offset, Problem::Coding("a compressed chunk points before its own start")));
        }
        offset += 2 + length;
    }
    Ok(())
}

/// One chunk; false for a token that cannot be. Writes only inside `out`.
fn unpack_chunk(body: &[u8], out: &mut [u8]) -> bool {
    let mut input = body.iter().copied();
    let mut at = 0usize;
    while let Some(flags) = input.next() {
        for bit in 0..8 {
            if at >= out.len() {
                return true;
            }
            if flags >> bit & 1 == 0 {
                let Some(byte) = input.next() else { return true };
                if let Some(slot) = out.get_mut(at) {
                    *slot = byte;
                }
                at += 1;
                continue;
            }
            let (Some(low), Some(high)) = (input.next(), input.next()) else { return true };
            let token = usize::from(u16::from_le_bytes([low, high]));
            // The split of the token moves as the chunk fills: 4 bits of offset for the first 16 bytes, then more.
            let offset_bits = (usize::BITS - at.saturating_sub(1).leading_zeros()).max(4);
            let length_bits = 16 - offset_bits.min(12);
            let distance = (token >> length_bits) + 1;
            let length = (token & ((1 << length_bits) - 1)) + 3;
            let Some(from) = at.checked_sub(distance) else { return false };
            for step in 0..length {
                let Some(byte) = out.get(from + step).copied() else { break };
                let Some(slot) = out.get_mut(at) else { break };
                *slot = byte;
                at += 1;
            }
        }
    }
    true
}
