//! The folders that are left of an older FAT volume, put together: by the old FAT where that still stands, else by where drivers
//! lay the next cluster of a folder.

use std::collections::{BTreeMap, HashSet};

use keel_source::{ByteOffset, SharedSource};

use super::FormerFat;
use crate::fat::directory::{LongName, RawSlot, Slots, holds_entries};
use crate::fat::witness::dot;
use crate::fat::{FatGeometry, FatTable, FatVolume};
use crate::remnant::{Forest, Remnant};
use crate::{FormatError, View, Volume, VolumeKind, read_bytes, read_lenient};

/// The most clusters of one folder that are read.
const MOST_CLUSTERS: u64 = 4096;
/// The most clusters that are looked at one by one: those of a FAT16.
const MOST_SCANNED: u32 = 65_527;
/// Bytes of a cluster that tell whether it holds entries.
const SECTOR: usize = 512;
/// How far apart the last file of one cluster of a folder and the first one of the next may lie, in clusters.
const MOST_APART: u32 = 4096;
/// The most clusters that are tried as the next one of a folder.
const MOST_TRIED: usize = 64;
/// How far behind the files that a folder names its next cluster is looked for, in clusters.
const FARTHEST: u32 = 4;

/// Opens what is left of the volume in `source`. Every folder is read once.
pub(crate) fn open(source: SharedSource, what: &FormerFat) -> Remnant<FatVolume> {
    const WHY: &str = "another volume was made over this one: its FATs are not its own any more";
    let forest = Folders::new(&source, what).forest(what);
    Remnant::new(FatVolume::former(SharedSource::clone(&source), what.geometry, what.knows_fats), source, forest, WHY)
}

/// Opens the volume in `source`; one of which neither a FAT nor the root is left by the folders that stand on its clusters.
///
/// # Errors
/// [`FormatError`] when the start of the root directory cannot be read and no folder is left.
pub(crate) fn open_any(source: SharedSource, geometry: FatGeometry) -> Result<Box<dyn Volume>, FormatError> {
    const WHY: &str = "neither the root folder nor a FAT is left";
    let opened = FatVolume::open(SharedSource::clone(&source), geometry);
    let stands = opened.is_ok() && !is_headless(&source, &geometry);
    let what = (!stands).then(|| on_clusters(&source, geometry)).flatten();
    match (opened, what) {
        (opened, None) => opened.map(|volume| Box::new(volume) as Box<dyn Volume>),
        (_, Some(what)) => {
            let forest = Folders::new(&source, &what).forest(&what);
            Ok(Box::new(Remnant::new(FatVolume::former(SharedSource::clone(&source), geometry, false), source, forest, WHY)))
        }
    }
}

/// True where no FAT begins as one and the root begins with no entries.
fn is_headless(source: &SharedSource, geometry: &FatGeometry) -> bool {
    let begins = |copy: u32| {
        let first = read_bytes(source.as_ref(), geometry.fat_at(copy), 3, "FAT").unwrap_or_default();
        matches!(first.as_slice(), [0xF0 | 0xF8..=0xFF, 0xFF, 0xFF])
    };
    let root = match geometry.kind {
        VolumeKind::Fat32 => geometry.cluster_at(geometry.root_cluster),
        _ => Some(geometry.root_at()),
    };
    let head = root.and_then(|at| read_bytes(source.as_ref(), at, SECTOR, "root directory").ok()).unwrap_or_default();
    !(0..geometry.fats).any(begins) && !holds_entries(&head)
}

/// The folders that stand on the clusters of a volume of at most [`MOST_SCANNED`] clusters; none where there is none.
fn on_clusters(source: &SharedSource, geometry: FatGeometry) -> Option<FormerFat> {
    let mut what = FormerFat { geometry, knows_fats: false, has_root: false, folders: Vec::new(), more: Vec::new() };
    let end = u32::try_from(geometry.cluster_count() + 2).ok().filter(|end| *end <= MOST_SCANNED)?;
    for cluster in 2..end {
        let Some(at) = geometry.cluster_at(cluster) else { break };
        let Ok(head) = read_bytes(source.as_ref(), at, SECTOR, "directory") else { continue };
        match dot(View::new("directory", at, &head), at) {
            Some(dot) if dot.own == cluster => what.folders.push(cluster),
            Some(_) => {}
            None if holds_entries(&head) => what.more.push(cluster),
            None => {}
        }
    }
    (!what.folders.is_empty()).then_some(what)
}

