//! HFS+ and HFSX structures as stored. Field names are those of the published volume format (Technical Note 1150);
//! big-endian.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};
use zerocopy::big_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::{FormatError, View, VolumeKind};

/// `HFSPlusExtentDescriptor`, 8 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, Default, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawExtent {
    /// `startBlock`.
    pub start_block: U32,
    /// `blockCount`.
    pub block_count: U32,
}

/// `HFSPlusForkData`, 80 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawFork {
    /// `logicalSize`, in bytes.
    pub logical_size: U64,
    /// `clumpSize`.
    pub clump_size: U32,
    /// `totalBlocks`.
    pub total_blocks: U32,
    /// `extents`: the first eight.
    pub extents: [RawExtent; 8],
}
const _: () = assert!(size_of::<RawFork>() == 80);

/// `HFSPlusVolumeHeader`, 512 bytes, 1024 bytes into the volume; the alternate one stands 1024 bytes before its end.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawHeader {
    pub signature: [u8; 2],
    pub version: U16,
    pub attributes: U32,
    pub last_mounted_version: [u8; 4],
    pub journal_info_block: U32,
    pub create_date: U32,
    pub modify_date: U32,
    pub backup_date: U32,
    pub checked_date: U32,
    pub file_count: U32,
    pub folder_count: U32,
    pub block_size: U32,
    pub total_blocks: U32,
    pub free_blocks: U32,
    pub next_allocation: U32,
    pub rsrc_clump_size: U32,
    pub data_clump_size: U32,
    pub next_catalog_id: U32,
    pub write_count: U32,
    pub encodings_bitmap: U64,
    pub finder_info: [U32; 8],
    pub allocation_file: RawFork,
    pub extents_file: RawFork,
    pub catalog_file: RawFork,
    pub attributes_file: RawFork,
    pub startup_file: RawFork,
}
const _: () = assert!(size_of::<RawHeader>() == 512);

/// Bytes from the volume's start to its header, and from the alternate header to its end.
pub const HEADER_AT: u64 = 1024;
/// `attributes`: cleanly unmounted.
pub const ATTRIBUTE_UNMOUNTED: u32 = 0x100;
/// `attributes`: the volume is inconsistent.
pub const ATTRIBUTE_INCONSISTENT: u32 = 0x800;
/// `attributes`: the volume has a journal.
pub const ATTRIBUTE_JOURNALED: u32 = 0x2000;
/// Catalog node ID of the root folder's parent.
pub const ROOT_PARENT_ID: u32 = 1;
/// Catalog node ID of the root folder.
pub const ROOT_FOLDER_ID: u32 = 2;
/// File ID of the extents overflow file.
pub const EXTENTS_FILE_ID: u32 = 3;
/// File ID of the catalog file.
pub const CATALOG_FILE_ID: u32 = 4;
/// File ID of the allocation file.
pub const ALLOCATION_FILE_ID: u32 = 6;
/// File ID of the attributes file.
pub const ATTRIBUTES_FILE_ID: u32 = 8;
/// First catalog node ID for files and folders of the user.
pub const FIRST_USER_ID: u32 = 16;
/// `maxKeyLength` of the three B-trees.
pub const EXTENTS_KEY: u16 = 10;
/// See [`EXTENTS_KEY`].
pub const CATALOG_KEY: u16 = 516;
/// See [`EXTENTS_KEY`].
pub const ATTRIBUTES_KEY: u16 = 266;

/// The blocks of one fork: what the header or a catalog record keeps of it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fork {
    /// Length in bytes.
    pub bytes: u64,
    /// Blocks in all.
    pub blocks: u32,
    /// First block and count of the first eight extents.
    pub extents: [(u32, u32); 8],
}

impl From<&RawFork> for Fork {
    fn from(raw: &RawFork) -> Self {
        let extents = raw.extents.map(|extent| (extent.start_block.get(), extent.block_count.get()));
        Self { bytes: raw.logical_size.get(), blocks: raw.total_blocks.get(), extents }
    }
}

