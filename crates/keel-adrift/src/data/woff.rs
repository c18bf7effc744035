//! WOFF (W3C, versions 1 and 2): packed fonts.

use crate::archive::inflate;
use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Bytes of the header of version 1.
const HEADER: u64 = 44;

/// Walks a font of version 1: each table is packed with a checksum, or as it is.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (end, tables) = (u64::from(walk.be32(8)?), u64::from(walk.be16(12)?));
    if walk.be16(14)? != 0 || !(1..=256).contains(&tables) || end < HEADER + 20 * tables {
        return wrong("its header is none");
    }
    let mut furthest = HEADER + 20 * tables;
    for table in 0..tables {
        let own = HEADER + 20 * table;
        let [from, packed, plain] = [walk.be32(own + 4)?, walk.be32(own + 8)?, walk.be32(own + 12)?].map(u64::from);
        if packed > plain || from + packed > end {
            return wrong("its directory leads behind its end");
        }
        walk.reaches(from + packed)?;
        if packed < plain {
            let found = inflate(walk, from, from + packed, true)?;
            if found.bytes != plain {
                return wrong("a table of it does not unpack to its length");
            }
        } else {
            walk.trust(packed);
        }
        furthest = furthest.max(from + packed);
        walk.hold(furthest);
    }
    walk.reaches(end)?;
    walk.trust(end.saturating_sub(furthest.next_multiple_of(4)));
    walk.hold(end);
    Ok(Read::to(end, "every packed table unpacks, and its checksum holds"))
}

/// Walks a font of version 2, by the length that its header says.
pub(crate) fn two(walk: &mut Walk<'_>) -> Step<Read> {
    let (end, tables, packed) = (u64::from(walk.be32(8)?), walk.be16(12)?, u64::from(walk.be32(20)?));
    if walk.be16(14)? != 0 || !(1..=256).contains(&tables) || end < 48 + packed {
        return wrong("its header is none");
    }
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its header says so"))
}
