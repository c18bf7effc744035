//! Locked containers: told as such. What they lock shows nothing of itself, and only some say how long they are.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

const SECTOR: u64 = 512;
const SAYS_NOTHING: &str = "it is locked, and nothing in it says how long it is";

/// LUKS (on-disk formats 1 and 2).
pub(crate) fn luks(walk: &mut Walk<'_>) -> Step<Read> {
    let head = match walk.be16(6)? {
        1 => u64::from(walk.be32(104)?) * SECTOR,
        2 => walk.be64(8)?,
        _ => return wrong("its header is none"),
    };
    walk.reaches(head)?;
    walk.hold(head);
    wrong(SAYS_NOTHING)
}

/// What OpenSSL locks with a word: a mark and a salt.
pub(crate) fn salted(walk: &mut Walk<'_>) -> Step<Read> {
    walk.reaches(32)?;
    walk.hold(16);
    wrong(SAYS_NOTHING)
}

/// age (age-encryption.org/v1): a header of text, and pieces without lengths.
pub(crate) fn age(walk: &mut Walk<'_>) -> Step<Read> {
    let Some(at) = walk.find(0, 64 << 10, b"\n--- ")? else { return wrong("its header does not end") };
    walk.hold(at + 5 + 43 + 1);
    wrong(SAYS_NOTHING)
}
