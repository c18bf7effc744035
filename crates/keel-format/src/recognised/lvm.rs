//! LVM2: the label of a physical volume, in one of its first four sectors. Little-endian.

use super::closed::CLOSED;
use crate::kind::{Holds, KindFacts, MbrTypes};
use crate::table::gpt::{LINUX, LINUX_LVM};
use keel_source::{ByteOffset, Source};

use super::{Known, from_hex_text};
use crate::View;

/// What the label's checksum starts from.
const INITIAL: u32 = 0xF597_A6CF;

/// An LVM2 physical volume.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "LVM2",
    letters: "LV",
    gpt: (LINUX_LVM, &[LINUX.0]),
    mbr: MbrTypes::new(0x8E, &[0x83]),
    closed: Some("a physical volume holds pieces of logical volumes, which its group puts together"),
    holds: Holds::Volumes,
    make: None,
    resize: None,
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(b"LABELONE") && sector.get(24..32) == Some(b"LVM2 001")
}

pub(super) fn read(_drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("LVM label", at, bytes);
    let sector = view.u64(8, "sector_xl").ok().filter(|sector| *sector < 4)?;
    let header = usize::try_from(view.u32(20, "offset_xl").ok()?).ok().filter(|offset| (32..=440).contains(offset))?;
    let length = view.u64(header + 32, "device_size_xl").ok()?;
    let mut hasher = crc32fast::Hasher::new_with_initial(!INITIAL);
    hasher.update(bytes.get(20..512)?);
    let checked = !hasher.finalize() == view.u32(16, "crc_xl").ok()?;
    let start = at.0.checked_sub(sector * 512)?;
    if length == 0 || length >> 60 != 0 {
        return None;
    }
    // The identifier is 32 letters and digits: its digits tell two volumes apart well enough.
    let identifier = from_hex_text(view.slice(header, 32, "pv_uuid").ok()?);
    let says = format!("LVM2 label stands in sector {sector} of the physical volume");
    Some(Known { start: ByteOffset(start), bytes: length, label: None, identifier, main: true, checked, says })
}