/// What is needed to look into an HFS+ or HFSX volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct HfsGeometry {
    /// HFS+ or HFSX.
    pub kind: VolumeKind,
    /// `blockSize`.
    pub block_bytes: u32,
    /// `totalBlocks`.
    pub total_blocks: u32,
    /// Bytes behind the last block that belong to the volume: a partition need not be whole blocks.
    pub tail_bytes: u32,
    /// `attributes`.
    pub attributes: u32,
    /// `journalInfoBlock`.
    pub journal_info_block: u32,
    /// `createDate`, which identifies the volume.
    pub create_date: u32,
    /// Volume identifier that the system writes into `finderInfo`.
    pub identifier: u64,
    /// `allocationFile`.
    pub allocation: Fork,
    /// `extentsFile`.
    pub extents: Fork,
    /// `catalogFile`.
    pub catalog: Fork,
    /// `attributesFile`; empty when there is none.
    pub attributes_file: Fork,
}

impl HfsGeometry {
    /// Reads and checks a volume header of 512 bytes.
    ///
    /// # Errors
    /// [`FormatError`] of the first field that cannot be.
    pub fn parse(view: View<'_>) -> Result<Self, FormatError> {
        let raw: &RawHeader = view.at(0, "volume header")?;
        let kind = match (&raw.signature, raw.version.get()) {
            (b"H+", 4) => VolumeKind::HfsPlus,
            (b"HX", 5) => VolumeKind::Hfsx,
            (b"H+" | b"HX", version) => return Err(view.wrong(2, "version", u64::from(version), "4 for H+, 5 for HX")),
            _ => return Err(view.wrong(0, "signature", u64::from(view.u16(0, "signature")?), "H+ or HX")),
        };
        let block_bytes = raw.block_size.get();
        if !block_bytes.is_power_of_two() || !(512..=1 << 20).contains(&block_bytes) {
            return Err(view.wrong(40, "blockSize", u64::from(block_bytes), "a power of two from 512 to 1 MiB"));
        }
        let total_blocks = raw.total_blocks.get();
        if total_blocks < 4 || raw.free_blocks.get() > total_blocks {
            return Err(view.wrong(44, "totalBlocks", u64::from(total_blocks), "4 or more, no fewer than freeBlocks"));
        }
        let [.., high, low] = raw.finder_info;
        let geometry = Self {
            kind,
            block_bytes,
            total_blocks,
            tail_bytes: 0,
            attributes: raw.attributes.get(),
            journal_info_block: raw.journal_info_block.get(),
            create_date: raw.create_date.get(),
            identifier: u64::from(high.get()) << 32 | u64::from(low.get()),
            allocation: Fork::from(&raw.allocation_file),
            extents: Fork::from(&raw.extents_file),
            catalog: Fork::from(&raw.catalog_file),
            attributes_file: Fork::from(&raw.attributes_file),
        };
        for (offset, field, fork) in [
            (112, "allocationFile", &geometry.allocation),
            (192, "extentsFile", &geometry.extents),
            (272, "catalogFile", &geometry.catalog),
        ] {
            let (start, count) = fork.extents[0];
            if count == 0 || start.checked_add(count).is_none_or(|end| end > total_blocks) {
                return Err(view.wrong(offset + 16, field, u64::from(start), "blocks of the volume"));
            }
        }
        if geometry.allocation.bytes < u64::from(total_blocks).div_ceil(8) {
            return Err(view.wrong(112, "allocationFile.logicalSize", geometry.allocation.bytes, "a bit for each block"));
        }
        Ok(geometry)
    }

    /// Length of the volume in bytes.
    #[must_use]
    pub fn volume_bytes(&self) -> u64 {
        u64::from(self.total_blocks) * u64::from(self.block_bytes) + u64::from(self.tail_bytes)
    }

    /// First byte of a block in the volume; `None` behind the end.
    #[must_use]
    pub fn block_at(&self, block: u32) -> Option<ByteOffset> {
        (block < self.total_blocks).then(|| ByteOffset(u64::from(block) * u64::from(self.block_bytes)))
    }

