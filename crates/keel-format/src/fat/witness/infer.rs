//! From clues to FAT volumes: by boot sector, by backup, and with neither.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource};

use super::clue::{Dot, FatStart, boot_sector};
use super::verify::verify;
use crate::clue::Clues;
use crate::fat::layout::{LEAST_FAT16, LEAST_FAT32};
use crate::fat::{FatGeometry, FatTable};
use crate::{FoundVolume, Geometry, View, VolumeKind, Witness, WitnessKind, read_bytes};

/// The farthest that two copies of a FAT can stand apart: 2²⁸ entries of 4 bytes.
const LARGEST_FAT: u64 = 1 << 30;
/// Customary alignment of partitions in bytes, used to choose among lengths that the evidence leaves open.
const ALIGNMENT: u64 = 1 << 20;

/// Turns clues into verified FAT volumes, one for each start.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues) -> Vec<FoundVolume> {
    let fat = &clues.fat;
    let mut found: BTreeMap<ByteOffset, FoundVolume> = BTreeMap::new();
    let mut take = |volume: Option<FoundVolume>| {
        if let Some(volume) = volume {
            let better = found.get(&volume.start).is_none_or(|old| old.score() < volume.score());
            if better && volume.score() > 0 {
                found.insert(volume.start, volume);
            }
        }
    };
    for at in &fat.boots {
        let Some(Geometry::Fat(geometry)) = boot_sector(drive.as_ref(), *at) else { continue };
        let back = u64::from(geometry.backup) * u64::from(geometry.bytes_per_sector);
        let start = at.0.checked_sub(back).filter(|_| back > 0).map(ByteOffset);
        let as_backup = start
            .and_then(|start| verify(drive, start, geometry, &fat.dots))
            .filter(|volume| volume.has(WitnessKind::CoreMetadata));
        let as_main = verify(drive, *at, geometry, &fat.dots);
        // A backup taken for a start has no FAT where it says.
        if as_backup.is_none() || as_main.as_ref().is_some_and(|volume| volume.has(WitnessKind::CoreMetadata)) {
            take(as_main);
        }
        take(as_backup);
    }
    // A boot sector of another volume leads to one FAT at most: where the second does not agree, the FATs speak for
    // themselves.
    let known: Vec<_> = found.values().filter(|volume| volume.has(WitnessKind::CoreCopy)).map(FoundVolume::range).collect();
    let lost: Vec<FatStart> =
        fat.starts.iter().filter(|start| !known.iter().any(|range| range.contains(start.at))).copied().collect();
    for (first, second) in pairs(&lost) {
        if let Some((start, geometry, size)) = without_boot_sector(drive, first, second, clues)
            && let Some(mut volume) = verify(drive, start, geometry, &fat.dots)
        {
            volume.witnesses.push(size);
            if volume.score() > found_score(&found, start) {
                found.insert(start, volume);
            }
        }
    }
    found.into_values().collect()
}

fn found_score(found: &BTreeMap<ByteOffset, FoundVolume>, start: ByteOffset) -> i32 {
    found.get(&start).map_or(0, FoundVolume::score)
}

/// FAT starts that are two copies of one FAT: the same first sector, nothing of the same sort between them.
fn pairs(starts: &[FatStart]) -> Vec<(FatStart, FatStart)> {
    let mut pairs = Vec::new();
    let mut index = 0;
    while let Some(first) = starts.get(index) {
        let mate = starts
            .iter()
            .skip(index + 1)
            .position(|second| (second.bits, second.crc) == (first.bits, first.crc) && second.at - first.at <= LARGEST_FAT);
        match mate.and_then(|skip| starts.get(index + 1 + skip).map(|second| (skip, *second))) {
            Some((skip, second)) => {
                pairs.push((*first, second));
                index += skip + 2;
            }
            None => index += 1,
        }
    }
    pairs
}

