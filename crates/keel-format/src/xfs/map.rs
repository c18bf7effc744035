//! Where the content of a fork lies: a list of extents in the inode, or a tree of them. Source: "XFS Algorithms & Data Structures",
//! chapter "Data Extents".

use std::ops::ControlFlow;

use keel_source::{Budget, ByteOffset};

use super::layout::{FORMAT_BTREE, FORMAT_EXTENTS};
use super::{XfsGeometry, tree};
use crate::device::hold;
use crate::file_map::{EXTENT_BYTES, FileMap, FileMapBuilder};
use crate::pages::Pages;
use crate::{FormatError, Problem, View};

/// A fork of an inode: content or attributes.
#[derive(Debug, Clone, Copy)]
pub struct Fork<'a> {
    /// `di_format` or `di_aformat`.
    pub format: u8,
    /// Its bytes inside the inode.
    pub bytes: &'a [u8],
    /// Where they stand in the volume.
    pub at: ByteOffset,
    /// Count of extents.
    pub extents: u64,
}

/// Bytes of an extent as stored.
pub(super) const RECORD: usize = 16;

/// An extent as stored: 128 bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct RawExtent {
    /// `br_startoff`, in blocks of the file.
    pub(super) offset: u64,
    /// `br_startblock`.
    pub(super) block: u64,
    /// `br_blockcount`.
    pub(super) count: u64,
    /// False for blocks that were never written: they read as zeros.
    pub(super) written: bool,
}

impl RawExtent {
    /// The extent at the start of `view`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] for fewer than 16 bytes.
    pub(super) fn parse(view: View<'_>) -> Result<Self, FormatError> {
        let (high, low) = (view.u64_be(0, "br_startoff")?, view.u64_be(8, "br_blockcount")?);
        Ok(Self {
            offset: high << 1 >> 10,
            block: (high & 0x1FF) << 43 | low >> 21,
            count: low & 0x1F_FFFF,
            written: high >> 63 == 0,
        })
    }

    /// Where it lies in the volume. None for no extent of a file there: without blocks, over the end of its group, or behind the
    /// largest offset that a file has (2^63 bytes).
    fn place(self, geometry: &XfsGeometry) -> Option<ByteOffset> {
        let ends = (self.offset + self.count).checked_mul(u64::from(geometry.block_bytes)).is_some_and(|end| end >> 63 == 0);
        geometry.run_at(self.block, self.count).filter(|_| self.count > 0 && ends)
    }
}

/// The map of `fork`, whose content has `bytes` bytes.
///
/// # Errors
/// [`FormatError`] when a block of the tree cannot be read or an extent is none of the volume.
pub(super) fn fork_map(pages: &Pages, geometry: &XfsGeometry, fork: &Fork<'_>, bytes: u64) -> Result<FileMap, FormatError> {
    let _while = pages.source().budget().map(Budget::passing);
    let mut builder = FileMapBuilder::new(bytes, geometry.blocks);
    let mut failed = None;
    let mut take = |view: View<'_>| match add(pages, geometry, view, &mut builder) {
        Ok(()) => ControlFlow::Continue(()),
        Err(error) => {
            failed = Some(error);
            ControlFlow::Break(())
        }
    };
    let mut blocks = Vec::new();
    match fork.format {
        FORMAT_EXTENTS => {
            let view = View::new("extent list", fork.at, fork.bytes);
            if fork.extents > (fork.bytes.len() / RECORD) as u64 {
                return Err(view.wrong(0, "di_nextents", fork.extents, "as many extents as the fork holds"));
            }
            let count = usize::try_from(fork.extents).unwrap_or(0);
            for index in 0..count {
                if take(view.part(index * RECORD, RECORD, "extent")?).is_break() {
                    break;
                }
            }
        }
        FORMAT_BTREE => {
            let walked = tree::walk_fork(pages, geometry, (fork.at, fork.bytes), &mut take);
            if let Some(error) = walked.errors.into_iter().next() {
                return Err(error);
            }
            blocks = walked.blocks;
        }
        _ => {}
    }
    if let Some(error) = failed {
        return Err(error);
    }
    for block in blocks {
        if !builder.holds(block..block + 1) {
            let problem = Problem::Endless { field: "extent tree", limit: geometry.blocks };
            return Err(FormatError::new("extent tree", fork.at, problem));
        }
    }
    Ok(builder.finish())
}

fn add(pages: &Pages, geometry: &XfsGeometry, view: View<'_>, builder: &mut FileMapBuilder) -> Result<(), FormatError> {
    let raw = RawExtent::parse(view)?;
    let size = u64::from(geometry.block_bytes);
    let Some(at) = raw.place(geometry) else {
        return Err(view.wrong(0, "br_startblock", raw.block, "at least one block, all of one group"));
    };
    let first = at.0 / size;
    if !builder.holds(first..first + raw.count) {
        return Err(view.error(0, Problem::Endless { field: "extents", limit: geometry.blocks }));
    }
    hold(pages.source().as_ref(), view.position(), "extents", EXTENT_BYTES)?;
    builder.add(raw.offset.saturating_mul(size), raw.written.then_some(at), raw.count * size);
    Ok(())
}

/// What a file held whose inode was freed: extents that are left in the fork though none is counted. They end at the first that
/// cannot be.
pub(super) fn left_behind(geometry: &XfsGeometry, fork: &Fork<'_>) -> FileMap {
    let size = u64::from(geometry.block_bytes);
    let mut builder = FileMapBuilder::new(0, geometry.blocks);
    let mut next = 0;
    let view = View::new("extent list", fork.at, fork.bytes);
    for index in 0..fork.bytes.len() / RECORD {
        let raw = view.part(index * RECORD, RECORD, "extent").and_then(RawExtent::parse).ok().filter(|raw| raw.offset >= next);
        let place = raw.and_then(|raw| Some((raw, raw.place(geometry)?)));
        let Some((raw, at)) = place else { break };
        // Block 0 holds the superblock: what leads there was never written.
        if raw.block == 0 || !builder.holds(at.0 / size..at.0 / size + raw.count) {
            break;
        }
        next = raw.offset.saturating_add(raw.count);
        builder.add(raw.offset.saturating_mul(size), raw.written.then_some(at), raw.count * size);
    }
    builder.finish()
}

/// The place in the volume of the block that a fork's content has at block `offset`.
pub(super) fn block_at(map: &FileMap, geometry: &XfsGeometry, offset: u64) -> Option<ByteOffset> {
    let byte = offset.checked_mul(u64::from(geometry.block_bytes))?;
    let index = map.extents.partition_point(|extent| extent.stream_at.saturating_add(extent.bytes) <= byte);
    let extent = map.extents.get(index).filter(|extent| extent.stream_at <= byte)?;
    Some(extent.volume_at? + (byte - extent.stream_at))
}
