//! ext2, ext3 and ext4 structures as stored. Field names are those of the kernel's own documentation of the format
//! ("ext4 Data Structures and Algorithms"); little-endian.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};
use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::{FormatError, View, VolumeKind};

/// The superblock, 1024 bytes, 1024 bytes into the volume.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawSuperblock {
    pub s_inodes_count: U32,
    pub s_blocks_count_lo: U32,
    pub s_r_blocks_count_lo: U32,
    pub s_free_blocks_count_lo: U32,
    pub s_free_inodes_count: U32,
    pub s_first_data_block: U32,
    pub s_log_block_size: U32,
    pub s_log_cluster_size: U32,
    pub s_blocks_per_group: U32,
    pub s_clusters_per_group: U32,
    pub s_inodes_per_group: U32,
    pub s_mtime: U32,
    pub s_wtime: U32,
    pub s_mnt_count: U16,
    pub s_max_mnt_count: U16,
    pub s_magic: U16,
    pub s_state: U16,
    pub s_errors: U16,
    pub s_minor_rev_level: U16,
    pub s_lastcheck: U32,
    pub s_checkinterval: U32,
    pub s_creator_os: U32,
    pub s_rev_level: U32,
    pub s_def_resuid: U16,
    pub s_def_resgid: U16,
    pub s_first_ino: U32,
    pub s_inode_size: U16,
    pub s_block_group_nr: U16,
    pub s_feature_compat: U32,
    pub s_feature_incompat: U32,
    pub s_feature_ro_compat: U32,
    pub s_uuid: [u8; 16],
    pub s_volume_name: [u8; 16],
    pub s_last_mounted: [u8; 64],
    pub s_algorithm_usage_bitmap: U32,
    pub s_prealloc: [u8; 2],
    pub s_reserved_gdt_blocks: U16,
    pub s_journal_uuid: [u8; 16],
    pub s_journal_inum: U32,
    pub s_journal_dev: U32,
    pub s_last_orphan: U32,
    pub s_hash_seed: [u8; 16],
    pub s_def_hash_version: u8,
    pub s_jnl_backup_type: u8,
    pub s_desc_size: U16,
    pub s_default_mount_opts: U32,
    pub s_first_meta_bg: U32,
    pub s_mkfs_time: U32,
    pub s_jnl_blocks: [u8; 68],
    pub s_blocks_count_hi: U32,
    pub s_r_blocks_count_hi: U32,
    pub s_free_blocks_count_hi: U32,
    pub s_min_extra_isize: U16,
    pub s_want_extra_isize: U16,
    pub s_flags: U32,
    pub s_raid_stride: U16,
    pub s_mmp_interval: U16,
    pub s_mmp_block: U64,
    pub s_raid_stripe_width: U32,
    pub s_log_groups_per_flex: u8,
    pub s_checksum_type: u8,
    pub s_reserved_pad: U16,
    pub s_kbytes_written: U64,
    pub s_snapshot: [u8; 24],
    pub s_error: [u8; 104],
    pub s_mount_opts: [u8; 64],
    pub s_usr_quota_inum: U32,
    pub s_grp_quota_inum: U32,
    pub s_overhead_clusters: U32,
    pub s_backup_bgs: [U32; 2],
    pub s_encrypt_algos: [u8; 4],
    pub s_encrypt_pw_salt: [u8; 16],
    pub s_lpf_ino: U32,
    pub s_prj_quota_inum: U32,
    pub s_checksum_seed: U32,
    pub s_times_high: [u8; 8],
    pub s_encoding: U16,
    pub s_encoding_flags: U16,
    pub s_orphan_file_inum: U32,
    pub s_reserved: [u8; 376],
    pub s_checksum: U32,
}
const _: () = assert!(size_of::<RawSuperblock>() == 1024);

