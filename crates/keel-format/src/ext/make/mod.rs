//! A new, empty ext2, ext3 or ext4: superblock and descriptors with their copies, bitmaps, the inodes that there are, the root directory with
//! `lost+found`, and an empty journal.

mod files;
mod ground;
mod journal;

use keel_source::Payload;
use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32};

use self::files::Inodes;
use self::ground::Ground;
use super::layout::{
    COMPAT_EXT_ATTR, COMPAT_HAS_JOURNAL, ExtGeometry, INCOMPAT_64BIT, INCOMPAT_EXTENTS, INCOMPAT_FILETYPE, INCOMPAT_FLEX_BG,
    JOURNAL_INODE, MAGIC, RO_COMPAT_EXTRA_ISIZE, RO_COMPAT_LARGE_FILE, RO_COMPAT_METADATA_CSUM, RO_COMPAT_SPARSE_SUPER,
    RawSuperblock, SUPERBLOCK_AT, crc32c,
};
use crate::make::{NewVolume, NotMade, Part, Wanted, cluster_by_hand};
use crate::{Geometry, VolumeKind};

/// `COMPAT_DIR_INDEX`, `RO_COMPAT_HUGE_FILE`, `RO_COMPAT_DIR_NLINK`.
const COMPAT_DIR_INDEX: u32 = 0x20;
const RO_COMPAT_HUGE_FILE: u32 = 0x8;
const RO_COMPAT_DIR_NLINK: u32 = 0x20;
/// Bytes of an inode, and those that every one has behind the first 128.
const INODE_BYTES: u16 = 256;
const EXTRA_BYTES: u16 = 32;
/// The first inode that is a file's, which is `lost+found`'s.
pub(super) const FIRST_INODE: u32 = 11;
/// Bytes of a block of a volume of fewer bytes than this, and of the others.
const SMALL: u64 = 512 << 20;
const BLOCK_BYTES: (u32, u32) = (1024, 4096);
/// Up to so many bytes, an inode for each so many.
const INODE_RATIOS: &[(u64, u64)] =
    &[(3 << 20, 8192), (512 << 20, 4096), (4 << 40, 16_384), (16 << 40, 32_768), (u64::MAX, 65_536)];
/// Groups whose bitmaps and tables stand together, at the most.
const MOST_TOGETHER: u32 = 16;
/// The longest label, in bytes.
const LONGEST_LABEL: usize = 16;
/// A last group of fewer blocks than its own structures and these is left out.
const LEAST_LEFT: u64 = 50;
/// The share of its blocks that is kept for the administrator: one in so many.
const KEPT: u64 = 20;

/// A new, empty volume of `kind`: ext2, ext3 or ext4.
///
/// # Errors
/// [`NotMade`] where it is too small for its own structures, has more blocks than its kind counts, or the label does not fit.
pub fn volume(kind: VolumeKind, wanted: &Wanted) -> Result<NewVolume, NotMade> {
    if wanted.label.len() > LONGEST_LABEL || wanted.label.chars().any(char::is_control) {
        let shown = keel_source::printable(&wanted.label);
        return Err(NotMade(format!(
            "the label {shown:?}: {LONGEST_LABEL} bytes at the most are wanted, and no sign that steers"
        )));
    }
    let by_size = if wanted.bytes < SMALL { BLOCK_BYTES.0 } else { BLOCK_BYTES.1 };
    let block_bytes = cluster_by_hand(wanted, 1024, 4096)?.unwrap_or(by_size).max(wanted.sector.0);
    let mut geometry = geometry(kind, wanted, block_bytes)?;
    let journal_blocks = if kind == VolumeKind::Ext2 { 0 } else { journal::blocks(geometry.blocks) };
    match (kind, journal_blocks) {
        (VolumeKind::Ext3, 0) => return Err(too_small(wanted)),
        // A small one has none, and is an ext4 all the same.
        (VolumeKind::Ext4, 0) => (geometry.compat, geometry.journal_inode) = (geometry.compat & !COMPAT_HAS_JOURNAL, 0),
        _ => {}
    }
    let mut ground = Ground::new(&geometry);
    let inodes = Inodes::new(&geometry, &mut ground, journal_blocks).ok_or_else(|| too_small(wanted))?;
    let block = u64::from(block_bytes);
    let mut parts = Vec::new();
    // Backups first: the descriptors are the same in all of them.
    let descriptors: Payload = ground.descriptors(&geometry).into();
    let mut superblock = superblock(&geometry, wanted, &ground, &inodes);
    let free = ground.free_blocks();
    superblock.s_free_blocks_count_lo.set((free & 0xFFFF_FFFF) as u32);
    superblock.s_free_blocks_count_hi.set((free >> 32) as u32);
    for group in (0..geometry.groups()).filter(|group| geometry.has_superblock(*group)) {
        let at = geometry.superblock_at(group).0;
        superblock.s_block_group_nr.set(u16::try_from(group).unwrap_or(u16::MAX));
        superblock.s_checksum.set(0);
        if geometry.has_checksums() {
            let sum = crc32c(u32::MAX, superblock.as_bytes().get(..1020).unwrap_or_default());
            superblock.s_checksum.set(sum);
        }
        // What stands in the rest of its block is nobody's.
        let mut bytes = superblock.as_bytes().to_vec();
        let before = if group == 0 && block > SUPERBLOCK_AT { SUPERBLOCK_AT } else { 0 };
        bytes.splice(0..0, std::iter::repeat_n(0, before as usize));
        bytes.resize(bytes.len().next_multiple_of(block_bytes as usize), 0);
        let descriptors_at = (geometry.first_block(group) + 1) * block;
        let part = |what, at, bytes: Payload| Part { is_copy: group > 0, ..Part::new(what, at, bytes) };
        parts.push(part("superblock", at - before, bytes.into()));
        parts.push(part("group descriptors", descriptors_at, descriptors.clone()));
    }
    if block_bytes == 1024 {
        parts.push(Part::new("boot block", 0, vec![0; 1024]));
    }
    parts.extend(ground.parts(&geometry));
    parts.extend(inodes.parts(&geometry, &ground, wanted));
    Ok(NewVolume::of(Geometry::Ext(geometry), parts))
}

