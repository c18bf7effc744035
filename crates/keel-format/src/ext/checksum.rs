//! CRC-32C run backwards: the seed of metadata checksums from an inode, when the superblock that states it is gone.

use super::Inode;
use super::layout::crc32c;

/// The seed with which the checksum of `inode` holds; `None` where the inode keeps only half of a checksum.
#[must_use]
pub(super) fn solve_seed(inode: &Inode) -> Option<u32> {
    let (bytes, stored) = inode.checked_bytes()?;
    let numbers = [inode.number.to_le_bytes(), inode.raw.i_generation.get().to_le_bytes()].concat();
    Some(before(before(stored, &bytes), &numbers))
}

/// The running value before `bytes` went in, when it is `after` behind them.
fn before(after: u32, bytes: &[u8]) -> u32 {
    let table: Vec<u32> = (0..=255u8).map(|byte| crc32c(0, &[byte])).collect();
    bytes.iter().rev().fold(after, |state, byte| {
        // The top byte of the table's values is different for each index.
        let index = table.iter().position(|value| value >> 24 == state >> 24).unwrap_or(0);
        let value = table.get(index).copied().unwrap_or(0);
        let low = u32::try_from(index).unwrap_or(0) ^ u32::from(*byte);
        (state ^ value) << 8 | low
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_checksum_runs_backwards_to_its_seed() {
        for (seed, bytes) in [(0u32, &b"123456789"[..]), (u32::MAX, b""), (0xBAC0_0417, &[0; 300]), (7, &[0xFF; 5])] {
            assert_eq!(before(crc32c(seed, bytes), bytes), seed, "{seed:x}");
        }
    }
}
