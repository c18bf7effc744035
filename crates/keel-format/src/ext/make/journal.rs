//! An empty journal (kernel documentation, "Journal (jbd2)"): its superblock; big-endian.

/// Up to so many blocks of the volume, so many of its journal: what systems choose. A smaller volume has none.
const SIZES: &[(u64, u64)] = &[
    (32_768, 1024),
    (262_144, 4096),
    (524_288, 8192),
    (4_194_304, 16_384),
    (8_388_608, 32_768),
    (16_777_216, 65_536),
    (33_554_432, 131_072),
    (u64::MAX, 262_144),
];
/// The fewest blocks of a volume with a journal.
const LEAST: u64 = 2048;
/// Mark of every block of a journal, and kind of its superblock, version 2.
const MAGIC: u32 = 0xC03B_3998;
const SUPERBLOCK_V2: u32 = 4;

/// Blocks of the journal of a volume of `blocks` blocks.
pub(super) fn blocks(blocks: u64) -> u64 {
    if blocks < LEAST {
        return 0;
    }
    SIZES.iter().find(|(most, _)| blocks < *most).map_or(0, |(_, journal)| *journal)
}

/// The first block of an empty journal of `blocks` blocks.
pub(super) fn superblock(blocks: u64, block_bytes: u32, uuid: &[u8; 16]) -> Vec<u8> {
    let length = u32::try_from(blocks).unwrap_or(u32::MAX);
    // Header; then block size, length, first block of the log, first transaction, and no start: it is empty.
    let words = [MAGIC, SUPERBLOCK_V2, 0, block_bytes, length, 1, 1, 0, 0, 0, 0, 0];
    let mut bytes: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
    bytes.extend(uuid);
    // One volume uses it.
    bytes.extend(1u32.to_be_bytes());
    bytes.resize(block_bytes as usize, 0);
    bytes
}