fn too_small(wanted: &Wanted) -> NotMade {
    NotMade(format!("{} bytes are too few for an ext with these structures", wanted.bytes))
}

fn geometry(kind: VolumeKind, wanted: &Wanted, block_bytes: u32) -> Result<ExtGeometry, NotMade> {
    let block = u64::from(block_bytes);
    let first_data_block = u32::from(block_bytes == 1024);
    let blocks_per_group = block_bytes * 8;
    let mut blocks = wanted.bytes / block;
    let is_new = kind == VolumeKind::Ext4;
    if !is_new && blocks > u64::from(u32::MAX) {
        return Err(NotMade(format!("an {} counts its blocks in 32 bits: {blocks} are too many", kind.word())));
    }
    let ratio = INODE_RATIOS.iter().find(|(most, _)| wanted.bytes < *most).map_or(65_536, |(_, ratio)| *ratio);
    let groups = |blocks: u64| blocks.saturating_sub(u64::from(first_data_block)).div_ceil(u64::from(blocks_per_group));
    let per_block = block_bytes / u32::from(INODE_BYTES);
    let inodes = wanted.bytes.div_ceil(ratio).max(u64::from(FIRST_INODE) + 1).min(u64::from(u32::MAX));
    let each = inodes.div_ceil(groups(blocks).max(1));
    let each = u32::try_from(each).unwrap_or(u32::MAX).clamp(16, blocks_per_group - per_block);
    // Whole blocks of the table, and whole bytes of the bitmap.
    let inodes_per_group = each.next_multiple_of(per_block.max(8));
    let compat = COMPAT_EXT_ATTR | COMPAT_DIR_INDEX | if kind == VolumeKind::Ext2 { 0 } else { COMPAT_HAS_JOURNAL };
    let incompat = INCOMPAT_FILETYPE | if is_new { INCOMPAT_EXTENTS | INCOMPAT_64BIT | INCOMPAT_FLEX_BG } else { 0 };
    let newer = RO_COMPAT_HUGE_FILE | RO_COMPAT_DIR_NLINK | RO_COMPAT_EXTRA_ISIZE | RO_COMPAT_METADATA_CSUM;
    let ro_compat = RO_COMPAT_SPARSE_SUPER | RO_COMPAT_LARGE_FILE | if is_new { newer } else { 0 };
    let uuid = wanted.serial.to_be_bytes();
    let made = |blocks: u64| ExtGeometry {
        kind,
        block_bytes,
        blocks,
        inodes: u32::try_from(groups(blocks) * u64::from(inodes_per_group)).unwrap_or(u32::MAX),
        blocks_per_group,
        inodes_per_group,
        first_data_block,
        inode_bytes: INODE_BYTES,
        descriptor_bytes: if is_new { 64 } else { 32 },
        cluster_bytes: block_bytes,
        compat,
        incompat,
        ro_compat,
        first_meta_bg: 0,
        backup_groups: [0, 0],
        journal_inode: if kind == VolumeKind::Ext2 { 0 } else { JOURNAL_INODE },
        uuid,
        checksum_seed: crc32c(u32::MAX, &uuid),
        kept_superblock: 0,
    };
    let whole = made(blocks);
    if blocks <= u64::from(first_data_block) + 1 || u64::from(whole.inodes) != groups(blocks) * u64::from(inodes_per_group) {
        return Err(too_small(wanted));
    }
    // A last group that has no room for its own structures and some blocks is left out.
    let last = whole.groups() - 1;
    let left = blocks - whole.first_block(last);
    if left < ground::own_blocks(&whole, last) + LEAST_LEFT {
        if last == 0 {
            return Err(too_small(wanted));
        }
        blocks = whole.first_block(last);
    }
    Ok(made(blocks))
}

