//! An HFS+ volume whose catalog is no tree any more: one that another volume was made over, or whose header node is gone. Its leaves
//! are read one by one; each record says what it is called and in which folder.

use std::cmp::Ordering;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::Serialize;

use super::btree::{Node, Tree};
use super::catalog::{Record, parent_of, text_of, units_of};
use super::forks::{self, OverflowKey};
use super::layout::{Fork, NODE_LEAF, ROOT_FOLDER_ID, ROOT_PARENT_ID, RawExtent};
use super::read::{LinkKey, Loose, is_private};
use super::witness::{block_bytes, met_at};
use super::{HfsGeometry, HfsVolume};
use crate::bounded;
use crate::clue::Clues;
use crate::former::{Former, Host, told};
use crate::pages::Pages;
use crate::remnant::{Forest, Remnant};
use crate::{Extent, FormatError, FoundVolume, Geometry, NodeId, NodeKind, Volume, VolumeKind};

/// Sizes of a tree's nodes, the customary ones first. Technical Note 1150, "B-Trees": a power of two from 512 to 32,768.
const NODE_SIZES: [u16; 7] = [8192, 4096, 16_384, 32_768, 2048, 1024, 512];
/// Leaves that are looked at for each size.
const MOST_SAMPLED: usize = 512;
/// The most nodes of one catalog that are read.
const MOST_NODES: u32 = 1 << 20;
/// The most records that are kept.
const MOST_RECORDS: usize = 500_000;
/// The most files by which block size and start are told.
const MOST_FILES: usize = 4096;
/// Files that must end where a start puts them.
const LEAST_MET: usize = 3;
/// The lowest catalog node ID that a file or folder of a user has.
const FIRST_ID: u32 = 16;
/// Bytes of an overflow key, without its length.
const OVERFLOW_KEY: usize = 10;

/// What is left of the volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FormerHfs {
    /// Where its blocks stand.
    pub geometry: HfsGeometry,
    /// Bytes of a node of its trees.
    pub node_bytes: u16,
    /// When the volume was made in whose catalog the leaves stand, in seconds since 1904-01-01 UTC; none where they stand anywhere
    /// else. What was changed later is that one's own.
    pub before: Option<u32>,
    /// Its leaves, in bytes of the volume, ascending.
    #[serde(skip)]
    pub leaves: Vec<ByteOffset>,
}

/// Volumes of an older generation of which leaves are left on ground that no volume of `hosts` uses.
pub(crate) fn former(drive: &SharedSource, clues: &Clues, found: &[FoundVolume], hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    let mut volumes = Vec::new();
    for host in hosts {
        let (live, made) = match host.volume.geometry {
            Geometry::HfsPlus(geometry) => live(&host.window(drive), geometry),
            _ => (RangeSet::default(), None),
        };
        let inside = |at: &ByteOffset| ByteRange::sized(ByteOffset(at.0.saturating_sub(host.volume.start.0)), 1);
        let left = |at: &&ByteOffset| host.leaves(**at) && !live.lacking(inside(at)).is_empty();
        let leaves: Vec<ByteOffset> = clues.hfsplus.leaves.iter().filter(left).copied().collect();
        let olds = found.iter().filter(|volume| host.is_over(volume)).filter_map(|volume| match volume.geometry {
            Geometry::HfsPlus(geometry) => Some((volume.start, geometry)),
            _ => None,
        });
        let stated: Vec<(ByteOffset, HfsGeometry)> = olds.collect();
        let bases = if stated.is_empty() { inferred(drive, &leaves, host).into_iter().collect() } else { stated };
        for (start, geometry) in bases {
            volumes.extend(volume_of(drive, (start, geometry), &leaves, made));
        }
    }
    volumes
}

fn volume_of(
    drive: &SharedSource,
    (start, geometry): (ByteOffset, HfsGeometry),
    leaves: &[ByteOffset],
    before: Option<u32>,
) -> Option<FoundVolume> {
    let window = bounded::window(drive, ByteRange::sized(start, geometry.volume_bytes()));
    let inside = |at: &ByteOffset| at.0.checked_sub(start.0).filter(|at| *at < geometry.volume_bytes()).map(ByteOffset);
    let mut all: BTreeSet<ByteOffset> = leaves.iter().filter_map(inside).collect();
    let catalog = geometry.extents_of(&geometry.catalog);
    let node_bytes = node_bytes(&window, &catalog, &all.iter().copied().take(MOST_SAMPLED).collect::<Vec<_>>())?;
    if before.is_none() {
        all.extend(leaves_in(&window, catalog, node_bytes));
    }
    let what = FormerHfs { geometry, node_bytes, before, leaves: all.into_iter().collect() };
    let left = Left::read(&window, &what);
    let at = start + left.first?.0;
    let said = format!("{} leaves of a catalog that no present volume reaches hold records of files", left.nodes);
    told(drive, (start, ByteOffset(drive.len())), Former::HfsPlus(what), (at, left.nodes, said))
}

