//! Where a file's blocks are: extent trees and the older block maps.

use keel_source::Budget;

use super::{ExtGeometry, Inode};
use crate::device::hold;
use crate::file_map::{EXTENT_BYTES, FileMap, FileMapBuilder};
use crate::pages::Pages;
use crate::{FormatError, Problem, View};

/// `eh_magic`.
const EXTENT_MAGIC: u16 = 0xF30A;
/// The deepest tree that the format allows.
const DEEPEST: u16 = 5;
/// The most blocks of a map that are read for one file.
const MOST_MAP_BLOCKS: usize = 65_536;

/// The extents of an inode with an extent tree.
///
/// # Errors
/// [`FormatError`] when a node of the tree cannot be read or does not hold.
pub(super) fn extent_tree(pages: &Pages, geometry: &ExtGeometry, inode: &Inode, bytes: u64) -> Result<FileMap, FormatError> {
    let _while = pages.source().budget().map(Budget::passing);
    let mut builder = FileMapBuilder::new(bytes, geometry.blocks);
    let mut read = 0;
    let view = View::new("extent tree", inode.at + 40, &inode.raw.i_block);
    node(pages, geometry, view, None, &mut read, &mut builder)?;
    Ok(builder.finish())
}

fn node(
    pages: &Pages,
    geometry: &ExtGeometry,
    view: View<'_>,
    depth_wanted: Option<u16>,
    read: &mut usize,
    builder: &mut FileMapBuilder,
) -> Result<(), FormatError> {
    let magic = view.u16(0, "eh_magic")?;
    if magic != EXTENT_MAGIC {
        return Err(view.wrong(0, "eh_magic", u64::from(magic), "0xF30A"));
    }
    let (entries, depth) = (view.u16(2, "eh_entries")?, view.u16(6, "eh_depth")?);
    if depth > DEEPEST || depth_wanted.is_some_and(|wanted| wanted != depth) {
        return Err(view.wrong(6, "eh_depth", u64::from(depth), "one less than the node above, at most 5"));
    }
    let size = u64::from(geometry.block_bytes);
    for index in 0..usize::from(entries) {
        let offset = 12 + index * 12;
        let block = u64::from(view.u32(offset, "ee_block")?);
        if depth == 0 {
            let len = u64::from(view.u16(offset + 4, "ee_len")?);
            let high = u64::from(view.u16(offset + 6, "ee_start_hi")?);
            let start = u64::from(view.u32(offset + 8, "ee_start_lo")?) | high << 32;
            // Longer than 32,768 blocks means allocated and never written: it reads as zeros.
            let (len, written) = if len > 32_768 { (len - 32_768, false) } else { (len, true) };
            if start.saturating_add(len) > geometry.blocks {
                return Err(view.wrong(offset + 8, "ee_start", start, "blocks of the volume"));
            }
            if !builder.holds(start..start + len) {
                return Err(view.error(offset, Problem::Endless { field: "extent tree", limit: geometry.blocks }));
            }
            if len == 0 {
                return Err(view.wrong(offset + 4, "ee_len", 0, "at least one block"));
            }
            hold(pages.source().as_ref(), view.position(), "extent tree", EXTENT_BYTES)?;
            builder.add(block * size, geometry.block_at(start).filter(|_| written), len * size);
        } else {
            let high = u64::from(view.u16(offset + 8, "ei_leaf_hi")?);
            let leaf = u64::from(view.u32(offset + 4, "ei_leaf_lo")?) | high << 32;
            let at = geometry.block_at(leaf).ok_or_else(|| view.wrong(offset + 4, "ei_leaf", leaf, "a block of the volume"))?;
            if !builder.holds(leaf..leaf + 1) {
                return Err(view.error(offset, Problem::Endless { field: "extent tree", limit: geometry.blocks }));
            }
            *read += 1;
            if *read > MOST_MAP_BLOCKS {
                return Err(view.error(offset, Problem::Endless { field: "extent tree", limit: MOST_MAP_BLOCKS as u64 }));
            }
            let bytes = pages.bytes(at, geometry.block_bytes as usize, "extent tree")?;
            node(pages, geometry, View::new("extent tree", at, &bytes), Some(depth - 1), read, builder)?;
        }
    }
    Ok(())
}

/// The extents of an inode with a block map: twelve blocks, then one, two and three levels of indirection.
///
/// # Errors
/// [`FormatError`] when a map block cannot be read or points out of the volume.
pub(super) fn block_map(pages: &Pages, geometry: &ExtGeometry, inode: &Inode, bytes: u64) -> Result<FileMap, FormatError> {
    let _while = pages.source().budget().map(Budget::passing);
    let mut walk = MapWalk { pages, geometry, builder: FileMapBuilder::new(bytes, geometry.blocks), next: 0, read: 0 };
    let view = View::new("block map", inode.at + 40, &inode.raw.i_block);
    for index in 0..15usize {
        if walk.next >= bytes {
            break;
        }
        let level = u32::try_from(index.saturating_sub(11)).unwrap_or(0);
        let block = view.u32(index * 4, "i_block")?;
        walk.pointer(view, index * 4, block, level)?;
    }
    Ok(walk.builder.finish())
}

struct MapWalk<'a> {
    pages: &'a Pages,
    geometry: &'a ExtGeometry,
    builder: FileMapBuilder,
    /// Byte of the file that the next pointer is for.
    next: u64,
    read: usize,
}

impl MapWalk<'_> {
    fn pointer(&mut self, view: View<'_>, offset: usize, block: u32, level: u32) -> Result<(), FormatError> {
        let size = u64::from(self.geometry.block_bytes);
        let covers = (size / 4).saturating_pow(level).saturating_mul(size);
        if block == 0 {
            self.next = self.next.saturating_add(covers);
            return Ok(());
        }
        let outside = || view.wrong(offset, "block pointer", u64::from(block), "a block of the volume");
        let at = self.geometry.block_at(u64::from(block)).ok_or_else(outside)?;
        if !self.builder.holds(u64::from(block)..u64::from(block) + 1) {
            return Err(view.error(offset, Problem::Endless { field: "block map", limit: self.geometry.blocks }));
        }
        if level == 0 {
            let extents = self.builder.extents();
            self.builder.add(self.next, Some(at), size);
            self.next = self.next.saturating_add(size);
            let more = (self.builder.extents() - extents) as u64;
            return hold(self.pages.source().as_ref(), view.position(), "block map", more * EXTENT_BYTES);
        }
        self.read += 1;
        if self.read > MOST_MAP_BLOCKS {
            return Err(view.error(offset, Problem::Endless { field: "block map", limit: MOST_MAP_BLOCKS as u64 }));
        }
        let bytes = self.pages.bytes(at, self.geometry.block_bytes as usize, "indirect block")?;
        let below = View::new("indirect block", at, &bytes);
        for index in 0..bytes.len() / 4 {
            if self.next >= self.builder.limit {
                break;
            }
            let block = below.u32(index * 4, "block pointer")?;
            self.pointer(below, index * 4, block, level - 1)?;
        }
        Ok(())
    }
}
