//! What the surface says of a FAT volume whose boot sectors are gone: where its data begins and how large its clusters are
//! (from the folders, which name the clusters they stand in), and where its FATs lie and how long they are.

use std::collections::{BTreeMap, HashMap};

use keel_source::{ByteOffset, SharedSource};

use super::clue::{Dot, FatStart};
use crate::read_lenient;

/// The longest FAT in bytes: 2²⁸ entries of 4 bytes.
pub(super) const LARGEST_FAT: u64 = 1 << 30;
/// The cluster size that is tried first where nothing tells.
pub(super) const CUSTOMARY: u64 = 4096;
/// The most places of data areas that are tried.
const MOST_DATA: usize = 96;
/// The most folders that vote.
const MOST_VOTERS: usize = 4096;
/// Customary counts of root entries of FAT12 and FAT16, the usual one first.
const ROOT_ENTRIES: [u64; 12] = [512, 224, 112, 240, 256, 1024, 64, 128, 2048, 4096, 16, 32];
/// The most bytes before a data area in which equal sectors of two FATs are looked for.
const MOST_PAIRED: u64 = 256 << 20;
/// The most FATs before one data area that are tried.
const MOST_FATS: usize = 48;

/// Where cluster 2 stands, how large clusters are, and how many folders say so.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::fat) struct Data {
    pub(in crate::fat) at: ByteOffset,
    pub(in crate::fat) cluster_bytes: u64,
    pub(in crate::fat) votes: usize,
}

impl Data {
    /// The data area on which `dot` stands with clusters of 2^`power` bytes.
    pub(super) fn of(dot: &Dot, power: u32) -> Option<Self> {
        let back = u64::from(dot.own.checked_sub(2)?) << power;
        let at = dot.at.0.checked_sub(back).filter(|at| *at > 0)?;
        Some(Self { at: ByteOffset(at), cluster_bytes: 1 << power, votes: 1 })
    }
}

/// Where the FATs lie: the first one, their length in bytes and count, and bytes of the fixed root behind them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Fats {
    pub(super) first: ByteOffset,
    pub(super) bytes: u64,
    pub(super) count: u32,
    pub(super) root_bytes: u64,
}

/// The places of data areas on which folders agree, most votes first. One folder alone votes for each cluster size.
pub(in crate::fat) fn data_areas(dots: &[Dot]) -> Vec<Data> {
    let mut votes: BTreeMap<(ByteOffset, u64), usize> = BTreeMap::new();
    let step = dots.len().div_ceil(MOST_VOTERS).max(1);
    for dot in dots.iter().step_by(step) {
        for power in 9..=18 {
            if let Some(data) = Data::of(dot, power) {
                *votes.entry((data.at, data.cluster_bytes)).or_default() += 1;
            }
        }
    }
    let mut areas: Vec<Data> = votes.into_iter().map(|((at, cluster_bytes), votes)| Data { at, cluster_bytes, votes }).collect();
    // Where few folders vote, the customary sizes come first.
    areas.sort_by_key(|data| (std::cmp::Reverse(data.votes), data.cluster_bytes.abs_diff(CUSTOMARY), data.at));
    areas.truncate(MOST_DATA);
    areas
}

/// Where the FATs before a data area may lie, by what begins one and by sectors that stand twice.
pub(super) fn fats_before(drive: &SharedSource, data: Data, starts: &[FatStart], wide: bool) -> Vec<Fats> {
    let unit = drive.sector_size().bytes();
    let roots: Vec<u64> = if wide { vec![0] } else { ROOT_ENTRIES.iter().map(|count| count * 32).collect() };
    let mut found = Vec::new();
    // More clusters than fit behind the data's start need no entries.
    let clusters = (drive.len() - data.at.0.min(drive.len())) / data.cluster_bytes.max(1) + 2;
    let longest = (clusters * if wide { 4 } else { 2 }).div_ceil(unit) * unit * 2 + (1 << 20);
    let near = starts.iter().rev().filter(|start| start.at < data.at && data.at - start.at <= 2 * LARGEST_FAT + (1 << 20));
    let near: Vec<ByteOffset> = near.take(4).map(|start| start.at).collect();
    for (index, start) in near.iter().enumerate() {
        // With a second start the length is known, and the root is what is left.
        for earlier in near.iter().skip(index + 1) {
            let bytes = *start - *earlier;
            let root_bytes = (data.at - *start).checked_sub(bytes);
            let fits =
                |root: &u64| if wide { *root == 0 } else { *root > 0 && *root <= 65_536 * 32 && root.is_multiple_of(unit) };
            if let Some(root_bytes) = root_bytes.filter(fits) {
                found.push(Fats { first: *earlier, bytes, count: 2, root_bytes });
            }
        }
    }
    for start in &near {
        for root_bytes in &roots {
            let Some(room) = (data.at - *start).checked_sub(*root_bytes).filter(|room| *room > 0) else { continue };
            if room.is_multiple_of(2 * unit) {
                found.push(Fats { first: *start, bytes: room / 2, count: 2, root_bytes: *root_bytes });
            }
            if room.is_multiple_of(unit) {
                found.push(Fats { first: *start, bytes: room, count: 1, root_bytes: *root_bytes });
                // The start that is seen may be that of the second one.
                if let Some(first) = start.0.checked_sub(room) {
                    found.push(Fats { first: ByteOffset(first), bytes: room, count: 2, root_bytes: *root_bytes });
                }
            }
        }
    }
    // What stands twice is the surest, and needs no start.
    let mut twice: Vec<Fats> = Vec::new();
    for bytes in equal_distances(drive, data.at, longest.saturating_mul(2), unit) {
        for root_bytes in &roots {
            let Some(first) = data.at.0.checked_sub(root_bytes + 2 * bytes) else { continue };
            twice.push(Fats { first: ByteOffset(first), bytes, count: 2, root_bytes: *root_bytes });
        }
    }
    twice.extend(found);
    let mut seen = std::collections::BTreeSet::new();
    let most = if wide { LARGEST_FAT } else { longest_narrow(data.cluster_bytes, unit) };
    twice.retain(|fats| fats.bytes <= most && seen.insert(*fats));
    twice.truncate(MOST_FATS);
    twice
}

