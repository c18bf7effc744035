//! What the tests of all kinds share.

use keel_source::{ByteOffset, Cancel, MemorySource};

use crate::{Judged, KindId, judge};

/// The verdict on `bytes` as a file of the kind, on ground with `behind` behind it.
pub(crate) fn judged(word: &str, bytes: &[u8], behind: &[u8]) -> Option<Judged> {
    let all = [bytes, behind].concat();
    let len = all.len() as u64;
    let source = MemorySource::new("ground", all, 512);
    judge(&source, KindId::named(word)?.kind(), ByteOffset(0), ByteOffset(len), &Cancel::default())
}