/// What the surface says of a volume whose FATs are known and whose boot sectors are gone.
fn without_boot_sector(
    drive: &SharedSource,
    first: FatStart,
    second: FatStart,
    clues: &Clues,
) -> Option<(ByteOffset, FatGeometry, Witness)> {
    let fat_sectors = u32::try_from((second.at - first.at) / 512).ok().filter(|sectors| *sectors > 0)?;
    let behind = second.at + (second.at - first.at);
    let info = fs_info(drive, first.at, &clues.fat.fs_info);
    let wide = first.bits == 32;
    let start = match info {
        Some((start, _)) => start,
        None => ByteOffset(first.at.0.checked_sub(customary_reserved(first, drive) * 512)?),
    };
    let reserved_sectors = u32::try_from((first.at - start) / 512).ok()?;
    let mut geometry = FatGeometry {
        kind: if wide { VolumeKind::Fat32 } else { VolumeKind::Fat16 },
        bytes_per_sector: 512,
        sectors_per_cluster: 1,
        reserved_sectors,
        fats: 2,
        fat_sectors,
        root_entries: 0,
        root_cluster: if wide { 2 } else { 0 },
        total_sectors: 0,
        media: first.media,
        serial: 0,
        fs_info: u16::from(wide),
        backup: if wide { 6 } else { 0 },
    };
    if first.bits == 12 {
        geometry.kind = VolumeKind::Fat12;
    }
    let dots: Vec<&Dot> = clues.fat.dots.iter().filter(|dot| dot.at >= behind && reaches(dot, behind, &geometry)).collect();
    if wide {
        geometry.sectors_per_cluster =
            cluster_from_dots(&dots, behind).or_else(|| cluster_from_chains(drive, start, geometry))?;
    } else {
        let (data, sectors_per_cluster) = data_from_dots(&dots, behind)?;
        geometry.sectors_per_cluster = sectors_per_cluster;
        geometry.root_entries = u32::try_from((data - behind) / 32).ok()?;
    }
    let (clusters, exact, how) = count_clusters(drive, start, &geometry, info.map(|(_, free)| free));
    geometry.total_sectors = total_sectors(drive, start, &geometry, clusters, exact)?;
    let witness = Witness::at(WitnessKind::SizeRecord, first.at, if exact { 12 } else { 3 }, how)
        .start(start)
        .length(geometry.volume_bytes());
    Some((start, geometry, witness))
}

/// A directory belongs to the volume when no cluster size puts it before the data area.
fn reaches(dot: &Dot, behind: ByteOffset, geometry: &FatGeometry) -> bool {
    let largest = geometry.entries_in_fat().saturating_mul(128 * 512).saturating_add(LARGEST_FAT);
    dot.at - behind <= largest && u64::from(dot.own) < geometry.entries_in_fat()
}

/// FSInfo stands in sector 1 and its backup in sector 7: two of them six sectors apart, before the FAT, give the
/// start; a single one is taken for the main one. Answers with start and free-cluster count.
fn fs_info(drive: &SharedSource, fat: ByteOffset, places: &[ByteOffset]) -> Option<(ByteOffset, u32)> {
    let before: Vec<ByteOffset> = places.iter().filter(|at| **at < fat && fat - **at <= 65_535 * 512).copied().collect();
    let main = before.iter().rev().find(|at| before.contains(&(**at + 6 * 512))).or(before.first())?;
    let bytes = read_bytes(drive.as_ref(), *main, 512, "FSInfo").ok()?;
    let free = View::new("FSInfo", *main, &bytes).u32(488, "FSI_Free_Count").ok()?;
    Some((ByteOffset(main.0.checked_sub(512)?), free))
}

/// Reserved sectors to assume when nothing of the reserved area is left: the count that puts the start on a customary
/// boundary, else what formatters use.
fn customary_reserved(first: FatStart, _drive: &SharedSource) -> u64 {
    let candidates: &[u64] = if first.bits == 32 { &[32, 34, 36, 38, 6, 64, 128] } else { &[1, 2, 4, 6, 8, 16, 32] };
    let on = |unit: u64| {
        candidates.iter().copied().find(|count| (first.at.0 / 512).checked_sub(*count).is_some_and(|lba| lba % unit == 0))
    };
    on(ALIGNMENT / 512).or_else(|| on(63)).or_else(|| on(8)).unwrap_or(if first.bits == 32 { 32 } else { 1 })
}

/// The cluster size under which most directories stand where their `.` number puts them.
fn cluster_from_dots(dots: &[&Dot], data: ByteOffset) -> Option<u32> {
    let fit = |sectors: u32| dots.iter().filter(|dot| data + u64::from(dot.own - 2) * u64::from(sectors) * 512 == dot.at).count();
    let best = (0..=7).map(|power| 1u32 << power).max_by_key(|sectors| fit(*sectors))?;
    (fit(best) > 0 && fit(best) * 2 >= dots.iter().filter(|dot| dot.parent == 0).count().min(dots.len())).then_some(best)
}

/// For FAT12/16 the fixed root lies between the FATs and the data: two directories give the cluster size, and one of
/// them the start of the data.
fn data_from_dots(dots: &[&Dot], behind: ByteOffset) -> Option<(ByteOffset, u32)> {
    let mut votes: BTreeMap<(ByteOffset, u32), usize> = BTreeMap::new();
    for dot in dots.iter().take(256) {
        for power in 0..=7 {
            let sectors = 1u32 << power;
            let back = u64::from(dot.own - 2) * u64::from(sectors) * 512;
            let data = dot.at.0.checked_sub(back).map(ByteOffset).filter(|data| *data > behind);
            // The root holds 16 to 4096 entries, in whole sectors.
            if let Some(data) = data
                && (512..=4096 * 32).contains(&(data - behind))
            {
                *votes.entry((data, sectors)).or_default() += 1;
            }
        }
    }
    votes.into_iter().max_by_key(|((data, _), votes)| (*votes, *data - behind == 512 * 32)).map(|(place, _)| place)
}

