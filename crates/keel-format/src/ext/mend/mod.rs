//! The ext structures that stand many times: superblock and group descriptors; and the core of a volume whose root is gone.

mod bitmaps;
mod census;
mod features;
mod folders;
mod lost;

use keel_source::{ByteOffset, SharedSource};
use zerocopy::little_endian::{U16, U32};
use zerocopy::{FromBytes, FromZeros, IntoBytes};

use super::groups::{descriptor_points_inside, descriptor_sum};
use super::layout::{
    BG_BLOCK_UNINIT, BG_INODE_UNINIT, COMPAT_EXT_ATTR, INCOMPAT_CSUM_SEED, INCOMPAT_FLEX_BG, INCOMPAT_META_BG, INCOMPAT_RECOVER,
    MAGIC, RO_COMPAT_GDT_CSUM, RO_COMPAT_METADATA_CSUM, RawDescriptor, RawSuperblock, SUPERBLOCK_AT, crc32c, inode_table,
};
use super::{ExtGeometry, ExtVolume};
use crate::device::step;
use crate::structure::{Compute, Computed, Field, Form, Structure, Take};
use crate::{FormatError, Problem, View, read_bytes};
use features::Features;
use lost::Rebuilt;

/// The most copies of a structure that are compared.
const MOST_COPIES: usize = 12;
/// The most states of the superblock in the journal that are looked at.
const MOST_KEPT: usize = 4;
/// Bytes of the table of descriptors that are compared as one structure.
const PIECE: usize = 64 << 10;
/// Bytes of an inode table that are read at once.
const TABLE_STEP: usize = 256 << 10;
/// The most pieces of the table that are compared.
const MOST_PIECES: usize = 512;

/// `s_state`: cleanly unmounted.
const STATE_CLEAN: u16 = 1;

const ALL: &str = "every place in the volume is taken wrong";

/// Fields of the superblock.
pub(super) const SUPERBLOCK: [Field; 29] = [
    Field::new("s_inodes_count", 0, 4, Form::Little, "the volume is refused"),
    Field::new("s_blocks_count_lo", 4, 4, Form::Little, "the end of the volume"),
    Field::new("s_free_blocks_count_lo", 12, 4, Form::Little, ""),
    Field::new("s_free_inodes_count", 16, 4, Form::Little, ""),
    Field::new("s_first_data_block", 20, 4, Form::Little, ALL),
    Field::new("s_log_block_size", 24, 4, Form::Little, ALL),
    Field::new("s_log_cluster_size", 28, 4, Form::Little, "free space is counted wrong"),
    Field::new("s_blocks_per_group", 32, 4, Form::Little, ALL),
    Field::new("s_inodes_per_group", 40, 4, Form::Little, "no inode is found"),
    Field::new("s_wtime", 48, 4, Form::Little, ""),
    Field::new("s_mnt_count", 52, 2, Form::Little, ""),
    Field::new("s_magic", 56, 2, Form::Little, "nothing recognises the volume as ext"),
    Field::new("s_state", 58, 2, Form::Little, "the volume is checked before it is used"),
    Field::new("s_rev_level", 76, 4, Form::Little, "features are not read"),
    Field::new("s_first_ino", 84, 4, Form::Little, ""),
    Field::new("s_inode_size", 88, 2, Form::Little, "no inode is found"),
    Field::new("s_block_group_nr", 90, 2, Form::Little, ""),
    Field::new("s_feature_compat", 92, 4, Form::Little, "the journal is not seen"),
    Field::new("s_feature_incompat", 96, 4, Form::Little, "files do not read, or the volume is refused"),
    Field::new("s_feature_ro_compat", 100, 4, Form::Little, "the volume can be read only"),
    Field::new("s_uuid", 104, 16, Form::Bytes, "the system does not find it by its identifier"),
    Field::new("s_volume_name", 120, 16, Form::Name, ""),
    Field::new("s_reserved_gdt_blocks", 206, 2, Form::Little, ""),
    Field::new("s_journal_inum", 224, 4, Form::Little, "what the journal holds is lost"),
    Field::new("s_hash_seed", 236, 16, Form::Bytes, "names in large folders are not found"),
    Field::new("s_desc_size", 254, 2, Form::Little, "no group is found"),
    Field::new("s_blocks_count_hi", 336, 4, Form::Little, "the end of the volume"),
    Field::new("s_checksum_seed", 624, 4, Form::Little, "no checksum holds"),
    Field::new("s_checksum", 1020, 4, Form::Little, "the volume is refused"),
];

