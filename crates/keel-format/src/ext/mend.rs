//! Putting the superblock back from one of its copies.

use keel_source::{ByteRange, SharedSource};
use zerocopy::IntoBytes;

use super::layout::{INCOMPAT_RECOVER, RawSuperblock, crc32c};
use super::{ExtGeometry, ExtVolume};
use crate::{Restored, View, read_bytes};

/// The superblock of `group` at its place, when it states `geometry`.
fn copy_of(window: &SharedSource, geometry: &ExtGeometry, group: u32) -> Option<RawSuperblock> {
    let at = geometry.superblock_at(group);
    let bytes = read_bytes(window.as_ref(), at, 1024, "superblock").ok()?;
    let view = View::new("superblock", at, &bytes);
    let (found, own) = ExtGeometry::parse(view).ok()?;
    let same = own == group
        && found.uuid == geometry.uuid
        && found.blocks == geometry.blocks
        && found.block_bytes == geometry.block_bytes;
    view.at::<RawSuperblock>(0, "superblock").ok().copied().filter(|_| same)
}

/// True when the superblock of `group` states `geometry`.
#[must_use]
pub fn is_stated_in(window: &SharedSource, geometry: &ExtGeometry, group: u32) -> bool {
    copy_of(window, geometry, group).is_some()
}

/// The superblock to put back, when the main one does not state `geometry` and a copy does: the copy's bytes with the
/// number of the first group, the flag of a journal that is not empty, and the checksum that follows. `window` starts at the volume's first byte.
#[must_use]
pub fn superblock_from_copy(window: &SharedSource, geometry: &ExtGeometry) -> Option<Restored> {
    if is_stated_in(window, geometry, 0) {
        return None;
    }
    let (group, mut raw) =
        geometry.backup_groups().into_iter().find_map(|group| Some((group, copy_of(window, geometry, group)?)))?;
    raw.s_block_group_nr.set(0);
    // A copy is older than the journal. Without this flag an operating system would empty the journal unread.
    let volume = ExtVolume::open(SharedSource::clone(window), *geometry).ok();
    if volume.is_some_and(|volume| volume.has_pending_journal()) {
        raw.s_feature_incompat.set(raw.s_feature_incompat.get() | INCOMPAT_RECOVER);
    }
    if geometry.has_checksums() {
        let sum = crc32c(u32::MAX, raw.as_bytes().get(..1020)?);
        raw.s_checksum.set(sum);
    }
    let copy = ByteRange::sized(geometry.superblock_at(group), 1024);
    Some(Restored { at: geometry.superblock_at(0), bytes: raw.as_bytes().to_vec(), copy })
}
