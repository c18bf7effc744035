//! An ext volume of which no superblock is left: group descriptors, bitmaps and inode tables say the rest.

use std::sync::Arc;

use keel_source::{ByteOffset, SharedSource};
use zerocopy::FromBytes;

use super::clue::DescriptorClue;
use crate::bounded;
use crate::clue::Clues;
use crate::ext::checksum::solve_seed;
use crate::ext::layout::inode_table;
use crate::ext::layout::{
    BG_BLOCK_UNINIT, COMPAT_HAS_JOURNAL, FLAG_EXTENTS, INCOMPAT_64BIT, INCOMPAT_CSUM_SEED, INCOMPAT_EXTENTS, INCOMPAT_FILETYPE,
    INCOMPAT_FLEX_BG, JOURNAL_INODE, RO_COMPAT_BIGALLOC, RO_COMPAT_EXTRA_ISIZE, RO_COMPAT_LARGE_FILE, RO_COMPAT_METADATA_CSUM,
    RO_COMPAT_SPARSE_SUPER, ROOT_INODE, RawDescriptor, RawInode, SUPERBLOCK_AT, kind_of,
};
use crate::ext::{ExtGeometry, Inode};
use crate::pages::Pages;
use crate::{Witness, WitnessKind, read_bytes};
use keel_source::ByteRange;

/// The groups whose copies of the descriptors are tried as what a table on the surface is.
const KEEPERS: [u64; 12] = [0, 1, 3, 5, 7, 9, 25, 27, 49, 81, 125, 243];
/// The most blocks of files that are asked for in a bitmap.
const MOST_HELD: usize = 256;
/// The largest cluster is 2¹⁰ blocks.
const MOST_RATIO: u32 = 10;
/// The most group descriptors that are read.
const MOST_GROUPS: usize = 1 << 17;

/// A start, the geometry that follows, and the evidence for it.
pub(super) type Inferred = (ByteOffset, ExtGeometry, Witness);

/// The first two numbers of a volume that the rest follows from.
#[derive(Clone, Copy)]
struct Base {
    start: ByteOffset,
    block_bytes: u64,
    inode_bytes: u16,
}

impl Base {
    fn at(&self, block: u64) -> ByteOffset {
        ByteOffset(self.start.0.saturating_add(block.saturating_mul(self.block_bytes)))
    }
}

