//! The map as stored. Source: "Inside Macintosh: Devices", chapter "SCSI Manager", structures `Block0` and `Partition`;
//! big-endian.

use zerocopy::big_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// The start of block 0, 8 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawBlock0 {
    /// `sbSig`: `ER`.
    pub sb_sig: [u8; 2],
    /// `sbBlkSize`, in bytes: the unit of every number of the map.
    pub sb_blk_size: U16,
    /// `sbBlkCount`.
    pub sb_blk_count: U32,
}
const _: () = assert!(size_of::<RawBlock0>() == 8);

/// The start of a map entry, 80 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawEntry {
    /// `pmSig`: `PM`.
    pub pm_sig: [u8; 2],
    /// `pmSigPad`.
    pub pm_sig_pad: U16,
    /// `pmMapBlkCnt`: entries of the map.
    pub pm_map_blk_cnt: U32,
    /// `pmPyPartStart`, in blocks.
    pub pm_py_part_start: U32,
    /// `pmPartBlkCnt`, in blocks.
    pub pm_part_blk_cnt: U32,
    /// `pmPartName`.
    pub pm_part_name: [u8; 32],
    /// `pmParType`.
    pub pm_par_type: [u8; 32],
}
const _: () = assert!(size_of::<RawEntry>() == 80);
