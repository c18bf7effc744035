//! ISO 9660: the primary volume descriptor, 16 sectors of 2048 bytes into the volume. Source: ECMA-119.

use keel_source::{ByteOffset, Source};

use super::{Known, sixteen, text};
use crate::View;

/// Bytes from the volume's start to the descriptor.
const BEFORE: u64 = 32_768;

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(b"\x01CD001\x01")
}

pub(super) fn read(_drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("primary volume descriptor", at, bytes);
    // Both byte orders are kept and must agree.
    let blocks = view.u32(80, "Volume Space Size").ok()?;
    let size = view.u16(128, "Logical Block Size").ok()?;
    let agree = view.u32(84, "Volume Space Size").ok()?.swap_bytes() == blocks
        && view.u16(130, "Logical Block Size").ok()?.swap_bytes() == size;
    if !agree || blocks == 0 || !matches!(size, 512 | 1024 | 2048) {
        return None;
    }
    let says =
        "ISO 9660 primary volume descriptor stands 32 KiB into the volume, both byte orders of its sizes agree".to_string();
    let start = ByteOffset(at.0.checked_sub(BEFORE)?);
    let identifier = sixteen(bytes, 813);
    Some(Known {
        start,
        bytes: u64::from(blocks) * u64::from(size),
        label: text(bytes.get(40..72)?),
        identifier,
        main: true,
        checked: false,
        says,
    })
}
