//! A FAT volume that another one was made over: its FATs and its root are gone, folders on ground that nobody took since are
//! left. They name their files, their sizes and first clusters; the clusters behind are taken as they follow one another.

use std::collections::{HashMap, HashSet};
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, SharedSource, Window};

use super::directory::{RawSlot, Slots};
use super::layout::RawDirEntry;
use super::witness::{Dot, data_areas};
use super::{FatGeometry, FatTable, FatVolume};
use crate::clue::Clues;
use crate::former::{self, Former};
use crate::remnant::{FOLDER, LOST, LOST_NODE, plain_folder};
use crate::{
    Deleted, Entry, Extent, ExtentStream, Finding, FormatError, FoundVolume, Geometry, MemoryStream, NodeId, NodeKind, Problem,
    StreamInfo, StreamReader, View, Volume, VolumeKind, VolumeSummary, WalkEntry, read_bytes, read_lenient, tree,
};

/// The most clusters of one folder that are read.
const MOST_CLUSTERS: u32 = 64;
/// Folders that must agree on a data area before it is believed.
const LEAST_VOTES: usize = 2;
/// The most volumes of older generations that are told of one drive.
const MOST_FORMER: usize = 8;
/// How many levels below a deleted folder are followed.
const MOST_LEVELS: usize = 64;
/// The most folders of one volume.
const MOST_FOLDERS: usize = 200_000;

/// What is left of the volume.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct FormerFat {
    /// Where clusters stand, as the folders say.
    pub geometry: FatGeometry,
    /// First clusters of the folders that are left, ascending.
    #[serde(skip)]
    pub folders: Vec<u32>,
}

/// Volumes of an older generation that folders speak for which no volume of `present` reaches.
pub(crate) fn former(drive: &SharedSource, clues: &Clues, present: &[FoundVolume]) -> Vec<FoundVolume> {
    let reached = Reached::new(drive, present, &clues.fat.dots);
    let dots: Vec<Dot> = clues.fat.dots.iter().filter(|dot| !reached.reaches(dot)).copied().collect();
    let mut found: Vec<FoundVolume> = Vec::new();
    for data in data_areas(&dots) {
        let own: Vec<&Dot> = dots.iter().filter(|dot| data.at + u64::from(dot.own - 2) * data.cluster_bytes == dot.at).collect();
        let taken = found.iter().any(|volume| own.iter().all(|dot| volume.range().contains(dot.at)));
        if data.votes < LEAST_VOTES || own.len() < LEAST_VOTES || taken || found.len() >= MOST_FORMER {
            continue;
        }
        let host = present.iter().find(|volume| own.iter().any(|dot| volume.range().contains(dot.at)));
        let Some(host) = host else { continue };
        let mut folders: Vec<u32> = own.iter().map(|dot| dot.own).take(MOST_FOLDERS).collect();
        folders.sort_unstable();
        folders.dedup();
        found.extend(told(drive, (data.at, data.cluster_bytes), folders, host));
    }
    found
}

/// The directories that present FAT volumes reach: their clusters are in use, or the tree names them, deleted ones and what lies
/// below them as well.
struct Reached {
    volumes: Vec<(ByteRange, FatGeometry, FatTable)>,
    /// Clusters of folders that the tree of each volume names.
    named: Vec<HashSet<u32>>,
}

impl Reached {
    fn new(drive: &SharedSource, present: &[FoundVolume], dots: &[Dot]) -> Self {
        let window = |volume: &FoundVolume| -> SharedSource { Arc::new(Window::new(Arc::clone(drive), volume.range())) };
        let table = |volume: &FoundVolume| match volume.geometry {
            Geometry::Fat(geometry) => Some((volume.range(), geometry, FatTable::new(window(volume), geometry))),
            _ => None,
        };
        let mut reached = Self { volumes: present.iter().filter_map(table).collect(), named: Vec::new() };
        // The tree is asked only where something lies on ground that the FATs call free.
        if dots.iter().filter(|dot| !reached.reaches(dot)).count() < LEAST_VOTES {
            return reached;
        }
        reached.named = reached
            .volumes
            .iter()
            .map(|(range, geometry, _)| {
                let source: SharedSource = Arc::new(Window::new(Arc::clone(drive), *range));
                let inside = dots.iter().filter(|dot| stands_in(dot, *range, geometry));
                named_folders(source, *geometry, &inside.copied().collect::<Vec<_>>())
            })
            .collect();
        reached
    }

    fn reaches(&self, dot: &Dot) -> bool {
        self.volumes.iter().enumerate().any(|(index, (range, geometry, table))| {
            let used = || (0..geometry.fats).any(|copy| table.entry_in(copy, dot.own).is_none_or(|entry| entry != 0));
            let named = || self.named.get(index).is_some_and(|named| named.contains(&dot.own));
            stands_in(dot, *range, geometry) && (used() || named())
        })
    }
}

