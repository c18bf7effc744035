//! Where the clusters of an exFAT volume stood of which no boot sector is left: by what its folders name, and by what stands there.

use std::collections::{BTreeSet, HashMap, HashSet};

use keel_source::{ByteOffset, SharedSource};

use super::super::ExFatGeometry;
use super::super::directory::{ENTRY_BYTES, FileSet, Sets, Step};
use super::leads_to;
use crate::content::{ContentMatch, matches_type};
use crate::former::Host;
use crate::{FoundVolume, Geometry, NodeKind, read_bytes, read_lenient};

/// The most sectors with sets, and folders named in them, that are compared.
const MOST_SECTORS: usize = 1024;
const MOST_NAMED: usize = 128;
/// The most files whose beginnings are looked at for each base.
const MOST_SAMPLES: usize = 48;
/// The most places that are tried, by votes and by neighbours.
const MOST_VOTED: usize = 6;
const MOST_NEIGHBOURS: usize = 24;
/// Bytes that are looked at behind a clue while cluster sizes are not known.
const LOOK: usize = 4096;
/// Bytes of a file's beginning that are looked at.
const HEAD: usize = 512;

/// The first byte of the volume, and its geometry.
type Base = (ByteOffset, ExFatGeometry);

/// A file or folder that a set names, and where the set stands.
struct Named {
    near: ByteOffset,
    name: String,
    first: u32,
    bytes: u64,
    is_folder: bool,
}

/// The base by which most of the files that `sets` name begin as their types promise; among equals the one that something states:
/// a volume in `found`, the present one of `host`, folders that are named in one place and stand in another. None where no file
/// begins so and nothing states one.
pub(super) fn best(drive: &SharedSource, sets: &[ByteOffset], found: &[FoundVolume], host: &Host<'_>) -> Option<Base> {
    let stated = found.iter().filter(|volume| host.is_over(volume)).chain([host.volume]);
    let stated = stated.filter_map(|volume| match volume.geometry {
        Geometry::ExFat(geometry) => Some((volume.start, geometry)),
        _ => None,
    });
    let mut bases: Vec<Base> = stated.collect();
    let named = named(drive, sets);
    let folders: BTreeSet<u32> = named.iter().filter(|one| one.is_folder).map(|one| one.first).take(MOST_NAMED).collect();
    let (voted, votes) = voted(drive, sets, &folders, host);
    bases.extend(voted);
    bases.extend(neighbours(drive, &named, host));
    let samples: Vec<&Named> = named.iter().filter(|one| !one.is_folder).take(MOST_SAMPLES).collect();
    let weight = |base: &Base| {
        let heap = base.0 + base.1.heap_at().0;
        let cluster = u64::from(base.1.cluster_bytes());
        let begun: i64 = samples.iter().map(|one| begins(drive, heap, cluster, one)).sum();
        begun + 4 * votes.get(&(heap.0, cluster)).copied().unwrap_or(0)
    };
    let mut best: Option<(i64, Base)> = None;
    for base in bases {
        let found = weight(&base);
        if best.as_ref().is_none_or(|(known, _)| found > *known) {
            best = Some((found, base));
        }
    }
    best.filter(|(weight, _)| *weight > 0).map(|(_, base)| base)
}

/// What the sets at and behind each clue name.
fn named(drive: &SharedSource, places: &[ByteOffset]) -> Vec<Named> {
    let mut named = Vec::new();
    let step = places.len().div_ceil(MOST_SECTORS).max(1);
    for at in places.iter().step_by(step) {
        let Ok((bytes, _)) = read_lenient(drive.as_ref(), *at, LOOK, "directory") else { continue };
        let mut sets = Sets::default();
        for (index, entry) in bytes.as_chunks::<ENTRY_BYTES>().0.iter().enumerate() {
            match sets.take(entry, *at + (index * ENTRY_BYTES) as u64) {
                Step::End => break,
                Step::Set(set) => named.extend(one(*at, &set)),
                _ => {}
            }
        }
    }
    named
}

fn one(near: ByteOffset, set: &FileSet) -> Option<Named> {
    let (entry, first) = (set.entry(), set.stream.first_cluster.get());
    let is_folder = entry.kind == NodeKind::Directory;
    let sound = set.checksum_holds && first >= 2 && (is_folder || entry.bytes > 0);
    (sound && (!is_folder || leads_to(set).is_some())).then_some(Named {
        near,
        name: entry.name,
        first,
        bytes: entry.bytes,
        is_folder,
    })
}

