//! From clues to exFAT volumes: by boot sector, by its backup, and by root directory, up-case table and FAT.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource};

use super::clue::{RootClue, boot_sector};
use super::verify::verify;
use crate::bounds::{Bounds, End, Open};
use crate::clue::Clues;
use crate::exfat::ExFatGeometry;
use crate::exfat::layout::REGION_SECTORS;
use crate::{FoundVolume, Geometry, Witness, WitnessKind};

/// The most up-case tables that are tried with one root directory.
const MOST_PARTNERS: usize = 64;
/// Bytes from the volume's start to its FAT that formatters use.
const CUSTOMARY_FAT_OFFSETS: [u64; 6] = [1 << 20, 64 << 10, 2 << 20, 4 << 20, 16 << 10, 24 * 512];

/// Turns clues into verified exFAT volumes, one for each start.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues) -> Vec<FoundVolume> {
    let mut found: BTreeMap<ByteOffset, FoundVolume> = BTreeMap::new();
    let mut take = |volume: FoundVolume| {
        let better = found.get(&volume.start).is_none_or(|old| old.score() < volume.score());
        if volume.score() > 0 && better {
            found.insert(volume.start, volume);
        }
    };
    for at in &clues.exfat.boots {
        let Some(Geometry::ExFat(geometry)) = boot_sector(drive.as_ref(), *at) else { continue };
        let back = REGION_SECTORS * u64::from(geometry.bytes_per_sector);
        let as_backup = at.0.checked_sub(back).and_then(|start| verify(drive, ByteOffset(start), geometry, clues));
        let as_main = verify(drive, *at, geometry, clues);
        let best = [as_main, as_backup].into_iter().flatten().max_by_key(FoundVolume::score);
        best.into_iter().for_each(&mut take);
    }
    for root in &clues.exfat.roots {
        if found.values().any(|volume| volume.range().contains(root.at) && volume.has(WitnessKind::RootDirectory)) {
            continue;
        }
        if let Some(volume) = from_root(drive, root, clues) {
            found.entry(volume.start).or_insert(volume);
        }
    }
    found.into_values().collect()
}

/// A volume of which no boot sector is left. The root names the clusters of bitmap and up-case table; where the
/// up-case table stands on the surface, the distance between the two gives cluster size and start of the heap; the FAT
/// before the heap gives the start of the volume.
fn from_root(drive: &SharedSource, root: &RootClue, clues: &Clues) -> Option<FoundVolume> {
    let tables = clues.exfat.upcases.iter().filter(|at| at.0.abs_diff(root.at.0) < 1 << 32).take(MOST_PARTNERS);
    let candidates = tables.flat_map(|upcase_at| {
        (9..=25u32).filter_map(move |shift| heap_from(root, *upcase_at, 1u64 << shift)).map(move |heap| (heap, *upcase_at))
    });
    let bounds = Bounds::new(drive, clues);
    let mut best: Option<FoundVolume> = None;
    for ((heap_at, cluster_bytes, root_cluster), upcase_at) in candidates {
        let count = u32::try_from(root.bitmap_bytes.checked_mul(8)?).ok()?;
        for (start, fat_at, how) in starts(drive, heap_at, count, clues) {
            let sector = u64::from(drive.sector_size().0.max(512));
            let number = |bytes: u64| u32::try_from(bytes / sector).ok();
            let fat_length = number(heap_at - fat_at)?.min(number((u64::from(count) + 2) * 4 + sector - 1)?.max(1));
            // The bitmap rounds the count up to eight, and the volume ends less than a cluster behind its heap: entries,
            // neighbours and the drive decide.
            let least = heap_at + u64::from(count.saturating_sub(7).max(1)) * cluster_bytes;
            let most = heap_at + (u64::from(count) * cluster_bytes + cluster_bytes - sector);
            let open = Open { start, least, most, exact: true };
            let end = bounds.end(open, bounds.entry_at(start), &|_| true);
            let plain = End { at: most.min(ByteOffset(drive.len())), weight: 1, how: "nothing states the end to the cluster" };
            let end = end.unwrap_or(plain);
            let open = if end.weight < 8 {
                let bytes = most.min(ByteOffset(drive.len())) - least.min(end.at);
                format!(" (what is open by its bitmap alone: {bytes} bytes)")
            } else {
                String::new()
            };
            let clusters = end.at.0.checked_sub(heap_at.0)? / cluster_bytes;
            let cluster_count = u32::try_from(clusters).ok()?.min(count);
            let geometry = ExFatGeometry {
                bytes_per_sector: u32::try_from(sector).ok()?,
                sectors_per_cluster: number(cluster_bytes)?.max(1),
                volume_length: (end.at - start) / sector,
                fat_offset: number(fat_at - start)?,
                fat_length,
                cluster_heap_offset: number(heap_at - start)?,
                cluster_count,
                root_cluster,
                serial: 0,
                fats: 1,
            };
            let Some(mut volume) = verify(drive, start, geometry, clues) else { continue };
            let says = format!(
                "root and up-case table lie {} bytes apart and name their clusters: {cluster_bytes} bytes a cluster, the heap starts here; {how}; {}{open}",
                root.at.0.abs_diff(upcase_at.0),
                end.how
            );
            volume
                .witnesses
                .push(Witness::at(WitnessKind::SizeRecord, heap_at, end.weight.min(10), says).start(start).length(volume.bytes));
            if best.as_ref().is_none_or(|best| best.score() < volume.score()) {
                best = Some(volume);
            }
        }
    }
    best
}

