//! 7z: a header that says where the one at the end stands, both with checksums.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// Bytes of the first header.
const HEADER: u64 = 32;

/// Walks an archive.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    if walk.crc32(12, HEADER)? != walk.le32(8)? {
        return wrong("the checksum of its header does not hold");
    }
    let (offset, len, sum) = (walk.le64(12)?, walk.le64(20)?, walk.le32(28)?);
    let from = HEADER.checked_add(offset).ok_or(Broken::End)?;
    let end = from.checked_add(len).ok_or(Broken::End)?;
    walk.hold(HEADER);
    walk.reaches(end)?;
    if walk.crc32(from, end)? != sum {
        return wrong("the checksum of its directory does not hold");
    }
    walk.trust(offset);
    walk.hold(end);
    Ok(Read::to(end, "the checksums of its header and its directory hold"))
}
