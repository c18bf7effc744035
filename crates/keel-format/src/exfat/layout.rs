//! exFAT boot sector and directory entries as stored. Field names are those of the published exFAT file system
//! specification; little-endian.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};
use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::{FormatError, View};

/// The boot sector without its boot code, 120 bytes. Specification §3.1.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawBoot {
    /// `JumpBoot`: EB 76 90.
    pub jump_boot: [u8; 3],
    /// `FileSystemName`: `EXFAT   `.
    pub file_system_name: [u8; 8],
    /// `MustBeZero`: where FAT has its parameters.
    pub must_be_zero: [u8; 53],
    /// `PartitionOffset`, in sectors; 0 says nothing.
    pub partition_offset: U64,
    /// `VolumeLength`, in sectors.
    pub volume_length: U64,
    /// `FatOffset`, in sectors.
    pub fat_offset: U32,
    /// `FatLength`, in sectors.
    pub fat_length: U32,
    /// `ClusterHeapOffset`, in sectors.
    pub cluster_heap_offset: U32,
    /// `ClusterCount`.
    pub cluster_count: U32,
    /// `FirstClusterOfRootDirectory`.
    pub first_cluster_of_root_directory: U32,
    /// `VolumeSerialNumber`.
    pub volume_serial_number: U32,
    /// `FileSystemRevision`: minor, major.
    pub file_system_revision: [u8; 2],
    /// `VolumeFlags`: bit 0 active FAT, bit 1 dirty, bit 2 media failure.
    pub volume_flags: U16,
    /// `BytesPerSectorShift`.
    pub bytes_per_sector_shift: u8,
    /// `SectorsPerClusterShift`.
    pub sectors_per_cluster_shift: u8,
    /// `NumberOfFats`: 1, or 2 with transactions.
    pub number_of_fats: u8,
    /// `DriveSelect`.
    pub drive_select: u8,
    /// `PercentInUse`.
    pub percent_in_use: u8,
    /// `Reserved`.
    pub reserved: [u8; 7],
}
const _: () = assert!(size_of::<RawBoot>() == 120);

/// A file directory entry, 32 bytes. Specification §7.4.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawFile {
    /// `EntryType`: 0x85, 0x05 when deleted.
    pub entry_type: u8,
    /// `SecondaryCount`: entries that follow in the set.
    pub secondary_count: u8,
    /// `SetChecksum`.
    pub set_checksum: U16,
    /// `FileAttributes`: bit 4 directory.
    pub file_attributes: U16,
    /// `Reserved1`.
    pub reserved1: U16,
    /// `CreateTimestamp`.
    pub create_timestamp: U32,
    /// `LastModifiedTimestamp`.
    pub last_modified_timestamp: U32,
    /// `LastAccessedTimestamp`.
    pub last_accessed_timestamp: U32,
    /// `Create10msIncrement`.
    pub create_10ms_increment: u8,
    /// `LastModified10msIncrement`.
    pub last_modified_10ms_increment: u8,
    /// `CreateUtcOffset`: bit 7 valid, the rest a signed count of quarter hours.
    pub create_utc_offset: u8,
    /// `LastModifiedUtcOffset`.
    pub last_modified_utc_offset: u8,
    /// `LastAccessedUtcOffset`.
    pub last_accessed_utc_offset: u8,
    /// `Reserved2`.
    pub reserved2: [u8; 7],
}
const _: () = assert!(size_of::<RawFile>() == 32);

/// A stream extension entry, 32 bytes. Specification §7.6.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawStream {
    /// `EntryType`: 0xC0, 0x40 when deleted.
    pub entry_type: u8,
    /// `GeneralSecondaryFlags`: bit 0 allocation possible, bit 1 no FAT chain (the clusters follow one another).
    pub general_secondary_flags: u8,
    /// `Reserved1`.
    pub reserved1: u8,
    /// `NameLength`, in UTF-16 units.
    pub name_length: u8,
    /// `NameHash`.
    pub name_hash: U16,
    /// `Reserved2`.
    pub reserved2: U16,
    /// `ValidDataLength`, in bytes: what lies behind reads as zeros.
    pub valid_data_length: U64,
    /// `Reserved3`.
    pub reserved3: U32,
    /// `FirstCluster`.
    pub first_cluster: U32,
    /// `DataLength`, in bytes.
    pub data_length: U64,
}
const _: () = assert!(size_of::<RawStream>() == 32);