/// Ground of the volume in `source` that its formatter set aside and did not clear: its trees and its journal.
pub(crate) fn set_aside(source: SharedSource, geometry: HfsGeometry) -> RangeSet {
    let mut ground = RangeSet::default();
    for fork in [&geometry.catalog, &geometry.extents, &geometry.attributes_file] {
        for extent in geometry.extents_of(fork) {
            extent.volume_at.into_iter().for_each(|at| ground.add(ByteRange::sized(at, extent.bytes)));
        }
    }
    let journal = super::journal::place(&Pages::new(source), &geometry);
    journal.into_iter().for_each(|(at, bytes)| ground.add(ByteRange::sized(at, bytes)));
    ground
}

/// The leaves that the present volume's catalog uses (bytes of the volume), and when its root folder was made. Everything counts as
/// used where the catalog cannot be read to its end.
fn live(window: &SharedSource, geometry: HfsGeometry) -> (RangeSet, Option<u32>) {
    let mut live = RangeSet::default();
    let mut made = None;
    let whole = ByteRange::sized(ByteOffset(0), geometry.volume_bytes());
    let walked = HfsVolume::open(SharedSource::clone(window), geometry).and_then(|volume| {
        let pages = Pages::new(SharedSource::clone(volume.source()));
        let size = u64::from(volume.catalog().header().node_size.get());
        volume.catalog().from(&pages, &|_| Ordering::Greater, &mut |found| {
            volume.catalog().node_at(found.node).into_iter().for_each(|at| live.add(ByteRange::sized(at, size)));
            if let (Some(ROOT_PARENT_ID), Some(Record::Folder(root))) = (parent_of(found.key), Record::parse(found.data)) {
                made = Some(root.create_date.get());
            }
            ControlFlow::Continue(())
        })
    });
    if walked.is_err() || made.is_none() {
        live.add(whole);
    }
    (live, made)
}

/// Start and block size as files say of which leaves are left: the start is the present volume's, and most files end there.
fn inferred(drive: &SharedSource, leaves: &[ByteOffset], host: &Host<'_>) -> Option<(ByteOffset, HfsGeometry)> {
    let sample: Vec<ByteOffset> = leaves.iter().copied().take(MOST_SAMPLED).collect();
    let node_bytes = node_bytes(drive, &[], &sample)?;
    let (pages, tree) = (Pages::new(Arc::clone(drive)), Tree::assumed(pieces(&sample, node_bytes), node_bytes));
    let mut files: Vec<(String, Fork)> = Vec::new();
    each_record(&pages, &tree, &mut |_, key, data| {
        if let Some(Record::File(file)) = Record::parse(data).filter(|_| files.len() < MOST_FILES) {
            files.push((text_of(&units_of(key)), Fork::from(&file.data_fork)));
        }
    });
    let block_bytes = block_bytes(&files)?;
    let start = host.volume.start;
    let (met, asked) = met_at(drive, start, block_bytes, &files);
    (met >= LEAST_MET && met * 2 > asked).then_some(())?;
    let none = Fork { bytes: 0, blocks: 0, extents: [(0, 0); 8] };
    let geometry = HfsGeometry {
        kind: VolumeKind::HfsPlus,
        block_bytes,
        total_blocks: u32::try_from(host.volume.bytes / u64::from(block_bytes)).ok()?,
        tail_bytes: 0,
        attributes: 0,
        journal_info_block: 0,
        create_date: 0,
        identifier: 0,
        allocation: none,
        extents: none,
        catalog: none,
        attributes_file: none,
    };
    Some((start, geometry))
}

/// The size of the nodes with which most of `catalog` and of `leaves` are leaves; the smaller one of two: nodes that are alike may pass
/// for one of twice the size.
fn node_bytes(window: &SharedSource, catalog: &[Extent], leaves: &[ByteOffset]) -> Option<u16> {
    let pages = Pages::new(Arc::clone(window));
    let count = |size: u16| {
        let count = |tree: Tree| {
            let most = u32::try_from(MOST_SAMPLED).unwrap_or(u32::MAX);
            (0..tree.nodes().min(most)).filter(|number| leaf(&pages, &tree, *number).is_some()).count() as u64
        };
        count(Tree::assumed(catalog.to_vec(), size)) + count(Tree::assumed(pieces(leaves, size), size))
    };
    let best =
        NODE_SIZES.into_iter().map(|size| (count(size), size)).max_by_key(|(leaves, size)| (*leaves, std::cmp::Reverse(*size)));
    best.filter(|(leaves, _)| *leaves > 0).map(|(_, size)| size)
}

