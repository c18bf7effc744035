//! DEX: a header with the length and a checksum over all of it.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Walks a file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (sum, end, header) = (walk.le32(8)?, u64::from(walk.le32(32)?), walk.le32(36)?);
    if header != 112 || walk.u8(7)? != 0 || end < 112 {
        return wrong("its header is none");
    }
    walk.reaches(end)?;
    // Adler-32.
    let (mut low, mut high) = (1u32, 0u32);
    walk.pieces(12, end, &mut |piece| {
        for byte in piece {
            low = (low + u32::from(*byte)) % 65_521;
            high = (high + low) % 65_521;
        }
    })?;
    if high << 16 | low != sum {
        return wrong("its checksum does not hold");
    }
    walk.hold(end);
    Ok(Read::to(end, "its checksum holds"))
}
