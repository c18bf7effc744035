//! Does an NTFS volume of this start and geometry stand on the drive? The witnesses say.

use std::collections::HashMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::clue::{NtfsClues, boot_sector};
use crate::bounded;
use crate::ntfs::layout::{INDEX_ALLOCATION, IS_DIRECTORY, NUMBER_MASK};
use crate::ntfs::{NtfsGeometry, NtfsVolume, Record};
use crate::{Deleted, FoundVolume, Geometry, Stamp, Volume, VolumeKind, Witness, WitnessKind, read_bytes};

/// Records looked at for run lists.
const MOST_RECORDS: u64 = 4096;
/// Run lists followed.
const MOST_FOLLOWED: usize = 128;

/// Verifies an NTFS volume at `start` on the drive and gathers its witnesses. `None` when nothing of its MFT stands
/// where the geometry puts it and no boot sector at `start` speaks for it.
pub(super) fn verify(drive: &SharedSource, start: ByteOffset, geometry: NtfsGeometry, clues: &NtfsClues) -> Option<FoundVolume> {
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let window = bounded::window(drive, range);
    let mut witnesses = vec![
        sector_witness(drive, start, start, &geometry, WitnessKind::BootSector),
        sector_witness(drive, start, start + geometry.backup_at().0, &geometry, WitnessKind::BackupBootSector),
    ];
    witnesses.extend(record_witnesses(&window, start, &geometry));
    let volume = NtfsVolume::open(Arc::clone(&window), geometry).ok();
    let mut newest = None;
    if let Some(volume) = &volume {
        witnesses.push(root_witness(volume, start, &mut newest));
        witnesses.extend(references(volume, &window, start));
    }
    witnesses.extend(surface_witness(start, &geometry, clues));
    let found = FoundVolume {
        kind: VolumeKind::Ntfs,
        start,
        bytes: geometry.volume_bytes(),
        label: volume.as_ref().and_then(|volume| volume.summary().label.clone()),
        witnesses,
        geometry: Geometry::Ntfs(geometry),
        newest,
    };
    let rests = found.has(WitnessKind::CoreMetadata) || found.has(WitnessKind::CoreCopy) || found.has(WitnessKind::References);
    (rests || found.has(WitnessKind::BootSector)).then_some(found)
}

fn sector_witness(
    drive: &SharedSource,
    start: ByteOffset,
    at: ByteOffset,
    geometry: &NtfsGeometry,
    kind: WitnessKind,
) -> Witness {
    let (place, weights) = match kind {
        WitnessKind::BootSector => ("at the start", (30, -20)),
        _ => ("in the last sector", (20, -5)),
    };
    let same = match boot_sector(drive.as_ref(), at) {
        Some(Geometry::Ntfs(found)) => Some(NtfsGeometry { serial: 0, ..found } == NtfsGeometry { serial: 0, ..*geometry }),
        _ => None,
    };
    match same {
        Some(true) => Witness::at(kind, at, weights.0, format!("boot sector {place} states this geometry"))
            .start(start)
            .length(geometry.volume_bytes()),
        Some(false) => Witness::at(kind, at, weights.1, format!("boot sector {place} states another geometry")),
        None => Witness::at(kind, at, 0, format!("no boot sector {place}")),
    }
}

fn record_at(window: &SharedSource, geometry: &NtfsGeometry, at: ByteOffset) -> Option<Record> {
    let bytes = read_bytes(window.as_ref(), at, geometry.record_bytes as usize, "file record").ok()?;
    Record::parse(bytes, at).ok()
}