/// `s_magic`.
pub const MAGIC: u16 = 0xEF53;
/// Bytes from the volume's start to its superblock.
pub const SUPERBLOCK_AT: u64 = 1024;
/// Number of the root directory's inode.
pub const ROOT_INODE: u32 = 2;
/// Number of the journal's inode.
pub const JOURNAL_INODE: u32 = 8;
/// `bg_flags`: the block bitmap was never written.
pub const BG_BLOCK_UNINIT: u16 = 0x2;
/// `bg_flags`: the inode bitmap was never written.
pub const BG_INODE_UNINIT: u16 = 0x1;
/// `COMPAT_EXT_ATTR`.
pub const COMPAT_EXT_ATTR: u32 = 0x8;
/// `COMPAT_RESIZE_INODE`: inode 7 keeps blocks that are reserved for more descriptors.
pub const COMPAT_RESIZE_INODE: u32 = 0x10;
/// `COMPAT_ORPHAN_FILE`.
pub const COMPAT_ORPHAN_FILE: u32 = 0x1000;
/// `COMPAT_HAS_JOURNAL`.
pub const COMPAT_HAS_JOURNAL: u32 = 0x4;
/// `COMPAT_SPARSE_SUPER2`.
pub const COMPAT_SPARSE_SUPER2: u32 = 0x200;
/// `INCOMPAT_FILETYPE`: directory entries keep the type.
pub const INCOMPAT_FILETYPE: u32 = 0x2;
/// `INCOMPAT_RECOVER`: the journal holds what the volume does not.
pub const INCOMPAT_RECOVER: u32 = 0x4;
/// `INCOMPAT_JOURNAL_DEV`: a journal of another volume.
pub const INCOMPAT_JOURNAL_DEV: u32 = 0x8;
/// `INCOMPAT_META_BG`.
pub const INCOMPAT_META_BG: u32 = 0x10;
/// `INCOMPAT_EXTENTS`.
pub const INCOMPAT_EXTENTS: u32 = 0x40;
/// `INCOMPAT_64BIT`.
pub const INCOMPAT_64BIT: u32 = 0x80;
/// `INCOMPAT_FLEX_BG`.
pub const INCOMPAT_FLEX_BG: u32 = 0x200;
/// `INCOMPAT_INLINE_DATA`: small files and folders are kept inside their inodes.
pub const INCOMPAT_INLINE_DATA: u32 = 0x8000;
/// `INCOMPAT_CSUM_SEED`.
pub const INCOMPAT_CSUM_SEED: u32 = 0x2000;
/// `RO_COMPAT_SPARSE_SUPER`.
pub const RO_COMPAT_SPARSE_SUPER: u32 = 0x1;
/// `RO_COMPAT_LARGE_FILE`.
pub const RO_COMPAT_LARGE_FILE: u32 = 0x2;
/// `RO_COMPAT_EXTRA_ISIZE`.
pub const RO_COMPAT_EXTRA_ISIZE: u32 = 0x40;
/// `RO_COMPAT_GDT_CSUM`.
pub const RO_COMPAT_GDT_CSUM: u32 = 0x10;
/// `RO_COMPAT_QUOTA`: inodes 3 and 4 keep quotas.
pub const RO_COMPAT_QUOTA: u32 = 0x100;
/// `RO_COMPAT_PROJECT`: an inode of its own keeps the quotas of projects.
pub const RO_COMPAT_PROJECT: u32 = 0x2000;
/// `RO_COMPAT_ORPHAN_PRESENT`: the file of orphans is not empty.
pub const RO_COMPAT_ORPHAN_PRESENT: u32 = 0x1_0000;
/// `RO_COMPAT_BIGALLOC`.
pub const RO_COMPAT_BIGALLOC: u32 = 0x200;
/// `RO_COMPAT_METADATA_CSUM`.
pub const RO_COMPAT_METADATA_CSUM: u32 = 0x400;
/// What only ext4 has, of the incompatible features.
const EXT4_INCOMPAT: u32 = 0x1_FFC0;
/// What only ext4 has, of the read-only compatible features.
const EXT4_RO_COMPAT: u32 = 0xFFF8;

