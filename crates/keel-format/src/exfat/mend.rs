//! The boot region of an exFAT volume, which stands twice.

use keel_source::{ByteOffset, SharedSource};

use super::layout::{REGION_SECTORS, boot_checksum};
use super::{ExFatGeometry, ExFatVolume, make};
use crate::structure::{Compute, Computed, Field, Form, Structure};
use crate::{FormatError, Problem, View};

const ALL: &str = "every place in the volume is taken wrong";

/// Fields of the boot sector, the first of the region's twelve sectors.
pub(super) const BOOT: [Field; 17] = [
    Field::new("JumpBoot", 0, 3, Form::Bytes, "the sector is not taken for a boot sector"),
    Field::new("FileSystemName", 3, 8, Form::Text, "nothing recognises the volume as exFAT"),
    Field::new("PartitionOffset", 64, 8, Form::Little, ""),
    Field::new("VolumeLength", 72, 8, Form::Little, "the end of the volume"),
    Field::new("FatOffset", 80, 4, Form::Little, "files in pieces do not read"),
    Field::new("FatLength", 84, 4, Form::Little, "files in pieces do not read"),
    Field::new("ClusterHeapOffset", 88, 4, Form::Little, ALL),
    Field::new("ClusterCount", 92, 4, Form::Little, "the end of the volume"),
    Field::new("FirstClusterOfRootDirectory", 96, 4, Form::Little, "no file is found"),
    Field::new("VolumeSerialNumber", 100, 4, Form::Bytes, ""),
    Field::new("FileSystemRevision", 104, 2, Form::Bytes, "the volume is refused"),
    Field::new("VolumeFlags", 106, 2, Form::Little, "the volume is checked at the next mount"),
    Field::new("BytesPerSectorShift", 108, 1, Form::Little, ALL),
    Field::new("SectorsPerClusterShift", 109, 1, Form::Little, ALL),
    Field::new("NumberOfFats", 110, 1, Form::Little, "the wrong FAT is used"),
    Field::new("PercentInUse", 112, 1, Form::Little, ""),
    Field::new("BootSignature", 510, 2, Form::Bytes, "the sector is not taken for a boot sector"),
];

/// True when the boot region at `at` states `geometry` and its checksum holds.
#[must_use]
pub fn region_holds(window: &SharedSource, geometry: &ExFatGeometry, at: ByteOffset) -> bool {
    let len = region_len(geometry);
    crate::read_bytes(window.as_ref(), at, len, "boot region").is_ok_and(|bytes| judge(geometry, at, &bytes).is_ok())
}

fn region_len(geometry: &ExFatGeometry) -> usize {
    geometry.bytes_per_sector as usize * usize::try_from(REGION_SECTORS).unwrap_or(12)
}

fn judge(geometry: &ExFatGeometry, at: ByteOffset, bytes: &[u8]) -> Result<(), FormatError> {
    let view = View::new("exFAT boot region", at, bytes);
    if view.slice(510, 2, "BootSignature")? != [0x55, 0xAA] {
        return Err(view.wrong(510, "BootSignature", u64::from(view.u16(510, "BootSignature")?), "55 AA"));
    }
    // A volume whose boot sectors were all lost has no serial number to compare.
    let found = ExFatGeometry::parse(view)?;
    let renumbered = ExFatGeometry { serial: geometry.serial, ..found };
    if renumbered != *geometry {
        return Err(view.error(0, Problem::Coding("its numbers are those of another volume")));
    }
    let counted = geometry.bytes_per_sector as usize * 11;
    let computed = boot_checksum(view.slice(0, counted, "boot region")?);
    let stored = view.slice(counted, geometry.bytes_per_sector as usize, "boot checksum")?.as_chunks::<4>().0;
    match stored.iter().map(|sum| u32::from_le_bytes(*sum)).find(|sum| *sum != computed) {
        None => Ok(()),
        Some(found) => Err(view.error(counted, Problem::Checksum { field: "BootChecksum", found, computed })),
    }
}

/// Sets the checksum sector of a region that follows from the eleven before it.
fn seal(region: &mut [u8]) {
    let Some((counted, sums)) = region.split_at_mut_checked(region.len() / 12 * 11) else { return };
    let sum = boot_checksum(counted).to_le_bytes();
    sums.iter_mut().zip(sum.iter().cycle()).for_each(|(slot, byte)| *slot = *byte);
}

/// The structures of the volume in `window`, whose first sector is `hidden` sectors into the drive.
#[must_use]
pub fn structures(window: &SharedSource, geometry: &ExFatGeometry, hidden: u64, compute: Compute) -> Vec<Structure> {
    let len = region_len(geometry);
    let judge = |at: ByteOffset, bytes: &[u8]| judge(geometry, at, bytes);
    let places = (ByteOffset(0), &[geometry.backup_at()][..]);
    let read = Structure::read(window, "exFAT boot region", len, places, &judge, &|bytes| bytes);
    let read = read.with_computed(compute, || {
        let volume = ExFatVolume::open(SharedSource::clone(window), *geometry).ok();
        volume.map(|_| computed(geometry, hidden))
    });
    vec![Structure { fields: BOOT.to_vec(), renews_copies: true, seal, ..read }]
}

/// The region from bitmap, up-case table, root and FAT.
fn computed(geometry: &ExFatGeometry, hidden: u64) -> Computed {
    let mut geometry = *geometry;
    if geometry.serial == 0 {
        // The serial number stands nowhere else: a new one, the same each time.
        geometry.serial = crc32fast::hash(&geometry.volume_length.to_le_bytes()) ^ geometry.cluster_count;
    }
    let cluster = u64::from(geometry.bytes_per_sector) * u64::from(geometry.sectors_per_cluster);
    let distance = "root and up-case table name their clusters and stand as far apart";
    let witnesses = vec![
        ("PartitionOffset", "where the volume starts on the drive".to_string()),
        ("VolumeLength", format!("the bitmap counts {} clusters", geometry.cluster_count)),
        ("FatOffset", "where a FAT stands before the heap".to_string()),
        ("FatLength", "room for an entry of each cluster".to_string()),
        ("ClusterHeapOffset", format!("{distance}: cluster 2 begins here")),
        ("ClusterCount", "the length of the allocation bitmap".to_string()),
        ("FirstClusterOfRootDirectory", "the directory that names bitmap and up-case table".to_string()),
        ("BytesPerSectorShift", "the drive's own sector size".to_string()),
        ("SectorsPerClusterShift", format!("{distance}: {cluster} bytes a cluster")),
        ("VolumeSerialNumber", "kept nowhere else; a new one where it is lost".to_string()),
    ];
    Computed { bytes: make::boot_region(&geometry, hidden), witnesses }
}
