//! An exFAT volume that another one was made over: its root and its FAT may be gone, folders on ground that nobody took since are
//! left. They name their files with first cluster and length, and most files have no chain.

mod base;

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::Serialize;

use super::directory::{ENTRY_BYTES, FileSet, Sets, Step};
use super::layout::{BITMAP, DIRECTORY, FILE, IN_USE, LABEL, NAME, REGION_SECTORS, STREAM, UPCASE};
use super::{ExFatGeometry, ExFatVolume};
use crate::clue::Clues;
use crate::former::{Former, Host, told};
use crate::remnant::{Forest, Remnant};
use crate::{Deleted, FoundVolume, Geometry, NodeKind, Volume, read_bytes};

/// The most folders of one volume.
const MOST_FOLDERS: usize = 65_536;
/// The most clusters of one folder.
const MOST_CLUSTERS: usize = 8192;
/// The most volumes of older generations that are told of one present volume.
const MOST_FORMER: usize = 4;
/// The most clusters that are tried as the one that completes a broken set.
const MOST_TRIED: usize = 4096;
/// How many levels below a deleted folder are followed.
const MOST_LEVELS: usize = 64;

/// What is left of the volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FormerExFat {
    /// Where clusters stand.
    pub geometry: ExFatGeometry,
    /// Clusters of folders that are left, ascending.
    #[serde(skip)]
    pub folders: Vec<u32>,
}

/// Volumes of an older generation that sets of directory entries speak for, on ground that no volume of `hosts` uses.
pub(crate) fn former(drive: &SharedSource, clues: &Clues, found: &[FoundVolume], hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    let mut volumes: Vec<FoundVolume> = Vec::new();
    for host in hosts {
        let mut sets: Vec<ByteOffset> = clues.exfat.sets.iter().copied().filter(|at| host.leaves(*at)).collect();
        for _ in 0..MOST_FORMER {
            let Some((volume, ground)) = oldest(drive, clues, &sets, found, host) else { break };
            let before = sets.len();
            sets.retain(|at| !ground.iter().any(|cluster| cluster.contains(*at)));
            volumes.push(volume);
            if sets.len() == before {
                break;
            }
        }
    }
    volumes
}

/// The volume that most of what `sets` name speaks for, with the clusters of its folders on the drive.
fn oldest(
    drive: &SharedSource,
    clues: &Clues,
    sets: &[ByteOffset],
    found: &[FoundVolume],
    host: &Host<'_>,
) -> Option<(FoundVolume, Vec<ByteRange>)> {
    let (start, mut geometry) = base::best(drive, sets, found, host)?;
    // A root is told by what only a root names.
    let unit = u64::from(geometry.cluster_bytes()).max(1);
    let heap = start + geometry.heap_at().0;
    let number =
        |at: ByteOffset| at.0.checked_sub(heap.0).filter(|bytes| bytes.is_multiple_of(unit)).map(|bytes| bytes / unit + 2);
    let left = clues.exfat.roots.iter().filter(|root| host.leaves(root.at)).filter_map(|root| number(root.at));
    let roots: Vec<u32> = left.filter_map(|root| u32::try_from(root).ok()).collect();
    if !roots.contains(&geometry.root_cluster) {
        geometry.root_cluster = roots.first().copied().unwrap_or(geometry.root_cluster);
    }
    let folders = folders(drive, start, &geometry, sets.iter().copied(), host);
    let own = u64::from(geometry.cluster_bytes());
    let place = |folder: &u32| Some(ByteRange::sized(start + geometry.cluster_at(*folder)?.0, own));
    let ground: Vec<ByteRange> = folders.iter().filter_map(place).collect();
    let first = ground.first()?.start;
    let said = format!("{} clusters of folders that no present volume uses hold sets of directory entries", folders.len());
    let what = Former::ExFat(FormerExFat { geometry, folders });
    let volume = told(drive, (start, ByteOffset(drive.len())), what, (first, ground.len(), said))?;
    Some((volume, ground))
}

/// Clusters of `geometry` that hold sets, without those that the present volume names itself: deleted folders and what lies
/// below them.
fn folders(
    drive: &SharedSource,
    start: ByteOffset,
    geometry: &ExFatGeometry,
    sets: impl Iterator<Item = ByteOffset>,
    host: &Host<'_>,
) -> Vec<u32> {
    let unit = u64::from(geometry.cluster_bytes()).max(1);
    let heap = start + geometry.heap_at().0;
    let cluster_of = |at: ByteOffset| {
        let index = at.0.checked_sub(heap.0)? / unit;
        u32::try_from(index + 2).ok().filter(|cluster| geometry.cluster_at(*cluster).is_some())
    };
    let mut clusters: BTreeSet<u32> = sets.filter_map(cluster_of).take(MOST_FOLDERS).collect();
    // The root begins with entries about the volume.
    clusters.extend(
        Some(geometry.root_cluster).filter(|root| geometry.cluster_at(*root).is_some_and(|at| host.leaves(start + at.0))),
    );
    let window = |at: ByteOffset| read_bytes(drive.as_ref(), start + at.0, ENTRY_BYTES, "directory").ok();
    let holds = |cluster: &u32| {
        let first = geometry.cluster_at(*cluster).and_then(window);
        first.and_then(|entry| entry.first().copied()).is_some_and(is_entry)
    };
    clusters.retain(|cluster| holds(cluster));
    if host.volume.geometry == Geometry::ExFat(*geometry) {
        let named = named(drive, host, geometry, &clusters);
        clusters.retain(|cluster| !named.contains(cluster));
    }
    clusters.into_iter().collect()
}

