//! NTFS structures as stored, all little-endian. Field names are those of the format's customary documentation.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};
use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::{FormatError, View};

/// Boot sector, the first 84 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawBootSector {
    /// Jump over the parameters.
    pub jump: [u8; 3],
    /// `OemId`: "NTFS    ".
    pub oem_id: [u8; 8],
    /// `BytesPerSector`.
    pub bytes_per_sector: U16,
    /// `SectorsPerCluster`; above 0x80 the cluster has 2^(256 − value) sectors.
    pub sectors_per_cluster: u8,
    /// Zero on NTFS.
    pub reserved_sectors: U16,
    /// Zero on NTFS.
    pub unused: [u8; 5],
    /// `Media`.
    pub media: u8,
    /// Zero on NTFS.
    pub unused2: [u8; 2],
    /// `SectorsPerTrack`.
    pub sectors_per_track: U16,
    /// `NumberOfHeads`.
    pub number_of_heads: U16,
    /// `HiddenSectors`: sectors before the volume.
    pub hidden_sectors: U32,
    /// Zero on NTFS.
    pub unused3: U32,
    /// Drive number and flags, 0x00800080.
    pub drive: U32,
    /// `TotalSectors`: one less than the partition; the backup boot sector is behind.
    pub total_sectors: U64,
    /// `MftStartLcn`, in clusters.
    pub mft_lcn: U64,
    /// `Mft2StartLcn`, in clusters.
    pub mirror_lcn: U64,
    /// `ClustersPerFileRecordSegment`; negative: 2^−value bytes.
    pub clusters_per_record: i8,
    /// Unused.
    pub unused4: [u8; 3],
    /// `ClustersPerIndexBuffer`; as above.
    pub clusters_per_index: i8,
    /// Unused.
    pub unused5: [u8; 3],
    /// `VolumeSerialNumber`.
    pub serial: U64,
    /// `Checksum`, unused.
    pub checksum: U32,
}
const _: () = assert!(size_of::<RawBootSector>() == 84);

/// File record header, 48 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawRecord {
    /// "FILE".
    pub magic: [u8; 4],
    /// Offset of the update sequence array.
    pub usa_offset: U16,
    /// Words in it: one and one for each protected block.
    pub usa_count: U16,
    /// `$LogFile` sequence number.
    pub lsn: U64,
    /// Raised at each reuse.
    pub sequence_number: U16,
    /// Hard links.
    pub link_count: U16,
    /// Offset of the first attribute.
    pub attributes_offset: U16,
    /// Bit 0 in use, bit 1 directory.
    pub flags: U16,
    /// Bytes used.
    pub used_size: U32,
    /// Bytes allocated: the size of a record.
    pub allocated_size: U32,
    /// Base record reference; 0 in a base record.
    pub base_record: U64,
    /// Next attribute id.
    pub next_attribute_id: U16,
    /// Alignment.
    pub reserved: U16,
    /// Number of this record (NTFS 3.1).
    pub record_number: U32,
}
const _: () = assert!(size_of::<RawRecord>() == 48);

/// Attribute header, the first 16 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawAttribute {
    /// Type code; 0xFFFFFFFF ends the list.
    pub type_code: U32,
    /// Length with header, in bytes.
    pub length: U32,
    /// 1 when the value lies outside the record.
    pub non_resident: u8,
    /// Name length in UTF-16 units.
    pub name_length: u8,
    /// Offset of the name.
    pub name_offset: U16,
    /// Bit 0 compressed, bit 14 encrypted, bit 15 sparse.
    pub flags: U16,
    /// Attribute id.
    pub id: U16,
}
const _: () = assert!(size_of::<RawAttribute>() == 16);

/// What follows for a resident attribute, 8 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawResident {
    /// Bytes of the value.
    pub value_length: U32,
    /// Offset of the value in the attribute.
    pub value_offset: U16,
    /// Indexed flag.
    pub flags: U16,
}
const _: () = assert!(size_of::<RawResident>() == 8);

/// What follows for a non-resident attribute, 48 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawNonResident {
    /// First VCN of these runs.
    pub lowest_vcn: U64,
    /// Last VCN of these runs.
    pub highest_vcn: U64,
    /// Offset of the mapping pairs in the attribute.
    pub mapping_pairs_offset: U16,
    /// log2 of the clusters of a compression unit; 0 when not compressed.
    pub compression_unit: u8,
    /// Alignment.
    pub reserved: [u8; 5],
    /// Allocated bytes.
    pub allocated_size: U64,
    /// Bytes of the value.
    pub data_size: U64,
    /// Bytes that were ever written.
    pub initialized_size: U64,
}
const _: () = assert!(size_of::<RawNonResident>() == 48);

