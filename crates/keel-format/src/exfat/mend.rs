//! Rebuilding the boot region of an exFAT volume from its backup.

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::ExFatGeometry;
use super::layout::{REGION_SECTORS, boot_checksum};
use crate::{Restored, View, read_bytes};

/// True when the boot region at `at` states `geometry` and its checksum holds.
#[must_use]
pub fn region_holds(window: &SharedSource, geometry: &ExFatGeometry, at: ByteOffset) -> bool {
    region(window, geometry, at).is_some()
}

fn region(window: &SharedSource, geometry: &ExFatGeometry, at: ByteOffset) -> Option<Vec<u8>> {
    let size = geometry.bytes_per_sector as usize;
    let bytes = read_bytes(window.as_ref(), at, size * usize::try_from(REGION_SECTORS).ok()?, "boot region").ok()?;
    let (counted, sums) = bytes.split_at_checked(size * 11)?;
    let states = bytes.get(510..512) == Some(&[0x55, 0xAA])
        && ExFatGeometry::parse(View::new("exFAT boot sector", at, &bytes)).is_ok_and(|found| found == *geometry);
    let sum = boot_checksum(counted).to_le_bytes();
    (states && sums.as_chunks::<4>().0.iter().all(|stored| *stored == sum)).then_some(bytes)
}

/// The boot region to put back: the backup's twelve sectors, when the main region does not state `geometry` or its
/// checksum does not hold, and the backup's does. `window` starts at the volume's first byte.
#[must_use]
pub fn boot_from_backup(window: &SharedSource, geometry: &ExFatGeometry) -> Option<Restored> {
    if region_holds(window, geometry, ByteOffset(0)) {
        return None;
    }
    let at = geometry.backup_at();
    let bytes = region(window, geometry, at)?;
    Some(Restored { at: ByteOffset(0), copy: ByteRange::sized(at, bytes.len() as u64), bytes })
}
