//! ReFS: the volume boot record at the start and its copy in the last sector. Little-endian.

use super::closed::CLOSED;
use crate::kind::KindFacts;
use keel_source::{ByteOffset, Source};

use super::Known;
use crate::{View, read_bytes};

/// ReFS.
pub(crate) const FACTS: KindFacts = KindFacts { word: "ReFS", letters: "Re", ..CLOSED };

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.get(3..11) == Some(b"ReFS\0\0\0\0") && sector.get(16..20) == Some(b"FSRS")
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("ReFS boot record", at, bytes);
    let (sectors, size) = (view.u64(24, "sectors").ok()?, u64::from(view.u32(32, "bytes per sector").ok()?));
    if !matches!(size, 512 | 1024 | 2048 | 4096) || sectors >> 52 != 0 || sectors < 8 {
        return None;
    }
    let mut identifier = [0; 16];
    identifier.iter_mut().zip(bytes.get(56..64)?).for_each(|(slot, byte)| *slot = *byte);
    // The copy is told by the record a volume's length before it.
    let length = sectors * size;
    let front = at.0.checked_sub(length - size).map(ByteOffset);
    let copy = front
        .and_then(|at| read_bytes(drive, at, 64, "ReFS boot record").ok())
        .is_some_and(|found| found.get(..64) == bytes.get(..64));
    let start = if copy { front? } else { at };
    let says =
        if copy { "copy of the ReFS boot record stands in the last sector" } else { "ReFS boot record stands at the start" };
    Some(Known { start, bytes: length, label: None, identifier, main: !copy, checked: false, says: says.into() })
}