/// Fields of the first group descriptor of a piece.
const DESCRIPTOR: [Field; 8] = [
    Field::new("bg_block_bitmap_lo", 0, 4, Form::Little, "free space is not known"),
    Field::new("bg_inode_bitmap_lo", 4, 4, Form::Little, "free inodes are not known"),
    Field::new("bg_inode_table_lo", 8, 4, Form::Little, "no file of the group is found"),
    Field::new("bg_free_blocks_count_lo", 12, 2, Form::Little, ""),
    Field::new("bg_free_inodes_count_lo", 14, 2, Form::Little, ""),
    Field::new("bg_used_dirs_count_lo", 16, 2, Form::Little, ""),
    Field::new("bg_flags", 18, 2, Form::Little, "a bitmap that is there counts as never written"),
    Field::new("bg_checksum", 30, 2, Form::Little, "the volume is refused"),
];

/// True when the superblock of `group` states `geometry`.
#[must_use]
pub fn is_stated_in(window: &SharedSource, geometry: &ExtGeometry, group: u32) -> bool {
    let at = geometry.superblock_at(group);
    read_bytes(window.as_ref(), at, 1024, "superblock").is_ok_and(|bytes| judge(geometry, at, &bytes).is_ok())
}

fn judge(geometry: &ExtGeometry, at: ByteOffset, bytes: &[u8]) -> Result<(), FormatError> {
    let view = View::new("superblock", at, bytes);
    let (found, group) = ExtGeometry::parse(view)?;
    if geometry.superblock_at(group) != at {
        return Err(view.wrong(90, "s_block_group_nr", u64::from(group), "the group it stands in"));
    }
    let numbers = |one: &ExtGeometry| (one.uuid, one.blocks, one.block_bytes, one.inodes_per_group, one.inode_bytes);
    match numbers(&found) == numbers(geometry) {
        true => Ok(()),
        false => Err(view.error(0, Problem::Coding("its numbers are those of another volume"))),
    }
}

pub(super) fn seal(bytes: &mut [u8]) {
    let Ok((raw, _)) = RawSuperblock::mut_from_prefix(bytes) else { return };
    if raw.s_feature_ro_compat.get() & RO_COMPAT_METADATA_CSUM != 0 {
        let sum = crc32c(u32::MAX, raw.as_bytes().get(..1020).unwrap_or_default());
        raw.s_checksum.set(sum);
    }
}

/// The structures of the volume in `window`.
#[must_use]
pub fn structures(window: &SharedSource, geometry: &ExtGeometry, compute: Compute) -> Vec<Structure> {
    let rebuilt = lost::rebuilt(window, geometry);
    let view = rebuilt.as_ref().map_or(window, |rebuilt| &rebuilt.view).clone();
    let superblock = superblock(window, geometry, rebuilt.as_ref(), compute);
    let computed = superblock.computed.as_ref().filter(|_| superblock.best() == Some(Take::Computed));
    let stated = computed.and_then(|computed| ExtGeometry::parse(View::new("superblock", ByteOffset(0), &computed.bytes)).ok());
    let mut structures = vec![superblock];
    structures.extend(match stated {
        Some((stated, _)) => resealed_tables(window, &view, &stated),
        None => descriptor_tables(window, &view, geometry),
    });
    structures.extend(rebuilt.into_iter().flat_map(|rebuilt| rebuilt.structures));
    structures
}