/// 1 where a file begins as its type promises, -1 where it does not.
fn begins(drive: &SharedSource, heap: ByteOffset, cluster: u64, file: &Named) -> i64 {
    let at = u64::from(file.first - 2).checked_mul(cluster).and_then(|back| heap.0.checked_add(back));
    let Some(at) = at.filter(|at| *at < drive.len()) else { return -1 };
    let Ok(head) =
        read_bytes(drive.as_ref(), ByteOffset(at), usize::try_from(file.bytes).map_or(HEAD, |bytes| bytes.min(HEAD)), "file")
    else {
        return 0;
    };
    match matches_type(&file.name, &head) {
        ContentMatch::Match => 1,
        ContentMatch::Mismatch => -1,
        _ => 0,
    }
}

/// A geometry whose heap begins at byte `heap` of the drive, on the ground of the present volume.
fn geometry(drive: &SharedSource, heap: u64, cluster: u64, host: &Host<'_>) -> Option<Base> {
    let sector = u64::from(drive.sector_size().0.max(512));
    let (start, end) = (host.volume.start, host.volume.range().end);
    let number = |bytes: u64| u32::try_from(bytes / sector).ok();
    let geometry = ExFatGeometry {
        bytes_per_sector: u32::try_from(sector).ok()?,
        sectors_per_cluster: number(cluster)?.max(1),
        volume_length: (end - start) / sector,
        fat_offset: 24,
        fat_length: 0,
        cluster_heap_offset: number(heap.checked_sub(start.0).filter(|bytes| bytes.is_multiple_of(sector))?)?,
        cluster_count: u32::try_from(end.0.checked_sub(heap)? / cluster.max(1)).ok()?,
        root_cluster: 0,
        serial: 0,
        fats: 1,
    };
    Some((start, geometry))
}

/// Sizes of a cluster in bytes. Specification §3.1.14, 3.1.15: at most 32 MiB.
fn sizes() -> impl Iterator<Item = u64> {
    (9..=25u32).map(|shift| 1u64 << shift)
}

/// Bases on which folders agree that are named in one place and stand in another, the most agreed first, and for how many
/// folders each speaks.
fn voted(
    drive: &SharedSource,
    sets: &[ByteOffset],
    folders: &BTreeSet<u32>,
    host: &Host<'_>,
) -> (Vec<Base>, HashMap<(u64, u64), i64>) {
    let mut votes: HashMap<(u64, u64), i64> = HashMap::new();
    for first in folders {
        let mut seen: HashSet<(u64, u64)> = HashSet::new();
        for at in sets.iter().take(MOST_SECTORS) {
            for cluster in sizes() {
                let heap = at.0.checked_sub(u64::from(*first - 2) * cluster);
                if let Some(heap) = heap.filter(|heap| *heap > host.volume.start.0)
                    && seen.insert((heap, cluster))
                {
                    *votes.entry((heap, cluster)).or_default() += 1;
                }
            }
        }
    }
    // One folder agrees with anything.
    votes.retain(|_, count| *count > 1);
    let mut order: Vec<((u64, u64), i64)> = votes.iter().map(|(base, count)| (*base, *count)).collect();
    order.sort_by_key(|((heap, cluster), count)| std::cmp::Reverse((*count, *cluster, *heap)));
    let bases = order.into_iter().take(MOST_VOTED).filter_map(|((heap, cluster), _)| geometry(drive, heap, cluster, host));
    (bases.collect(), votes)
}

/// Bases by which a folder stands in the cluster before the first file that it names: drivers take one cluster after the other.
fn neighbours(drive: &SharedSource, named: &[Named], host: &Host<'_>) -> Vec<Base> {
    let mut first: HashMap<ByteOffset, u32> = HashMap::new();
    for one in named {
        first.entry(one.near).and_modify(|least| *least = one.first.min(*least)).or_insert(one.first);
    }
    let mut places: Vec<(ByteOffset, u32)> = first.into_iter().collect();
    places.sort_unstable();
    let step = places.len().div_ceil(MOST_NEIGHBOURS).max(1);
    let near = places.into_iter().step_by(step).flat_map(|(at, least)| {
        [1, 2].into_iter().flat_map(move |before| {
            sizes().filter_map(move |cluster| {
                let number = least.checked_sub(before + 2)?;
                Some((at.0.checked_sub(u64::from(number) * cluster)?, cluster))
            })
        })
    });
    let unique: BTreeSet<(u64, u64)> = near.collect();
    unique.into_iter().filter_map(|(heap, cluster)| geometry(drive, heap, cluster, host)).collect()
}
