//! Pieces of 32 KiB under codes that change from block to block. Source: [MS-PATCH] 2, with the windows and the blocks of pieces that
//! stand by themselves.

use super::code::{Bits, Code, repeat};

/// Bytes of a piece, and the length of a block that states none.
const PIECE: usize = 32 << 10;
/// Slots of distances in a window of a piece.
const SLOTS: usize = 30;
/// Symbols of the main code: bytes, and matches by slot and length.
const MAIN: usize = 256 + 8 * SLOTS;
/// Symbols of the code of longer lengths.
const LENGTHS: usize = 249;
/// Symbols of the code that lengths of words are written in.
const PRE: usize = 20;
/// What calls are counted from, where calls of programs were made absolute.
const CALL_RANGE: i32 = 12_000_000;
/// Bytes at the end of a piece in which no call was changed.
const CALL_TAIL: usize = 10;

/// Words of the codes of a block; those of the next are told by how they differ.
struct Lengths {
    main: [u8; MAIN],
    lengths: [u8; LENGTHS],
}

/// Unpacks a piece into all of `out`; false for what cannot be. Bounded by the length of `out`.
pub(super) fn unpack(input: &[u8], out: &mut [u8]) -> bool {
    let done = try_unpack(input, out).is_some();
    if done {
        undo_calls(out);
    }
    done
}

fn try_unpack(input: &[u8], out: &mut [u8]) -> Option<()> {
    let mut bits = Bits::new(input);
    let mut lengths = Lengths { main: [0; MAIN], lengths: [0; LENGTHS] };
    let mut recent = [1usize; 3];
    let mut at = 0;
    while at < out.len() {
        let kind = bits.take(3);
        let size = if bits.take(1) == 1 { PIECE } else { bits.take(16) as usize };
        let end = at.checked_add(size).filter(|end| size > 0 && *end <= out.len())?;
        match kind {
            1 | 2 => {
                let aligned = if kind == 2 { Some(aligned_code(&mut bits)?) } else { None };
                let (low, high) = lengths.main.split_at_mut_checked(256)?;
                read_lengths(&mut bits, low)?;
                read_lengths(&mut bits, high)?;
                read_lengths(&mut bits, &mut lengths.lengths)?;
                let codes = (Code::new(&lengths.main)?, Code::new(&lengths.lengths)?, aligned);
                while at < end {
                    at = one(&mut bits, &codes, &mut recent, (out, at, end))?;
                }
            }
            3 => {
                bits.align();
                for slot in &mut recent {
                    *slot = usize::try_from(u32::from_le_bytes(*bits.bytes(4)?.first_chunk()?)).ok()?;
                }
                out.get_mut(at..end)?.copy_from_slice(bits.bytes(size)?);
                if !size.is_multiple_of(2) {
                    bits.byte();
                }
                at = end;
            }
            _ => return None,
        }
    }
    Some(())
}

/// The code of the lowest three bits of distances.
fn aligned_code(bits: &mut Bits<'_>) -> Option<Code> {
    let lengths: Vec<u8> = (0..8).map(|_| u8::try_from(bits.take(3)).unwrap_or(0)).collect();
    Code::new(&lengths)
}

/// Lengths of words, each by how it differs from that of the same symbol in the block before.
fn read_lengths(bits: &mut Bits<'_>, lengths: &mut [u8]) -> Option<()> {
    let pre: Vec<u8> = (0..PRE).map(|_| u8::try_from(bits.take(4)).unwrap_or(0)).collect();
    let pre = Code::new(&pre)?;
    let less = |old: u8, by: usize| u8::try_from((usize::from(old) + 17 - by) % 17).ok();
    let mut at = 0;
    while at < lengths.len() {
        let (count, value) = match pre.next(bits)? {
            17 => (4 + bits.take(4), Some(0)),
            18 => (20 + bits.take(5), Some(0)),
            19 => {
                let count = 4 + bits.take(1);
                let by = pre.next(bits).filter(|by| *by < 17)?;
                (count, less(*lengths.get(at)?, by))
            }
            by => (1, less(*lengths.get(at)?, by)),
        };
        let end = (at + count as usize).min(lengths.len());
        lengths.get_mut(at..end)?.fill(value?);
        at = end;
    }
    Some(())
}

/// One byte or match; where the next one goes.
fn one(
    bits: &mut Bits<'_>,
    (main, lengths, aligned): &(Code, Code, Option<Code>),
    recent: &mut [usize; 3],
    (out, at, end): (&mut [u8], usize, usize),
) -> Option<usize> {
    let symbol = main.next(bits)?;
    if let Ok(byte) = u8::try_from(symbol) {
        *out.get_mut(at)? = byte;
        return Some(at + 1);
    }
    let (slot, short) = ((symbol - 256) >> 3, symbol & 7);
    let length = 2 + if short == 7 { 7 + lengths.next(bits)? } else { short };
    let distance = match slot {
        0 => recent[0],
        1 | 2 => {
            recent.swap(0, slot);
            recent[0]
        }
        _ => {
            let (base, extra) = slot_of(slot);
            let more = match aligned {
                Some(aligned) if extra >= 3 => ((bits.take(extra - 3) as usize) << 3) + aligned.next(bits)?,
                _ => bits.take(extra) as usize,
            };
            let distance = (base + more).checked_sub(2)?;
            *recent = [distance, recent[0], recent[1]];
            distance
        }
    };
    (length <= end - at && repeat(out, at, distance, length)).then_some(at + length)
}

/// The first formatted distance of a slot, and how many bits follow.
fn slot_of(slot: usize) -> (usize, u32) {
    if slot < 4 {
        return (slot, 0);
    }
    let extra = u32::try_from(slot / 2 - 1).unwrap_or(0);
    ((2 + slot % 2) << extra, extra)
}

/// Makes targets of calls relative again that were made absolute before packing.
fn undo_calls(out: &mut [u8]) {
    let mut at = 0;
    while at + CALL_TAIL < out.len() {
        if out.get(at) != Some(&0xE8) {
            at += 1;
            continue;
        }
        let Some(word) = out.get_mut(at + 1..).and_then(<[u8]>::first_chunk_mut::<4>) else { return };
        let (target, here) = (i32::from_le_bytes(*word), i32::try_from(at).unwrap_or(i32::MAX));
        if (0..CALL_RANGE).contains(&target) {
            *word = (target - here).to_le_bytes();
        } else if target < 0 && target >= -here {
            *word = (target + CALL_RANGE).to_le_bytes();
        }
        at += 5;
    }
}