/// The table of descriptors whose checksums a computed superblock changes, in pieces; none where they hold by it.
fn resealed_tables(window: &SharedSource, view: &SharedSource, stated: &ExtGeometry) -> Vec<Structure> {
    let size = usize::from(stated.descriptor_bytes);
    let resealed = |(first, structure): (u32, Structure)| {
        let mut bytes = structure.main.bytes.clone();
        for (index, descriptor) in bytes.chunks_exact_mut(size).enumerate() {
            let group = first + u32::try_from(index).ok()?;
            set_sum(stated, group, descriptor);
        }
        let witnesses = vec![("bg_checksum", "over the identifier of the computed superblock".to_string())];
        let computed = Some(Computed { bytes, witnesses }).filter(|computed| !computed.bytes.is_empty());
        Some(Structure { copies: Vec::new(), computed, ..structure })
    };
    tables(window, view, stated).into_iter().filter_map(resealed).collect()
}

fn set_sum(geometry: &ExtGeometry, group: u32, descriptor: &mut [u8]) {
    if let Some(sum) = descriptor_sum(geometry, group, descriptor) {
        descriptor.iter_mut().skip(30).zip(sum.to_le_bytes()).for_each(|(slot, byte)| *slot = byte);
    }
}

fn superblock(window: &SharedSource, geometry: &ExtGeometry, rebuilt: Option<&Rebuilt>, compute: Compute) -> Structure {
    let view = rebuilt.map_or(window, |rebuilt| &rebuilt.view);
    let without = rebuilt.map_or_else(Features::default, |rebuilt| rebuilt.without);
    let volume = ExtVolume::open(SharedSource::clone(view), *geometry).ok();
    // Where the core is put back, what the journal held is put back as well.
    let pending = rebuilt.is_none() && volume.as_ref().is_some_and(ExtVolume::has_pending_journal);
    let main = geometry.superblock_at(0);
    // What the journal keeps of it is newer than the copies.
    let kept = volume.as_ref().map(kept_superblocks).unwrap_or_default();
    let groups = geometry.backup_groups().into_iter().take(MOST_COPIES).map(|group| geometry.superblock_at(group));
    let copies: Vec<ByteOffset> = kept.iter().copied().chain(groups).collect();
    let adapt = |bytes: Vec<u8>| {
        let Ok(mut raw) = RawSuperblock::read_from_bytes(&bytes) else { return bytes };
        raw.s_block_group_nr.set(0);
        // A copy is older than the journal. Without this flag an operating system would empty the journal unread.
        let without_flag = raw.s_feature_incompat.get() & !INCOMPAT_RECOVER;
        raw.s_feature_incompat.set(without_flag | if pending { INCOMPAT_RECOVER } else { 0 });
        // Formatters write copies before a volume counts as cleanly unmounted, and drivers leave them so.
        raw.s_state.set(raw.s_state.get() | STATE_CLEAN);
        without.take_out(&mut raw);
        let mut bytes = raw.as_bytes().to_vec();
        seal(&mut bytes);
        bytes
    };
    let judge = |at: ByteOffset, bytes: &[u8]| {
        // A copy in the journal is one of the main one.
        judge(geometry, if kept.contains(&at) { main } else { at }, bytes)?;
        match at == main && without.taken_out(bytes).is_some() {
            true => Err(FormatError::new("superblock", at, Problem::Coding("it states features whose inodes are gone"))),
            false => Ok(()),
        }
    };
    let mut read = Structure::read(window, "superblock", 1024, (main, &copies), &judge, &adapt);
    // Of one that holds but for such features all else stays.
    let changed = read_bytes(window.as_ref(), main, 1024, "superblock").ok().filter(|_| !read.main.holds());
    let changed = changed.filter(|bytes| self::judge(geometry, main, bytes).is_ok()).and_then(|bytes| without.taken_out(&bytes));
    if let Some(bytes) = changed {
        let witnesses = vec![("s_feature_compat", "the inodes that its features need".to_string())];
        (read.copies, read.computed) = (Vec::new(), Some(Computed { bytes, witnesses }));
    } else {
        read = read.with_computed(compute, || computed(geometry, (volume.as_ref()?, without), pending));
    }
    Structure { fields: SUPERBLOCK.to_vec(), seal, ..read }
}