/// Nodes at `leaves` as the file of a tree, one behind the other.
fn pieces(leaves: &[ByteOffset], node_bytes: u16) -> Vec<Extent> {
    let bytes = u64::from(node_bytes);
    let piece = |(index, at): (usize, &ByteOffset)| Extent { stream_at: index as u64 * bytes, volume_at: Some(*at), bytes };
    leaves.iter().enumerate().map(piece).collect()
}

/// Node `number` of a tree, when it is a leaf whose every record lies inside it.
fn leaf(pages: &Pages, tree: &Tree, number: u32) -> Option<Node> {
    let node = tree.node(pages, number).ok()?;
    let sound = |index: u16| node.record(index).is_ok_and(|(key, data)| is_key(key, data));
    let is_leaf = node.kind() == NODE_LEAF && node.height() == 1 && node.records() > 0;
    (is_leaf && (0..node.records()).all(sound)).then_some(node)
}

/// True for a key as catalog, extents overflow or attributes have it: as long as its own count of units says.
fn is_key(key: &[u8], data: &[u8]) -> bool {
    let counted = |at: usize| key.get(at..at + 2).map(|pair| pair.iter().fold(0usize, |sum, byte| sum << 8 | usize::from(*byte)));
    let catalog = counted(4).is_some_and(|units| key.len() == 6 + 2 * units) && matches!(data, [0, 1..=4, ..]);
    let overflow = key.len() == OVERFLOW_KEY && matches!(key, [0 | 0xFF, 0, ..]) && data.len() >= size_of::<[RawExtent; 8]>();
    let attribute =
        counted(10).is_some_and(|units| key.len() == 12 + 2 * units) && matches!(data, [0, 0, 0, 0x10 | 0x20 | 0x30, ..]);
    catalog || overflow || attribute
}

/// Where leaves stand in the catalog's file.
fn leaves_in(window: &SharedSource, catalog: Vec<Extent>, node_bytes: u16) -> Vec<ByteOffset> {
    let (pages, tree) = (Pages::new(Arc::clone(window)), Tree::assumed(catalog, node_bytes));
    let leaves = (0..tree.nodes().min(MOST_NODES)).filter(|number| leaf(&pages, &tree, *number).is_some());
    leaves.filter_map(|number| tree.node_at(number)).collect()
}

/// Takes a record: its number as a node, key and data.
type Take<'a> = dyn FnMut(NodeId, &[u8], &[u8]) + 'a;

/// Hands every record of every leaf to `each`: its number as a node, key and data.
fn each_record(pages: &Pages, tree: &Tree, each: &mut Take<'_>) {
    for number in 0..tree.nodes().min(MOST_NODES) {
        let Some(node) = leaf(pages, tree, number) else { continue };
        for index in 0..node.records() {
            if let Ok((key, data)) = node.record(index) {
                each(NodeId(u64::from(number) << 16 | u64::from(index)), key, data);
            }
        }
    }
}

/// Opens what is left of the volume in `source`.
///
/// # Errors
/// As [`HfsVolume::unrooted`]: none where leaves are all that is needed.
pub(crate) fn open_former(source: SharedSource, what: &FormerHfs) -> Result<Remnant<HfsVolume>, FormatError> {
    const WHY: &str = "another volume was made over this one: its catalog is no tree any more";
    Ok(remnant(source, what, WHY)?.0)
}

/// Opens the volume in `source`; one whose catalog does not open by the leaves that are left of it.
///
/// # Errors
/// [`FormatError`] when neither the tree nor any leaf can be read.
pub(crate) fn open(source: SharedSource, geometry: HfsGeometry) -> Result<Box<dyn Volume>, FormatError> {
    const WHY: &str = "the catalog is no tree any more";
    let error = match HfsVolume::open(SharedSource::clone(&source), geometry) {
        Ok(volume) => return Ok(Box::new(volume)),
        Err(error) => error,
    };
    let catalog = geometry.extents_of(&geometry.catalog);
    let Some(node_bytes) = node_bytes(&source, &catalog, &[]) else { return Err(error) };
    let leaves = leaves_in(&source, catalog, node_bytes);
    let (volume, entries) = remnant(source, &FormerHfs { geometry, node_bytes, before: None, leaves }, WHY)?;
    if entries > 0 { Ok(Box::new(volume)) } else { Err(error) }
}