/// `$FILE_NAME`, the 66 bytes before the name.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawFileName {
    /// Reference of the parent directory.
    pub parent: U64,
    /// Created.
    pub created: U64,
    /// Content changed.
    pub modified: U64,
    /// Record changed.
    pub changed: U64,
    /// Last read.
    pub accessed: U64,
    /// Allocated bytes.
    pub allocated_size: U64,
    /// Bytes of the unnamed data stream.
    pub data_size: U64,
    /// File attributes; bit 28 directory, bit 10 reparse point.
    pub file_attributes: U32,
    /// Extended attributes or reparse tag.
    pub reparse: U32,
    /// Length of the name in UTF-16 units.
    pub name_length: u8,
    /// 0 POSIX, 1 Win32, 2 DOS, 3 both.
    pub namespace: u8,
}
const _: () = assert!(size_of::<RawFileName>() == 66);

/// Index header, 16 bytes; offsets count from its own start.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawIndexHeader {
    /// Offset of the first entry.
    pub entries_offset: U32,
    /// Bytes used with this header.
    pub index_length: U32,
    /// Bytes allocated.
    pub allocated_size: U32,
    /// Bit 0: the index has children.
    pub flags: U32,
}
const _: () = assert!(size_of::<RawIndexHeader>() == 16);

/// Index entry, 16 bytes before the key.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawIndexEntry {
    /// Reference of the file.
    pub file: U64,
    /// Bytes of the entry.
    pub length: U16,
    /// Bytes of the key.
    pub key_length: U16,
    /// Bit 0: has a child; bit 1: last entry.
    pub flags: U16,
    /// Alignment.
    pub reserved: U16,
}
const _: () = assert!(size_of::<RawIndexEntry>() == 16);

/// Attribute list entry, 26 bytes before the name.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawListEntry {
    /// Type code of the attribute.
    pub type_code: U32,
    /// Bytes of this entry.
    pub length: U16,
    /// Name length in UTF-16 units.
    pub name_length: u8,
    /// Offset of the name.
    pub name_offset: u8,
    /// First VCN of the part.
    pub lowest_vcn: U64,
    /// Reference of the record that holds it.
    pub record: U64,
    /// Attribute id.
    pub id: U16,
}
const _: () = assert!(size_of::<RawListEntry>() == 26);

/// `$STANDARD_INFORMATION`.
pub const STANDARD_INFORMATION: u32 = 0x10;
/// `$ATTRIBUTE_LIST`.
pub const ATTRIBUTE_LIST: u32 = 0x20;
/// `$FILE_NAME`.
pub const FILE_NAME: u32 = 0x30;
/// `$VOLUME_NAME`.
pub const VOLUME_NAME: u32 = 0x60;
/// `$VOLUME_INFORMATION`.
pub const VOLUME_INFORMATION: u32 = 0x70;
/// `$DATA`.
pub const DATA: u32 = 0x80;
/// `$INDEX_ROOT`.
pub const INDEX_ROOT: u32 = 0x90;
/// `$INDEX_ALLOCATION`.
pub const INDEX_ALLOCATION: u32 = 0xA0;
/// `$BITMAP`.
pub const BITMAP: u32 = 0xB0;
/// End of the attributes of a record.
pub const END: u32 = 0xFFFF_FFFF;
/// `$REPARSE_POINT`.
pub const REPARSE_POINT: u32 = 0xC0;
/// Record flag: in use.
pub const IN_USE: u16 = 1;
/// Record flag: directory.
pub const IS_DIRECTORY: u16 = 2;
/// Number of the root directory's record.
pub const ROOT: u64 = 5;
/// First record number that is not the file system's own.
pub const FIRST_USER: u64 = 24;
/// The part of a reference that is the record number.
pub const NUMBER_MASK: u64 = 0x0000_FFFF_FFFF_FFFF;

/// What the boot sector of an NTFS volume says, or what was inferred in its place. Every number is checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct NtfsGeometry {
    /// `BytesPerSector`.
    pub bytes_per_sector: u32,
    /// Cluster size in bytes.
    pub cluster_bytes: u32,
    /// `MftStartLcn`.
    pub mft_lcn: u64,
    /// `Mft2StartLcn`.
    pub mirror_lcn: u64,
    /// Size of a file record in bytes.
    pub record_bytes: u32,
    /// Size of an index block in bytes.
    pub index_bytes: u32,
    /// `TotalSectors`: the partition less one sector.
    pub total_sectors: u64,
    /// `VolumeSerialNumber`.
    pub serial: u64,
}

/// Size of a record or index block: a positive count of clusters, or 2^−value bytes.
fn block_bytes(value: i8, cluster_bytes: u32) -> Option<u32> {
    let bytes = match u32::try_from(value) {
        Ok(clusters) => clusters.checked_mul(cluster_bytes)?,
        Err(_) => 1u32.checked_shl(u32::from(value.unsigned_abs()))?,
    };
    (bytes.is_power_of_two() && (512..=65_536).contains(&bytes)).then_some(bytes)
}

