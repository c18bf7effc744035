//! An HFS+ volume whose catalog is no tree any more: one that another volume was made over, or whose header node is gone. Its leaves
//! are read one by one; each record says what it is called and in which folder.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};
use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::Serialize;

use super::btree::Tree;
use super::catalog::{Record, parent_of, text_of, units_of};
use super::layout::{NODE_LEAF, ROOT_FOLDER_ID, ROOT_PARENT_ID};
use super::read::{LinkKey, is_private};
use super::{HfsGeometry, HfsVolume};
use crate::former::{Former, Host, told};
use crate::pages::Pages;
use crate::remnant::{Forest, Remnant};
use crate::{FormatError, FoundVolume, Geometry, NodeId, NodeKind, Volume};

/// Sizes of a catalog's nodes, the customary ones first. Technical Note 1150, "B-Trees": a power of two from 512 to 32,768.
const NODE_SIZES: [u16; 7] = [8192, 4096, 16_384, 32_768, 2048, 1024, 512];
/// Nodes that are looked at for each size.
const MOST_SAMPLED: u32 = 512;
/// The most nodes of one catalog that are read.
const MOST_NODES: u32 = 1 << 20;
/// The most records that are kept.
const MOST_RECORDS: usize = 500_000;
/// The lowest catalog node ID that a file or folder of a user has.
const FIRST_ID: u32 = 16;

/// What is left of the volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct FormerHfs {
    /// Where its catalog stands.
    pub geometry: HfsGeometry,
    /// Bytes of a node of its catalog.
    pub node_bytes: u16,
    /// True where the catalog is the present volume's, and the nodes that it does not use hold the older one's leaves.
    pub is_spare: bool,
}

/// Volumes of an older generation of which a header names a catalog and leaves of it are left.
pub(crate) fn former(drive: &SharedSource, found: &[FoundVolume], hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    let mut volumes = Vec::new();
    for host in hosts {
        let older = found.iter().filter(|volume| host.is_over(volume)).map(|volume| (volume, false));
        for (volume, is_spare) in older.chain([(host.volume, true)]) {
            let Geometry::HfsPlus(geometry) = volume.geometry else { continue };
            let window: SharedSource = std::sync::Arc::new(keel_source::Window::new(SharedSource::clone(drive), volume.range()));
            let Some(node_bytes) = node_bytes(&window, &geometry) else { continue };
            let what = FormerHfs { geometry, node_bytes, is_spare };
            let left = Left::read(&window, &what);
            let Some((at, nodes)) = left.first.map(|at| (volume.start + at.0, left.nodes)) else { continue };
            let said = format!("{nodes} leaves of a catalog that no present volume reaches hold records of files");
            let what = Former::HfsPlus(what);
            volumes.extend(told(drive, (volume.start, ByteOffset(drive.len())), what, (at, nodes, said)));
        }
    }
    volumes
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

/// The size of the nodes of the catalog that `geometry` names: the one with which the most bytes of it are leaves.
fn node_bytes(window: &SharedSource, geometry: &HfsGeometry) -> Option<u16> {
    let pages = Pages::new(SharedSource::clone(window));
    let leaves = |size: u16| {
        let tree = Tree::assumed(geometry.extents_of(&geometry.catalog), size);
        (0..tree.nodes().min(MOST_SAMPLED)).filter(|number| is_leaf(&pages, &tree, *number)).count() as u64
    };
    let best =
        NODE_SIZES.into_iter().map(|size| (leaves(size) * u64::from(size), size)).max_by_key(|(bytes, size)| (*bytes, *size));
    best.filter(|(bytes, _)| *bytes > 0).map(|(_, size)| size)
}

fn is_leaf(pages: &Pages, tree: &Tree, number: u32) -> bool {
    let Ok(node) = tree.node(pages, number) else { return false };
    let sound = |index: u16| node.record(index).is_ok_and(|(key, _)| (6..=516).contains(&key.len()));
    node.kind() == NODE_LEAF && node.height() == 1 && node.records() > 0 && (0..node.records()).all(sound)
}

/// Opens what is left of the volume in `source`.
///
/// # Errors
/// None today: nothing but leaves is needed.
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
    let Some(node_bytes) = node_bytes(&source, &geometry) else { return Err(error) };
    let (volume, entries) = remnant(source, &FormerHfs { geometry, node_bytes, is_spare: false }, WHY)?;
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
    let volume = HfsVolume::unrooted(source, what.geometry, what.node_bytes, left.label, links)?;
    let mut forest = Forest::new(Some(u64::from(ROOT_FOLDER_ID)));
    for one in left.records.iter().filter(|one| !private.contains(&one.parent) && !private.contains(&one.record.id())) {
        let entry = volume.entry(one.node, &one.units, one.record);
        let own = (entry.kind == NodeKind::Directory).then_some(u64::from(one.record.id()));
        own.into_iter().for_each(|own| forest.folder(own));
        forest.add(u64::from(one.parent), entry, own);
    }
    let count = forest.len();
    Ok((Remnant::new(volume, forest, why), count))
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
    label: Option<String>,
    /// Leaves with records, and where the first stands in the volume.
    nodes: usize,
    first: Option<ByteOffset>,
}

