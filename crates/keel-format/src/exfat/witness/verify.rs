//! Does an exFAT volume of this start and geometry stand on the drive? The witnesses say.

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::clue::boot_sector;
use crate::bounded;
use crate::clue::Clues;
use crate::exfat::layout::table_checksum;
use crate::exfat::mend::region_holds;
use crate::exfat::{ExFatGeometry, ExFatVolume};
use crate::{FoundVolume, Geometry, NodeId, Stamp, Volume, VolumeKind, Witness, WitnessKind, read_bytes};

/// The most folders of the root whose content is looked at.
const MOST_CHECKED: usize = 64;

/// Verifies an exFAT volume at `start` on the drive and gathers its witnesses. `None` when neither its root nor a boot
/// sector speaks for it.
pub(super) fn verify(drive: &SharedSource, start: ByteOffset, geometry: ExFatGeometry, clues: &Clues) -> Option<FoundVolume> {
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let window = bounded::window(drive, range);
    let mut witnesses = vec![
        region_witness(drive, &window, start, &geometry, WitnessKind::BootSector),
        region_witness(drive, &window, start, &geometry, WitnessKind::BackupBootSector),
        fat_witness(&window, start, &geometry),
    ];
    let volume = ExFatVolume::open(Arc::clone(&window), geometry).ok();
    let mut newest = None;
    if let Some(volume) = &volume {
        witnesses.push(bitmap_witness(volume, start));
        witnesses.push(upcase_witness(volume, start));
        witnesses.extend(root_witnesses(volume, start, clues, &mut newest));
    }
    let found = FoundVolume {
        kind: VolumeKind::ExFat,
        start,
        bytes: geometry.volume_bytes(),
        label: volume.as_ref().and_then(|volume| volume.summary().label.clone()),
        witnesses,
        geometry: Geometry::ExFat(geometry),
        newest,
    };
    (found.has(WitnessKind::CoreMetadata) || found.has(WitnessKind::BootSector)).then_some(found)
}

fn region_witness(
    drive: &SharedSource,
    window: &SharedSource,
    start: ByteOffset,
    geometry: &ExFatGeometry,
    kind: WitnessKind,
) -> Witness {
    let (at, name, weight) = match kind {
        WitnessKind::BootSector => (ByteOffset(0), "boot region at the start", 30),
        _ => (geometry.backup_at(), "backup boot region behind it", 20),
    };
    let place = start + at.0;
    match boot_sector(drive.as_ref(), place) {
        Some(Geometry::ExFat(found)) if found == *geometry && region_holds(window, geometry, at) => {
            Witness::at(kind, place, weight, format!("{name} states this geometry and its checksum holds"))
                .start(start)
                .length(geometry.volume_bytes())
        }
        Some(Geometry::ExFat(found)) if found == *geometry => {
            Witness::at(kind, place, weight / 2, format!("{name} states this geometry, its checksum does not hold")).start(start)
        }
        Some(Geometry::ExFat(_)) => Witness::at(kind, place, -10, format!("{name} states another geometry")),
        _ => Witness::at(kind, place, 0, format!("no {name}")),
    }
}

fn fat_witness(window: &SharedSource, start: ByteOffset, geometry: &ExFatGeometry) -> Witness {
    let at = geometry.fat_at();
    let head = read_bytes(window.as_ref(), at, 8, "FAT").unwrap_or_default();
    let (weight, says) = match head.starts_with(&[0xF8, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF]) {
        true => (10, "FAT begins where the geometry puts it"),
        false => (-5, "no FAT where the geometry puts it"),
    };
    Witness::at(WitnessKind::References, start + at.0, weight, says)
}