/// Where the journal keeps the main superblock, the latest first.
fn kept_superblocks(volume: &ExtVolume) -> Vec<ByteOffset> {
    let unit = u64::from(volume.geometry().block_bytes);
    let states = volume.earlier().get(&(SUPERBLOCK_AT / unit)).into_iter().flatten();
    states.take(MOST_KEPT).map(|(_, at)| *at + SUPERBLOCK_AT % unit).collect()
}

/// The features that a computed superblock states. Folders that are indexed by hashes, whose seed only the superblock
/// kept, must be searched from front to back then, and with metadata checksums an operating system refuses to.
fn features(geometry: &ExtGeometry, volume: &ExtVolume) -> ExtGeometry {
    // The identifier is known where any superblock was seen; else the journal keeps it, or a new one is made.
    let known = Some(geometry.uuid).filter(|uuid| *uuid != [0; 16]);
    let uuid = known.or_else(|| volume.journal_uuid()).unwrap_or_else(|| made_uuid(geometry));
    let mut stated = ExtGeometry { uuid, ..*geometry };
    let plain = match geometry.has_checksums() {
        true => volume.has_indexed_folders(),
        false => volume.descriptor(0).is_ok_and(|raw| raw.bg_checksum.get() != 0),
    };
    if plain {
        stated.ro_compat = stated.ro_compat & !RO_COMPAT_METADATA_CSUM | RO_COMPAT_GDT_CSUM;
        stated.incompat &= !INCOMPAT_CSUM_SEED;
    } else if crc32c(u32::MAX, &uuid) == geometry.checksum_seed {
        stated.incompat &= !INCOMPAT_CSUM_SEED;
    }
    stated
}