/// The volume whose group descriptors stand at `clue`, when they lead to a root directory. Bounded by the sizes of
/// blocks, inodes and [`KEEPERS`] that are tried, and by [`MOST_GROUPS`].
pub(super) fn from_descriptors(drive: &SharedSource, clue: &DescriptorClue, clues: &Clues) -> Option<Inferred> {
    let first = descriptor_at(drive, clue.at, clue.bytes)?;
    let base = base(drive, clue.at, &first)?;
    let descriptors = descriptors(drive, clue, &base);
    let groups = u32::try_from(descriptors.len()).ok()?;
    let inodes_per_group = last_bits_unused(drive, &base, u64::from(first.bg_inode_bitmap_lo.get()))?;
    let first_data_block = u32::from(base.block_bytes == 1024);
    let blocks_per_group = u32::try_from(base.block_bytes * 8).ok()?;
    let last = descriptors.last()?;
    let in_last = match last.bg_flags.get() & BG_BLOCK_UNINIT {
        0 => last_bits_unused(drive, &base, block_bitmap(last))?,
        _ => blocks_per_group,
    };
    let blocks = u64::from(first_data_block) + u64::from(groups - 1) * u64::from(blocks_per_group) + u64::from(in_last);
    let root = raw_inode(drive, base.at(inode_table(&first)) + u64::from(base.inode_bytes), base.inode_bytes)?;
    let extents = root.i_flags.get() & FLAG_EXTENTS != 0;
    let stepped = descriptors.get(1).is_some_and(|next| block_bitmap(next) == block_bitmap(&first) + 1);
    let mut geometry = ExtGeometry {
        kind: crate::VolumeKind::Ext4,
        block_bytes: u32::try_from(base.block_bytes).ok()?,
        blocks,
        inodes: groups.checked_mul(inodes_per_group)?,
        blocks_per_group,
        inodes_per_group,
        first_data_block,
        inode_bytes: base.inode_bytes,
        descriptor_bytes: clue.bytes,
        cluster_bytes: u32::try_from(base.block_bytes).ok()?,
        compat: 0,
        incompat: INCOMPAT_FILETYPE
            | if clue.bytes == 64 { INCOMPAT_64BIT } else { 0 }
            | if extents { INCOMPAT_EXTENTS } else { 0 }
            | if stepped { INCOMPAT_FLEX_BG } else { 0 },
        ro_compat: RO_COMPAT_SPARSE_SUPER
            | RO_COMPAT_LARGE_FILE
            | if extents && base.inode_bytes > 128 { RO_COMPAT_EXTRA_ISIZE } else { 0 },
        first_meta_bg: 0,
        backup_groups: [0; 2],
        journal_inode: 0,
        uuid: [0; 16],
        checksum_seed: 0,
        kept_superblock: 0,
    };
    if let Some(ratio) = cluster_ratio(drive, &base, &geometry, block_bitmap(&first)) {
        let wide = u32::try_from(ratio).ok()?;
        geometry.blocks_per_group = blocks_per_group.checked_mul(wide)?;
        geometry.cluster_bytes = geometry.block_bytes.checked_mul(wide)?;
        geometry.ro_compat |= RO_COMPAT_BIGALLOC;
        let in_groups = u64::from(groups - 1) * u64::from(geometry.blocks_per_group);
        let room = drive.len().saturating_sub(base.start.0) / base.block_bytes;
        geometry.blocks = (u64::from(first_data_block) + in_groups + u64::from(in_last) * ratio).min(room);
    }
    complete(drive, &base, &mut geometry)?;
    let met = directories_met(drive, &base, &geometry, clues);
    let says = format!(
        "no superblock is left; {groups} group descriptors and the ends of bitmaps give blocks of {} bytes, {inodes_per_group} \
         inodes a group, {blocks} blocks; {met} directories stand where this puts them",
        base.block_bytes
    );
    let witness = Witness::at(WitnessKind::SizeRecord, clue.at, 15, says).start(base.start).length(geometry.volume_bytes());
    Some((base.start, geometry, witness))
}

fn descriptor_at(drive: &SharedSource, at: ByteOffset, bytes: u16) -> Option<RawDescriptor> {
    let mut read = read_bytes(drive.as_ref(), at, usize::from(bytes).min(64), "group descriptor").ok()?;
    read.resize(64, 0);
    RawDescriptor::read_from_bytes(&read).ok()
}

fn block_bitmap(raw: &RawDescriptor) -> u64 {
    u64::from(raw.bg_block_bitmap_lo.get()) | u64::from(raw.bg_block_bitmap_hi.get()) << 32
}

fn raw_inode(drive: &SharedSource, at: ByteOffset, bytes: u16) -> Option<RawInode> {
    let bytes = read_bytes(drive.as_ref(), at, usize::from(bytes), "inode").ok()?;
    Inode::parse(ROOT_INODE, at, bytes).ok().map(|inode| inode.raw)
}

/// Start, block size and inode size for which the first descriptor leads to the inode of a root directory, and that to
/// the directory itself.
fn base(drive: &SharedSource, at: ByteOffset, first: &RawDescriptor) -> Option<Base> {
    let sizes = (10..=16).map(|shift| 1u64 << shift);
    let starts = sizes.flat_map(|block_bytes| {
        KEEPERS.iter().filter_map(move |group| {
            let superblock = SUPERBLOCK_AT / block_bytes + group * 8 * block_bytes;
            let back = (superblock + 1).checked_mul(block_bytes)?;
            at.0.checked_sub(back).map(|start| (ByteOffset(start), block_bytes))
        })
    });
    starts
        .flat_map(|(start, block_bytes)| [256, 128, 512, 1024].map(|inode_bytes| Base { start, block_bytes, inode_bytes }))
        .find(|base| {
            let at = base.at(inode_table(first)) + u64::from(base.inode_bytes);
            at.0 < drive.len() && raw_inode(drive, at, base.inode_bytes).is_some_and(|root| is_root(drive, base, &root))
        })
}