/// What is needed to look into an ext volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ExtGeometry {
    /// ext2, ext3 or ext4, by the features.
    pub kind: VolumeKind,
    /// Bytes of a block.
    pub block_bytes: u32,
    /// Blocks of the volume.
    pub blocks: u64,
    /// `s_inodes_count`.
    pub inodes: u32,
    /// `s_blocks_per_group`.
    pub blocks_per_group: u32,
    /// `s_inodes_per_group`.
    pub inodes_per_group: u32,
    /// `s_first_data_block`: 1 with blocks of 1024 bytes, else 0 (bigalloc may differ).
    pub first_data_block: u32,
    /// Bytes of an inode.
    pub inode_bytes: u16,
    /// Bytes of a group descriptor.
    pub descriptor_bytes: u16,
    /// Bytes of an allocation cluster: a block, or more with bigalloc.
    pub cluster_bytes: u32,
    /// `s_feature_compat`.
    pub compat: u32,
    /// `s_feature_incompat`.
    pub incompat: u32,
    /// `s_feature_ro_compat`.
    pub ro_compat: u32,
    /// `s_first_meta_bg`.
    pub first_meta_bg: u32,
    /// `s_backup_bgs` of sparse_super2.
    pub backup_groups: [u32; 2],
    /// `s_journal_inum`; 0 without a journal of its own.
    pub journal_inode: u32,
    /// `s_uuid`.
    pub uuid: [u8; 16],
    /// Seed of metadata checksums.
    pub checksum_seed: u32,
    /// Byte of the volume where a superblock of it stands in its journal, when that is the one it was found by; else 0.
    #[serde(default)]
    pub kept_superblock: u64,
}