/// Heap start, cluster size and the root's own cluster number, when `cluster_bytes` fits the three places.
fn heap_from(root: &RootClue, upcase_at: ByteOffset, cluster_bytes: u64) -> Option<(ByteOffset, u64, u32)> {
    let clusters = |bytes: u64| bytes.div_ceil(cluster_bytes);
    // Formatters lay bitmap, up-case table and root one behind the other.
    let bitmap_end = u64::from(root.bitmap_cluster) + clusters(root.bitmap_bytes);
    let adjacent = u64::from(root.upcase_cluster) >= bitmap_end || root.upcase_cluster < root.bitmap_cluster;
    let distance = root.at.0.checked_sub(upcase_at.0)?;
    if !adjacent || !distance.is_multiple_of(cluster_bytes) || distance / cluster_bytes < clusters(root.upcase_bytes) {
        return None;
    }
    let back = u64::from(root.upcase_cluster - 2).checked_mul(cluster_bytes)?;
    let heap = ByteOffset(upcase_at.0.checked_sub(back)?);
    let root_cluster = u32::try_from(u64::from(root.upcase_cluster) + distance / cluster_bytes).ok()?;
    Some((heap, cluster_bytes, root_cluster))
}

/// Starts that a FAT before the heap allows, the most likely first: what is left of the boot region, the customary
/// distance that falls on a boundary.
fn starts(drive: &SharedSource, heap_at: ByteOffset, count: u32, clues: &Clues) -> Vec<(ByteOffset, ByteOffset, String)> {
    let least = (u64::from(count).saturating_sub(7) + 2) * 4;
    let sector = u64::from(drive.sector_size().0.max(512));
    let fats = clues.exfat.fats.iter().rev().filter(|fat| **fat < heap_at && heap_at - **fat >= least);
    let mut starts = Vec::new();
    for fat in fats.take(4) {
        for extended in &clues.exfat.extended {
            let region = extended.0.checked_sub(sector).map(ByteOffset);
            let first = !clues.exfat.extended.contains(&ByteOffset(extended.0.saturating_sub(sector)));
            if let Some(start) = region.filter(|start| first && *start < *fat && *fat - *start <= 64 << 20) {
                starts.push((start, *fat, "the extended boot sectors give the start".to_string()));
            }
        }
        let customary = CUSTOMARY_FAT_OFFSETS.iter().filter_map(|offset| fat.0.checked_sub(*offset).map(ByteOffset));
        let aligned = customary.filter(|start| start.0.is_multiple_of(1 << 20));
        starts.extend(aligned.map(|start| (start, *fat, "the start is where formatters put it before such a FAT".to_string())));
    }
    starts
}
