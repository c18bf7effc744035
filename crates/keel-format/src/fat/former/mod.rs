//! A FAT volume that another one was made over: its FATs and its root are gone, folders on ground that nobody took since are
//! left. They name their files, their sizes and first clusters; the clusters behind are taken as they follow one another.

mod read;

use std::collections::HashSet;
use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::directory::holds_entries;
use super::witness::{Dot, data_areas};
use super::{FatGeometry, FatTable, FatVolume};
use crate::bounded;
use crate::clue::Clues;
use crate::former::{self, Former, Host};
use crate::{Deleted, FoundVolume, Geometry, NodeKind, Volume, VolumeKind, read_bytes};

pub(crate) use read::{open, open_any};

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
    /// Where clusters stand, as the folders say, or what was found says.
    pub geometry: FatGeometry,
    /// True where the geometry says where the FATs were as well.
    pub knows_fats: bool,
    /// True where the root folder still begins with entries.
    pub has_root: bool,
    /// First clusters of the folders that are left, ascending.
    #[serde(skip)]
    pub folders: Vec<u32>,
    /// Clusters that hold entries and begin no folder, ascending.
    #[serde(skip)]
    pub more: Vec<u32>,
}

/// Volumes of an older generation that folders speak for which no volume of `hosts` reaches.
pub(crate) fn former(drive: &SharedSource, clues: &Clues, found: &[FoundVolume], hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    let present: Vec<&FoundVolume> = hosts.iter().map(|host| host.volume).collect();
    let reached = Reached::new(drive, &present, &clues.fat.dots);
    let dots: Vec<Dot> = clues.fat.dots.iter().filter(|dot| !reached.reaches(dot)).copied().collect();
    let mut volumes: Vec<FoundVolume> = Vec::new();
    let mut told_of: HashSet<ByteOffset> = HashSet::new();
    for (host, older) in
        hosts.iter().flat_map(|host| found.iter().filter(|older| host.is_over(older)).map(move |older| (host, older)))
    {
        if let Geometry::Fat(geometry) = older.geometry {
            let own = own_dots(&dots, older.start, &geometry);
            told_of.extend(own.iter().map(|dot| dot.at));
            volumes.extend(tell(drive, (older.start, geometry, true), (&own, &clues.fat.slots), host));
        }
    }
    for data in data_areas(&dots) {
        let stands = |dot: &&Dot| data.at + u64::from(dot.own - 2) * data.cluster_bytes == dot.at;
        let own: Vec<Dot> = dots.iter().filter(stands).filter(|dot| !told_of.contains(&dot.at)).copied().collect();
        if data.votes < LEAST_VOTES || own.len() < LEAST_VOTES || volumes.len() >= MOST_FORMER {
            continue;
        }
        let Some(host) = hosts.iter().find(|host| own.iter().any(|dot| host.volume.range().contains(dot.at))) else { continue };
        let Some(geometry) = assumed(drive, (data.at, data.cluster_bytes), host.volume) else { continue };
        told_of.extend(own.iter().map(|dot| dot.at));
        volumes.extend(tell(drive, (host.volume.start, geometry, false), (&own, &clues.fat.slots), host));
    }
    volumes
}

/// The directories that stand where their numbers put them in a volume.
fn own_dots(dots: &[Dot], start: ByteOffset, geometry: &FatGeometry) -> Vec<Dot> {
    let stands = |dot: &&Dot| geometry.cluster_at(dot.own).is_some_and(|at| start + at.0 == dot.at);
    dots.iter().filter(stands).copied().collect()
}

/// The directories that present FAT volumes reach: their clusters are in use, or the tree names them, deleted ones and what lies
/// below them as well.
struct Reached {
    volumes: Vec<(ByteRange, FatGeometry, FatTable)>,
    /// Clusters of folders that the tree of each volume names.
    named: Vec<HashSet<u32>>,
}

impl Reached {
    fn new(drive: &SharedSource, present: &[&FoundVolume], dots: &[Dot]) -> Self {
        let window = |volume: &FoundVolume| bounded::window(drive, volume.range());
        let table = |volume: &FoundVolume| match volume.geometry {
            Geometry::Fat(geometry) => Some((volume.range(), geometry, FatTable::new(window(volume), geometry))),
            _ => None,
        };
        let mut reached = Self { volumes: present.iter().copied().filter_map(table).collect(), named: Vec::new() };
        // The tree is asked only where something lies on ground that the FATs call free.
        if dots.iter().filter(|dot| !reached.reaches(dot)).count() < LEAST_VOTES {
            return reached;
        }
        reached.named = reached
            .volumes
            .iter()
            .map(|(range, geometry, _)| {
                let source = bounded::window(drive, *range);
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

/// A geometry of which only the data area is known, on the ground of the present volume.
fn assumed(drive: &SharedSource, (data, cluster_bytes): (ByteOffset, u64), host: &FoundVolume) -> Option<FatGeometry> {
    let unit = drive.sector_size().bytes();
    let before = data.0.checked_sub(host.start.0).filter(|bytes| *bytes >= 2 * unit)? / unit;
    Some(FatGeometry {
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
    })
}

fn tell(
    drive: &SharedSource,
    (start, geometry, knows_fats): (ByteOffset, FatGeometry, bool),
    (own, slots): (&[Dot], &[ByteOffset]),
    host: &Host<'_>,
) -> Option<FoundVolume> {
    let mut folders: Vec<u32> = own.iter().map(|dot| dot.own).take(MOST_FOLDERS).collect();
    folders.sort_unstable();
    folders.dedup();
    let (unit, first) = (u64::from(geometry.cluster_bytes()).max(1), geometry.cluster_at(2)?);
    let number = |at: &ByteOffset| {
        let inside = at.0.checked_sub(start.0 + first.0).filter(|bytes| bytes.is_multiple_of(unit))? / unit;
        u32::try_from(inside + 2).ok().filter(|cluster| geometry.cluster_at(*cluster).is_some())
    };
    let is_root = |cluster: &u32| geometry.kind == VolumeKind::Fat32 && *cluster == geometry.root_cluster;
    let more = slots.iter().filter(|at| host.leaves(**at)).filter_map(number).filter(|cluster| !is_root(cluster));
    let more: Vec<u32> = more.take(MOST_FOLDERS).collect();
    let root = match geometry.kind {
        VolumeKind::Fat32 => geometry.cluster_at(geometry.root_cluster),
        _ => Some(geometry.root_at()),
    };
    let left = root.map(|at| start + at.0).filter(|at| host.leaves(*at));
    let head = left.and_then(|at| read_bytes(drive.as_ref(), at, 512, "directory").ok());
    let has_root = head.is_some_and(|head| holds_entries(&head));
    let count = folders.len();
    let said = format!(
        "{count} folders that no present volume reaches name the clusters they stand in: {} bytes each",
        geometry.cluster_bytes()
    );
    let at = geometry.cluster_at(2).map_or(start, |at| start + at.0);
    let what = Former::Fat(FormerFat { geometry, knows_fats, has_root, folders, more });
    former::told(drive, (start, ByteOffset(drive.len())), what, (at, count, said))
}