/// True for a directory that stands where its number puts it in a volume.
fn stands_in(dot: &Dot, range: ByteRange, geometry: &FatGeometry) -> bool {
    geometry.cluster_at(dot.own).is_some_and(|at| range.start + at.0 == dot.at)
}

/// First clusters of the folders that a volume names, deleted ones too, and of those whose parents are among them.
fn named_folders(source: SharedSource, geometry: FatGeometry, dots: &[Dot]) -> HashSet<u32> {
    let Ok(volume) = FatVolume::open(source, geometry) else { return HashSet::new() };
    let mut named = HashSet::new();
    let _ = volume.walk(Deleted::Show, &mut |found| {
        if found.entry.kind == NodeKind::Directory
            && let Ok(slot) = volume.slot_of(found.entry.id)
        {
            named.insert(slot.first_cluster());
        }
        if named.len() < MOST_FOLDERS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    // A tree is at most as deep as there are folders; most are a few levels deep.
    for _ in 0..MOST_LEVELS {
        let before = named.len();
        let below: Vec<u32> = dots.iter().filter(|dot| named.contains(&dot.parent)).map(|dot| dot.own).collect();
        named.extend(below);
        if named.len() == before {
            break;
        }
    }
    named
}

fn told(
    drive: &SharedSource,
    (data, cluster_bytes): (ByteOffset, u64),
    folders: Vec<u32>,
    host: &FoundVolume,
) -> Option<FoundVolume> {
    let unit = drive.sector_size().bytes();
    let start = host.start;
    let before = data.0.checked_sub(start.0).filter(|bytes| *bytes >= 2 * unit)? / unit;
    let geometry = FatGeometry {
        kind: VolumeKind::Fat32,
        bytes_per_sector: drive.sector_size().0,
        sectors_per_cluster: u32::try_from(cluster_bytes / unit).ok().filter(|count| *count > 0)?,
        reserved_sectors: 1,
        fats: 1,
        fat_sectors: u32::try_from(before - 1).ok()?,
        root_entries: 0,
        root_cluster: 2,
        total_sectors: host.bytes / unit,
        media: 0xF8,
        serial: 0,
        fs_info: 0,
        backup: 0,
    };
    let said = format!(
        "{} folders that no present volume reaches name the clusters they stand in: {cluster_bytes} bytes each",
        folders.len()
    );
    let count = folders.len();
    former::told(drive, (start, host.range().end), Former::Fat(FormerFat { geometry, folders }), (data, count, said))
}

/// The volume opened for looking into it.
pub(crate) struct FormerFatVolume {
    source: SharedSource,
    geometry: FatGeometry,
    summary: VolumeSummary,
    /// Folders that no other one names.
    tops: Vec<u32>,
    folders: HashSet<u32>,
}

impl FormerFatVolume {
    /// Opens what is left of the volume in `source`. Every folder is read once.
    pub(crate) fn open(source: SharedSource, what: &FormerFat) -> Self {
        let summary = VolumeSummary {
            kind: VolumeKind::Fat32,
            label: None,
            serial: None,
            bytes: what.geometry.volume_bytes(),
            cluster_bytes: what.geometry.cluster_bytes(),
        };
        let folders: HashSet<u32> = what.folders.iter().copied().collect();
        let mut volume = Self { source, geometry: what.geometry, summary, tops: Vec::new(), folders };
        let mut named: HashMap<u32, u32> = HashMap::new();
        for folder in &what.folders {
            volume.slots(*folder, &mut |slot| {
                if slot.is_directory() && !slot.is_dot() && !slot.deleted {
                    named.insert(slot.first_cluster(), *folder);
                }
                ControlFlow::Continue(())
            });
        }
        volume.tops = what.folders.iter().filter(|folder| !named.contains_key(folder)).copied().collect();
        volume
    }

    /// Hands every slot of the folder that begins at `first` to `each`. The folder goes on in the next cluster as long as it is
    /// full and that one begins with entries, and not with those of another folder.
    fn slots(&self, first: u32, each: &mut dyn FnMut(RawSlot) -> ControlFlow<()>) {
        let len = self.geometry.cluster_bytes() as usize;
        let mut slots = Slots::new(&[], ByteOffset(0));
        let mut pieces: Vec<(Vec<u8>, ByteOffset)> = Vec::new();
        for cluster in first..first.saturating_add(MOST_CLUSTERS) {
            let Some(at) = self.geometry.cluster_at(cluster) else { break };
            let Ok((bytes, _)) = read_lenient(self.source.as_ref(), at, len, "directory") else { break };
            let goes_on = cluster == first || (!self.folders.contains(&cluster) && begins_with_entries(&bytes));
            if !goes_on {
                break;
            }
            let full = bytes.chunks_exact(32).all(|entry| entry.first() != Some(&0));
            pieces.push((bytes, at));
            if !full {
                break;
            }
        }
        for (bytes, at) in &pieces {
            slots = slots.resume(bytes, *at);
            for slot in slots.by_ref() {
                if each(slot).is_break() {
                    return;
                }
            }
        }
    }

    fn raw(&self, node: NodeId) -> Result<RawDirEntry, FormatError> {
        let at = ByteOffset(node.0);
        let bytes = read_bytes(self.source.as_ref(), at, 32, "directory entry")?;
        Ok(*View::new("directory entry", at, &bytes).at(0, "entry")?)
    }

    fn folder(&self, dir: NodeId) -> Result<u32, FormatError> {
        if dir.0 & FOLDER != 0 {
            return Ok(u32::try_from(dir.0 & !FOLDER).unwrap_or(0));
        }
        let raw = self.raw(dir)?;
        Ok(u32::from(raw.fst_clus_hi.get()) << 16 | u32::from(raw.fst_clus_lo.get()))
    }
}

/// True when a cluster begins as a folder goes on: an entry with a name, attributes that can be, and a date.
fn begins_with_entries(bytes: &[u8]) -> bool {
    let Some(first) = bytes.get(..32) else { return false };
    let long = first.get(11) == Some(&0x0F) && first.get(26..28) == Some(&[0, 0]);
    let short = first.get(..11).is_some_and(|name| name.iter().all(|byte| *byte >= 0x20 || *byte == 0x05))
        && first.get(11).is_some_and(|attributes| attributes & 0xC8 == 0)
        && first.first().is_some_and(|byte| *byte != b'.')
        && first.get(24..26).is_some_and(|date| date != [0, 0]);
    long || short
}

impl Volume for FormerFatVolume {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        NodeId(0)
    }

    fn list(
        &self,
        dir: NodeId,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        if dir.0 == 0 {
            let _ = each(plain_folder(LOST_NODE, LOST.into()));
            return Ok(Vec::new());
        }
        if dir.0 == LOST_NODE {
            for cluster in &self.tops {
                if each(plain_folder(FOLDER | u64::from(*cluster), format!("folder {cluster}"))).is_break() {
                    break;
                }
            }
            return Ok(Vec::new());
        }
        self.slots(self.folder(dir)?, &mut |slot| {
            let shown = !slot.is_label() && !slot.is_dot() && (!slot.deleted || deleted == Deleted::Show);
            // A folder whose ground was taken since leads nowhere.
            let leads = !slot.is_directory() || self.folders.contains(&slot.first_cluster());
            if shown && leads { each(slot.entry()) } else { ControlFlow::Continue(()) }
        });
        Ok(Vec::new())
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let ground = |entry: &Entry| if entry.id.0 == LOST_NODE { Ok(LOST_NODE) } else { self.folder(entry.id).map(u64::from) };
        tree::walk(self, &ground, deleted, each)
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        let bytes = u64::from(self.raw(file)?.file_size.get());
        Ok(vec![StreamInfo { name: String::new(), bytes, storage: "plain" }])
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        if !stream.is_empty() {
            return Err(FormatError::new("directory entry", ByteOffset(file.0), Problem::Missing("stream of that name")));
        }
        let size = u64::from(self.raw(file)?.file_size.get());
        if size == 0 {
            return Ok(Box::new(MemoryStream(Vec::new())));
        }
        Ok(Box::new(ExtentStream::new(Arc::clone(&self.source), self.extents(file)?, size, size)))
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        let raw = self.raw(file)?;
        let first = u32::from(raw.fst_clus_hi.get()) << 16 | u32::from(raw.fst_clus_lo.get());
        let unit = u64::from(self.geometry.cluster_bytes()).max(1);
        let wanted = u64::from(raw.file_size.get()).div_ceil(unit);
        let room = (self.geometry.cluster_count() + 2).saturating_sub(u64::from(first));
        let count = wanted.min(room);
        let extent = |at| Extent { stream_at: 0, volume_at: Some(at), bytes: count * unit };
        Ok(self.geometry.cluster_at(first).filter(|_| count > 0).map(extent).into_iter().collect())
    }

    fn is_guessed(&self, file: NodeId) -> bool {
        // A file of one cluster needs no chain.
        let unit = u64::from(self.geometry.cluster_bytes());
        self.raw(file).is_ok_and(|raw| u64::from(raw.file_size.get()) > unit)
    }

    fn examine(&self) -> Vec<Finding> {
        Vec::new()
    }
}