impl Left {
    fn read(source: &SharedSource, what: &FormerHfs) -> Self {
        let pages = Pages::new(SharedSource::clone(source));
        let tree = Tree::assumed(what.geometry.extents_of(&what.geometry.catalog), what.node_bytes);
        let (live, made) = if what.is_spare { live(source, what.geometry) } else { (HashSet::new(), None) };
        let mut left = Self::default();
        if what.is_spare && made.is_none() {
            return left;
        }
        let mut known: HashMap<(u32, Vec<u16>), usize> = HashMap::new();
        for number in (0..tree.nodes().min(MOST_NODES)).filter(|number| !live.contains(number)) {
            if left.records.len() >= MOST_RECORDS || !is_leaf(&pages, &tree, number) {
                continue;
            }
            let Ok(node) = tree.node(&pages, number) else { continue };
            let before = left.records.len();
            for index in 0..node.records() {
                let Ok((key, data)) = node.record(index) else { continue };
                let (Some(parent), Some(record)) = (parent_of(key), Record::parse(data)) else { continue };
                let units = units_of(key);
                // What the present volume changed itself is none of the older one's.
                if made.is_some_and(|made| record.changed() > made) {
                    continue;
                }
                if (parent, record.id()) == (ROOT_PARENT_ID, ROOT_FOLDER_ID) {
                    left.label = Some(text_of(&units));
                    continue;
                }
                if parent < ROOT_FOLDER_ID || record.id() < FIRST_ID || units.is_empty() {
                    continue;
                }
                let found =
                    LeftRecord { node: NodeId(u64::from(number) << 16 | u64::from(index)), parent, units: units.clone(), record };
                // A leaf that was split may stand twice: the record that was changed last holds.
                match known.get(&(parent, units.clone())).and_then(|index| left.records.get_mut(*index)) {
                    Some(old) if old.record.changed() < record.changed() => *old = found,
                    Some(_) => {}
                    None => {
                        known.insert((parent, units), left.records.len());
                        left.records.push(found);
                    }
                }
            }
            if left.records.len() > before {
                left.nodes += 1;
                left.first = left.first.or_else(|| tree.node_at(number));
            }
        }
        left
    }
}

/// The leaves that the present volume's catalog uses, and when its root folder was made.
fn live(source: &SharedSource, geometry: HfsGeometry) -> (HashSet<u32>, Option<u32>) {
    let mut live = HashSet::new();
    let mut made = None;
    if let Ok(volume) = HfsVolume::open(SharedSource::clone(source), geometry) {
        let pages = Pages::new(SharedSource::clone(volume.source()));
        let walked = volume.catalog().from(&pages, &|_| Ordering::Greater, &mut |found| {
            live.insert(found.node);
            if let (Some(ROOT_PARENT_ID), Some(Record::Folder(root))) = (parent_of(found.key), Record::parse(found.data)) {
                made = Some(root.create_date.get());
            }
            ControlFlow::Continue(())
        });
        // What cannot be read to its end may hold any of the nodes.
        if walked.is_err() {
            made = None;
        }
    }
    (live, made)
}