/// The superblock from descriptors, bitmaps and inodes.
fn computed(geometry: &ExtGeometry, (volume, without): (&ExtVolume, Features), pending: bool) -> Option<Computed> {
    let geometry = &features(geometry, volume);
    let mut raw = RawSuperblock::new_zeroed();
    let (free_blocks, free_inodes) = volume.free_counts();
    let log = (geometry.block_bytes / 1024).trailing_zeros();
    // With bigalloc descriptors count clusters, the superblock blocks.
    let ratio = (geometry.cluster_bytes / geometry.block_bytes.max(1)).max(1);
    let free_blocks = free_blocks.saturating_mul(u64::from(ratio));
    raw.s_inodes_count = U32::new(geometry.inodes);
    raw.s_blocks_count_lo = U32::new(u32::try_from(geometry.blocks & 0xFFFF_FFFF).ok()?);
    raw.s_blocks_count_hi = U32::new(u32::try_from(geometry.blocks >> 32).ok()?);
    raw.s_free_blocks_count_lo = U32::new(u32::try_from(free_blocks & 0xFFFF_FFFF).ok()?);
    raw.s_free_blocks_count_hi = U32::new(u32::try_from(free_blocks >> 32).ok()?);
    raw.s_free_inodes_count = U32::new(free_inodes);
    raw.s_first_data_block = U32::new(geometry.first_data_block);
    raw.s_log_block_size = U32::new(log);
    raw.s_log_cluster_size = U32::new(log + ratio.ilog2());
    raw.s_blocks_per_group = U32::new(geometry.blocks_per_group);
    raw.s_clusters_per_group = U32::new(geometry.blocks_per_group / ratio);
    raw.s_inodes_per_group = U32::new(geometry.inodes_per_group);
    raw.s_max_mnt_count = U16::new(u16::MAX);
    raw.s_magic = U16::new(MAGIC);
    // Cleanly unmounted; on errors go on.
    raw.s_state = U16::new(STATE_CLEAN);
    raw.s_errors = U16::new(1);
    raw.s_rev_level = U32::new(1);
    raw.s_first_ino = U32::new(11);
    raw.s_inode_size = U16::new(geometry.inode_bytes);
    raw.s_feature_compat = U32::new(geometry.compat | COMPAT_EXT_ATTR);
    raw.s_feature_incompat = U32::new(geometry.incompat | if pending { INCOMPAT_RECOVER } else { 0 });
    raw.s_feature_ro_compat = U32::new(geometry.ro_compat);
    raw.s_uuid = geometry.uuid;
    raw.s_journal_inum = U32::new(geometry.journal_inode);
    raw.s_hash_seed = made_uuid(geometry);
    raw.s_def_hash_version = 1;
    raw.s_desc_size = U16::new(if geometry.descriptor_bytes > 32 { geometry.descriptor_bytes } else { 0 });
    if geometry.inode_bytes > 128 {
        (raw.s_min_extra_isize, raw.s_want_extra_isize) = (U16::new(32), U16::new(32));
    }
    // Directory hashes are of signed characters, as on most machines.
    raw.s_flags = U32::new(1);
    if geometry.incompat & INCOMPAT_FLEX_BG != 0 {
        raw.s_log_groups_per_flex = 4;
    }
    if geometry.has_checksums() {
        raw.s_checksum_type = 1;
        raw.s_checksum_seed = U32::new(geometry.checksum_seed);
    }
    without.take_out(&mut raw);
    let mut bytes = raw.as_bytes().to_vec();
    seal(&mut bytes);
    let groups = geometry.groups();
    let witnesses = vec![
        ("s_blocks_count_lo", format!("{groups} group descriptors, and the end of the last block bitmap")),
        ("s_inodes_count", format!("{groups} groups of {} inodes", geometry.inodes_per_group)),
        ("s_log_block_size", "with this block size the first descriptor leads to the root directory's inode".to_string()),
        ("s_inodes_per_group", "the end of the first inode bitmap".to_string()),
        ("s_inode_size", "the root directory's inode is the second of its table".to_string()),
        ("s_free_blocks_count_lo", "the sum of the group descriptors".to_string()),
        ("s_feature_incompat", "extents, types and descriptor size as inodes, directories and descriptors use them".to_string()),
        ("s_journal_inum", "inode 8 is a file that begins with the journal's magic".to_string()),
        ("s_checksum_seed", "solved from checksums of inodes, which agree on it".to_string()),
        ("s_uuid", "the journal's, else a new one: it is kept nowhere else".to_string()),
        ("s_hash_seed", "kept nowhere else: folders are searched without their index from now on".to_string()),
        (
            "s_feature_ro_compat",
            match geometry.has_checksums() {
                true => "inodes carry checksums, which hold".to_string(),
                false => "without metadata checksums: with them, folders whose index is lost would be refused".to_string(),
            },
        ),
    ];
    Some(Computed { bytes, witnesses })
}

/// An identifier that is the same each time.
fn made_uuid(geometry: &ExtGeometry) -> [u8; 16] {
    let seed = crc32c(geometry.checksum_seed, &geometry.blocks.to_le_bytes());
    let mut bytes = [0; 16];
    for (index, slot) in bytes.chunks_exact_mut(4).enumerate() {
        slot.copy_from_slice(&crc32c(seed, &[u8::try_from(index).unwrap_or(0)]).to_le_bytes());
    }
    uuid::Builder::from_random_bytes(bytes).into_uuid().into_bytes()
}

/// The table of group descriptors against its copies, in pieces. Pieces behind the first are listed when they do not
/// hold. Counts follow from the bitmaps of `view`: the volume as it will be.
fn descriptor_tables(window: &SharedSource, view: &SharedSource, geometry: &ExtGeometry) -> Vec<Structure> {
    tables(window, view, geometry).into_iter().map(|(_, structure)| structure).collect()
}