    /// Where the alternate volume header stands, in bytes of the volume.
    #[must_use]
    pub fn alternate_at(&self) -> ByteOffset {
        ByteOffset(self.volume_bytes().saturating_sub(HEADER_AT))
    }

    /// The same volume as `other`, by what never changes.
    #[must_use]
    pub fn is_same_volume(&self, other: &Self) -> bool {
        let unchanging = |one: &Self| (one.kind, one.block_bytes, one.total_blocks, one.create_date);
        unchanging(self) == unchanging(other)
    }
}

/// `BTNodeDescriptor`, 14 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawNode {
    /// `fLink`: next node of the same kind.
    pub f_link: U32,
    /// `bLink`: the one before.
    pub b_link: U32,
    /// `kind`: -1 leaf, 0 index, 1 header, 2 map.
    pub kind: i8,
    /// `height`: 1 for leaves.
    pub height: u8,
    /// `numRecords`.
    pub num_records: U16,
    /// `reserved`.
    pub reserved: U16,
}
const _: () = assert!(size_of::<RawNode>() == 14);

/// `BTHeaderRec`, 106 bytes, the first record of a tree's header node.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawTreeHeader {
    pub tree_depth: U16,
    pub root_node: U32,
    pub leaf_records: U32,
    pub first_leaf_node: U32,
    pub last_leaf_node: U32,
    pub node_size: U16,
    pub max_key_length: U16,
    pub total_nodes: U32,
    pub free_nodes: U32,
    pub reserved1: U16,
    pub clump_size: U32,
    pub btree_type: u8,
    pub key_compare_type: u8,
    pub attributes: U32,
    pub reserved3: [u8; 64],
}
const _: () = assert!(size_of::<RawTreeHeader>() == 106);

/// `kind` of a leaf node.
pub const NODE_LEAF: i8 = -1;
/// `kind` of an index node.
pub const NODE_INDEX: i8 = 0;
/// `kind` of a header node.
pub const NODE_HEADER: i8 = 1;

/// `HFSPlusCatalogFolder`, 88 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawFolder {
    pub record_type: U16,
    pub flags: U16,
    pub valence: U32,
    pub folder_id: U32,
    pub create_date: U32,
    pub content_mod_date: U32,
    pub attribute_mod_date: U32,
    pub access_date: U32,
    pub backup_date: U32,
    pub permissions: RawPermissions,
    pub user_info: [u8; 16],
    pub finder_info: [u8; 16],
    pub text_encoding: U32,
    pub folder_count: U32,
}
const _: () = assert!(size_of::<RawFolder>() == 88);

/// `HFSPlusBSDInfo`, 16 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawPermissions {
    pub owner_id: U32,
    pub group_id: U32,
    pub admin_flags: u8,
    pub owner_flags: u8,
    pub file_mode: U16,
    pub special: U32,
}
const _: () = assert!(size_of::<RawPermissions>() == 16);

/// `HFSPlusCatalogFile`, 248 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawFile {
    pub record_type: U16,
    pub flags: U16,
    pub reserved1: U32,
    pub file_id: U32,
    pub create_date: U32,
    pub content_mod_date: U32,
    pub attribute_mod_date: U32,
    pub access_date: U32,
    pub backup_date: U32,
    pub permissions: RawPermissions,
    pub fd_type: [u8; 4],
    pub fd_creator: [u8; 4],
    pub user_info: [u8; 8],
    pub finder_info: [u8; 16],
    pub text_encoding: U32,
    pub reserved2: U32,
    pub data_fork: RawFork,
    pub resource_fork: RawFork,
}
const _: () = assert!(size_of::<RawFile>() == 248);

/// `recordType` of a folder.
pub const RECORD_FOLDER: u16 = 1;
/// `recordType` of a file.
pub const RECORD_FILE: u16 = 2;
/// `recordType` of a folder's thread.
pub const RECORD_FOLDER_THREAD: u16 = 3;
/// `ownerFlags`: the content is compressed.
pub const OWNER_COMPRESSED: u8 = 0x20;
