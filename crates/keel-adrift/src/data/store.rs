//! Stores of mail and tables of offices: PST ([MS-PST]) by the length in its header, whose checksum holds; Jet databases page by page.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// Bytes of the header of a store that its first checksum is over, from byte 8 on.
const SUMMED: u64 = 471;

/// Walks a store of mail.
pub(crate) fn pst(walk: &mut Walk<'_>) -> Step<Read> {
    let (sum, version) = (walk.le32(4)?, walk.le16(10)?);
    let bytes = walk.bytes(8, SUMMED)?;
    // The polynomial of ISO 3309, without turning the bits around before and behind.
    let mut hasher = crc32fast::Hasher::new_with_initial(u32::MAX);
    hasher.update(&bytes);
    if !hasher.finalize() != sum {
        return wrong("the checksum of its header does not hold");
    }
    let end = if version >= 23 { walk.le64(184)? } else { u64::from(walk.le32(168)?) };
    walk.hold(564);
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "the checksum of its header holds, which says so"))
}

/// Walks a database: pages, each with its type, until one has none.
pub(crate) fn jet(walk: &mut Walk<'_>) -> Step<Read> {
    let page = if walk.le32(20)? == 0 { 2048 } else { 4096 };
    if walk.is(4, b"Standard ACE DB\0")? {
        walk.name("accdb");
    }
    let mut at = page;
    loop {
        match walk.array::<2>(at) {
            Ok([1..=5, 1]) => {}
            Ok(_) | Err(Broken::End) => break,
            Err(broken) => return Err(broken),
        }
        at += page;
        walk.reaches(at)?;
        walk.hold(at);
    }
    if at < 3 * page {
        return wrong("no pages follow its first one");
    }
    walk.trust(u64::MAX);
    Ok(Read::to(at, "pages with a type follow one another to its end"))
}
