//! Master boot record as stored. Source: UEFI Specification 2.10, §5.2.1, tables 5-1 and 5-2; all little-endian.

use zerocopy::little_endian::U32;
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// `PartitionRecord`, 16 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawPartitionRecord {
    /// `BootIndicator`: 0x80 for the active partition, else 0.
    pub boot_indicator: u8,
    /// `StartingCHS`.
    pub starting_chs: [u8; 3],
    /// `OSType`.
    pub os_type: u8,
    /// `EndingCHS`.
    pub ending_chs: [u8; 3],
    /// `StartingLBA`, in logical sectors; in an EBR relative to it or to the extended partition.
    pub starting_lba: U32,
    /// `SizeInLBA`, in logical sectors.
    pub size_in_lba: U32,
}
const _: () = assert!(size_of::<RawPartitionRecord>() == 16);

/// Offset of `UniqueMBRDiskSignature`.
pub const DISK_SIGNATURE_AT: usize = 440;
/// Offset of the first `PartitionRecord`.
pub const RECORDS_AT: usize = 446;
/// Offset of `Signature`.
pub const SIGNATURE_AT: usize = 510;
/// Value of `Signature`.
pub const SIGNATURE: u16 = 0xAA55;
/// `OSType` of a protective entry.
pub const PROTECTIVE: u8 = 0xEE;

/// True for the types of an extended partition.
#[must_use]
pub fn is_extended(os_type: u8) -> bool {
    matches!(os_type, 0x05 | 0x0F | 0x85)
}