fn remnant(source: SharedSource, what: &FormerHfs, why: &'static str) -> Result<(Remnant<HfsVolume>, usize), FormatError> {
    let left = Left::read(&source, what);
    let private: HashSet<u32> =
        left.records.iter().filter(|one| is_private(one.parent, &one.units)).map(|one| one.record.id()).collect();
    let mut links = HashMap::new();
    for one in left.records.iter().filter(|one| private.contains(&one.parent)) {
        links.extend(LinkKey::named(&text_of(&one.units)).map(|key| (key, one.node)));
    }
    let (leaves, node_bytes) = (pieces(&what.leaves, what.node_bytes), what.node_bytes);
    let loose = Loose { leaves, node_bytes, label: left.label, links, overflow: left.overflow };
    let volume = HfsVolume::unrooted(source, what.geometry, loose)?;
    let mut forest = Forest::new(Some(u64::from(ROOT_FOLDER_ID)));
    for one in left.records.iter().filter(|one| !private.contains(&one.parent) && !private.contains(&one.record.id())) {
        let entry = volume.entry(one.node, &one.units, one.record);
        let own = (entry.kind == NodeKind::Directory).then_some(u64::from(one.record.id()));
        own.into_iter().for_each(|own| forest.folder(own));
        forest.add(u64::from(one.parent), entry, own);
    }
    let count = forest.len();
    let source = SharedSource::clone(volume.source());
    Ok((Remnant::new(volume, source, forest, why), count))
}

/// A record of a leaf that is left.
struct LeftRecord {
    node: NodeId,
    parent: u32,
    units: Vec<u16>,
    record: Record,
}

/// Every record that is left.
#[derive(Default)]
struct Left {
    records: Vec<LeftRecord>,
    overflow: HashMap<OverflowKey, [RawExtent; 8]>,
    label: Option<String>,
    /// Leaves with records of files, and where the first stands in the volume.
    nodes: usize,
    first: Option<ByteOffset>,
}

impl Left {
    fn read(source: &SharedSource, what: &FormerHfs) -> Self {
        let pages = Pages::new(Arc::clone(source));
        let tree = Tree::assumed(pieces(&what.leaves, what.node_bytes), what.node_bytes);
        let mut left = Self::default();
        let mut known: HashMap<(u32, Vec<u16>), usize> = HashMap::new();
        let mut last = None;
        each_record(&pages, &tree, &mut |node, key, data| {
            if left.take(what.before, (node, key, data), &mut known) && last.replace(node.0 >> 16) != Some(node.0 >> 16) {
                left.nodes += 1;
                left.first = left.first.or_else(|| tree.node_at(u32::try_from(node.0 >> 16).ok()?));
            }
        });
        left
    }

    /// Takes a record; true when it is one of a file or folder that was not known.
    fn take(
        &mut self,
        before: Option<u32>,
        (node, key, data): (NodeId, &[u8], &[u8]),
        known: &mut HashMap<(u32, Vec<u16>), usize>,
    ) -> bool {
        let units = units_of(key);
        let named = key.len() == 6 + 2 * units.len();
        let Some((parent, record)) = parent_of(key).zip(Record::parse(data)).filter(|_| named) else {
            if let (OVERFLOW_KEY, Some(key), Some(extents)) = (key.len(), forks::key_of(key), forks::extents_in(data))
                && self.overflow.len() < MOST_RECORDS
            {
                self.overflow.insert(key, extents);
            }
            return false;
        };
        // What the present volume changed itself is none of the older one's.
        if before.is_some_and(|before| record.changed() > before) {
            return false;
        }
        if (parent, record.id()) == (ROOT_PARENT_ID, ROOT_FOLDER_ID) {
            self.label = Some(text_of(&units));
            return false;
        }
        if parent < ROOT_FOLDER_ID || record.id() < FIRST_ID || units.is_empty() || self.records.len() >= MOST_RECORDS {
            return false;
        }
        let found = LeftRecord { node, parent, units: units.clone(), record };
        // A leaf that was split may stand twice: the record that was changed last holds.
        match known.get(&(parent, units.clone())).and_then(|index| self.records.get_mut(*index)) {
            Some(old) if old.record.changed() < record.changed() => *old = found,
            Some(_) => {}
            None => {
                known.insert((parent, units), self.records.len());
                self.records.push(found);
                return true;
            }
        }
        false
    }
}
