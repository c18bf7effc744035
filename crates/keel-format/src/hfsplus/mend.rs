//! Putting the volume header back from the alternate one.

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::layout::{HEADER_AT, RawHeader};
use super::{HfsGeometry, HfsVolume};
use crate::{Restored, View, read_bytes};
use zerocopy::{FromBytes, IntoBytes};

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
/// does, and its forks are those that the volume was read through; `nextCatalogID` behind every number in use. `window` starts at the volume's first byte.
#[must_use]
pub fn header_from_alternate(window: &SharedSource, geometry: &HfsGeometry) -> Option<Restored> {
    if is_stated_at(window, geometry, ByteOffset(HEADER_AT)) {
        return None;
    }
    let at = geometry.alternate_at();
    let bytes = header_at(window, geometry, at)?;
    let found = HfsGeometry::parse(View::new("volume header", at, &bytes)).ok()?;
    if found.catalog != geometry.catalog || found.extents != geometry.extents {
        return None;
    }
    // The alternate is older than the catalog: numbers in use must not be given out again.
    let highest = HfsVolume::open(SharedSource::clone(window), *geometry).ok()?.highest_id().ok()?;
    let mut raw = RawHeader::read_from_bytes(&bytes).ok()?;
    raw.next_catalog_id.set(raw.next_catalog_id.get().max(highest.checked_add(1)?));
    let copy = ByteRange::sized(at, bytes.len() as u64);
    Some(Restored { at: ByteOffset(HEADER_AT), bytes: raw.as_bytes().to_vec(), copy })
}
