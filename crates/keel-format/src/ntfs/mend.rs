//! Rebuilding the boot sector of an NTFS volume from its backup.

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::NtfsGeometry;
use crate::{Restored, View, read_bytes};

/// The boot sector to put back: the backup's bytes, when the main one does not state `geometry` and the backup does.
/// `window` starts at the volume's first byte.
#[must_use]
pub fn boot_from_backup(window: &SharedSource, geometry: &NtfsGeometry) -> Option<Restored> {
    let size = geometry.bytes_per_sector.max(512) as usize;
    let states = |bytes: &[u8], at: ByteOffset| {
        let marked = bytes.get(510..512) == Some(&[0x55, 0xAA]);
        marked && NtfsGeometry::parse(View::new("boot sector", at, bytes)).is_ok_and(|found| found == *geometry)
    };
    let main = ByteOffset(0);
    if read_bytes(window.as_ref(), main, size, "boot sector").is_ok_and(|bytes| states(&bytes, main)) {
        return None;
    }
    let at = geometry.backup_at();
    let bytes = read_bytes(window.as_ref(), at, size, "backup boot sector").ok()?;
    states(&bytes, at).then(|| Restored { at: main, copy: ByteRange::sized(at, bytes.len() as u64), bytes })
}
