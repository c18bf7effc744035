//! XFS structures as stored. Source: "XFS Algorithms & Data Structures", third edition; names as used there; big-endian, but for
//! checksums.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};
use zerocopy::big_endian::{I32, U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::{FormatError, Problem, View};

/// `sb_magicnum`.
pub const SUPERBLOCK_MAGIC: &[u8; 4] = b"XFSB";
/// Bytes of a superblock's fields.
pub const SUPERBLOCK_BYTES: usize = 264;
/// Bytes of a superblock that are always there: the smallest sector.
pub const LEAST_SECTOR: usize = 512;
/// Where `sb_crc` stands in a superblock; little-endian.
pub const SB_CRC_AT: usize = 224;
/// `sb_versionnum`: the version is the lower half byte.
pub const VERSION_BITS: u16 = 0x0F;
/// `sb_versionnum`: more features stand in `sb_features2`.
pub const VERSION_MOREBITS: u16 = 0x8000;
/// `sb_features2`: directory entries have a type (version 4).
pub const FEATURES2_FTYPE: u32 = 0x0200;
/// `sb_features_incompat`: directory entries have a type.
pub const INCOMPAT_FTYPE: u32 = 0x01;
/// `sb_features_incompat`: chunks of inodes may have holes.
pub const INCOMPAT_SPINODES: u32 = 0x02;
/// `sb_features_incompat`: metadata has the identifier `sb_meta_uuid`.
pub const INCOMPAT_META_UUID: u32 = 0x04;
/// `sb_features_incompat`: folders' own inodes stand under a tree of their own, behind a superblock of other fields.
pub const INCOMPAT_METADIR: u32 = 0x100;
/// `sb_features_ro_compat`: a tree of free inodes.
pub const RO_COMPAT_FINOBT: u32 = 0x01;
/// `sb_features_ro_compat`: a tree of who holds which blocks.
pub const RO_COMPAT_RMAPBT: u32 = 0x02;
/// `sb_features_ro_compat`: files may share blocks.
pub const RO_COMPAT_REFLINK: u32 = 0x04;
/// An inode number that is none.
pub const NO_INODE: u64 = u64::MAX;
/// The file offset in bytes from which on a directory's blocks hold no entries.
pub const DIR_LEAF_OFFSET: u64 = 1 << 35;
/// Inodes of one record of the inode tree.
pub const CHUNK_INODES: u64 = 64;

/// Superblock, at the start of every allocation group; only the first one keeps its counts.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawSuperblock {
    pub sb_magicnum: [u8; 4],
    pub sb_blocksize: U32,
    pub sb_dblocks: U64,
    pub sb_rblocks: U64,
    pub sb_rextents: U64,
    pub sb_uuid: [u8; 16],
    pub sb_logstart: U64,
    pub sb_rootino: U64,
    pub sb_rbmino: U64,
    pub sb_rsumino: U64,
    pub sb_rextsize: U32,
    pub sb_agblocks: U32,
    pub sb_agcount: U32,
    pub sb_rbmblocks: U32,
    pub sb_logblocks: U32,
    pub sb_versionnum: U16,
    pub sb_sectsize: U16,
    pub sb_inodesize: U16,
    pub sb_inopblock: U16,
    pub sb_fname: [u8; 12],
    pub sb_blocklog: u8,
    pub sb_sectlog: u8,
    pub sb_inodelog: u8,
    pub sb_inopblog: u8,
    pub sb_agblklog: u8,
    pub sb_rextslog: u8,
    pub sb_inprogress: u8,
    pub sb_imax_pct: u8,
    pub sb_icount: U64,
    pub sb_ifree: U64,
    pub sb_fdblocks: U64,
    pub sb_frextents: U64,
    pub sb_uquotino: U64,
    pub sb_gquotino: U64,
    pub sb_qflags: U16,
    pub sb_flags: u8,
    pub sb_shared_vn: u8,
    pub sb_inoalignmt: U32,
    pub sb_unit: U32,
    pub sb_width: U32,
    pub sb_dirblklog: u8,
    pub sb_logsectlog: u8,
    pub sb_logsectsize: U16,
    pub sb_logsunit: U32,
    pub sb_features2: U32,
    pub sb_bad_features2: U32,
    pub sb_features_compat: U32,
    pub sb_features_ro_compat: U32,
    pub sb_features_incompat: U32,
    pub sb_features_log_incompat: U32,
    pub sb_crc: [u8; 4],
    pub sb_spino_align: U32,
    pub sb_pquotino: U64,
    pub sb_lsn: U64,
    pub sb_meta_uuid: [u8; 16],
}
const _: () = assert!(size_of::<RawSuperblock>() == SUPERBLOCK_BYTES);