struct Folders<'a> {
    source: &'a SharedSource,
    geometry: &'a FatGeometry,
    table: Option<FatTable>,
    /// Clusters that begin a folder, and those that one was found to go on in.
    taken: HashSet<u32>,
    folders: HashSet<u32>,
    /// Clusters that folders go on in, with the first cluster of the first file that each names.
    more: BTreeMap<u32, u32>,
}

impl<'a> Folders<'a> {
    fn new(source: &'a SharedSource, what: &'a FormerFat) -> Self {
        let folders: HashSet<u32> = what.folders.iter().copied().collect();
        let table = what.knows_fats.then(|| FatTable::new(SharedSource::clone(source), what.geometry));
        let mut read = Self { source, geometry: &what.geometry, table, taken: folders.clone(), folders, more: BTreeMap::new() };
        for cluster in &what.more {
            let Some((bytes, at)) = read.cluster(*cluster).filter(|(bytes, _)| holds_entries(bytes)) else { continue };
            let first = Slots::new(&bytes, at).map(|slot| slot.first_cluster()).find(|first| *first >= 2);
            read.more.insert(*cluster, first.unwrap_or(0));
        }
        read
    }

    fn forest(mut self, what: &FormerFat) -> Forest {
        let root = match what.geometry.kind {
            VolumeKind::Fat32 => u64::from(what.geometry.root_cluster),
            _ => 0,
        };
        let mut forest = Forest::new(what.has_root.then_some(root));
        if what.has_root && root == 0 {
            let len = usize::try_from(u64::from(what.geometry.root_entries) * 32).unwrap_or(0);
            let bytes = read_lenient(self.source.as_ref(), what.geometry.root_at(), len, "directory");
            let pieces = bytes.map(|(bytes, _)| vec![(bytes, what.geometry.root_at())]).unwrap_or_default();
            self.add(root, &pieces, &mut forest);
        }
        let begun = what.has_root.then_some(what.geometry.root_cluster).filter(|_| root != 0);
        for folder in begun.into_iter().chain(what.folders.iter().copied()) {
            let pieces = self.pieces(folder);
            self.add(u64::from(folder), &pieces, &mut forest);
        }
        // What no folder was found to go on in is told by itself: its files are named all the same.
        for rest in self.more.keys().copied().collect::<Vec<_>>() {
            if !self.taken.contains(&rest) {
                let pieces = self.pieces(rest);
                self.add(u64::from(rest), &pieces, &mut forest);
            }
        }
        forest
    }

    fn add(&self, ground: u64, pieces: &[(Vec<u8>, ByteOffset)], forest: &mut Forest) {
        forest.folder(ground);
        each_slot(pieces, &mut |slot| {
            if !slot.is_label() && !slot.is_dot() {
                let own = slot.is_directory().then(|| slot.first_cluster()).filter(|first| self.folders.contains(first));
                forest.add(ground, slot.entry(), own.map(u64::from));
            }
        });
    }

    /// The clusters of the folder that begins at `first`, each with where it stands.
    fn pieces(&mut self, first: u32) -> Vec<(Vec<u8>, ByteOffset)> {
        if let Some(pieces) = self.recorded(first) {
            return pieces;
        }
        let mut pieces: Vec<(Vec<u8>, ByteOffset)> = Vec::new();
        let (mut cluster, mut long) = (first, LongName::default());
        for _ in 0..MOST_CLUSTERS {
            let Some(piece) = self.cluster(cluster) else { break };
            let mut slots = Slots::carrying(long, &piece.0, piece.1);
            let named: Vec<RawSlot> = slots.by_ref().collect();
            let full = is_full(&piece.0);
            let next = full.then(|| self.next(cluster, &named, &slots)).flatten();
            long = slots.into_long_name();
            pieces.push(piece);
            self.taken.insert(cluster);
            let Some(next) = next else { break };
            cluster = next;
        }
        pieces
    }

