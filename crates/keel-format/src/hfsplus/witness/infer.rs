//! From clues to HFS+ volumes: by header, by alternate header, or by the B-trees alone.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource};

use super::trees;
use super::verify::verify;
use crate::clue::Clues;
use crate::hfsplus::HfsGeometry;
use crate::hfsplus::layout::{CATALOG_KEY, HEADER_AT};
use crate::{FoundVolume, View, WitnessKind, read_bytes};

/// Turns clues into verified HFS+ volumes, one for each start.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues) -> Vec<FoundVolume> {
    let mut found: BTreeMap<ByteOffset, FoundVolume> = BTreeMap::new();
    for clue in &clues.hfsplus.headers {
        let Ok(bytes) = read_bytes(drive.as_ref(), clue.at, 512, "volume header") else { continue };
        let Ok(geometry) = HfsGeometry::parse(View::new("volume header", clue.at, &bytes)) else { continue };
        let as_main = clue.at.0.checked_sub(HEADER_AT).map(|start| (ByteOffset(start), tail(drive, clue.at, geometry, clues)));
        let volumes = as_main.into_iter().chain(from_alternate(clue.at, geometry, clues));
        let best = volumes.filter_map(|(start, geometry)| verify(drive, start, geometry, clues)).max_by_key(FoundVolume::score);
        if let Some(volume) = best.filter(|volume| volume.score() > 0)
            && found.get(&volume.start).is_none_or(|old| old.score() < volume.score())
        {
            found.insert(volume.start, volume);
        }
    }
    // The alternate header of a volume whose main one stands says nothing new.
    let standing: Vec<_> = found.values().filter(|volume| volume.has(WitnessKind::BootSector)).map(FoundVolume::range).collect();
    found.retain(|_, volume| {
        volume.has(WitnessKind::RootDirectory)
            || !standing.iter().any(|range| *range != volume.range() && range.contains(volume.start))
    });
    // An alternate header taken for a start: what it names lies behind the drive, and no volume begins 2 KiB before a block.
    found.retain(|start, volume| {
        let misread = volume.range().end.0 > drive.len() && (start.0 + 2 * HEADER_AT).is_multiple_of(4 * HEADER_AT);
        volume.has(WitnessKind::CoreMetadata) || !misread
    });
    for tree in clues.hfsplus.trees.iter().filter(|tree| tree.max_key_length == CATALOG_KEY) {
        let known = |volume: &FoundVolume| volume.range().contains(tree.at) && volume.has(WitnessKind::CoreMetadata);
        if found.values().any(known) {
            continue;
        }
        let Some((start, geometry, witness)) = trees::from_catalog(drive, tree, clues) else { continue };
        if let Some(mut volume) = verify(drive, start, geometry, clues) {
            volume.witnesses.push(witness);
            found.entry(start).or_insert(volume);
        }
    }
    found.into_values().collect()
}

/// The geometry with the bytes behind the last block that lead to the alternate header, where one stands there.
fn tail(drive: &SharedSource, header_at: ByteOffset, geometry: HfsGeometry, clues: &Clues) -> HfsGeometry {
    let start = ByteOffset(header_at.0.saturating_sub(HEADER_AT));
    let usual = start + geometry.alternate_at().0;
    let end = start + geometry.volume_bytes() + u64::from(geometry.block_bytes);
    let copies = clues.hfsplus.headers.iter().map(|clue| clue.at);
    let alternate = copies.filter(|at| *at >= usual && *at < end && *at != header_at).find(|at| {
        let bytes = read_bytes(drive.as_ref(), *at, 512, "volume header").unwrap_or_default();
        HfsGeometry::parse(View::new("volume header", *at, &bytes)).is_ok_and(|found| found.is_same_volume(&geometry))
    });
    let tail_bytes = alternate.and_then(|at| u32::try_from(at - usual).ok()).unwrap_or(0);
    HfsGeometry { tail_bytes, ..geometry }
}

/// Starts that an alternate header at `at` implies: the end is 1024 bytes on, and the partition may reach less than a
/// block behind the last block. A catalog's header node on the surface says which.
fn from_alternate(at: ByteOffset, geometry: HfsGeometry, clues: &Clues) -> Vec<(ByteOffset, HfsGeometry)> {
    let end = at + HEADER_AT;
    let first = u64::from(geometry.catalog.extents[0].0) * u64::from(geometry.block_bytes);
    let mut starts = Vec::new();
    for tree in clues.hfsplus.trees.iter().filter(|tree| tree.max_key_length == CATALOG_KEY) {
        let Some(start) = tree.at.0.checked_sub(first).map(ByteOffset) else { continue };
        let whole = start + geometry.volume_bytes();
        if whole <= end && end - whole < u64::from(geometry.block_bytes) {
            let tail_bytes = u32::try_from(end - whole).unwrap_or(0);
            starts.push((start, HfsGeometry { tail_bytes, ..geometry }));
        }
    }
    if starts.is_empty()
        && let Some(start) = end.0.checked_sub(geometry.volume_bytes())
    {
        starts.push((ByteOffset(start), geometry));
    }
    starts
}