fn is_root(drive: &SharedSource, base: &Base, root: &RawInode) -> bool {
    if root.i_mode.get() >> 12 != 4 || root.i_links_count.get() < 2 || root.i_dtime.get() != 0 {
        return false;
    }
    let word = |index: usize| {
        let bytes = root.i_block.get(index * 4..index * 4 + 4).and_then(<[u8]>::first_chunk::<4>);
        bytes.map_or(0, |bytes| u32::from_le_bytes(*bytes))
    };
    // Header of the extent tree, then the first extent: logical block, length, high and low part of its place.
    let block = match root.i_flags.get() & FLAG_EXTENTS {
        0 => u64::from(word(0)),
        _ => u64::from(word(5)) | u64::from(word(4) >> 16) << 32,
    };
    let dots = read_bytes(drive.as_ref(), base.at(block), 24, "directory block").unwrap_or_default();
    matches!(dots.as_slice(), [2, 0, 0, 0, 12, 0, 1, _, b'.', 0, 0, 0, 2, 0, 0, 0, _, _, 2, _, b'.', b'.', ..])
}

/// The descriptors behind the first one, to the last that points into the drive.
fn descriptors(drive: &SharedSource, clue: &DescriptorClue, base: &Base) -> Vec<RawDescriptor> {
    let room = drive.len().saturating_sub(base.start.0) / base.block_bytes;
    let points_inside = |raw: &RawDescriptor| {
        [block_bitmap(raw), u64::from(raw.bg_inode_bitmap_lo.get()), inode_table(raw)]
            .iter()
            .all(|block| (1..room).contains(block))
    };
    let pages = Pages::new(Arc::clone(drive));
    let read = |index: usize| {
        let at = clue.at + index as u64 * u64::from(clue.bytes);
        let mut bytes = pages.bytes(at, usize::from(clue.bytes).min(64), "group descriptor").ok()?;
        bytes.resize(64, 0);
        RawDescriptor::read_from_bytes(&bytes).ok().filter(|raw| points_inside(raw))
    };
    (0..MOST_GROUPS).map_while(read).collect()
}

/// Blocks in a cluster where a bit of the bitmap stands for more than one: the smallest ratio for which every block that
/// the first directories hold is marked, when without one some are not.
fn cluster_ratio(drive: &SharedSource, base: &Base, geometry: &ExtGeometry, bitmap: u64) -> Option<u64> {
    let bits = read_bytes(drive.as_ref(), base.at(bitmap), usize::try_from(base.block_bytes).ok()?, "bitmap").ok()?;
    let room = drive.len().saturating_sub(base.start.0) / base.block_bytes;
    // As wide as the drive allows, so that every block can be asked for.
    let open = ExtGeometry { blocks: room, blocks_per_group: u32::MAX >> 1, ..*geometry };
    let window = bounded::window(drive, ByteRange::new(base.start, ByteOffset(drive.len())));
    let volume = crate::ext::ExtVolume::open(window, open).ok()?;
    let mut held: Vec<u64> = Vec::new();
    let _ = crate::Volume::walk(&volume, crate::Deleted::Hide, &mut |found| {
        let extents = crate::Volume::extents(&volume, found.entry.id).unwrap_or_default();
        held.extend(extents.iter().filter_map(|extent| Some(extent.volume_at?.0 / base.block_bytes)));
        if held.len() < MOST_HELD { std::ops::ControlFlow::Continue(()) } else { std::ops::ControlFlow::Break(()) }
    });
    let marked = |block: u64, ratio: u64| {
        let bit = block.saturating_sub(u64::from(geometry.first_data_block)) / ratio;
        let byte = usize::try_from(bit / 8).ok().and_then(|index| bits.get(index)).copied().unwrap_or(0);
        byte >> (bit % 8) & 1 == 1
    };
    // Blocks behind the first group are counted elsewhere.
    let all = |ratio: u64| held.iter().filter(|block| **block < base.block_bytes * 8 * ratio).all(|block| marked(*block, ratio));
    let reaches = |ratio: u64| held.iter().any(|block| *block < base.block_bytes * 8 * ratio);
    if held.is_empty() || all(1) {
        return None;
    }
    (1..=MOST_RATIO).map(|power| 1u64 << power).find(|ratio| reaches(*ratio) && all(*ratio))
}