    fn cluster(&self, cluster: u32) -> Option<(Vec<u8>, ByteOffset)> {
        let at = self.geometry.cluster_at(cluster)?;
        let (bytes, _) = read_lenient(self.source.as_ref(), at, self.geometry.cluster_bytes() as usize, "directory").ok()?;
        Some((bytes, at))
    }

    /// By the chain of the old FAT, when every cluster of it but the last is full of entries and each goes on with some.
    fn recorded(&mut self, first: u32) -> Option<Vec<(Vec<u8>, ByteOffset)>> {
        let chain = self.table.as_ref()?.chain(first, MOST_CLUSTERS);
        let whole = chain.finding.is_none() && chain.clusters > 0 && chain.clusters < MOST_CLUSTERS;
        let clusters: Vec<u32> =
            chain.runs.iter().flat_map(|(first, count)| *first..first.saturating_add(*count)).filter(|_| whole).collect();
        let pieces: Vec<(Vec<u8>, ByteOffset)> = clusters.iter().filter_map(|cluster| self.cluster(*cluster)).collect();
        let (last, before) = pieces.split_last()?;
        let goes_on = pieces.iter().skip(1).all(|(bytes, _)| holds_entries(bytes));
        // A chain of one cluster that is full may be another one's by now.
        let ends = !is_full(&last.0) || !before.is_empty();
        if !goes_on || !ends || !before.iter().all(|(bytes, _)| is_full(bytes)) {
            return None;
        }
        self.taken.extend(clusters);
        Some(pieces)
    }

    /// Where a folder goes on that fills `cluster` with what is `named`: drivers take the cluster behind what they wrote last, which
    /// is the last file that the folder names, or the next one behind the folder itself.
    fn next(&self, cluster: u32, named: &[RawSlot], slots: &Slots<'_>) -> Option<u32> {
        let unit = u64::from(self.geometry.cluster_bytes()).max(1);
        let end = |slot: &RawSlot| {
            let count = u64::from(slot.raw.file_size.get()).div_ceil(unit).max(1);
            let end = u64::from(slot.first_cluster()) + count;
            u32::try_from(end).ok().filter(|_| slot.first_cluster() >= 2 && !slot.is_dot())
        };
        let ends: Vec<u32> = named.iter().filter_map(end).collect();
        let nearest = (0..=FARTHEST).flat_map(|behind| {
            let behind_last = ends.last().and_then(|end| end.checked_add(behind));
            [behind_last, cluster.checked_add(1 + behind)].into_iter().flatten()
        });
        // Files that a folder names one after the other lie one behind the other.
        let last = ends.last().copied().unwrap_or(cluster);
        let mut seen: Vec<(u32, u32)> = self.more.iter().map(|(next, first)| (first.abs_diff(last), *next)).collect();
        seen.sort_unstable();
        let seen = seen.into_iter().filter(|(apart, _)| *apart <= MOST_APART).map(|(_, next)| next).take(MOST_TRIED);
        let candidates = nearest.chain(seen).chain(ends.iter().rev().copied());
        candidates.into_iter().find(|next| {
            !self.taken.contains(next)
                && self.cluster(*next).is_some_and(|(bytes, _)| holds_entries(&bytes) && slots.goes_on_with(&bytes))
        })
    }
}

fn is_full(bytes: &[u8]) -> bool {
    bytes.chunks_exact(32).all(|entry| entry.first() != Some(&0))
}

fn each_slot(pieces: &[(Vec<u8>, ByteOffset)], each: &mut dyn FnMut(RawSlot)) {
    let mut slots = Slots::new(&[], ByteOffset(0));
    for (bytes, at) in pieces {
        slots = slots.resume(bytes, *at);
        slots.by_ref().for_each(&mut *each);
        if slots.ended() {
            break;
        }
    }
}
