//! BMP: a header whose lengths have to agree with each other.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// Walks a BMP.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (bytes, pixels_at, header) = (u64::from(walk.le32(2)?), u64::from(walk.le32(10)?), walk.le32(14)?);
    let (width, height, planes, depth, packing) = if header == 12 {
        (i32::from(walk.le16(18)?), i32::from(walk.le16(20)?), walk.le16(22)?, walk.le16(24)?, 0)
    } else {
        let signed = |value: u32| i32::from_le_bytes(value.to_le_bytes());
        (signed(walk.le32(18)?), signed(walk.le32(22)?), walk.le16(26)?, walk.le16(28)?, walk.le32(30)?)
    };
    let is_sane = width > 0 && height != 0 && planes == 1 && matches!(depth, 1 | 4 | 8 | 16 | 24 | 32) && packing <= 6;
    if !is_sane || pixels_at < 14 + u64::from(header) || pixels_at > 14 + u64::from(header) + 4 * 256 + 16 {
        return wrong("its header is none");
    }
    let row = (u64::from(width.unsigned_abs()) * u64::from(depth)).div_ceil(32) * 4;
    let plain = pixels_at + row * u64::from(height.unsigned_abs());
    let end = match packing {
        // The length is written wrong, or not at all, by some; the rows are what counts.
        0 | 3 | 6 if bytes < plain || bytes > plain + 4 => plain,
        _ => bytes,
    };
    if end <= pixels_at {
        return wrong("it holds no picture");
    }
    walk.hold(pixels_at);
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    let facts = Facts { pixels: Some((width.unsigned_abs(), height.unsigned_abs())), ..Facts::default() };
    Ok(Read::to(end, "its lengths agree with each other").telling(facts))
}
