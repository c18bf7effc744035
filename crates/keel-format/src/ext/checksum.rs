//! CRC-32C run backwards: the seed of metadata checksums from an inode, when the superblock that states it is gone.

use std::sync::LazyLock;

use super::Inode;
use super::layout::crc32c;

/// The seed with which the checksum of `inode` holds; `None` where the inode keeps only half of a checksum.
#[must_use]
pub(super) fn solve_seed(inode: &Inode) -> Option<u32> {
    let (bytes, stored) = inode.checked_bytes()?;
    let numbers = [inode.number.to_le_bytes(), inode.raw.i_generation.get().to_le_bytes()].concat();
    Some(before(before(stored, &bytes), &numbers))
}

/// By the top byte of a value of the checksum's table: its index and the value. The top bytes are different for each index.
static BACKWARDS: LazyLock<[(u8, u32); 256]> = LazyLock::new(|| {
    let mut table = [(0, 0); 256];
    for index in 0..=255u8 {
        let value = crc32c(0, &[index]);
        table.iter_mut().skip((value >> 24) as usize).take(1).for_each(|slot| *slot = (index, value));
    }
    table
});

/// The running value before `bytes` went in, when it is `after` behind them.
pub(super) fn before(after: u32, bytes: &[u8]) -> u32 {
    bytes.iter().rev().fold(after, |state, byte| {
        let (index, value) = BACKWARDS.get((state >> 24) as usize).copied().unwrap_or_default();
        (state ^ value) << 8 | u32::from(index ^ byte)
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
