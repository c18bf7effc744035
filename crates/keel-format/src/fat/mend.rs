//! Rebuilding the boot sector of a FAT32 volume from its backup.

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::FatGeometry;
use crate::{Restored, View, VolumeKind, read_bytes};

/// The boot sector to put back: the backup's bytes, when the main one does not state `geometry` and the backup does
/// (FAT12 and FAT16 keep none). `window` starts at the volume's first byte.
#[must_use]
pub fn boot_from_backup(window: &SharedSource, geometry: &FatGeometry) -> Option<Restored> {
    if geometry.kind != VolumeKind::Fat32 || geometry.backup == 0 {
        return None;
    }
    let states = |bytes: &[u8], at: ByteOffset| {
        bytes.ends_with(&[0x55, 0xAA])
            && FatGeometry::parse(View::new("boot sector", at, bytes)).is_ok_and(|found| found == *geometry)
    };
    let main = ByteOffset(0);
    if read_bytes(window.as_ref(), main, 512, "boot sector").is_ok_and(|bytes| states(&bytes, main)) {
        return None;
    }
    let at = ByteOffset(u64::from(geometry.backup) * u64::from(geometry.bytes_per_sector));
    let bytes = read_bytes(window.as_ref(), at, 512, "backup boot sector").ok()?;
    states(&bytes, at).then(|| Restored { at: main, copy: ByteRange::sized(at, bytes.len() as u64), bytes })
}