/// An allocation bitmap (§7.1) or up-case table (§7.2) entry, 32 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawAllocation {
    /// `EntryType`: 0x81 bitmap, 0x82 up-case table.
    pub entry_type: u8,
    /// `BitmapFlags`: bit 0 set on the second bitmap.
    pub flags: u8,
    /// `Reserved1`.
    pub reserved1: U16,
    /// `TableChecksum` of the up-case table.
    pub table_checksum: U32,
    /// `Reserved2`.
    pub reserved2: [u8; 12],
    /// `FirstCluster`.
    pub first_cluster: U32,
    /// `DataLength`, in bytes.
    pub data_length: U64,
}
const _: () = assert!(size_of::<RawAllocation>() == 32);

/// `EntryType` of an allocation bitmap.
pub const BITMAP: u8 = 0x81;
/// `EntryType` of the up-case table.
pub const UPCASE: u8 = 0x82;
/// `EntryType` of the volume label.
pub const LABEL: u8 = 0x83;
/// `EntryType` of a file.
pub const FILE: u8 = 0x85;
/// `EntryType` of a stream extension.
pub const STREAM: u8 = 0xC0;
/// `EntryType` of a piece of a name.
pub const NAME: u8 = 0xC1;
/// Bit of `EntryType` that says that the entry is in use.
pub const IN_USE: u8 = 0x80;
/// Bit of `FileAttributes`: directory.
pub const DIRECTORY: u16 = 0x10;
/// Bit of `GeneralSecondaryFlags`: the clusters follow one another.
pub const NO_FAT_CHAIN: u8 = 2;
/// Sectors of a boot region: the boot sector, eight extended ones, parameters, a reserved one and the checksum.
pub const REGION_SECTORS: u64 = 12;
/// Bit of `VolumeFlags`: not cleanly unmounted.
pub const VOLUME_DIRTY: u16 = 2;
/// Bit of `VolumeFlags`: unreadable places were met.
pub const MEDIA_FAILURE: u16 = 4;

/// What is needed to look into an exFAT volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ExFatGeometry {
    /// Bytes of a sector.
    pub bytes_per_sector: u32,
    /// Sectors of a cluster.
    pub sectors_per_cluster: u32,
    /// `VolumeLength`, in sectors.
    pub volume_length: u64,
    /// `FatOffset`, in sectors.
    pub fat_offset: u32,
    /// `FatLength`, in sectors.
    pub fat_length: u32,
    /// `ClusterHeapOffset`, in sectors.
    pub cluster_heap_offset: u32,
    /// `ClusterCount`.
    pub cluster_count: u32,
    /// `FirstClusterOfRootDirectory`.
    pub root_cluster: u32,
    /// `VolumeSerialNumber`.
    pub serial: u32,
    /// `NumberOfFats`.
    pub fats: u8,
}

impl ExFatGeometry {
    /// Reads and checks a boot sector of at least 512 bytes.
    ///
    /// # Errors
    /// [`FormatError`] of the first field that cannot be.
    pub fn parse(view: View<'_>) -> Result<Self, FormatError> {
        let raw: &RawBoot = view.at(0, "boot sector")?;
        if raw.file_system_name != *b"EXFAT   " {
            return Err(view.wrong(3, "FileSystemName", u64::from(raw.file_system_name[0]), "EXFAT and three spaces"));
        }
        if raw.must_be_zero.iter().any(|byte| *byte != 0) {
            return Err(view.wrong(11, "MustBeZero", 1, "zeros"));
        }
        let (sector, cluster) = (raw.bytes_per_sector_shift, raw.sectors_per_cluster_shift);
        if !(9..=12).contains(&sector) {
            return Err(view.wrong(108, "BytesPerSectorShift", u64::from(sector), "9 to 12"));
        }
        if cluster > 25 - sector {
            return Err(view.wrong(109, "SectorsPerClusterShift", u64::from(cluster), "a cluster of at most 32 MiB"));
        }
        if !matches!(raw.number_of_fats, 1 | 2) {
            return Err(view.wrong(110, "NumberOfFats", u64::from(raw.number_of_fats), "1 or 2"));
        }
        let geometry = Self {
            bytes_per_sector: 1 << sector,
            sectors_per_cluster: 1 << cluster,
            volume_length: raw.volume_length.get(),
            fat_offset: raw.fat_offset.get(),
            fat_length: raw.fat_length.get(),
            cluster_heap_offset: raw.cluster_heap_offset.get(),
            cluster_count: raw.cluster_count.get(),
            root_cluster: raw.first_cluster_of_root_directory.get(),
            serial: raw.volume_serial_number.get(),
            fats: raw.number_of_fats,
        };
        geometry.check(view)?;
        Ok(geometry)
    }