/// Record 0 and the mirror's copy of it.
fn record_witnesses(window: &SharedSource, start: ByteOffset, geometry: &NtfsGeometry) -> Vec<Witness> {
    let mut witnesses = Vec::new();
    let main_at = geometry.cluster_at(geometry.mft_lcn);
    let mirror_at = geometry.cluster_at(geometry.mirror_lcn);
    let names_itself = |record: &Record| {
        let runs = record.attribute(crate::ntfs::layout::DATA, "").and_then(|data| data.runs(geometry.clusters()).ok());
        record.header().record_number.get() == 0 && runs.and_then(|runs| runs.first()?.lcn) == Some(geometry.mft_lcn)
    };
    let size = u64::from(geometry.record_bytes);
    let main = record_at(window, geometry, main_at).filter(names_itself);
    let (weight, says) = match main {
        Some(_) => (25, "MFT record 0 stands where the geometry puts it and names that place itself"),
        None => (-15, "no sound MFT record 0 where the geometry puts it"),
    };
    witnesses.push(Witness::at(WitnessKind::CoreMetadata, start + main_at.0, weight, says).start(start));
    let agree = (0..4u64)
        .filter(|number| {
            let copy = record_at(window, geometry, mirror_at + number * size);
            copy.is_some_and(|copy| u64::from(copy.header().record_number.get()) == *number)
        })
        .count();
    let (weight, says) = match agree {
        0 => (-5, "no MFT mirror where the geometry puts it".to_string()),
        _ => {
            (3 * i32::try_from(agree).unwrap_or(0), format!("MFT mirror stands where the geometry puts it: {agree} of 4 records"))
        }
    };
    witnesses.push(Witness::at(WitnessKind::CoreCopy, start + mirror_at.0, weight, says).start(start));
    witnesses
}

fn root_witness(volume: &NtfsVolume, start: ByteOffset, newest: &mut Option<Stamp>) -> Witness {
    let mut names = 0u32;
    let listed = volume.list(volume.root(), Deleted::Hide, &mut |entry| {
        names += 1;
        *newest = (*newest).max(entry.times.modified);
        if names < 100_000 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    let at = volume.mft().position(volume.geometry(), crate::ntfs::layout::ROOT).unwrap_or_default();
    let (weight, says) = match listed {
        Ok(findings) if findings.is_empty() => (15, format!("root directory lists {names} names")),
        Ok(findings) => (3, format!("root directory lists {names} names, with {} places damaged", findings.len())),
        Err(_) => (-10, "root directory cannot be read".to_string()),
    };
    Witness::at(WitnessKind::RootDirectory, start + at.0, weight, says)
}

/// Directories' run lists must lead to index blocks: how many do.
fn references(volume: &NtfsVolume, window: &SharedSource, start: ByteOffset) -> Option<Witness> {
    let geometry = volume.geometry();
    let (mut met, mut asked) = (0usize, 0usize);
    for number in 0..volume.mft().records.min(MOST_RECORDS) {
        if asked >= MOST_FOLLOWED {
            break;
        }
        let Some(at) = volume.mft().position(geometry, number) else { continue };
        let Some(record) = record_at(window, geometry, at) else { continue };
        if record.header().flags.get() & (IS_DIRECTORY | 1) != IS_DIRECTORY | 1 {
            continue;
        }
        let runs = record.attribute(INDEX_ALLOCATION, "$I30").and_then(|index| index.runs(geometry.clusters()).ok());
        let Some(lcn) = runs.and_then(|runs| runs.first()?.lcn) else { continue };
        asked += 1;
        let block = read_bytes(window.as_ref(), geometry.cluster_at(lcn), 512, "index block").unwrap_or_default();
        met += usize::from(block.starts_with(b"INDX"));
    }
    if asked == 0 {
        return None;
    }
    let weight = if met == asked {
        15
    } else if met * 2 > asked {
        5
    } else {
        -15
    };
    let says = format!("run lists of directories lead to their index blocks: {met} of {asked}");
    Some(Witness { kind: WitnessKind::References, at_byte: None, says, weight, start_byte: Some(start), bytes: None })
}

/// Index blocks seen on the surface, paired with the directory records that own them: do they give this start?
fn surface_witness(start: ByteOffset, geometry: &NtfsGeometry, clues: &NtfsClues) -> Option<Witness> {
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let blocks: HashMap<u64, ByteOffset> =
        clues.blocks.iter().filter(|block| range.contains(block.at)).map(|block| (block.owner & NUMBER_MASK, block.at)).collect();
    let inside: Vec<_> = clues.directories.iter().filter(|directory| range.contains(directory.at)).collect();
    let paired: Vec<_> = inside.iter().filter_map(|directory| Some((*directory, blocks.get(&directory.number)?))).collect();
    let met = paired.iter().filter(|(directory, at)| start + geometry.cluster_at(directory.lcn).0 == **at).count();
    if paired.is_empty() {
        return None;
    }
    let weight = if met * 2 >= paired.len() { 5 } else { 0 };
    let says = format!("index blocks on the surface give this start: {met} of {}", paired.len());
    Some(Witness { kind: WitnessKind::References, at_byte: None, says, weight, start_byte: Some(start), bytes: None })
}