/// Header of a group's free space (`AGF`), in its second sector.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawFreeSpace {
    pub agf_magicnum: [u8; 4],
    pub agf_versionnum: U32,
    pub agf_seqno: U32,
    pub agf_length: U32,
    /// Of the trees by block, by length, and of who holds what.
    pub agf_roots: [U32; 3],
    pub agf_levels: [U32; 3],
    pub agf_flfirst: U32,
    pub agf_fllast: U32,
    pub agf_flcount: U32,
    pub agf_freeblks: U32,
    pub agf_longest: U32,
    pub agf_btreeblks: U32,
    pub agf_uuid: [u8; 16],
    pub agf_rmap_blocks: U32,
    pub agf_refcount_blocks: U32,
    pub agf_refcount_root: U32,
    pub agf_refcount_level: U32,
}
const _: () = assert!(size_of::<RawFreeSpace>() == 96);

/// Header of a group's inodes (`AGI`), in its third sector, as far as it is used here.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawInodes {
    pub agi_magicnum: [u8; 4],
    pub agi_versionnum: U32,
    pub agi_seqno: U32,
    pub agi_length: U32,
    pub agi_count: U32,
    pub agi_root: U32,
    pub agi_level: U32,
    pub agi_freecount: U32,
    pub agi_newino: U32,
    pub agi_dirino: U32,
    pub agi_unlinked: [U32; 64],
    pub agi_uuid: [u8; 16],
    pub agi_crc: [u8; 4],
    pub agi_pad32: U32,
    pub agi_lsn: U64,
    pub agi_free_root: U32,
    pub agi_free_level: U32,
}
const _: () = assert!(size_of::<RawInodes>() == 336);

/// Fields of an inode (`xfs_dinode`) up to its third version; the ones from `di_crc` on are of that version alone.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawInode {
    pub di_magic: [u8; 2],
    pub di_mode: U16,
    pub di_version: u8,
    pub di_format: u8,
    pub di_onlink: U16,
    pub di_uid: U32,
    pub di_gid: U32,
    pub di_nlink: U32,
    pub di_projid: [U16; 2],
    /// Count of extents of the data fork, where `NREXT64` is set.
    pub di_big_nextents: U64,
    pub di_atime: RawTime,
    pub di_mtime: RawTime,
    pub di_ctime: RawTime,
    pub di_size: U64,
    pub di_nblocks: U64,
    pub di_extsize: U32,
    /// Count of extents of the data fork; of the attribute fork, where `NREXT64` is set.
    pub di_nextents: U32,
    pub di_anextents: U16,
    /// Where the attribute fork begins, in units of 8 bytes behind the fields; 0 where there is none.
    pub di_forkoff: u8,
    pub di_aformat: u8,
    pub di_dmevmask: U32,
    pub di_dmstate: U16,
    pub di_flags: U16,
    pub di_gen: U32,
    pub di_next_unlinked: U32,
    pub di_crc: [u8; 4],
    pub di_changecount: U64,
    pub di_lsn: U64,
    pub di_flags2: U64,
    pub di_cowextsize: U32,
    pub di_pad2: [u8; 12],
    pub di_crtime: RawTime,
    pub di_ino: U64,
    pub di_uuid: [u8; 16],
}
const _: () = assert!(size_of::<RawInode>() == INODE_V3);

