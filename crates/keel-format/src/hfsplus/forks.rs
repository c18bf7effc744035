//! Where the blocks of a fork are: its own eight extents, then the extents overflow tree.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::ops::ControlFlow;

use super::HfsGeometry;
use super::btree::Tree;
use super::layout::{Fork, RawExtent};
use crate::pages::Pages;
use crate::{Extent, FormatError, View};
use keel_source::ByteOffset;

/// The most records of the overflow tree that are followed for one fork.
const MOST_RECORDS: usize = 65_536;

/// Data fork or resource fork, as the overflow tree numbers them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ForkKind {
    /// The content.
    Data,
    /// The resource fork.
    Resource,
}

impl ForkKind {
    fn code(self) -> u8 {
        match self {
            Self::Data => 0,
            Self::Resource => 0xFF,
        }
    }
}

/// What a record of the overflow tree is about: file, fork and first block.
pub(super) type OverflowKey = (u32, u8, u32);

/// Where records of the extents overflow tree come from.
#[derive(Clone, Copy)]
pub(super) enum Overflow<'a> {
    /// The tree itself; none where it cannot be read.
    Tree(Option<&'a Tree>),
    /// Leaves of it that were read one by one.
    Loose(&'a HashMap<OverflowKey, [RawExtent; 8]>),
}

impl Overflow<'_> {
    fn record(&self, pages: &Pages, wanted: OverflowKey) -> Result<Option<[RawExtent; 8]>, FormatError> {
        let tree = match self {
            Self::Tree(Some(tree)) => tree,
            Self::Tree(None) => return Ok(None),
            Self::Loose(records) => return Ok(records.get(&wanted).copied()),
        };
        let order = |key: &[u8]| key_of(key).map_or(Ordering::Less, |found| found.cmp(&wanted));
        let mut record = None;
        tree.from(pages, &order, &mut |found| {
            if key_of(found.key) == Some(wanted) {
                record = extents_in(found.data);
            }
            ControlFlow::Break(())
        })?;
        Ok(record)
    }
}

/// The eight extents of an overflow record.
pub(super) fn extents_in(data: &[u8]) -> Option<[RawExtent; 8]> {
    View::new("extents record", ByteOffset(0), data).at::<[RawExtent; 8]>(0, "extents").ok().copied()
}

/// The extents of a fork in the volume. What leads out of the volume or is missing in the overflow tree ends them.
///
/// # Errors
/// [`FormatError`] when the overflow tree is needed and cannot be read.
pub(super) fn extents(
    pages: &Pages,
    geometry: &HfsGeometry,
    overflow: Overflow<'_>,
    file: u32,
    kind: ForkKind,
    fork: &Fork,
) -> Result<Vec<Extent>, FormatError> {
    let mut builder = Builder::new(geometry);
    let mut sound = fork.extents.iter().all(|(start, count)| builder.add(*start, *count));
    for _ in 0..MOST_RECORDS {
        if !sound || builder.blocks >= u64::from(fork.blocks) {
            break;
        }
        let wanted = (file, kind.code(), u32::try_from(builder.blocks).unwrap_or(u32::MAX));
        let Some(record) = overflow.record(pages, wanted)? else { break };
        let before = builder.blocks;
        sound = record.iter().all(|extent| builder.add(extent.start_block.get(), extent.block_count.get()));
        if builder.blocks == before {
            break;
        }
    }
    Ok(builder.extents)
}

/// File, fork and first block of an overflow key.
pub(super) fn key_of(key: &[u8]) -> Option<OverflowKey> {
    let kind = *key.first()?;
    let file = key.get(2..6)?.first_chunk::<4>()?;
    let block = key.get(6..10)?.first_chunk::<4>()?;
    Some((u32::from_be_bytes(*file), kind, u32::from_be_bytes(*block)))
}

impl HfsGeometry {
    /// Where `fork` stands by the eight extents that the header keeps of it. What leads out of the volume ends them.
    #[must_use]
    pub fn extents_of(&self, fork: &Fork) -> Vec<Extent> {
        let mut builder = Builder::new(self);
        let _ = fork.extents.iter().all(|(start, count)| builder.add(*start, *count));
        builder.extents
    }
}

/// Extents of a fork as they come.
pub(super) struct Builder<'a> {
    geometry: &'a HfsGeometry,
    /// In the volume, joined.
    pub(super) extents: Vec<Extent>,
    blocks: u64,
}

impl<'a> Builder<'a> {
    /// No extents yet.
    pub(super) fn new(geometry: &'a HfsGeometry) -> Self {
        Self { geometry, extents: Vec::new(), blocks: 0 }
    }

    /// Adds an extent; false when it leads out of the volume. An empty one adds nothing.
    pub(super) fn add(&mut self, start: u32, count: u32) -> bool {
        if count == 0 {
            return true;
        }
        let size = u64::from(self.geometry.block_bytes);
        if start.checked_add(count).is_none_or(|end| end > self.geometry.total_blocks) {
            return false;
        }
        let volume_at = self.geometry.block_at(start);
        let (stream_at, bytes) = (self.blocks * size, u64::from(count) * size);
        self.blocks += u64::from(count);
        match self.extents.last_mut() {
            Some(last) if last.volume_at.map(|at| at + last.bytes) == volume_at => last.bytes += bytes,
            _ => self.extents.push(Extent { stream_at, volume_at, bytes }),
        }
        true
    }
}
