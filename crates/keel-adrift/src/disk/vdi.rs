//! VDI: a header, a map of blocks, and as many blocks as are used.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// Walks a disk.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (blocks_at, data_at) = (u64::from(walk.le32(0x154)?), u64::from(walk.le32(0x158)?));
    let (block, more) = (u64::from(walk.le32(0x178)?), u64::from(walk.le32(0x17C)?));
    let (blocks, used) = (u64::from(walk.le32(0x180)?), u64::from(walk.le32(0x184)?));
    if block == 0 || used > blocks || blocks_at < 0x188 || data_at < blocks_at.saturating_add(4 * blocks) {
        return wrong("its header is none");
    }
    walk.hold(data_at);
    // Each block that is used has one place of its own.
    let mut furthest = 0;
    for number in 0..blocks.min(1 << 22) {
        let place = walk.le32(blocks_at + 4 * number)?;
        if place < 0xFFFF_FFFE {
            furthest = furthest.max(u64::from(place) + 1);
        }
    }
    if furthest > used {
        return wrong("its map leads behind its blocks");
    }
    let end = used.checked_mul(block + more).and_then(|bytes| bytes.checked_add(data_at)).ok_or(Broken::End)?;
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its map of blocks leads to its end"))
}
