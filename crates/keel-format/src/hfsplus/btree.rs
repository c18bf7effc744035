//! B-trees: catalog, extents overflow and attributes. Technical Note 1150, "B-Trees".

use std::cmp::Ordering;
use std::ops::ControlFlow;

use keel_source::ByteOffset;
use zerocopy::FromZeros;

use super::layout::{NODE_HEADER, NODE_INDEX, NODE_LEAF, RawNode, RawTreeHeader};
use crate::pages::Pages;
use crate::{Extent, FormatError, Problem, View};

/// The deepest tree that is descended.
const DEEPEST: usize = 16;

/// A B-tree in the extents of its file.
pub struct Tree {
    extents: Vec<Extent>,
    header: RawTreeHeader,
}

/// A record of a leaf.
pub struct LeafRecord<'a> {
    /// Number of the leaf.
    pub node: u32,
    /// Number of the record in it.
    pub index: u16,
    /// Its key, without the length.
    pub key: &'a [u8],
    /// Its data.
    pub data: &'a [u8],
}

/// One node, read whole.
pub struct Node {
    /// Its number.
    pub number: u32,
    at: ByteOffset,
    bytes: Vec<u8>,
    descriptor: RawNode,
}

impl Tree {
    /// The tree whose file lies in `extents`.
    ///
    /// # Errors
    /// [`FormatError`] when its header node cannot be read or does not hold.
    pub fn open(pages: &Pages, extents: Vec<Extent>) -> Result<Self, FormatError> {
        let at = extents.first().and_then(|extent| extent.volume_at);
        let at = at.ok_or_else(|| FormatError::new("B-tree", ByteOffset(0), Problem::Missing("first extent")))?;
        let bytes = pages.bytes(at, 512, "B-tree header node")?;
        let view = View::new("B-tree header node", at, &bytes);
        let header = header_of(view)?;
        Ok(Self { extents, header })
    }

    /// A tree of which no header node is left: its file lies in `extents`, its nodes have `node_bytes` bytes, and nothing leads to
    /// its leaves.
    #[must_use]
    pub fn assumed(extents: Vec<Extent>, node_bytes: u16) -> Self {
        let bytes: u64 = extents.iter().map(|extent| extent.bytes).sum();
        let mut header = RawTreeHeader::new_zeroed();
        header.node_size.set(node_bytes);
        header.total_nodes.set(u32::try_from(bytes / u64::from(node_bytes.max(512))).unwrap_or(u32::MAX));
        Self { extents, header }
    }

    /// Count of nodes, as the header says.
    #[must_use]
    pub fn nodes(&self) -> u32 {
        self.header.total_nodes.get()
    }

    /// Count of nodes that the extents of the file have room for: a header may claim more.
    fn nodes_there(&self, pages: &Pages) -> u64 {
        let bytes = self.extents.iter().fold(0u64, |sum, extent| sum.saturating_add(extent.bytes)).min(pages.source().len());
        (bytes / u64::from(self.header.node_size.get()).max(512)).min(u64::from(self.header.total_nodes.get()))
    }

    /// Its header record.
    #[must_use]
    pub fn header(&self) -> &RawTreeHeader {
        &self.header
    }

    /// Where a node stands in the volume.
    #[must_use]
    pub fn node_at(&self, number: u32) -> Option<ByteOffset> {
        let byte = u64::from(number) * u64::from(self.header.node_size.get());
        let index = self.extents.partition_point(|extent| extent.stream_at + extent.bytes <= byte);
        let extent = self.extents.get(index).filter(|extent| extent.stream_at <= byte)?;
        Some(extent.volume_at? + (byte - extent.stream_at))
    }

    /// Reads a node.
    ///
    /// # Errors
    /// [`FormatError`] when there is no such node, it cannot be read, or its descriptor does not hold.
    pub fn node(&self, pages: &Pages, number: u32) -> Result<Node, FormatError> {
        let missing = || FormatError::value("B-tree node", ByteOffset(0), "number", u64::from(number), "a node of the tree");
        let at = self.node_at(number).filter(|_| number < self.header.total_nodes.get()).ok_or_else(missing)?;
        let bytes = pages.bytes(at, usize::from(self.header.node_size.get()), "B-tree node")?;
        let view = View::new("B-tree node", at, &bytes);
        let descriptor: RawNode = *view.at(0, "descriptor")?;
        if !matches!(descriptor.kind, NODE_LEAF | NODE_INDEX) {
            return Err(view.wrong(8, "kind", u64::from(descriptor.kind.cast_unsigned()), "a leaf or an index node"));
        }
        let most = bytes.len() / 4;
        if usize::from(descriptor.num_records.get()) > most {
            return Err(view.wrong(10, "numRecords", u64::from(descriptor.num_records.get()), "what a node has room for"));
        }
        Ok(Node { number, at, bytes, descriptor })
    }