    fn check(&self, view: View<'_>) -> Result<(), FormatError> {
        let fats_end = u64::from(self.fat_offset) + u64::from(self.fat_length) * u64::from(self.fats);
        let heap_sectors = u64::from(self.cluster_count) * u64::from(self.sectors_per_cluster);
        if self.volume_length >> 52 != 0 || u64::from(self.cluster_heap_offset) + heap_sectors > self.volume_length {
            return Err(view.wrong(72, "VolumeLength", self.volume_length, "room for the cluster heap"));
        }
        if self.fat_offset < 24 {
            return Err(view.wrong(80, "FatOffset", u64::from(self.fat_offset), "24 sectors or more"));
        }
        if fats_end > u64::from(self.cluster_heap_offset) {
            return Err(view.wrong(88, "ClusterHeapOffset", u64::from(self.cluster_heap_offset), "a place behind the FATs"));
        }
        if self.cluster_count == 0 || self.cluster_count > 0xFFFF_FFF5 {
            return Err(view.wrong(92, "ClusterCount", u64::from(self.cluster_count), "1 to 0xFFFFFFF5"));
        }
        let entries = u64::from(self.fat_length) * u64::from(self.bytes_per_sector) / 4;
        if entries < u64::from(self.cluster_count) + 2 {
            return Err(view.wrong(84, "FatLength", u64::from(self.fat_length), "room for an entry of each cluster"));
        }
        if self.cluster_at(self.root_cluster).is_none() {
            return Err(view.wrong(96, "FirstClusterOfRootDirectory", u64::from(self.root_cluster), "a cluster of the heap"));
        }
        Ok(())
    }

    /// Bytes of a cluster.
    #[must_use]
    pub fn cluster_bytes(&self) -> u32 {
        self.bytes_per_sector.saturating_mul(self.sectors_per_cluster)
    }

    /// Length of the volume in bytes.
    #[must_use]
    pub fn volume_bytes(&self) -> u64 {
        self.volume_length.saturating_mul(u64::from(self.bytes_per_sector))
    }

    /// The same volume in at most `room` bytes: fewer clusters; the allocation bitmap is then longer than it needs to be, which
    /// the specification allows. `None` where no cluster is left.
    #[must_use]
    pub fn shortened(self, room: u64) -> Option<Self> {
        let volume_length = (room / u64::from(self.bytes_per_sector.max(1))).min(self.volume_length);
        let heap = volume_length.checked_sub(u64::from(self.cluster_heap_offset))?;
        let clusters = (heap / u64::from(self.sectors_per_cluster.max(1))).min(u64::from(self.cluster_count));
        let short = Self { volume_length, cluster_count: u32::try_from(clusters).ok()?, ..self };
        (clusters > 0 && short.cluster_at(self.root_cluster).is_some()).then_some(short)
    }

    /// First byte of the cluster heap in the volume.
    #[must_use]
    pub fn heap_at(&self) -> ByteOffset {
        ByteOffset(u64::from(self.cluster_heap_offset) * u64::from(self.bytes_per_sector))
    }

    /// First byte of a cluster in the volume; `None` for what is no cluster.
    #[must_use]
    pub fn cluster_at(&self, cluster: u32) -> Option<ByteOffset> {
        let index = cluster.checked_sub(2).filter(|index| *index < self.cluster_count)?;
        Some(self.heap_at() + u64::from(index) * u64::from(self.cluster_bytes()))
    }

    /// First byte of the first FAT in the volume.
    #[must_use]
    pub fn fat_at(&self) -> ByteOffset {
        ByteOffset(u64::from(self.fat_offset) * u64::from(self.bytes_per_sector))
    }

    /// First byte of the backup boot region in the volume.
    #[must_use]
    pub fn backup_at(&self) -> ByteOffset {
        ByteOffset(REGION_SECTORS * u64::from(self.bytes_per_sector))
    }

    /// Bytes that an allocation bitmap of this volume has.
    #[must_use]
    pub fn bitmap_bytes(&self) -> u64 {
        u64::from(self.cluster_count).div_ceil(8)
    }
}

/// The checksum over the first eleven sectors of a boot region. Specification §3.4: `VolumeFlags` and `PercentInUse`
/// are left out.
#[must_use]
pub fn boot_checksum(sectors: &[u8]) -> u32 {
    let counted = sectors.iter().enumerate().filter(|(index, _)| !matches!(index, 106 | 107 | 112));
    counted.fold(0u32, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u32::from(*byte)))
}

/// The checksum of a directory entry set. Specification §6.3.3: the checksum's own bytes are left out.
#[must_use]
pub fn set_checksum(entries: &[u8]) -> u16 {
    let counted = entries.iter().enumerate().filter(|(index, _)| !matches!(index, 2 | 3));
    counted.fold(0u16, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u16::from(*byte)))
}

/// The checksum of an up-case table. Specification §7.2.2.
#[must_use]
pub fn table_checksum(bytes: &[u8]) -> u32 {
    bytes.iter().fold(0u32, |sum, byte| sum.rotate_right(1).wrapping_add(u32::from(*byte)))
}