/// Descriptors that stand one behind the other: of a block in meta groups, else of [`PIECE`] bytes.
fn per_piece(geometry: &ExtGeometry) -> u32 {
    let bytes = if geometry.incompat & INCOMPAT_META_BG != 0 { geometry.block_bytes as usize } else { PIECE };
    u32::try_from(bytes / usize::from(geometry.descriptor_bytes).max(1)).unwrap_or(1).max(1)
}

/// The pieces, each with the number of its first group.
fn tables(window: &SharedSource, view: &SharedSource, geometry: &ExtGeometry) -> Vec<(u32, Structure)> {
    let size = usize::from(geometry.descriptor_bytes);
    let per_piece = per_piece(geometry);
    let firsts = (0..geometry.groups()).step_by(per_piece as usize).take(MOST_PIECES);
    let piece = |first: u32| {
        let count = per_piece.min(geometry.groups() - first);
        let keepers = geometry.descriptor_keepers(first).into_iter().take(MOST_COPIES);
        let copies: Vec<ByteOffset> = keepers.filter_map(|keeper| geometry.descriptor_copy_at(first, keeper)).collect();
        let judge = |at: ByteOffset, bytes: &[u8]| judge_descriptors(geometry, first, at, bytes);
        let adapt = |bytes: Vec<u8>| counted_anew(view, geometry, first, bytes);
        let name = format!("group descriptors {first} to {}", first + count - 1);
        let len = count as usize * size;
        let main = geometry.descriptor_at(first);
        // Pieces that hold are passed over before their copies are read: a large volume has hundreds.
        let holds = || read_bytes(window.as_ref(), main, len, "group descriptors").is_ok_and(|bytes| judge(main, &bytes).is_ok());
        if first > 0 && holds() {
            return None;
        }
        let read = Structure::read_sparingly(window, name, len, (main, &copies), &judge, &adapt);
        Some((first, Structure { fields: DESCRIPTOR.to_vec(), ..read }))
    };
    firsts.filter_map(piece).collect()
}

/// The descriptors as they stand and as their bitmaps would have them, in pieces: number of the first group, both
/// versions. Pieces that do not hold at all are left out.
pub(super) fn counted(window: &SharedSource, geometry: &ExtGeometry) -> Vec<(u32, Vec<u8>, Vec<u8>)> {
    let per_piece = per_piece(geometry);
    let piece = |first: u32| {
        let count = per_piece.min(geometry.groups() - first) as usize;
        let at = geometry.descriptor_at(first);
        let stored = read_bytes(window.as_ref(), at, count * usize::from(geometry.descriptor_bytes), "group descriptors").ok()?;
        judge_descriptors(geometry, first, at, &stored).ok()?;
        let fresh = counted_by(window, geometry, first, stored.clone(), Flags::Hold);
        Some((first, stored, fresh))
    };
    (0..geometry.groups()).step_by(per_piece as usize).take(MOST_PIECES).filter_map(piece).collect()
}

pub(super) fn judge_descriptors(geometry: &ExtGeometry, first: u32, at: ByteOffset, bytes: &[u8]) -> Result<(), FormatError> {
    let size = usize::from(geometry.descriptor_bytes);
    for (index, descriptor) in bytes.chunks_exact(size).enumerate() {
        let view = View::new("group descriptor", at + (index * size) as u64, descriptor);
        let group = first + u32::try_from(index).unwrap_or(0);
        let raw = raw_of(descriptor);
        if !descriptor_points_inside(&raw, geometry) {
            return Err(view.wrong(8, "bg_inode_table", u64::from(raw.bg_inode_table_lo.get()), "blocks of the volume"));
        }
        let computed = descriptor_sum(geometry, group, descriptor);
        let found = raw.bg_checksum.get();
        if computed.is_some_and(|sum| sum != found) {
            let computed = u32::from(computed.unwrap_or(0));
            return Err(view.error(30, Problem::Checksum { field: "bg_checksum", found: u32::from(found), computed }));
        }
    }
    Ok(())
}