/// CRC-32C as the format uses it: `seed` is the running value, no final inversion.
#[must_use]
pub fn crc32c(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

impl ExtGeometry {
    /// Reads and checks a superblock of 1024 bytes; answers with the geometry and the number of the block group that
    /// this copy stands in.
    ///
    /// # Errors
    /// [`FormatError`] of the first field that cannot be, [`crate::Problem::Checksum`] where one is kept and does not hold.
    pub fn parse(view: View<'_>) -> Result<(Self, u32), FormatError> {
        let raw: &RawSuperblock = view.at(0, "superblock")?;
        if raw.s_magic.get() != MAGIC {
            return Err(view.wrong(56, "s_magic", u64::from(raw.s_magic.get()), "0xEF53"));
        }
        let (incompat, ro_compat) = (raw.s_feature_incompat.get(), raw.s_feature_ro_compat.get());
        if raw.s_log_block_size.get() > 6 {
            return Err(view.wrong(24, "s_log_block_size", u64::from(raw.s_log_block_size.get()), "blocks of at most 64 KiB"));
        }
        if incompat & INCOMPAT_JOURNAL_DEV != 0 {
            return Err(view.wrong(96, "s_feature_incompat", u64::from(incompat), "a volume, not a journal of another one"));
        }
        if ro_compat & RO_COMPAT_METADATA_CSUM != 0 {
            let computed = crc32c(u32::MAX, view.slice(0, 1020, "superblock")?);
            let found = raw.s_checksum.get();
            if computed != found {
                return Err(view.error(1020, crate::Problem::Checksum { field: "s_checksum", found, computed }));
            }
        }
        let block_bytes = 1024u32 << raw.s_log_block_size.get();
        let wide = incompat & INCOMPAT_64BIT != 0;
        let high = if wide { u64::from(raw.s_blocks_count_hi.get()) << 32 } else { 0 };
        let old = raw.s_rev_level.get() == 0;
        let seed = match incompat & INCOMPAT_CSUM_SEED {
            0 => crc32c(u32::MAX, &raw.s_uuid),
            _ => raw.s_checksum_seed.get(),
        };
        let cluster_shift = raw.s_log_cluster_size.get().clamp(raw.s_log_block_size.get(), 19);
        let geometry = Self {
            kind: kind_of(raw.s_feature_compat.get(), incompat, ro_compat),
            block_bytes,
            blocks: u64::from(raw.s_blocks_count_lo.get()) | high,
            inodes: raw.s_inodes_count.get(),
            blocks_per_group: raw.s_blocks_per_group.get(),
            inodes_per_group: raw.s_inodes_per_group.get(),
            first_data_block: raw.s_first_data_block.get(),
            inode_bytes: if old { 128 } else { raw.s_inode_size.get() },
            descriptor_bytes: if wide { raw.s_desc_size.get() } else { 32 },
            cluster_bytes: 1024 << cluster_shift,
            compat: raw.s_feature_compat.get(),
            incompat,
            ro_compat,
            first_meta_bg: raw.s_first_meta_bg.get(),
            backup_groups: [raw.s_backup_bgs[0].get(), raw.s_backup_bgs[1].get()],
            journal_inode: raw.s_journal_inum.get(),
            uuid: raw.s_uuid,
            checksum_seed: seed,
            kept_superblock: 0,
        };
        geometry.check(view)?;
        let group = u32::from(raw.s_block_group_nr.get());
        if group > 0 && (group >= geometry.groups() || !geometry.has_superblock(group)) {
            return Err(view.wrong(90, "s_block_group_nr", u64::from(group), "a group that keeps a copy"));
        }
        Ok((geometry, group))
    }

    fn check(&self, view: View<'_>) -> Result<(), FormatError> {
        let bits = self.block_bytes.saturating_mul(8);
        let clusters = u64::from(self.blocks_per_group) / u64::from((self.cluster_bytes / self.block_bytes).max(1));
        if self.blocks_per_group == 0 || clusters > u64::from(bits) {
            return Err(view.wrong(
                32,
                "s_blocks_per_group",
                u64::from(self.blocks_per_group),
                "what one bitmap block can count",
            ));
        }
        if self.inodes_per_group == 0 || self.inodes_per_group > bits {
            return Err(view.wrong(
                40,
                "s_inodes_per_group",
                u64::from(self.inodes_per_group),
                "what one bitmap block can count",
            ));
        }
        if self.first_data_block > 1 || self.blocks <= u64::from(self.first_data_block) + 1 || self.blocks >> 48 != 0 {
            return Err(view.wrong(4, "s_blocks_count", self.blocks, "more blocks than s_first_data_block"));
        }
        if !self.inode_bytes.is_power_of_two() || self.inode_bytes < 128 || u32::from(self.inode_bytes) > self.block_bytes {
            return Err(view.wrong(88, "s_inode_size", u64::from(self.inode_bytes), "128 to a block"));
        }
        if !self.descriptor_bytes.is_power_of_two() || !(32..=1024).contains(&self.descriptor_bytes) {
            return Err(view.wrong(254, "s_desc_size", u64::from(self.descriptor_bytes), "32 to 1024"));
        }
        let wanted = u64::from(self.groups()) * u64::from(self.inodes_per_group);
        if u64::from(self.inodes) != wanted {
            return Err(view.wrong(0, "s_inodes_count", u64::from(self.inodes), "the inodes of all groups together"));
        }
        Ok(())
    }

    /// True when the descriptors of all groups have room in `room` bytes: fields of a superblock may claim more groups than any
    /// drive has.
    #[must_use]
    pub fn fits(&self, room: u64) -> bool {
        u64::from(self.groups()).saturating_mul(u64::from(self.descriptor_bytes)) <= room
    }

    /// Length of the volume in bytes.
    #[must_use]
    pub fn volume_bytes(&self) -> u64 {
        self.blocks.saturating_mul(u64::from(self.block_bytes))
    }

    /// First byte of a block in the volume; `None` behind the end.
    #[must_use]
    pub fn block_at(&self, block: u64) -> Option<ByteOffset> {
        (block < self.blocks).then(|| ByteOffset(block * u64::from(self.block_bytes)))
    }

    /// Count of block groups.
    #[must_use]
    pub fn groups(&self) -> u32 {
        let blocks = self.blocks.saturating_sub(u64::from(self.first_data_block));
        u32::try_from(blocks.div_ceil(u64::from(self.blocks_per_group).max(1))).unwrap_or(u32::MAX)
    }

    /// First block of a group.
    #[must_use]
    pub fn first_block(&self, group: u32) -> u64 {
        u64::from(self.first_data_block) + u64::from(group) * u64::from(self.blocks_per_group)
    }

    /// Where the copy of the superblock of `group` stands, in bytes of the volume.
    #[must_use]
    pub fn superblock_at(&self, group: u32) -> ByteOffset {
        match group {
            0 => ByteOffset(SUPERBLOCK_AT),
            _ => ByteOffset(self.first_block(group).saturating_mul(u64::from(self.block_bytes))),
        }
    }

    /// True when `group` keeps a superblock and group descriptors.
    #[must_use]
    pub fn has_superblock(&self, group: u32) -> bool {
        let power_of = |base: u32| {
            let mut power = base;
            while power < group {
                power = power.saturating_mul(base);
            }
            power == group
        };
        match group {
            0 => true,
            _ if self.compat & COMPAT_SPARSE_SUPER2 != 0 => self.backup_groups.contains(&group),
            _ if self.ro_compat & RO_COMPAT_SPARSE_SUPER == 0 => true,
            1 => true,
            _ => power_of(3) || power_of(5) || power_of(7),
        }
    }

    /// The groups that keep copies of the superblock, the first 64 of them.
    #[must_use]
    pub fn backup_groups(&self) -> Vec<u32> {
        (1..self.groups()).filter(|group| self.has_superblock(*group)).take(64).collect()
    }

    /// Where the descriptor of `group` stands, in bytes of the volume.
    #[must_use]
    pub fn descriptor_at(&self, group: u32) -> ByteOffset {
        let per_block = (self.block_bytes / u32::from(self.descriptor_bytes)).max(1);
        let (table_block, inside) = (group / per_block, group % per_block);
        let in_meta_group = self.incompat & INCOMPAT_META_BG != 0 && table_block >= self.first_meta_bg;
        let block = match in_meta_group {
            true => {
                let first = table_block.saturating_mul(per_block);
                // With blocks of 1024 bytes and bigalloc, group 0 begins with the boot block, before the superblock.
                let boot_block = first == 0 && self.block_bytes == 1024 && self.first_data_block == 0;
                self.first_block(first) + u64::from(self.has_superblock(first)) + u64::from(boot_block)
            }
            false => SUPERBLOCK_AT / u64::from(self.block_bytes) + 1 + u64::from(table_block),
        };
        ByteOffset(block * u64::from(self.block_bytes) + u64::from(inside) * u64::from(self.descriptor_bytes))
    }

    /// Where the copy of the descriptor of `group` stands that block group `keeper` keeps; none where it keeps none. In a meta group
    /// its second and its last group keep one.
    #[must_use]
    pub fn descriptor_copy_at(&self, group: u32, keeper: u32) -> Option<ByteOffset> {
        let per_block = (self.block_bytes / u32::from(self.descriptor_bytes)).max(1);
        let (table_block, inside) = (group / per_block, group % per_block);
        let block = if self.incompat & INCOMPAT_META_BG != 0 && table_block >= self.first_meta_bg {
            let keeps =
                keeper / per_block == table_block && matches!(keeper % per_block, place if place == 1 || place == per_block - 1);
            (keeps && keeper < self.groups()).then(|| self.first_block(keeper) + u64::from(self.has_superblock(keeper)))?
        } else {
            self.first_block(keeper) + 1 + u64::from(table_block)
        };
        Some(ByteOffset(block * u64::from(self.block_bytes) + u64::from(inside) * u64::from(self.descriptor_bytes)))
    }

    /// Groups that keep a copy of the descriptor of `group`, the first 64 of them.
    #[must_use]
    pub fn descriptor_keepers(&self, group: u32) -> Vec<u32> {
        let per_block = (self.block_bytes / u32::from(self.descriptor_bytes)).max(1);
        let first = group / per_block * per_block;
        match self.incompat & INCOMPAT_META_BG != 0 && group / per_block >= self.first_meta_bg {
            true => vec![first.saturating_add(1), first.saturating_add(per_block - 1)],
            false => self.backup_groups(),
        }
    }

    /// True when descriptors say which bitmaps were never written.
    #[must_use]
    pub fn counts_unwritten(&self) -> bool {
        self.ro_compat & (RO_COMPAT_METADATA_CSUM | RO_COMPAT_GDT_CSUM) != 0
    }

    /// True when metadata carries CRC-32C checksums.
    #[must_use]
    pub fn has_checksums(&self) -> bool {
        self.ro_compat & RO_COMPAT_METADATA_CSUM != 0
    }
}

/// ext2, ext3 or ext4, by the features.
#[must_use]
pub fn kind_of(compat: u32, incompat: u32, ro_compat: u32) -> VolumeKind {
    if incompat & EXT4_INCOMPAT != 0 || ro_compat & EXT4_RO_COMPAT != 0 {
        VolumeKind::Ext4
    } else if compat & COMPAT_HAS_JOURNAL != 0 {
        VolumeKind::Ext3
    } else {
        VolumeKind::Ext2
    }
}

/// A group descriptor, the first 64 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawDescriptor {
    pub bg_block_bitmap_lo: U32,
    pub bg_inode_bitmap_lo: U32,
    pub bg_inode_table_lo: U32,
    pub bg_free_blocks_count_lo: U16,
    pub bg_free_inodes_count_lo: U16,
    pub bg_used_dirs_count_lo: U16,
    pub bg_flags: U16,
    pub bg_exclude_bitmap_lo: U32,
    pub bg_block_bitmap_csum_lo: U16,
    pub bg_inode_bitmap_csum_lo: U16,
    pub bg_itable_unused_lo: U16,
    pub bg_checksum: U16,
    pub bg_block_bitmap_hi: U32,
    pub bg_inode_bitmap_hi: U32,
    pub bg_inode_table_hi: U32,
    pub bg_high: [u8; 20],
}
const _: () = assert!(size_of::<RawDescriptor>() == 64);