/// Bytes of the fields of an inode of versions 1 and 2.
pub const INODE_V2: usize = 100;
/// Bytes of the fields of an inode of version 3.
pub const INODE_V3: usize = 176;
/// `di_flags`: content stands on the realtime device.
pub const DIFLAG_REALTIME: u16 = 0x01;
/// `di_flags2`: times count nanoseconds.
pub const DIFLAG2_BIGTIME: u64 = 1 << 3;
/// `di_flags2`: counts of extents are wide.
pub const DIFLAG2_NREXT64: u64 = 1 << 4;
/// `di_format`, `di_aformat`: kept inside the inode.
pub const FORMAT_LOCAL: u8 = 1;
/// `di_format`, `di_aformat`: a list of extents inside the inode.
pub const FORMAT_EXTENTS: u8 = 2;
/// `di_format`, `di_aformat`: the root of a tree of extents.
pub const FORMAT_BTREE: u8 = 3;

/// A time: seconds and nanoseconds; or nanoseconds since 1901, where `BIGTIME` is set.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawTime {
    pub t_sec: I32,
    pub t_nsec: U32,
}

/// What is needed to look into an XFS volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct XfsGeometry {
    /// `sb_uuid`.
    pub uuid: [u8; 16],
    /// The identifier that metadata has: `sb_meta_uuid` where that counts, else `sb_uuid`.
    pub meta_uuid: [u8; 16],
    /// `sb_blocksize`, in bytes.
    pub block_bytes: u32,
    /// `sb_dblocks`.
    pub blocks: u64,
    /// `sb_agblocks`.
    pub group_blocks: u32,
    /// `sb_agcount`.
    pub groups: u32,
    /// `sb_sectsize`, in bytes.
    pub sector_bytes: u32,
    /// `sb_inodesize`, in bytes.
    pub inode_bytes: u32,
    /// `sb_agblklog`: bits of a block's number inside its group.
    pub group_log: u8,
    /// `sb_dirblklog`: blocks of a directory block, as a power of two.
    pub directory_log: u8,
    /// `sb_rootino`; 0 or all ones where it is not known.
    pub root: u64,
    /// `sb_logstart`: first block of the log; 0 for one on a device of its own.
    pub log_start: u64,
    /// `sb_logblocks`.
    pub log_blocks: u32,
    /// The version: 4 or 5.
    pub version: u8,
    /// True when directory entries have a type.
    pub has_types: bool,
    /// `sb_features_ro_compat`, of version 5.
    pub ro_compat: u32,
    /// `sb_features_incompat`, of version 5.
    pub incompat: u32,
}