    /// Hands the leaf records from the first one that is not before the wanted key to `each`, in order, until it
    /// breaks. `order` compares a key with the wanted one.
    /// Bounded by the count of nodes.
    ///
    /// # Errors
    /// [`FormatError`] when a node on the way cannot be read.
    pub fn from(
        &self,
        pages: &Pages,
        order: &dyn Fn(&[u8]) -> Ordering,
        each: &mut dyn FnMut(LeafRecord<'_>) -> ControlFlow<()>,
    ) -> Result<(), FormatError> {
        let mut number = self.header.root_node.get();
        if number == 0 {
            return Ok(());
        }
        let mut node = self.node(pages, number)?;
        for _ in 0..DEEPEST {
            if node.descriptor.kind == NODE_LEAF {
                return self.along(pages, node, order, each);
            }
            // The last record that is not behind the wanted key leads to it.
            let mut below = None;
            for index in 0..node.records() {
                let (key, data) = node.record(index)?;
                let first = below.is_none();
                if order(key) == Ordering::Greater && !first {
                    break;
                }
                below = data.first_chunk::<4>().map(|child| u32::from_be_bytes(*child));
            }
            number = below.ok_or_else(|| FormatError::new("B-tree node", node.at, Problem::Missing("child of an index node")))?;
            node = self.node(pages, number)?;
        }
        Err(FormatError::new("B-tree", node.at, Problem::Endless { field: "height", limit: DEEPEST as u64 }))
    }

    fn along(
        &self,
        pages: &Pages,
        mut node: Node,
        order: &dyn Fn(&[u8]) -> Ordering,
        each: &mut dyn FnMut(LeafRecord<'_>) -> ControlFlow<()>,
    ) -> Result<(), FormatError> {
        let limit = self.nodes_there(pages);
        // Brent's way to see leaves that lead back to themselves.
        let (mut anchor, mut power, mut steps) = (node.number, 1u64, 0u64);
        for _ in 0..=limit {
            for index in 0..node.records() {
                let (key, data) = node.record(index)?;
                if order(key) != Ordering::Less && each(LeafRecord { node: node.number, index, key, data }).is_break() {
                    return Ok(());
                }
            }
            let next = node.descriptor.f_link.get();
            if next == 0 {
                return Ok(());
            }
            steps += 1;
            if next == anchor {
                return Err(FormatError::new("B-tree", node.at, Problem::Endless { field: "fLink", limit: steps }));
            }
            if steps == power {
                (anchor, power, steps) = (next, power.saturating_mul(2), 0);
            }
            node = self.node(pages, next)?;
            if node.descriptor.kind != NODE_LEAF {
                let view = View::new("B-tree node", node.at, &node.bytes);
                return Err(view.wrong(8, "kind", u64::from(node.descriptor.kind.cast_unsigned()), "a leaf behind a leaf"));
            }
        }
        Err(FormatError::new("B-tree", node.at, Problem::Endless { field: "fLink", limit }))
    }
}

/// The header record of the header node in `view`.
///
/// # Errors
/// [`FormatError`] of the first field that cannot be.
pub fn header_of(view: View<'_>) -> Result<RawTreeHeader, FormatError> {
    let descriptor: &RawNode = view.at(0, "descriptor")?;
    if descriptor.kind != NODE_HEADER || descriptor.height != 0 {
        return Err(view.wrong(8, "kind", u64::from(descriptor.kind.cast_unsigned()), "a header node"));
    }
    let header: RawTreeHeader = *view.at(14, "header record")?;
    let size = header.node_size.get();
    if !size.is_power_of_two() || size < 512 {
        return Err(view.wrong(14 + 18, "nodeSize", u64::from(size), "a power of two from 512 to 32768"));
    }
    if header.root_node.get() >= header.total_nodes.get() {
        return Err(view.wrong(16, "rootNode", u64::from(header.root_node.get()), "a node of the tree"));
    }
    Ok(header)
}

impl Node {
    /// `kind`: -1 for leaves, 0 for index nodes.
    #[must_use]
    pub fn kind(&self) -> i8 {
        self.descriptor.kind
    }

    /// `height`: 1 for leaves.
    #[must_use]
    pub fn height(&self) -> u8 {
        self.descriptor.height
    }

    /// Count of records.
    #[must_use]
    pub fn records(&self) -> u16 {
        self.descriptor.num_records.get()
    }

    /// Key (without its length) and data of a record.
    ///
    /// # Errors
    /// [`FormatError`] when its offset or its key's length leads out of the node.
    pub fn record(&self, index: u16) -> Result<(&[u8], &[u8]), FormatError> {
        let view = View::new("B-tree node", self.at, &self.bytes);
        // Offsets stand at the end of the node, the first one last.
        let place = |index: usize| self.bytes.len().checked_sub(2 * (index + 1));
        let offset_of = |index: usize| {
            let place = place(index).ok_or_else(|| view.wrong(10, "numRecords", index as u64, "records of the node"))?;
            view.u16(place, "record offset").map(|offset| usize::from(offset.swap_bytes()))
        };
        let (start, end) = (offset_of(usize::from(index))?, offset_of(usize::from(index) + 1)?);
        if start < size_of::<RawNode>() || end <= start {
            return Err(view.wrong(
                place(usize::from(index)).unwrap_or(0),
                "record offset",
                start as u64,
                "ascending offsets behind the descriptor",
            ));
        }
        let record = view.slice(start, end - start, "record")?;
        let length = usize::from(view.u16(start, "keyLength")?.swap_bytes());
        let key = record.get(2..2 + length);
        // Data begins at an even offset.
        let data = record.get((2 + length).next_multiple_of(2)..);
        match (key, data) {
            (Some(key), Some(data)) => Ok((key, data)),
            _ => Err(view.wrong(start, "keyLength", length as u64, "a key inside its record")),
        }
    }
}
