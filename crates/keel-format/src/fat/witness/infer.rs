//! From clues to FAT volumes: by boot sector, by backup, and with neither.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource};

use super::clue::boot_sector;
use super::lost;
use super::verify::{verify, verify_lost};
use crate::clue::Clues;
use crate::{FoundVolume, Geometry, WitnessKind};

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
    let stands = |volume: &&FoundVolume| match volume.geometry {
        Geometry::Fat(fat) if fat.fats == 1 => volume.has(WitnessKind::CoreMetadata) && volume.has(WitnessKind::RootDirectory),
        _ => volume.has(WitnessKind::CoreCopy),
    };
    let known: Vec<_> = found.values().filter(stands).map(FoundVolume::range).collect();
    for lost in lost::volumes(drive, clues, &known) {
        let volume = verify_lost(drive, lost.start, lost.geometry, (&fat.dots, lost.witnesses, lost.is_headless));
        if let Some(volume) = volume.filter(|volume| volume.score() > found_score(&found, lost.start)) {
            found.insert(lost.start, volume);
        }
    }
    found.into_values().collect()
}

fn found_score(found: &BTreeMap<ByteOffset, FoundVolume>, start: ByteOffset) -> i32 {
    found.get(&start).map_or(0, FoundVolume::score)
}
