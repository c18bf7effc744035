//! What groups say of themselves: free space, chunks of inodes, blocks that files share. Source: "XFS Algorithms & Data Structures",
//! chapter "Allocation Groups"; big-endian.

use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, RangeSet};

use super::layout::{
    CHUNK_INODES, INCOMPAT_SPINODES, NO_INODE, RO_COMPAT_FINOBT, RO_COMPAT_REFLINK, RO_COMPAT_RMAPBT, RawFreeSpace, RawInodes,
    checksum_holds,
};
use super::tree::{self, TreeKind, Walked};
use super::{Inode, XfsGeometry};
use crate::pages::Pages;
use crate::{FormatError, NodeKind, View};

/// Where `agf_crc` stands.
const AGF_CRC_AT: usize = 216;
/// Where `agi_crc` stands.
const AGI_CRC_AT: usize = 312;
/// The upper bit of `rc_startblock`: blocks that are being copied, not shared.
const COPYING: u32 = 1 << 31;

/// Where the header of a group's free space stands.
pub(super) fn free_space_at(geometry: &XfsGeometry, group: u32) -> ByteOffset {
    geometry.group_at(group) + u64::from(geometry.sector_bytes)
}

/// Where the header of a group's inodes stands.
pub(super) fn inodes_at(geometry: &XfsGeometry, group: u32) -> ByteOffset {
    geometry.group_at(group) + 2 * u64::from(geometry.sector_bytes)
}

/// Blocks that the headers of a group take at its start: superblock, free space, inodes, list of free blocks.
pub(super) fn header_blocks(geometry: &XfsGeometry) -> u64 {
    (4 * u64::from(geometry.sector_bytes)).div_ceil(u64::from(geometry.block_bytes))
}

/// The header of a group's free space, and whether its checksum holds.
///
/// # Errors
/// [`FormatError`] when it cannot be read or is another group's.
pub(super) fn free_space(pages: &Pages, geometry: &XfsGeometry, group: u32) -> Result<(RawFreeSpace, bool), FormatError> {
    let at = free_space_at(geometry, group);
    let bytes = pages.bytes(at, geometry.sector_bytes as usize, "AGF")?;
    let view = View::new("AGF", at, &bytes);
    let raw: RawFreeSpace = *view.at(0, "AGF")?;
    own_header(geometry, view, (b"XAGF", raw.agf_magicnum), group, (raw.agf_seqno.get(), raw.agf_length.get()))?;
    Ok((raw, !geometry.has_checksums() || checksum_holds(&bytes, AGF_CRC_AT)))
}

/// The header of a group's inodes, and whether its checksum holds.
///
/// # Errors
/// [`FormatError`] when it cannot be read or is another group's.
pub(super) fn inodes(pages: &Pages, geometry: &XfsGeometry, group: u32) -> Result<(RawInodes, bool), FormatError> {
    let at = inodes_at(geometry, group);
    let bytes = pages.bytes(at, geometry.sector_bytes as usize, "AGI")?;
    let view = View::new("AGI", at, &bytes);
    let raw: RawInodes = *view.at(0, "AGI")?;
    own_header(geometry, view, (b"XAGI", raw.agi_magicnum), group, (raw.agi_seqno.get(), raw.agi_length.get()))?;
    Ok((raw, !geometry.has_checksums() || checksum_holds(&bytes, AGI_CRC_AT)))
}

fn own_header(
    geometry: &XfsGeometry,
    view: View<'_>,
    (wanted, magic): (&[u8; 4], [u8; 4]),
    group: u32,
    (number, length): (u32, u32),
) -> Result<(), FormatError> {
    if magic != *wanted {
        return Err(view.wrong(0, "magicnum", u64::from(u32::from_be_bytes(magic)), "XAGF or XAGI"));
    }
    if number != group || length != geometry.blocks_of(group) {
        return Err(view.wrong(8, "seqno", u64::from(number), "its own group, of that group's length"));
    }
    Ok(())
}

/// The trees of a group: what they are, their roots and their levels.
pub(super) fn trees(
    geometry: &XfsGeometry,
    group: u32,
    space: Option<&RawFreeSpace>,
    inodes: Option<&RawInodes>,
) -> Vec<(&'static TreeKind, (u32, u32, u32))> {
    let has = |feature: u32| geometry.ro_compat & feature != 0;
    let mut all = Vec::new();
    if let Some(raw) = space {
        let [by_block, by_length, owners] = [0, 1, 2].map(|index: usize| {
            let root = raw.agf_roots.get(index).map_or(0, |word| word.get());
            (group, root, raw.agf_levels.get(index).map_or(0, |word| word.get()))
        });
        all.extend([(&tree::FREE_BY_BLOCK, by_block), (&tree::FREE_BY_LENGTH, by_length)]);
        if has(RO_COMPAT_RMAPBT) {
            all.push((&tree::OWNERS, owners));
        }
        if has(RO_COMPAT_REFLINK) {
            all.push((&tree::SHARED, (group, raw.agf_refcount_root.get(), raw.agf_refcount_level.get())));
        }
    }
    if let Some(raw) = inodes {
        all.push((&tree::INODES, (group, raw.agi_root.get(), raw.agi_level.get())));
        if has(RO_COMPAT_FINOBT) {
            all.push((&tree::FREE_INODES, (group, raw.agi_free_root.get(), raw.agi_free_level.get())));
        }
    }
    all
}

/// A chunk of 64 inodes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Chunk {
    /// Number of its first inode inside the group.
    pub(super) first: u32,
    /// A bit for each inode that is free.
    pub(super) free: u64,
    /// A bit for each four inodes that have no ground.
    pub(super) holes: u16,
}