fn bitmap_witness(volume: &ExFatVolume, start: ByteOffset) -> Witness {
    let geometry = volume.geometry();
    let entry = volume.core().bitmap;
    let at = entry.and_then(|entry| geometry.cluster_at(entry.first_cluster.get())).unwrap_or_default();
    let long_enough = entry.is_some_and(|entry| {
        let bytes = entry.data_length.get();
        bytes >= geometry.bitmap_bytes() && bytes < geometry.bitmap_bytes() + 4096
    });
    let first_used = read_bytes(volume.source().as_ref(), at, 1, "allocation bitmap")
        .is_ok_and(|bits| bits.first().is_some_and(|bits| bits & 1 == 1));
    let (weight, says) = match (long_enough, first_used) {
        (true, true) => (15, format!("allocation bitmap is as long as {} clusters ask", geometry.cluster_count)),
        (true, false) => (0, "allocation bitmap has the right length and counts its first cluster as free".into()),
        (false, _) => (-15, "the root names no allocation bitmap of the right length".into()),
    };
    Witness::at(WitnessKind::SizeRecord, start + at.0, weight, says)
}

fn upcase_witness(volume: &ExFatVolume, start: ByteOffset) -> Witness {
    let geometry = volume.geometry();
    let entry = volume.core().upcase;
    let at = entry.and_then(|entry| geometry.cluster_at(entry.first_cluster.get())).unwrap_or_default();
    let len = entry.map_or(0, |entry| usize::try_from(entry.data_length.get()).unwrap_or(0).min(128 << 10));
    let bytes = read_bytes(volume.source().as_ref(), at, len, "up-case table").unwrap_or_default();
    let holds = !bytes.is_empty() && entry.is_some_and(|entry| entry.table_checksum.get() == table_checksum(&bytes));
    let (weight, says) = match holds {
        true => (25, "up-case table stands where the root puts it and its checksum holds"),
        false => (-15, "no up-case table with the root's checksum where the root puts it"),
    };
    Witness::at(WitnessKind::CoreMetadata, start + at.0, weight, says).start(start)
}

fn root_witnesses(volume: &ExFatVolume, start: ByteOffset, clues: &Clues, newest: &mut Option<Stamp>) -> Vec<Witness> {
    let (mut names, mut bad_sums, mut asked, mut met) = (0u32, 0u32, 0usize, 0usize);
    let geometry = volume.geometry();
    let listed = volume.sets(NodeId(0), &mut |set| {
        if set.deleted {
            return ControlFlow::Continue(());
        }
        let entry = set.entry();
        names += 1;
        bad_sums += u32::from(!set.checksum_holds);
        *newest = (*newest).max(entry.times.modified);
        let first = geometry.cluster_at(set.stream.first_cluster.get());
        if let Some(at) = first.filter(|_| entry.kind == crate::NodeKind::Directory && asked < MOST_CHECKED) {
            asked += 1;
            let head = read_bytes(volume.source().as_ref(), at, 33, "directory").unwrap_or_default();
            met += usize::from(head.first().is_some_and(|kind| matches!(kind | 0x80, 0x85 | 0x80)));
        }
        if names < 4096 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    let at = geometry.cluster_at(geometry.root_cluster).unwrap_or_default();
    let (weight, says) = match listed {
        Ok(findings) if findings.is_empty() && bad_sums == 0 => {
            (20, format!("root directory lists {names} names, every set sound"))
        }
        Ok(_) => (5, format!("root directory lists {names} names, {bad_sums} sets damaged")),
        Err(_) => (-10, "root directory cannot be read".into()),
    };
    let mut witnesses = vec![Witness::at(WitnessKind::RootDirectory, start + at.0, weight, says).start(start)];
    if asked > 0 {
        let says = format!("folders of the root begin where their entries say: {met} of {asked}");
        witnesses.push(Witness::at(WitnessKind::References, start + at.0, if met == asked { 10 } else { 0 }, says));
    }
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let inside: Vec<_> =
        clues.exfat.sets.iter().filter(|at| range.contains(**at) && **at >= start + geometry.heap_at().0).collect();
    let cluster = u64::from(geometry.cluster_bytes());
    let on_clusters = inside.iter().filter(|at| (***at - (start + geometry.heap_at().0)).is_multiple_of(cluster)).count();
    if !inside.is_empty() {
        let says = format!("directory sets on the surface begin on this volume's clusters: {on_clusters} of {}", inside.len());
        let weight = if on_clusters * 2 >= inside.len() { 5 } else { 0 };
        witnesses.push(Witness::at(WitnessKind::References, start, weight, says));
    }
    witnesses
}