/// How many bits of the bitmap block count something: those behind are all set.
fn last_bits_unused(drive: &SharedSource, base: &Base, block: u64) -> Option<u32> {
    let bits = read_bytes(drive.as_ref(), base.at(block), usize::try_from(base.block_bytes).ok()?, "bitmap").ok()?;
    let last = bits.iter().rposition(|byte| *byte != 0xFF);
    let (bytes, ones) = last.map_or((0, 0), |last| (last, bits.get(last).map_or(0, |byte| byte.leading_ones())));
    u32::try_from(bytes * 8 + 8).ok().map(|end| end - ones).filter(|count| *count > 0)
}

/// The features that inodes tell of: a journal, and metadata checksums with the seed that they were made with.
fn complete(drive: &SharedSource, base: &Base, geometry: &mut ExtGeometry) -> Option<()> {
    let range = ByteRange::sized(base.start, geometry.volume_bytes());
    let window = bounded::window(drive, range);
    let table = descriptor_at(&window, geometry.descriptor_at(0), geometry.descriptor_bytes);
    let table = table.or_else(|| descriptor_at(&window, geometry.descriptor_copy_at(0, 1)?, geometry.descriptor_bytes))?;
    let inode = |number: u32| {
        let at = geometry.block_at(inode_table(&table))? + u64::from(number - 1) * u64::from(geometry.inode_bytes);
        let bytes = read_bytes(window.as_ref(), at, usize::from(geometry.inode_bytes), "inode").ok()?;
        Inode::parse(number, at, bytes).ok()
    };
    let seeds: Vec<u32> = [ROOT_INODE, JOURNAL_INODE, 11].into_iter().filter_map(|number| solve_seed(&inode(number)?)).collect();
    let journal = inode(JOURNAL_INODE).filter(|inode| inode.raw.i_mode.get() >> 12 == 8 && inode.bytes() > 0);
    if let [first, rest @ ..] = seeds.as_slice()
        && !rest.is_empty()
        && rest.iter().all(|seed| seed == first)
    {
        geometry.ro_compat |= RO_COMPAT_METADATA_CSUM;
        geometry.incompat |= INCOMPAT_CSUM_SEED;
        geometry.checksum_seed = *first;
    }
    if journal.is_some() {
        geometry.compat |= COMPAT_HAS_JOURNAL;
        geometry.journal_inode = JOURNAL_INODE;
    }
    geometry.kind = kind_of(geometry.compat, geometry.incompat, geometry.ro_compat);
    Some(())
}

/// Directories of the surface whose inode, by this geometry, is a directory that begins where they stand.
fn directories_met(drive: &SharedSource, base: &Base, geometry: &ExtGeometry, clues: &Clues) -> usize {
    let range = ByteRange::sized(base.start, geometry.volume_bytes());
    let window = bounded::window(drive, range);
    let Ok(volume) = crate::ext::ExtVolume::open(window, *geometry) else { return 0 };
    let inside = clues.ext.directories.iter().filter(|directory| range.contains(directory.at)).take(64);
    inside
        .filter(|directory| {
            let extents = crate::Volume::extents(&volume, crate::NodeId(u64::from(directory.own))).unwrap_or_default();
            extents.first().and_then(|extent| extent.volume_at).is_some_and(|at| base.start + at.0 == directory.at)
        })
        .count()
}
