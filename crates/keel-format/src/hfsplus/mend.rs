//! Putting the volume header back from the alternate one.

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::HfsGeometry;
use super::layout::HEADER_AT;
use crate::{Restored, View, read_bytes};

/// True when the header at `at` states `geometry`.
#[must_use]
pub fn is_stated_at(window: &SharedSource, geometry: &HfsGeometry, at: ByteOffset) -> bool {
    header_at(window, geometry, at).is_some()
}

fn header_at(window: &SharedSource, geometry: &HfsGeometry, at: ByteOffset) -> Option<Vec<u8>> {
    let bytes = read_bytes(window.as_ref(), at, 512, "volume header").ok()?;
    let found = HfsGeometry::parse(View::new("volume header", at, &bytes)).ok()?;
    found.is_same_volume(geometry).then_some(bytes)
}

/// The volume header to put back: the alternate's bytes, when the main one does not state `geometry`, the alternate
/// does, and its forks are those that the volume was read through. `window` starts at the volume's first byte.
#[must_use]
pub fn header_from_alternate(window: &SharedSource, geometry: &HfsGeometry) -> Option<Restored> {
    if is_stated_at(window, geometry, ByteOffset(HEADER_AT)) {
        return None;
    }
    let at = geometry.alternate_at();
    let bytes = header_at(window, geometry, at)?;
    let found = HfsGeometry::parse(View::new("volume header", at, &bytes)).ok()?;
    let same = found.catalog == geometry.catalog && found.extents == geometry.extents;
    same.then(|| Restored { at: ByteOffset(HEADER_AT), copy: ByteRange::sized(at, bytes.len() as u64), bytes })
}
