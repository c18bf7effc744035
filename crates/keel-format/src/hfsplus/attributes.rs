//! Extended attributes: kept in the attributes tree, or in blocks of their own. Technical Note 1150, "Attributes File".

use std::cmp::Ordering;
use std::ops::ControlFlow;

use keel_source::ByteOffset;

use super::HfsGeometry;
use super::btree::{LeafRecord, Tree};
use super::forks::Builder;
use super::layout::{RawExtent, RawFork};
use crate::pages::Pages;
use crate::{Extent, FormatError, View};

/// `kHFSPlusAttrInlineData`.
const INLINE: u32 = 0x10;
/// `kHFSPlusAttrForkData`.
const FORK: u32 = 0x20;
/// `kHFSPlusAttrExtents`: goes on with the fork before it.
const EXTENTS: u32 = 0x30;
/// The most records that are read for one file: a bound on memory and time.
const MOST_RECORDS: usize = 1024;

/// Where an attribute's value is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Value {
    /// In the tree.
    Inline(Vec<u8>),
    /// In blocks of its own.
    Blocks {
        /// Length in bytes.
        bytes: u64,
        /// Where, in the volume; what leads out of it ends them.
        extents: Vec<Extent>,
    },
}

impl Value {
    /// Length in bytes.
    pub(super) fn bytes(&self) -> u64 {
        match self {
            Self::Inline(value) => value.len() as u64,
            Self::Blocks { bytes, .. } => *bytes,
        }
    }
}

/// An attribute of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Attribute {
    /// Number of the file or folder.
    pub(super) owner: u32,
    /// Its name, in UTF-16 units.
    pub(super) units: Vec<u16>,
    /// Its value.
    pub(super) value: Value,
}

/// The attributes of `owner`, or the one that is called `name`.
///
/// # Errors
/// [`FormatError`] when the tree cannot be read.
pub(super) fn of(
    pages: &Pages,
    geometry: &HfsGeometry,
    tree: &Tree,
    owner: u32,
    name: Option<&str>,
) -> Result<Vec<Attribute>, FormatError> {
    let units: Vec<u16> = name.unwrap_or_default().encode_utf16().collect();
    let order =
        |key: &[u8]| key_of(key).map_or(Ordering::Less, |(found, own)| (found, own.as_slice()).cmp(&(owner, units.as_slice())));
    let mut found = Vec::new();
    let mut records = 0;
    each(pages, geometry, tree, &order, &mut |attribute| {
        let wanted = attribute.owner == owner && (name.is_none() || attribute.units == units);
        records += 1;
        if !wanted || records > MOST_RECORDS {
            return ControlFlow::Break(());
        }
        found.push(attribute);
        ControlFlow::Continue(())
    })?;
    Ok(found)
}

/// Hands the attributes from the first one that is not before the wanted key to `each`, in order, until it breaks.
///
/// # Errors
/// As [`Tree::from`].
pub(super) fn each(
    pages: &Pages,
    geometry: &HfsGeometry,
    tree: &Tree,
    order: &dyn Fn(&[u8]) -> Ordering,
    each: &mut dyn FnMut(Attribute) -> ControlFlow<()>,
) -> Result<(), FormatError> {
    // A fork is handed on when the records that go on with it are read.
    let mut open: Option<(Attribute, Builder<'_>)> = None;
    let mut broke = false;
    let close = |open: Option<(Attribute, Builder<'_>)>| {
        open.map(|(attribute, builder)| {
            let bytes = attribute.value.bytes();
            Attribute { value: Value::Blocks { bytes, extents: builder.extents }, ..attribute }
        })
    };
    tree.from(pages, order, &mut |record| {
        let Some((owner, units)) = key_of(record.key) else { return ControlFlow::Continue(()) };
        let kind = View::new("attribute record", ByteOffset(0), record.data).u32(0, "recordType").map_or(0, u32::swap_bytes);
        if kind == EXTENTS {
            if let Some((_, builder)) = open.as_mut().filter(|(own, _)| own.owner == owner && own.units == units) {
                extents_of(&record).iter().all(|extent| builder.add(extent.start_block.get(), extent.block_count.get()));
            }
            return ControlFlow::Continue(());
        }
        let done = close(open.take()).map_or(ControlFlow::Continue(()), &mut *each);
        if done.is_break() {
            broke = true;
            return done;
        }
        let flow = match kind {
            INLINE => inline(&record)
                .map_or(ControlFlow::Continue(()), |value| each(Attribute { owner, units, value: Value::Inline(value) })),
            FORK => {
                if let Ok(fork) = View::new("attribute record", ByteOffset(0), record.data).at::<RawFork>(8, "theFork") {
                    let mut builder = Builder::new(geometry);
                    fork.extents.iter().all(|extent| builder.add(extent.start_block.get(), extent.block_count.get()));
                    let value = Value::Blocks { bytes: fork.logical_size.get(), extents: Vec::new() };
                    open = Some((Attribute { owner, units, value }, builder));
                }
                ControlFlow::Continue(())
            }
            _ => ControlFlow::Continue(()),
        };
        broke = flow.is_break();
        flow
    })?;
    if !broke && let Some(last) = close(open.take()) {
        let _ = each(last);
    }
    Ok(())
}

/// The value of an inline record: type, eight reserved bytes, length, bytes.
fn inline(record: &LeafRecord<'_>) -> Option<Vec<u8>> {
    let bytes = record.data.get(12..16)?.first_chunk().map(|length| u32::from_be_bytes(*length))?;
    record.data.get(16..16usize.saturating_add(bytes as usize)).map(<[u8]>::to_vec)
}

fn extents_of(record: &LeafRecord<'_>) -> [RawExtent; 8] {
    let view = View::new("attribute record", ByteOffset(0), record.data);
    view.at::<[RawExtent; 8]>(8, "extents").copied().unwrap_or_default()
}

/// Owner and name of an attribute's key.
fn key_of(key: &[u8]) -> Option<(u32, Vec<u16>)> {
    let owner = key.get(2..6)?.first_chunk::<4>()?;
    let count = key.get(10..12)?.iter().fold(0usize, |sum, byte| sum << 8 | usize::from(*byte));
    let units = key.get(12..)?.as_chunks::<2>().0.iter().take(count).map(|pair| u16::from_be_bytes(*pair));
    Some((u32::from_be_bytes(*owner), units.collect()))
}