fn raw_of(descriptor: &[u8]) -> RawDescriptor {
    let mut bytes = [0; 64];
    bytes.iter_mut().zip(descriptor).for_each(|(slot, byte)| *slot = *byte);
    RawDescriptor::read_from_bytes(&bytes).unwrap_or_else(|_| RawDescriptor::new_zeroed())
}

/// What the flags of a descriptor say of bitmaps that were never written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Flags {
    /// They are of now: whatever stands in the place of such a bitmap means nothing.
    Hold,
    /// They are of the day when the copy was written: the bitmap may have been written since.
    MayBeOld,
}

/// Descriptors of a copy, which keeps the counts of the day it was written, with those that the bitmaps have now.
fn counted_anew(window: &SharedSource, geometry: &ExtGeometry, first: u32, bytes: Vec<u8>) -> Vec<u8> {
    counted_by(window, geometry, first, bytes, Flags::MayBeOld)
}

fn counted_by(window: &SharedSource, geometry: &ExtGeometry, first: u32, mut bytes: Vec<u8>, flags: Flags) -> Vec<u8> {
    let size = usize::from(geometry.descriptor_bytes);
    for (index, descriptor) in bytes.chunks_exact_mut(size).enumerate() {
        let group = first + u32::try_from(index).unwrap_or(0);
        let mut raw = raw_of(descriptor);
        count_bits(window, geometry, group, &mut raw, flags);
        descriptor.iter_mut().zip(raw.as_bytes()).for_each(|(slot, byte)| *slot = *byte);
        set_sum(geometry, group, descriptor);
    }
    bytes
}

fn count_bits(window: &SharedSource, geometry: &ExtGeometry, group: u32, raw: &mut RawDescriptor, flags: Flags) {
    let unit = u64::from(geometry.block_bytes);
    let read = |block: u64, bits: u32| {
        let len = usize::try_from(bits / 8).unwrap_or(0);
        read_bytes(window.as_ref(), ByteOffset(block.saturating_mul(unit)), len, "bitmap").ok()
    };
    let per_cluster = (geometry.cluster_bytes / geometry.block_bytes).max(1);
    let all = geometry.blocks_per_group / per_cluster;
    let left = geometry.blocks.saturating_sub(geometry.first_block(group)).min(u64::from(geometry.blocks_per_group));
    let here = u32::try_from(left).unwrap_or(all).div_ceil(per_cluster);
    let block = u64::from(raw.bg_block_bitmap_lo.get()) | u64::from(raw.bg_block_bitmap_hi.get()) << 32;
    // Zeros where a copy says "never written" are just that.
    let never =
        |bits: &[u8], flag: u16| raw.bg_flags.get() & flag != 0 && (flags == Flags::Hold || bits.iter().all(|byte| *byte == 0));
    let wide = geometry.descriptor_bytes >= 64;
    let mut fresh = *raw;
    if let Some(bits) = read(block, all).filter(|bits| !never(bits, BG_BLOCK_UNINIT)) {
        let free = (0..here).filter(|bit| is_clear(&bits, *bit)).count();
        let sum = crc32c(geometry.checksum_seed, &bits);
        fresh.bg_flags.set(fresh.bg_flags.get() & !BG_BLOCK_UNINIT);
        fresh.bg_free_blocks_count_lo.set(u16::try_from(free & 0xFFFF).unwrap_or(0));
        set_high(&mut fresh, 0, wide, u16::try_from(free >> 16).unwrap_or(0));
        if geometry.has_checksums() {
            fresh.bg_block_bitmap_csum_lo.set(u16::try_from(sum & 0xFFFF).unwrap_or(0));
            set_high(&mut fresh, 12, wide, u16::try_from(sum >> 16).unwrap_or(0));
        }
    }
    let inodes = u64::from(raw.bg_inode_bitmap_lo.get()) | u64::from(raw.bg_inode_bitmap_hi.get()) << 32;
    if let Some(bits) = read(inodes, geometry.inodes_per_group).filter(|bits| !never(bits, BG_INODE_UNINIT)) {
        let free = (0..geometry.inodes_per_group).filter(|bit| is_clear(&bits, *bit)).count();
        let last = (0..geometry.inodes_per_group).rev().find(|bit| !is_clear(&bits, *bit)).map_or(0, |bit| bit + 1);
        // Inodes that were used once and are free again are not counted as unused: fewer than there are is right too.
        let high = raw.bg_high.get(6..8).and_then(<[u8]>::first_chunk).map_or(0, |half| u32::from(u16::from_le_bytes(*half)));
        let stored = u32::from(raw.bg_itable_unused_lo.get()) | if wide { high << 16 } else { 0 };
        let unused = stored.min(geometry.inodes_per_group - last);
        let sum = crc32c(geometry.checksum_seed, &bits);
        if let Some(folders) = count_folders(window, geometry, raw, &bits, last) {
            fresh.bg_used_dirs_count_lo.set(u16::try_from(folders & 0xFFFF).unwrap_or(0));
            set_high(&mut fresh, 4, wide, u16::try_from(folders >> 16).unwrap_or(0));
        }
        fresh.bg_flags.set(fresh.bg_flags.get() & !BG_INODE_UNINIT);
        fresh.bg_free_inodes_count_lo.set(u16::try_from(free & 0xFFFF).unwrap_or(0));
        set_high(&mut fresh, 2, wide, u16::try_from(free >> 16).unwrap_or(0));
        if geometry.counts_unwritten() {
            fresh.bg_itable_unused_lo.set(u16::try_from(unused & 0xFFFF).unwrap_or(0));
            set_high(&mut fresh, 6, wide, u16::try_from(unused >> 16).unwrap_or(0));
        }
        if geometry.has_checksums() {
            fresh.bg_inode_bitmap_csum_lo.set(u16::try_from(sum & 0xFFFF).unwrap_or(0));
            set_high(&mut fresh, 14, wide, u16::try_from(sum >> 16).unwrap_or(0));
        }
    }
    *raw = fresh;
}