impl Chunk {
    pub(super) fn parse(geometry: &XfsGeometry, view: View<'_>) -> Result<Self, FormatError> {
        let sparse = geometry.incompat & INCOMPAT_SPINODES != 0;
        let holes = if sparse { view.u16_be(4, "ir_holemask")? } else { 0 };
        Ok(Self { first: view.u32_be(0, "ir_startino")?, free: view.u64_be(8, "ir_free")?, holes })
    }

    /// The inodes that have ground, by their place in the chunk, and whether each is counted as used.
    pub(super) fn inodes(self) -> impl Iterator<Item = (u64, bool)> {
        let stands = move |index: &u64| self.holes >> (index / 4) & 1 == 0;
        (0..CHUNK_INODES).filter(stands).map(move |index| (index, self.free >> index & 1 == 0))
    }
}

/// Hands every chunk of inodes of a group to `each`.
///
/// # Errors
/// [`FormatError`] when the group's header does not read; what does not read of the tree is told by [`Walked`].
pub(super) fn each_chunk(
    pages: &Pages,
    geometry: &XfsGeometry,
    group: u32,
    each: &mut dyn FnMut(Chunk) -> ControlFlow<()>,
) -> Result<Walked, FormatError> {
    let (raw, _) = inodes(pages, geometry, group)?;
    let place = (group, raw.agi_root.get(), raw.agi_level.get());
    Ok(tree::walk_group(pages, geometry, &tree::INODES, place, &mut |view| {
        Chunk::parse(geometry, view).map_or(ControlFlow::Continue(()), &mut *each)
    }))
}

/// Ground of a group that is free (bytes of the volume), by its tree by block.
///
/// # Errors
/// [`FormatError`] when not all of the tree reads.
pub(super) fn free_ground(pages: &Pages, geometry: &XfsGeometry, group: u32) -> Result<Vec<ByteRange>, FormatError> {
    let (raw, _) = free_space(pages, geometry, group)?;
    let [root, ..] = raw.agf_roots;
    let [levels, ..] = raw.agf_levels;
    ground(pages, geometry, &tree::FREE_BY_BLOCK, (group, root.get(), levels.get()), &|_| true)
}

/// Ground that several files share (bytes of the volume), of all groups.
///
/// # Errors
/// [`FormatError`] when not all of it reads.
pub(super) fn shared_ground(pages: &Pages, geometry: &XfsGeometry) -> Result<RangeSet, FormatError> {
    let mut shared = RangeSet::default();
    if geometry.ro_compat & RO_COMPAT_REFLINK == 0 {
        return Ok(shared);
    }
    for group in 0..geometry.groups {
        let (raw, _) = free_space(pages, geometry, group)?;
        let place = (group, raw.agf_refcount_root.get(), raw.agf_refcount_level.get());
        let several = |view: View<'_>| {
            view.u32_be(8, "rc_refcount").is_ok_and(|count| count > 1)
                && view.u32_be(0, "rc_startblock").is_ok_and(|block| block & COPYING == 0)
        };
        ground(pages, geometry, &tree::SHARED, place, &several)?.into_iter().for_each(|range| shared.add(range));
    }
    Ok(shared)
}

/// The runs that records of a tree begin with, block and count, as bytes of the volume; those that are `wanted`.
fn ground(
    pages: &Pages,
    geometry: &XfsGeometry,
    kind: &'static TreeKind,
    place: (u32, u32, u32),
    wanted: &dyn Fn(View<'_>) -> bool,
) -> Result<Vec<ByteRange>, FormatError> {
    let (group, size) = (place.0, u64::from(geometry.block_bytes));
    let mut runs = Vec::new();
    let mut wrong = None;
    let walked = tree::walk_group(pages, geometry, kind, place, &mut |view| {
        if !wanted(view) {
            return ControlFlow::Continue(());
        }
        let run = view.u32_be(0, "startblock").ok().zip(view.u32_be(4, "blockcount").ok());
        let fits = run.filter(|(block, count)| u64::from(*block) + u64::from(*count) <= u64::from(geometry.blocks_of(group)));
        match fits.and_then(|(block, count)| Some((geometry.group_block_at(group, block)?, count))) {
            Some((at, count)) => {
                runs.push(ByteRange::sized(at, u64::from(count) * size));
                ControlFlow::Continue(())
            }
            None => {
                let found = run.map_or(0, |(block, _)| u64::from(block));
                wrong = Some(view.wrong(0, "startblock", found, "blocks of the group"));
                ControlFlow::Break(())
            }
        }
    });
    match wrong.or(walked.errors.into_iter().next()) {
        Some(error) => Err(error),
        None => Ok(runs),
    }
}

/// The root folder of a volume whose superblock does not name it: the first inode of the first group. The inode itself must be a
/// folder.
pub(super) fn first_inode(pages: &Pages, geometry: &XfsGeometry) -> Option<u64> {
    let mut first = None;
    let _ = each_chunk(pages, geometry, 0, &mut |chunk| {
        first = Some(chunk.first);
        ControlFlow::Break(())
    });
    let number = geometry.inode_number(0, u64::from(first?));
    let at = geometry.inode_at(number)?;
    let bytes = pages.bytes(at, geometry.inode_bytes as usize, "inode").ok()?;
    let inode = Inode::parse(geometry, number, at, bytes).ok()?;
    (inode.kind() == Some(NodeKind::Directory)).then_some(number)
}

/// The geometry with its root, where it is known or can be found.
pub(super) fn rooted(pages: &Pages, geometry: &XfsGeometry) -> XfsGeometry {
    let known = geometry.root != 0 && geometry.root != NO_INODE;
    let root = if known { Some(geometry.root) } else { first_inode(pages, geometry) };
    XfsGeometry { root: root.unwrap_or(NO_INODE), ..*geometry }
}