/// The longest that a FAT16 is made, in bytes: all the clusters it may have, rounded up to whole clusters.
fn longest_narrow(cluster_bytes: u64, unit: u64) -> u64 {
    const MOST_CLUSTERS: u64 = 65_526;
    (MOST_CLUSTERS * 2).div_ceil(unit) * unit + cluster_bytes.max(8 * unit)
}

/// Where FATs of which nothing is left would lie between `start` and the data: two copies with entries for all clusters up
/// to `end`, behind a customary count of reserved sectors.
pub(super) fn blank_fats(start: ByteOffset, data: Data, end: ByteOffset, bits: u64, unit: u64) -> Vec<Fats> {
    let reserved: &[u64] = if bits == 32 { &[32, 64, 34, 36, 38, 128, 16, 8, 6] } else { &[1, 8, 4, 2, 6, 16, 32] };
    let roots: Vec<u64> = if bits == 32 { vec![0] } else { ROOT_ENTRIES.iter().map(|count| count * 32).collect() };
    let clusters = (end.0.saturating_sub(data.at.0)) / data.cluster_bytes.max(1);
    let needed = ((clusters + 2) * bits).div_ceil(8).div_ceil(unit) * unit;
    let slack = data.cluster_bytes.max(8 * unit);
    let mut found = Vec::new();
    for root_bytes in roots {
        for count in [2u32, 1] {
            // Any other count of reserved sectors is as good as none: the customary ones come first.
            for reserved in reserved.iter().copied().chain(1..=128u64) {
                let first = start + reserved * unit;
                let Some(room) = data.at.0.checked_sub(first.0 + root_bytes) else { continue };
                let bytes = room / u64::from(count);
                let fits = room.is_multiple_of(u64::from(count) * unit) && bytes >= needed && bytes <= needed + slack;
                if fits {
                    found.push(Fats { first, bytes, count, root_bytes });
                }
            }
        }
    }
    found
}

/// The distances at which sectors before `end` stand twice, those of most sectors first.
fn equal_distances(drive: &SharedSource, end: ByteOffset, reach: u64, unit: u64) -> Vec<u64> {
    const STEP: u64 = 4 << 20;
    const LEAST: usize = 2;
    const KEPT: usize = 4;
    let floor = ByteOffset(end.0.saturating_sub(reach.min(MOST_PAIRED)) / unit * unit);
    let mut last: HashMap<u128, Vec<ByteOffset>> = HashMap::new();
    let mut votes: HashMap<u64, usize> = HashMap::new();
    let mut at = floor;
    while let Some(data) = drive.next_data(at).map(|data| keel_source::ByteRange::new(data.start.max(at), data.end.min(end))) {
        if data.is_empty() {
            break;
        }
        let start = ByteOffset(data.start.0 / unit * unit);
        let len = usize::try_from(STEP.min(data.end - start)).unwrap_or(0);
        let Ok((bytes, _)) = read_lenient(drive.as_ref(), start, len, "FAT") else { break };
        for (index, sector) in bytes.chunks_exact(unit as usize).enumerate() {
            if is_dull(sector) {
                continue;
            }
            let place = start + index as u64 * unit;
            let key = key(sector);
            let places = last.entry(key).or_default();
            for earlier in places.iter() {
                *votes.entry(place - *earlier).or_default() += 1;
            }
            if places.len() < 4 {
                places.push(place);
            }
        }
        at = start + len.max(unit as usize) as u64;
        if at >= end || last.len() > 1 << 20 {
            break;
        }
    }
    let mut distances: Vec<(u64, usize)> = votes.into_iter().collect();
    distances.sort_by_key(|(distance, count)| (std::cmp::Reverse(*count), *distance));
    let most = distances.first().map_or(0, |(_, count)| *count);
    let least = if most > LEAST { LEAST } else { 1 };
    distances.retain(|(_, count)| *count >= least);
    distances.into_iter().map(|(distance, _)| distance).take(KEPT).collect()
}

/// Sectors of one repeated byte stand anywhere.
fn is_dull(sector: &[u8]) -> bool {
    let first = sector.first();
    sector.iter().all(|byte| Some(byte) == first)
}

fn key(sector: &[u8]) -> u128 {
    let (one, other) = sector.split_at(sector.len() / 2);
    u128::from(crc32fast::hash(one)) << 32 | u128::from(crc32fast::hash(other)) | (sector.len() as u128) << 64
}