/// Folders among the first `count` inodes of a group of which `bits` says that they are in use; none where its table does not
/// read whole.
fn count_folders(window: &SharedSource, geometry: &ExtGeometry, raw: &RawDescriptor, bits: &[u8], count: u32) -> Option<u32> {
    let at = geometry.block_at(inode_table(raw))?;
    let size = usize::from(geometry.inode_bytes.max(128));
    let each = u32::try_from(TABLE_STEP / size).ok()?.max(1);
    let mut folders = 0;
    for first in (0..count).step_by(each as usize) {
        let taken = each.min(count - first) as usize;
        let place = at + u64::from(first) * size as u64;
        step(window.as_ref(), place, "inode table", 1).ok()?;
        let table = read_bytes(window.as_ref(), place, taken * size, "inode table").ok()?;
        let is_folder = |inode: &[u8]| inode.first_chunk().is_some_and(|mode| u16::from_le_bytes(*mode) >> 12 == 4);
        let used = table.chunks_exact(size).zip(first..).filter(|(inode, bit)| !is_clear(bits, *bit) && is_folder(inode));
        folders += u32::try_from(used.count()).ok()?;
    }
    Some(folders)
}

fn is_clear(bits: &[u8], bit: u32) -> bool {
    bits.get(bit as usize / 8).is_some_and(|byte| byte >> (bit % 8) & 1 == 0)
}

/// Sets the high half of a count, `offset` bytes into the second half of a descriptor that has one.
fn set_high(raw: &mut RawDescriptor, offset: usize, wide: bool, value: u16) {
    if let Some(slot) = raw.bg_high.get_mut(offset..offset + 2).filter(|_| wide) {
        slot.copy_from_slice(&value.to_le_bytes());
    }
}
