//! A tagged sector: it says which address it was written to, in which run, and whether it is whole.
//!
//! | bytes | meaning |
//! |---|---|
//! | 0..8 | `YKFATHOM` |
//! | 8..16 | seed of the run, little-endian |
//! | 16..24 | address in bytes, little-endian |
//! | 24.. | noise made from both |
//! | last 4 | CRC-32 of everything before |

/// First bytes of every tagged sector.
const MAGIC: &[u8; 8] = b"YKFATHOM";
/// Where the noise begins.
const NOISE: usize = 24;

/// Fills `sector` with the tag of byte address `at` in the run `seed`.
pub(crate) fn put(seed: u64, at: u64, sector: &mut [u8]) {
    let Some((body, sum)) = sector.split_last_chunk_mut::<4>() else { return };
    let Some((head, noise)) = body.split_first_chunk_mut::<NOISE>() else { return };
    head[..8].copy_from_slice(MAGIC);
    head[8..16].copy_from_slice(&seed.to_le_bytes());
    head[16..].copy_from_slice(&at.to_le_bytes());
    let mut state = seed ^ at.rotate_left(17) ^ 0x9E37_79B9_7F4A_7C15;
    for piece in noise.chunks_mut(8) {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        piece.copy_from_slice(&state.to_le_bytes()[..piece.len()]);
    }
    *sum = crc32fast::hash(body).to_le_bytes();
}

/// Fills `buf`, whole sectors from byte address `at` on, with their tags.
pub(crate) fn put_all(seed: u64, at: u64, buf: &mut [u8], sector: usize) {
    for (index, piece) in buf.chunks_exact_mut(sector).enumerate() {
        put(seed, at + (index * sector) as u64, piece);
    }
}

/// True for a sector that begins like a tag, of any run.
pub(crate) fn is_one(sector: &[u8]) -> bool {
    sector.starts_with(MAGIC)
}

/// The address that `sector` says it was written to in the run `seed`; `None` when it is no whole tag of that run.
pub(crate) fn get(seed: u64, sector: &[u8]) -> Option<u64> {
    let (body, sum) = sector.split_last_chunk::<4>()?;
    let (head, _) = body.split_first_chunk::<NOISE>()?;
    let number = |bytes: &[u8]| bytes.first_chunk::<8>().map(|bytes| u64::from_le_bytes(*bytes));
    let whole = head.starts_with(MAGIC) && number(&head[8..]) == Some(seed) && crc32fast::hash(body).to_le_bytes() == *sum;
    number(&head[16..]).filter(|_| whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_tells_its_address_and_no_damage_passes() {
        for size in [512, 4096] {
            let mut sector = vec![0; size];
            put(7, 1 << 40, &mut sector);
            assert_eq!(get(7, &sector), Some(1 << 40));
            assert_eq!(get(8, &sector), None, "another run");
            for at in (0..size).step_by(13) {
                let mut damaged = sector.clone();
                damaged[at] ^= 0x10;
                assert_eq!(get(7, &damaged), None);
            }
        }
        assert_eq!((get(7, &[]), get(7, &[0; 20])), (None, None));
    }
}
