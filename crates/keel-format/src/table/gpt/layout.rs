//! GPT header and entry as stored. Source: UEFI Specification 2.10, §5.3.2 table 5-5 and §5.3.3 table 5-6; all
//! little-endian, GUIDs in mixed order.

use uuid::{Uuid, uuid};
use zerocopy::little_endian::{U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// GPT header, 92 bytes; the rest of its sector is zero.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawHeader {
    /// `Signature`: "EFI PART".
    pub signature: [u8; 8],
    /// `Revision`: 0x00010000.
    pub revision: U32,
    /// `HeaderSize` in bytes: 92 up to one logical sector.
    pub header_size: U32,
    /// `HeaderCRC32` over `HeaderSize` bytes, with this field as zero.
    pub header_crc32: U32,
    /// `Reserved`: zero.
    pub reserved: U32,
    /// `MyLBA`.
    pub my_lba: U64,
    /// `AlternateLBA`.
    pub alternate_lba: U64,
    /// `FirstUsableLBA`.
    pub first_usable_lba: U64,
    /// `LastUsableLBA`, inclusive.
    pub last_usable_lba: U64,
    /// `DiskGUID`.
    pub disk_guid: [u8; 16],
    /// `PartitionEntryLBA`.
    pub partition_entry_lba: U64,
    /// `NumberOfPartitionEntries`.
    pub number_of_partition_entries: U32,
    /// `SizeOfPartitionEntry` in bytes: 128 × 2ⁿ.
    pub size_of_partition_entry: U32,
    /// `PartitionEntryArrayCRC32`.
    pub partition_entry_array_crc32: U32,
}
const _: () = assert!(size_of::<RawHeader>() == 92);

/// GPT partition entry, the first 128 bytes of `SizeOfPartitionEntry`.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawEntry {
    /// `PartitionTypeGUID`; zero for an unused entry.
    pub partition_type_guid: [u8; 16],
    /// `UniquePartitionGUID`.
    pub unique_partition_guid: [u8; 16],
    /// `StartingLBA`.
    pub starting_lba: U64,
    /// `EndingLBA`, inclusive.
    pub ending_lba: U64,
    /// `Attributes`.
    pub attributes: U64,
    /// `PartitionName`, 36 UTF-16 units, ended by a zero.
    pub partition_name: [u8; 72],
}
const _: () = assert!(size_of::<RawEntry>() == 128);

/// Value of `Signature`.
pub const SIGNATURE: &[u8; 8] = b"EFI PART";
/// Value of `Revision`.
pub const REVISION: u32 = 0x0001_0000;
/// The standard's least array size: 16,384 bytes.
pub const LEAST_ARRAY_BYTES: u64 = 16_384;
/// Type of a volume with a file system that desktop systems read.
pub const BASIC_DATA: Uuid = uuid!("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7");
/// `Attributes`, bit 0 (UEFI 2.10 §5.3.3): the platform needs the partition.
pub const REQUIRED: u64 = 1;
/// `Attributes`, bit 2: a BIOS starts from it.
pub const LEGACY_BOOTABLE: u64 = 1 << 2;
/// `Attributes` of basic data, bit 60: not written.
pub const READ_ONLY: u64 = 1 << 60;
/// `Attributes` of basic data, bit 62: not shown.
pub const HIDDEN: u64 = 1 << 62;
/// `Attributes` of basic data, bit 63: no letter by itself.
pub const NO_AUTOMATIC_MOUNT: u64 = 1 << 63;
/// `Attributes` of a basic data partition that keep it from being shown: read-only, hidden, no automatic letter.
pub const HIDING_BITS: u64 = READ_ONLY | HIDDEN | NO_AUTOMATIC_MOUNT;
/// Type of an EFI system partition.
pub const EFI_SYSTEM: Uuid = uuid!("C12A7328-F81F-11D2-BA4B-00A0C93EC93B");