fn superblock(geometry: &ExtGeometry, wanted: &Wanted, ground: &Ground, inodes: &Inodes) -> RawSuperblock {
    let mut raw = zeroed();
    let low = |value: u64| U32::new((value & 0xFFFF_FFFF) as u32);
    let high = |value: u64| U32::new((value >> 32) as u32);
    let kept = geometry.blocks / KEPT;
    let shift = geometry.block_bytes.trailing_zeros() - 10;
    let now = U32::new(wanted.made_at);
    let is_new = geometry.kind == VolumeKind::Ext4;
    raw.s_inodes_count = U32::new(geometry.inodes);
    raw.s_blocks_count_lo = low(geometry.blocks);
    raw.s_blocks_count_hi = high(geometry.blocks);
    raw.s_r_blocks_count_lo = low(kept);
    raw.s_r_blocks_count_hi = high(kept);
    raw.s_free_inodes_count = U32::new(geometry.inodes - FIRST_INODE);
    raw.s_first_data_block = U32::new(geometry.first_data_block);
    raw.s_log_block_size = U32::new(shift);
    raw.s_log_cluster_size = U32::new(shift);
    raw.s_blocks_per_group = U32::new(geometry.blocks_per_group);
    raw.s_clusters_per_group = U32::new(geometry.blocks_per_group);
    raw.s_inodes_per_group = U32::new(geometry.inodes_per_group);
    raw.s_wtime = now;
    raw.s_max_mnt_count = U16::new(u16::MAX);
    raw.s_magic = U16::new(MAGIC);
    raw.s_state = U16::new(1);
    raw.s_errors = U16::new(1);
    raw.s_lastcheck = now;
    raw.s_rev_level = U32::new(1);
    raw.s_first_ino = U32::new(FIRST_INODE);
    raw.s_inode_size = U16::new(INODE_BYTES);
    raw.s_feature_compat = U32::new(geometry.compat);
    raw.s_feature_incompat = U32::new(geometry.incompat);
    raw.s_feature_ro_compat = U32::new(geometry.ro_compat);
    raw.s_uuid = geometry.uuid;
    let label = wanted.label.as_bytes();
    raw.s_volume_name.iter_mut().zip(label).for_each(|(slot, byte)| *slot = *byte);
    raw.s_journal_inum = U32::new(geometry.journal_inode);
    raw.s_hash_seed = crc_seeds(&geometry.uuid);
    // Half MD4 over signed characters: what kernels take by themselves.
    raw.s_def_hash_version = 1;
    raw.s_flags = U32::new(1);
    // Extended attributes of users, and access lists.
    raw.s_default_mount_opts = U32::new(0xC);
    raw.s_mkfs_time = now;
    if is_new {
        raw.s_desc_size = U16::new(geometry.descriptor_bytes);
        raw.s_min_extra_isize = U16::new(EXTRA_BYTES);
        raw.s_want_extra_isize = U16::new(EXTRA_BYTES);
        raw.s_log_groups_per_flex = u8::try_from(ground.together().trailing_zeros()).unwrap_or(0);
        raw.s_checksum_type = 1;
    }
    if let Some(journal) = inodes.journal_backup() {
        // The journal's own map and size, should its inode be lost.
        raw.s_jnl_backup_type = 1;
        raw.s_jnl_blocks = journal;
    }
    raw
}

/// A seed for the hashes of directories that no one else has.
fn crc_seeds(uuid: &[u8; 16]) -> [u8; 16] {
    let words: Vec<u8> = (0..4u32).flat_map(|index| crc32c(index, uuid).to_le_bytes()).collect();
    words.try_into().unwrap_or_default()
}

fn zeroed() -> RawSuperblock {
    use zerocopy::FromZeros;
    RawSuperblock::new_zeroed()
}