impl XfsGeometry {
    /// Reads and checks a superblock: its first [`LEAST_SECTOR`] bytes at least.
    ///
    /// # Errors
    /// [`FormatError`] of the first field that cannot be.
    pub fn parse(view: View<'_>) -> Result<Self, FormatError> {
        let raw: &RawSuperblock = view.at(0, "superblock")?;
        if raw.sb_magicnum != *SUPERBLOCK_MAGIC {
            let found = u64::from(u32::from_be_bytes(raw.sb_magicnum));
            return Err(view.wrong(0, "sb_magicnum", found, "XFSB"));
        }
        let power = |value: u32, least: u32, most: u32| value.is_power_of_two() && (least..=most).contains(&value);
        let (block, sector) = (raw.sb_blocksize.get(), u32::from(raw.sb_sectsize.get()));
        if !power(block, 512, 65_536) || 1u64 << raw.sb_blocklog.min(63) != u64::from(block) {
            return Err(view.wrong(4, "sb_blocksize", u64::from(block), "a power of two from 512 to 65536, as sb_blocklog"));
        }
        if !power(sector, 512, 32_768) {
            return Err(view.wrong(102, "sb_sectsize", u64::from(sector), "a power of two from 512 to 32768"));
        }
        let inode = u32::from(raw.sb_inodesize.get());
        if !power(inode, 256, 2048) || inode > block {
            return Err(view.wrong(104, "sb_inodesize", u64::from(inode), "a power of two from 256 to 2048, at most a block"));
        }
        let (group, groups, blocks) = (raw.sb_agblocks.get(), raw.sb_agcount.get(), raw.sb_dblocks.get());
        if blocks >> 48 != 0 || group < 5 || blocks.div_ceil(u64::from(group)) != u64::from(groups) {
            return Err(view.wrong(8, "sb_dblocks", blocks, "as many blocks as its groups have"));
        }
        if raw.sb_agblklog != u8::try_from(u64::from(group).next_power_of_two().trailing_zeros()).unwrap_or(0) {
            return Err(view.wrong(124, "sb_agblklog", u64::from(raw.sb_agblklog), "the power of two above sb_agblocks"));
        }
        let version = raw.sb_versionnum.get() & VERSION_BITS;
        if version != 4 && version != 5 {
            return Err(view.wrong(100, "sb_versionnum", u64::from(version), "version 4 or 5"));
        }
        let directory_log = raw.sb_dirblklog;
        if u64::from(block) << directory_log.min(32) > 65_536 {
            return Err(view.wrong(192, "sb_dirblklog", u64::from(directory_log), "directory blocks of at most 65536 bytes"));
        }
        let five = version == 5;
        let only_five = |field: U32| if five { field.get() } else { 0 };
        let (ro_compat, incompat) = (only_five(raw.sb_features_ro_compat), only_five(raw.sb_features_incompat));
        if incompat & INCOMPAT_METADIR != 0 {
            return Err(view.error(216, Problem::Coding("its metadata stands in folders of its own, which is not read yet")));
        }
        let more = raw.sb_versionnum.get() & VERSION_MOREBITS != 0;
        let has_types = if five { incompat & INCOMPAT_FTYPE != 0 } else { more && raw.sb_features2.get() & FEATURES2_FTYPE != 0 };
        Ok(Self {
            uuid: raw.sb_uuid,
            meta_uuid: if incompat & INCOMPAT_META_UUID != 0 { raw.sb_meta_uuid } else { raw.sb_uuid },
            block_bytes: block,
            blocks,
            group_blocks: group,
            groups,
            sector_bytes: sector,
            inode_bytes: inode,
            group_log: raw.sb_agblklog,
            directory_log,
            root: raw.sb_rootino.get(),
            log_start: raw.sb_logstart.get(),
            log_blocks: raw.sb_logblocks.get(),
            version: if five { 5 } else { 4 },
            has_types,
            ro_compat,
            incompat,
        })
    }

    /// True when `other` leads to the same structures: the root may be known to one only.
    #[must_use]
    pub fn is_same_volume(&self, other: &Self) -> bool {
        Self { root: 0, ..*self } == Self { root: 0, ..*other }
    }

    /// True when structures have checksums, their own place and their owner.
    #[must_use]
    pub fn has_checksums(&self) -> bool {
        self.version == 5
    }

    /// Length of the volume in bytes.
    #[must_use]
    pub fn volume_bytes(&self) -> u64 {
        self.blocks.saturating_mul(u64::from(self.block_bytes))
    }

    /// Bytes from one group to the next.
    #[must_use]
    pub fn group_bytes(&self) -> u64 {
        u64::from(self.group_blocks) * u64::from(self.block_bytes)
    }

    /// First byte of a group in the volume.
    #[must_use]
    pub fn group_at(&self, group: u32) -> ByteOffset {
        ByteOffset(u64::from(group) * self.group_bytes())
    }

    /// Blocks of a group: the last one may be shorter.
    #[must_use]
    pub fn blocks_of(&self, group: u32) -> u32 {
        let before = u64::from(group) * u64::from(self.group_blocks);
        let left = self.blocks.saturating_sub(before).min(u64::from(self.group_blocks));
        u32::try_from(left).unwrap_or(self.group_blocks)
    }

    /// Blocks of the volume before `block` of `group`; `None` for no block of the volume.
    #[must_use]
    pub fn linear(&self, group: u32, block: u32) -> Option<u64> {
        let inside = group < self.groups && block < self.blocks_of(group);
        inside.then(|| u64::from(group) * u64::from(self.group_blocks) + u64::from(block))
    }

