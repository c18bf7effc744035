//! Cabinets: blocks of data, each with its checksum.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a cabinet.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (end, files_at) = (u64::from(walk.le32(8)?), u64::from(walk.le32(16)?));
    let (version, folders, files, flags) = (walk.array::<2>(24)?, walk.le16(26)?, walk.le16(28)?, walk.le16(30)?);
    if version != [3, 1] || folders == 0 || files == 0 || flags > 7 || files_at >= end {
        return wrong("its header is none");
    }
    walk.hold(36);
    let (mut at, mut folder_more, mut data_more) = (36, 0, 0);
    if flags & 4 != 0 {
        (folder_more, data_more) = (u64::from(walk.u8(38)?), u64::from(walk.u8(39)?));
        at += 4 + u64::from(walk.le16(36)?);
    }
    // Names of the cabinets before and after.
    for _ in 0..2 * (flags & 1) + (flags & 2) {
        at = walk.find(at, at + 256, b"\0")?.map_or_else(|| wrong("a name in it does not end"), Ok)? + 1;
    }
    let mut furthest = files_at;
    for folder in 0..u64::from(folders) {
        let own = at + folder * (8 + folder_more);
        let (mut block, count) = (u64::from(walk.le32(own)?), walk.le16(own + 4)?);
        for _ in 0..count {
            let (sum, packed) = (walk.le32(block)?, u64::from(walk.le16(block + 4)?));
            let data = block + 8 + data_more;
            walk.reaches(data + packed)?;
            if sum == 0 {
                walk.trust(packed);
            } else if checksum(&walk.bytes(block + 4, 4 + data_more + packed)?, packed) != sum {
                return wrong("the checksum of a block does not hold");
            }
            block = data + packed;
            walk.hold(block);
        }
        furthest = furthest.max(block);
    }
    if furthest > end {
        return wrong("its blocks reach behind its end");
    }
    walk.reaches(end)?;
    walk.trust(end - furthest);
    walk.hold(end);
    Ok(Read::to(end, "the checksum of every block holds"))
}

/// The checksum over a block: its data first, then its lengths (four bytes, which stand before the data here).
fn checksum(bytes: &[u8], packed: u64) -> u32 {
    let (lengths, data) = bytes.split_at(bytes.len().saturating_sub(usize::try_from(packed).unwrap_or(0)));
    fold(lengths, fold(data, 0))
}

fn fold(bytes: &[u8], seed: u32) -> u32 {
    let (words, rest) = bytes.as_chunks::<4>();
    let sum = words.iter().fold(seed, |sum, word| sum ^ u32::from_le_bytes(*word));
    // What is left counts from the highest byte down.
    sum ^ rest.iter().fold(0, |value, byte| value << 8 | u32::from(*byte))
}