/// Without directories: the cluster size under which the chains of the root's files are as long as their sizes ask.
fn cluster_from_chains(drive: &SharedSource, start: ByteOffset, geometry: FatGeometry) -> Option<u32> {
    let data = start + geometry.data_sector() * 512;
    let bytes = read_bytes(drive.as_ref(), data, 4096, "root directory").ok()?;
    let mut whole = geometry;
    whole.total_sectors = geometry.data_sector() + geometry.entries_in_fat();
    let range = keel_source::ByteRange::new(start, ByteOffset(drive.len()));
    let table = FatTable::new(std::sync::Arc::new(keel_source::Window::new(std::sync::Arc::clone(drive), range)), whole);
    let mut votes = [0u32; 8];
    for slot in
        crate::fat::Slots::new(&bytes, data).filter(|slot| !slot.deleted && !slot.is_directory() && slot.first_cluster() >= 2)
    {
        let size = u64::from(slot.raw.file_size.get());
        let chain = table.chain(slot.first_cluster(), 1 << 20);
        if size == 0 || chain.finding.is_some() {
            continue;
        }
        for (power, vote) in votes.iter_mut().enumerate() {
            *vote += u32::from(size.div_ceil(512 << power) == chain.clusters);
        }
    }
    let best = *votes.iter().max().filter(|votes| **votes > 0)?;
    let power = votes.iter().position(|vote| *vote == best)?;
    Some(1 << power)
}

/// Count of clusters: from the free count where FSInfo has one (used entries plus free ones), else the most that the
/// FAT has room for. Answers with the count, whether it is exact, and how it is known.
fn count_clusters(drive: &SharedSource, start: ByteOffset, geometry: &FatGeometry, free: Option<u32>) -> (u64, bool, String) {
    let room = geometry.entries_in_fat().saturating_sub(2);
    let mut whole = *geometry;
    whole.total_sectors = geometry.data_sector() + room * u64::from(geometry.sectors_per_cluster);
    let range = keel_source::ByteRange::new(start, ByteOffset(drive.len()));
    let window: SharedSource = std::sync::Arc::new(keel_source::Window::new(std::sync::Arc::clone(drive), range));
    let table = FatTable::new(window, whole);
    if let Some(free) = free.filter(|free| u64::from(*free) <= room) {
        let limit = u32::try_from(room + 2).unwrap_or(u32::MAX);
        let used = (2..limit).filter(|cluster| table.entry(*cluster).is_some_and(|entry| entry != 0)).count() as u64;
        let count = used + u64::from(free);
        if count <= room && room - count < 4096 {
            return (count, true, format!("{used} used entries of the FAT and the free count {free} give {count} clusters"));
        }
    }
    (room, false, format!("the FAT has room for at most {room} clusters"))
}

/// Total sectors for `clusters`: the end is open by less than a cluster (or a FAT sector's worth); a customary
/// boundary inside the open stretch is taken, else the least.
fn total_sectors(drive: &SharedSource, start: ByteOffset, geometry: &FatGeometry, clusters: u64, exact: bool) -> Option<u64> {
    let per_cluster = u64::from(geometry.sectors_per_cluster);
    let entries_per_sector = 512 * 8 / geometry.entry_bits();
    let least = if exact { clusters } else { clusters.saturating_sub(entries_per_sector).max(1) };
    let floor = geometry.data_sector() + least * per_cluster;
    let ceiling = geometry.data_sector() + clusters * per_cluster + per_cluster - 1;
    let end_of_drive = (drive.len() - start.0.min(drive.len())) / 512;
    let ceiling = ceiling.min(end_of_drive);
    let legal = |total: u64| {
        let count = total.saturating_sub(geometry.data_sector()) / per_cluster;
        match geometry.kind {
            VolumeKind::Fat12 => count < LEAST_FAT16,
            VolumeKind::Fat16 => (LEAST_FAT16..LEAST_FAT32).contains(&count),
            _ => true,
        }
    };
    if floor > ceiling {
        return None;
    }
    let first_sector = start.0 / 512;
    let aligned = (first_sector + ceiling) / (ALIGNMENT / 512) * (ALIGNMENT / 512);
    let aligned = aligned.checked_sub(first_sector).filter(|total| (floor..=ceiling).contains(total));
    let choices =
        [Some(end_of_drive).filter(|end| (floor..=ceiling).contains(end) && !exact), aligned, Some(floor), Some(ceiling)];
    choices.into_iter().flatten().find(|total| legal(*total))
}