impl NtfsGeometry {
    /// Reads and checks a boot sector of at least 512 bytes. The mark 55 AA is not asked for here.
    ///
    /// # Errors
    /// [`FormatError`] of the first field that cannot be.
    pub fn parse(view: View<'_>) -> Result<Self, FormatError> {
        let raw: &RawBootSector = view.at(0, "boot sector")?;
        if &raw.oem_id != b"NTFS    " {
            return Err(view.wrong(3, "OemId", u64::from_le_bytes(raw.oem_id), "\"NTFS    \""));
        }
        let bytes_per_sector = u32::from(raw.bytes_per_sector.get());
        if !bytes_per_sector.is_power_of_two() || !(256..=4096).contains(&bytes_per_sector) {
            return Err(view.wrong(11, "BytesPerSector", u64::from(bytes_per_sector), "256 to 4096, a power of two"));
        }
        let code = raw.sectors_per_cluster;
        let sectors = if code > 0x80 { 1u32.checked_shl(256 - u32::from(code)).unwrap_or(0) } else { u32::from(code) };
        let cluster_bytes = bytes_per_sector.saturating_mul(sectors);
        if !cluster_bytes.is_power_of_two() || cluster_bytes > 2 << 20 {
            return Err(view.wrong(13, "SectorsPerCluster", u64::from(code), "a cluster of at most 2 MiB"));
        }
        let record_bytes = block_bytes(raw.clusters_per_record, cluster_bytes);
        let index_bytes = block_bytes(raw.clusters_per_index, cluster_bytes);
        let block = |offset, field, value: i8, bytes: Option<u32>| {
            bytes.ok_or_else(|| view.wrong(offset, field, u64::from(value.cast_unsigned()), "a block of 512 bytes to 64 KiB"))
        };
        let geometry = Self {
            bytes_per_sector,
            cluster_bytes,
            mft_lcn: raw.mft_lcn.get(),
            mirror_lcn: raw.mirror_lcn.get(),
            record_bytes: block(64, "ClustersPerFileRecordSegment", raw.clusters_per_record, record_bytes)?,
            index_bytes: block(68, "ClustersPerIndexBuffer", raw.clusters_per_index, index_bytes)?,
            total_sectors: raw.total_sectors.get(),
            serial: raw.serial.get(),
        };
        if geometry.total_sectors == 0 || geometry.total_sectors > 1 << 55 {
            return Err(view.wrong(40, "TotalSectors", geometry.total_sectors, "1 to 2^55"));
        }
        for (offset, field, lcn) in [(48, "MftStartLcn", geometry.mft_lcn), (56, "Mft2StartLcn", geometry.mirror_lcn)] {
            if lcn == 0 || lcn >= geometry.clusters() {
                return Err(view.wrong(offset, field, lcn, "a cluster of the volume, not 0"));
            }
        }
        Ok(geometry)
    }

    /// True when `other` leads to the same structures: serial numbers may differ.
    #[must_use]
    pub fn is_same_volume(&self, other: &Self) -> bool {
        let numbers = |one: &Self| (one.cluster_bytes, one.mft_lcn, one.total_sectors, one.record_bytes);
        numbers(self) == numbers(other)
    }

    /// Count of clusters.
    #[must_use]
    pub fn clusters(&self) -> u64 {
        self.total_sectors.saturating_mul(u64::from(self.bytes_per_sector)) / u64::from(self.cluster_bytes.max(1))
    }

    /// The same volume in at most `room` bytes, its backup boot sector in the last sector of them; `$Bitmap` is then longer than
    /// it needs to be, which systems accept. `None` where MFT or mirror would lie behind the end.
    #[must_use]
    pub fn shortened(self, room: u64) -> Option<Self> {
        let sectors = (room / u64::from(self.bytes_per_sector.max(1))).checked_sub(1)?.min(self.total_sectors);
        let short = Self { total_sectors: sectors, ..self };
        let inside = |lcn: u64| lcn < short.clusters();
        (sectors > 0 && inside(self.mft_lcn) && inside(self.mirror_lcn)).then_some(short)
    }

    /// Length of the partition in bytes: the total sectors and the backup boot sector behind them.
    #[must_use]
    pub fn volume_bytes(&self) -> u64 {
        self.total_sectors.saturating_add(1).saturating_mul(u64::from(self.bytes_per_sector))
    }

    /// First byte of cluster `lcn` in the volume.
    #[must_use]
    pub fn cluster_at(&self, lcn: u64) -> ByteOffset {
        ByteOffset(lcn.saturating_mul(u64::from(self.cluster_bytes)))
    }

    /// Where the backup boot sector stands: the last sector of the partition.
    #[must_use]
    pub fn backup_at(&self) -> ByteOffset {
        ByteOffset(self.total_sectors.saturating_mul(u64::from(self.bytes_per_sector)))
    }
}