/// An inode, the first 160 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub struct RawInode {
    pub i_mode: U16,
    pub i_uid: U16,
    pub i_size_lo: U32,
    pub i_atime: U32,
    pub i_ctime: U32,
    pub i_mtime: U32,
    pub i_dtime: U32,
    pub i_gid: U16,
    pub i_links_count: U16,
    pub i_blocks_lo: U32,
    pub i_flags: U32,
    pub i_version: U32,
    pub i_block: [u8; 60],
    pub i_generation: U32,
    pub i_file_acl_lo: U32,
    pub i_size_high: U32,
    pub i_obso_faddr: U32,
    pub osd2: [u8; 12],
    pub i_extra_isize: U16,
    pub i_checksum_hi: U16,
    pub i_ctime_extra: U32,
    pub i_mtime_extra: U32,
    pub i_atime_extra: U32,
    pub i_crtime: U32,
    pub i_crtime_extra: U32,
    pub i_version_hi: U32,
    pub i_projid: U32,
}
const _: () = assert!(size_of::<RawInode>() == 160);

/// `i_flags`: the directory is indexed by hashes of its names.
pub const FLAG_INDEX: u32 = 0x1000;
/// `i_flags`: the content is encrypted.
pub const FLAG_ENCRYPT: u32 = 0x800;
/// `i_flags`: `i_block` holds an extent tree.
pub const FLAG_EXTENTS: u32 = 0x8_0000;
/// `i_flags`: the content is kept inside the inode.
pub const FLAG_INLINE_DATA: u32 = 0x1000_0000;

/// First block of a group's inode table.
#[must_use]
pub(super) fn inode_table(raw: &RawDescriptor) -> u64 {
    u64::from(raw.bg_inode_table_lo.get()) | u64::from(raw.bg_inode_table_hi.get()) << 32
}