    /// First byte of `block` of `group` in the volume; `None` for no block of the volume.
    #[must_use]
    pub fn group_block_at(&self, group: u32, block: u32) -> Option<ByteOffset> {
        Some(ByteOffset(self.linear(group, block)? * u64::from(self.block_bytes)))
    }

    /// The group and the block inside it that `fsblock` names.
    #[must_use]
    pub fn split(&self, fsblock: u64) -> (u32, u32) {
        let low = fsblock & ((1 << self.group_log.min(32)) - 1);
        (u32::try_from(fsblock >> self.group_log.min(63)).unwrap_or(u32::MAX), u32::try_from(low).unwrap_or(u32::MAX))
    }

    /// First byte of the run of `count` blocks from `fsblock` on; `None` where it leaves its group: no extent does.
    #[must_use]
    pub fn run_at(&self, fsblock: u64, count: u64) -> Option<ByteOffset> {
        let (group, block) = self.split(fsblock);
        let fits = u64::from(block).checked_add(count)? <= u64::from(self.blocks_of(group));
        self.group_block_at(group, block).filter(|_| fits)
    }

    /// Bits of an inode's number inside its block.
    fn inode_log(&self) -> u32 {
        (self.block_bytes / self.inode_bytes.max(1)).max(1).trailing_zeros()
    }

    /// Where the inode of this number stands in the volume; `None` for no inode of the volume.
    #[must_use]
    pub fn inode_at(&self, number: u64) -> Option<ByteOffset> {
        let log = self.inode_log();
        let (group, block) = self.split(number >> log);
        let inside = number & ((1 << log) - 1);
        Some(self.group_block_at(group, block)? + inside * u64::from(self.inode_bytes))
    }

    /// The number of inode `inside` of `group`.
    #[must_use]
    pub fn inode_number(&self, group: u32, inside: u64) -> u64 {
        u64::from(group) << (u32::from(self.group_log) + self.inode_log()) | inside
    }

    /// The inode that begins at byte `at` of the volume.
    #[must_use]
    pub fn inode_of(&self, at: ByteOffset) -> Option<u64> {
        let group = u32::try_from(at.0 / self.group_bytes().max(1)).ok()?;
        let inside = (at.0 % self.group_bytes().max(1)) / u64::from(self.inode_bytes.max(1));
        (group < self.groups).then(|| self.inode_number(group, inside))
    }

    /// Bytes of a directory block.
    #[must_use]
    pub fn directory_bytes(&self) -> usize {
        (self.block_bytes as usize) << self.directory_log.min(8)
    }

    /// Bytes of an inode's fields.
    #[must_use]
    pub fn inode_fields(&self) -> usize {
        if self.has_checksums() { INODE_V3 } else { INODE_V2 }
    }
}

/// True when the CRC-32C of `bytes`, with its own four bytes at `at` taken for zero, is what stands there.
#[must_use]
pub fn checksum_holds(bytes: &[u8], at: usize) -> bool {
    let stored = bytes.get(at..).and_then(|rest| rest.first_chunk::<4>()).map(|word| u32::from_le_bytes(*word));
    stored.is_some() && stored == checksum(bytes, at)
}

/// The CRC-32C of `bytes` with the four bytes at `at` taken for zero.
#[must_use]
pub fn checksum(bytes: &[u8], at: usize) -> Option<u32> {
    let (head, tail) = (bytes.get(..at)?, bytes.get(at.checked_add(4)?..)?);
    Some(crc32c::crc32c_append(crc32c::crc32c_append(crc32c::crc32c(head), &[0; 4]), tail))
}

/// A superblock of the smallest size with its checksum set, for tests and repairs.
pub(crate) fn seal_superblock(bytes: &mut [u8]) {
    let version = bytes.get(100..102).and_then(<[u8]>::first_chunk::<2>).map(|pair| u16::from_be_bytes(*pair) & VERSION_BITS);
    if version == Some(5)
        && let Some(sum) = checksum(bytes, SB_CRC_AT)
        && let Some(slot) = bytes.get_mut(SB_CRC_AT..SB_CRC_AT + 4)
    {
        slot.copy_from_slice(&sum.to_le_bytes());
    }
}