fn is_entry(kind: u8) -> bool {
    matches!(kind | IN_USE, FILE | STREAM | NAME | LABEL | BITMAP | UPCASE)
}

/// First clusters of the folders that a present volume names, deleted ones too, and of those named in `clusters` below them.
fn named(drive: &SharedSource, host: &Host<'_>, geometry: &ExFatGeometry, clusters: &BTreeSet<u32>) -> HashSet<u32> {
    let source = host.window(drive);
    let mut named: HashSet<u32> = HashSet::new();
    let Ok(volume) = ExFatVolume::open(SharedSource::clone(&source), *geometry) else { return named };
    let _ = volume.walk(Deleted::Show, &mut |found| {
        if found.entry.kind == NodeKind::Directory
            && let Ok(extents) = volume.extents(found.entry.id)
        {
            let unit = u64::from(geometry.cluster_bytes()).max(1);
            let heap = geometry.heap_at();
            for extent in extents {
                let first = extent.volume_at.and_then(|at| at.0.checked_sub(heap.0)).map(|bytes| bytes / unit + 2);
                let all = first.into_iter().flat_map(|first| first..first + extent.bytes / unit);
                named.extend(all.filter_map(|cluster| u32::try_from(cluster).ok()).take(MOST_CLUSTERS));
            }
        }
        if named.len() < MOST_FOLDERS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    let mut below: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
    for cluster in clusters {
        let Some(at) = geometry.cluster_at(*cluster) else { continue };
        let mut sets = Sets::default();
        take_cluster(&source, at, geometry, &mut sets, &mut |set| below.entry(*cluster).or_default().extend(leads_to(&set)));
    }
    for _ in 0..MOST_LEVELS {
        let more: Vec<u32> =
            below.iter().filter(|(cluster, _)| named.contains(cluster)).flat_map(|(_, more)| more.clone()).collect();
        let before = named.len();
        named.extend(more);
        if named.len() == before {
            break;
        }
    }
    named
}

/// The first cluster of the folder that a set names.
fn leads_to(set: &FileSet) -> Option<u32> {
    let folder = set.file.file_attributes.get() & DIRECTORY != 0 && set.checksum_holds;
    folder.then(|| set.stream.first_cluster.get()).filter(|first| *first >= 2)
}

/// Hands the sets of one cluster to `each`; true when the folder goes on behind it.
fn take_cluster(
    source: &SharedSource,
    at: ByteOffset,
    geometry: &ExFatGeometry,
    sets: &mut Sets,
    each: &mut dyn FnMut(FileSet),
) -> bool {
    let Ok(bytes) = read_bytes(source.as_ref(), at, geometry.cluster_bytes() as usize, "directory") else { return false };
    for (index, entry) in bytes.as_chunks::<ENTRY_BYTES>().0.iter().enumerate() {
        match sets.take(entry, at + (index * ENTRY_BYTES) as u64) {
            Step::End => return false,
            Step::Set(set) => each(*set),
            Step::More | Step::Other | Step::Broken(_) => {}
        }
    }
    true
}

/// Ground of the volume in `source` that its formatter set aside and did not clear: gaps around the FATs, and what bitmap and up-case
/// table leave of their last clusters.
pub(crate) fn set_aside(source: SharedSource, geometry: ExFatGeometry) -> RangeSet {
    let mut ground = RangeSet::default();
    let Ok(volume) = ExFatVolume::open(source, geometry) else { return ground };
    let unit = u64::from(geometry.cluster_bytes()).max(1);
    let sector = u64::from(geometry.bytes_per_sector);
    let fats = u64::from(geometry.fat_length) * u64::from(geometry.fats) * sector;
    let (fat_at, heap_at) = (geometry.fat_at(), geometry.heap_at());
    ground.add(ByteRange::new(ByteOffset(2 * REGION_SECTORS * sector).min(fat_at), fat_at));
    ground.add(ByteRange::new((fat_at + fats).min(heap_at), heap_at));
    for entry in [volume.core().bitmap, volume.core().upcase].into_iter().flatten() {
        let bytes = entry.data_length.get();
        let Some(at) = geometry.cluster_at(entry.first_cluster.get()).filter(|_| bytes < geometry.volume_bytes()) else {
            continue;
        };
        ground.add(ByteRange::sized(at + bytes, bytes.next_multiple_of(unit) - bytes));
    }
    ground
}

/// Opens what is left of the volume in `source`.
pub(crate) fn open(source: SharedSource, what: &FormerExFat) -> Remnant<ExFatVolume> {
    const WHY: &str = "another volume was made over this one: its root folder and its FAT are not its own any more";
    let forest = Folders::read(&source, what).forest(what.geometry.root_cluster);
    Remnant::new(ExFatVolume::former(SharedSource::clone(&source), what.geometry), source, forest, WHY)
}

/// The clusters of folders, and the sets in them, put together to folders.
struct Folders<'a> {
    source: &'a SharedSource,
    geometry: &'a ExFatGeometry,
    all: BTreeSet<u32>,
    /// First clusters of folders that sets name, with the count of their clusters where these follow one another.
    named: BTreeMap<u32, u64>,
}

impl<'a> Folders<'a> {
    fn read(source: &'a SharedSource, what: &'a FormerExFat) -> Self {
        let all: BTreeSet<u32> = what.folders.iter().copied().collect();
        let mut folders = Self { source, geometry: &what.geometry, all, named: BTreeMap::new() };
        let unit = u64::from(what.geometry.cluster_bytes()).max(1);
        for cluster in &what.folders {
            let Some(at) = what.geometry.cluster_at(*cluster) else { continue };
            take_cluster(source, at, &what.geometry, &mut Sets::default(), &mut |set| {
                let Some(first) = leads_to(&set) else { return };
                let count = if set.is_contiguous() { set.stream.data_length.get().div_ceil(unit) } else { 1 };
                folders.named.insert(first, count.max(1));
            });
        }
        folders
    }

    /// Every folder with what it names. A folder goes on where its clusters follow one another, or where a cluster completes the
    /// set that the one before broke off, by the set's checksum.
    fn forest(mut self, root: u32) -> Forest {
        let mut forest = Forest::new(self.all.contains(&root).then_some(u64::from(root)));
        let mut own: BTreeSet<u32> = BTreeSet::new();
        for (first, count) in &self.named {
            let end = u64::from(*first).saturating_add((*count).min(MOST_CLUSTERS as u64));
            own.extend((u64::from(*first)..end).filter_map(|cluster| u32::try_from(cluster).ok()));
        }
        let begins = |cluster: &u32| self.first_kind(*cluster).is_some_and(|kind| !matches!(kind | IN_USE, STREAM | NAME));
        let heads: Vec<u32> =
            self.all.iter().copied().filter(|cluster| self.named.contains_key(cluster) || *cluster == root).collect();
        let unnamed: Vec<u32> =
            self.all.iter().copied().filter(|cluster| !own.contains(cluster) && *cluster != root && begins(cluster)).collect();
        let mut open: BTreeSet<u32> =
            self.all.iter().copied().filter(|cluster| !own.contains(cluster) && !begins(cluster)).collect();
        for head in heads.into_iter().chain(unnamed) {
            self.grow(head, &mut open, &mut forest);
        }
        // What is left begins inside a set that stands nowhere any more.
        for rest in std::mem::take(&mut open) {
            self.grow(rest, &mut BTreeSet::new(), &mut forest);
        }
        self.all.clear();
        forest
    }

    fn first_kind(&self, cluster: u32) -> Option<u8> {
        let at = self.geometry.cluster_at(cluster)?;
        read_bytes(self.source.as_ref(), at, ENTRY_BYTES, "directory").ok()?.first().copied()
    }

    fn grow(&self, head: u32, open: &mut BTreeSet<u32>, forest: &mut Forest) {
        let ground = u64::from(head);
        forest.folder(ground);
        let (mut cluster, mut sets) = (head, Sets::default());
        let straight = self.named.get(&head).copied().unwrap_or(1);
        for index in 1..=MOST_CLUSTERS {
            let Some(at) = self.geometry.cluster_at(cluster) else { return };
            let goes_on = take_cluster(self.source, at, self.geometry, &mut sets, &mut |set| {
                let own = leads_to(&set).map(u64::from);
                let right = set.checksum_holds;
                if right {
                    forest.add(ground, set.entry(), own);
                }
            });
            if !goes_on {
                return;
            }
            let next = if (index as u64) < straight {
                cluster.checked_add(1).filter(|next| self.all.contains(next))
            } else {
                let completes = |next: &u32| self.completes(&sets, *next);
                sets.is_broken().then(|| open.iter().copied().take(MOST_TRIED).find(completes)).flatten()
            };
            let Some(next) = next else { return };
            open.remove(&next);
            cluster = next;
        }
    }

    /// True when `cluster` goes on with the set that `sets` holds the beginning of, and its checksum holds.
    fn completes(&self, sets: &Sets, cluster: u32) -> bool {
        let Some(at) = self.geometry.cluster_at(cluster) else { return false };
        let mut sets = sets.clone();
        let bytes = read_bytes(self.source.as_ref(), at, ENTRY_BYTES * 19, "directory").unwrap_or_default();
        for (index, entry) in bytes.as_chunks::<ENTRY_BYTES>().0.iter().enumerate() {
            match sets.take(entry, at + (index * ENTRY_BYTES) as u64) {
                Step::More => {}
                Step::Set(set) => return set.checksum_holds,
                Step::End | Step::Other | Step::Broken(_) => return false,
            }
        }
        false
    }
}
