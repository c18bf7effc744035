//! Does a FAT volume of this start and geometry stand on the drive? The witnesses say.

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::clue::{Dot, boot_sector};
use crate::bounded;
use crate::fat::{FatGeometry, FatVolume};
use crate::{
    Deleted, Entry, Existence, FoundVolume, Geometry, NodeKind, Stamp, Volume, VolumeKind, Witness, WitnessKind, read_bytes,
};

/// The most directories whose `.` entry is checked.
const MOST_CHECKED: usize = 64;

/// Verifies a FAT volume at `start` on the drive and gathers its witnesses. `None` when its FAT or root is not there
/// and no boot sector at `start` speaks for it.
pub(super) fn verify(drive: &SharedSource, start: ByteOffset, geometry: FatGeometry, dots: &[Dot]) -> Option<FoundVolume> {
    let found = gathered(drive, start, geometry, dots);
    let rests =
        found.has(WitnessKind::CoreMetadata) || (found.has(WitnessKind::BootSector) && found.has(WitnessKind::RootDirectory));
    rests.then_some(found)
}

/// As [`verify`], for a volume that folders and chains speak for: `more` is what they say.
pub(super) fn verify_lost(
    drive: &SharedSource,
    start: ByteOffset,
    geometry: FatGeometry,
    (dots, more, is_headless): (&[Dot], Vec<Witness>, bool),
) -> Option<FoundVolume> {
    let mut found = gathered(drive, start, geometry, dots);
    found.witnesses.extend(more);
    if is_headless {
        // Whatever stands where the root was is no root, and names no label.
        found.witnesses.retain(|witness| witness.kind != WitnessKind::RootDirectory);
        found.label = None;
    }
    (is_headless || found.has(WitnessKind::CoreMetadata) || found.has(WitnessKind::RootDirectory)).then_some(found)
}

fn gathered(drive: &SharedSource, start: ByteOffset, geometry: FatGeometry, dots: &[Dot]) -> FoundVolume {
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let window = bounded::window(drive, range);
    let mut witnesses = vec![boot_witness(drive, start, &geometry)];
    if geometry.kind == VolumeKind::Fat32 {
        witnesses.push(backup_witness(drive, start, &geometry));
    }
    // A boot sector that stands at the start is not that of FATs which stand elsewhere.
    let boots = [WitnessKind::BootSector, WitnessKind::BackupBootSector];
    let stated = witnesses.iter().any(|witness| boots.contains(&witness.kind) && witness.weight > 0);
    witnesses.extend(fat_witnesses(&window, start, &geometry, stated));
    let volume = FatVolume::open(Arc::clone(&window), geometry).ok();
    let mut newest = None;
    if let Some(volume) = &volume {
        witnesses.extend(root_witnesses(volume, &window, start, &mut newest));
    }
    witnesses.extend(dot_witness(start, &geometry, dots));
    FoundVolume {
        kind: geometry.kind,
        start,
        bytes: geometry.volume_bytes(),
        label: volume.as_ref().and_then(|volume| volume.summary().label.clone()),
        witnesses,
        geometry: Geometry::Fat(geometry),
        newest,
    }
}

fn states(drive: &SharedSource, at: ByteOffset, geometry: &FatGeometry) -> Option<bool> {
    match boot_sector(drive.as_ref(), at)? {
        // A boot sector that gives the same data area agrees, whatever it says of serial and label.
        Geometry::Fat(found) => {
            Some(found.data_sector() == geometry.data_sector() && found.cluster_bytes() == geometry.cluster_bytes())
        }
        _ => None,
    }
}

fn boot_witness(drive: &SharedSource, start: ByteOffset, geometry: &FatGeometry) -> Witness {
    let (weight, says) = match states(drive, start, geometry) {
        Some(true) => (30, "boot sector stands at the start and states this geometry"),
        Some(false) => (-20, "boot sector at the start states another geometry"),
        None => (0, "no boot sector at the start"),
    };
    let witness = Witness::at(WitnessKind::BootSector, start, weight, says);
    if weight > 0 { witness.start(start).length(geometry.volume_bytes()) } else { witness }
}

fn backup_witness(drive: &SharedSource, start: ByteOffset, geometry: &FatGeometry) -> Witness {
    let sector = if geometry.backup == 0 { 6 } else { geometry.backup };
    let at = start + u64::from(sector) * u64::from(geometry.bytes_per_sector);
    let (weight, says) = match states(drive, at, geometry) {
        Some(true) => (15, format!("backup boot sector stands {sector} sectors on and agrees")),
        Some(false) => (-5, format!("backup boot sector {sector} sectors on states another geometry")),
        None => (0, format!("no backup boot sector {sector} sectors on")),
    };
    let witness = Witness::at(WitnessKind::BackupBootSector, at, weight, says);
    if weight > 0 { witness.start(start).length(geometry.volume_bytes()) } else { witness }
}

fn fat_witnesses(window: &SharedSource, start: ByteOffset, geometry: &FatGeometry, stated: bool) -> Vec<Witness> {
    let sector = geometry.bytes_per_sector as usize;
    let first_at = geometry.fat_at(0);
    let starts_fat = |bytes: &[u8]| bytes.first() == Some(&geometry.media) && bytes.get(1..3) == Some(&[0xFF, 0xFF]);
    let begin = |copy| read_bytes(window.as_ref(), geometry.fat_at(copy), sector, "FAT").is_ok_and(|bytes| starts_fat(&bytes));
    let (first, second) = (begin(0), geometry.fats > 1 && begin(1));
    let (same, asked) = if geometry.fats > 1 { agreement(window, geometry) } else { (0, 0) };
    let copies = same > 0 && same * 2 >= asked;
    let mut witnesses = Vec::new();
    let (weight, says) = match (first, second, copies) {
        (true, _, _) => (20, format!("FAT 1 begins with media byte 0x{:02X} where the geometry puts it", geometry.media)),
        (false, true, _) => (12, "FAT 1 does not begin where the geometry puts it; FAT 2 does".to_string()),
        (false, false, true) if !stated => (8, "neither FAT begins as one; what stands in them is the same in both".to_string()),
        (false, false, _) if !stated => (-5, "nothing is left of the FATs where the geometry puts them".to_string()),
        (false, false, _) => (-15, "no FAT where the geometry puts it".to_string()),
    };
    witnesses.push(Witness::at(WitnessKind::CoreMetadata, start + first_at.0, weight, says));
    if geometry.fats > 1 {
        let (weight, says) = match (first && second, copies) {
            (true, _) => {
                let agree = if asked == 0 { 4 } else { 8 * same / asked };
                (4 + agree, format!("FAT 2 stands behind it; {same} of {asked} places in use agree"))
            }
            (false, true) if !stated => (4, format!("{same} of {asked} places in use are the same in both FATs")),
            (false, _) if !first && second && !stated => (0, "nothing of FAT 1 agrees with FAT 2".to_string()),
            (false, _) if !first && !stated => (0, "nothing is left of FAT 2 either".to_string()),
            (false, _) => (-25, "no second FAT behind the first".to_string()),
        };
        witnesses.push(Witness::at(WitnessKind::CoreCopy, start + geometry.fat_at(1).0, weight, says));
    }
    witnesses
}

/// How many of the places in use are the same in the first two FATs, and how many were asked.
fn agreement(window: &SharedSource, geometry: &FatGeometry) -> (i32, i32) {
    const PLACES: u64 = 16;
    let sector = u64::from(geometry.bytes_per_sector);
    let read = |at| read_bytes(window.as_ref(), at, geometry.bytes_per_sector as usize, "FAT").unwrap_or_default();
    let used = |bytes: &[u8]| bytes.iter().any(|byte| *byte != 0);
    let places = (0..PLACES).map(|part| u64::from(geometry.fat_sectors) * part * part / (PLACES * PLACES) * sector);
    let (mut same, mut asked, mut last) = (0, 0, None);
    for place in places {
        if last.replace(place) == Some(place) {
            continue;
        }
        let (one, two) = (read(geometry.fat_at(0) + place), read(geometry.fat_at(1) + place));
        if used(&one) || used(&two) {
            asked += 1;
            same += i32::from(one == two);
        }
    }
    (same, asked)
}

/// The root lists plausible names, and the folders it names begin with a `.` entry of their own cluster.
fn root_witnesses(volume: &FatVolume, window: &SharedSource, start: ByteOffset, newest: &mut Option<Stamp>) -> Vec<Witness> {
    let geometry = volume.geometry();
    let root_at = match geometry.kind {
        VolumeKind::Fat32 => geometry.cluster_at(geometry.root_cluster).unwrap_or_default(),
        _ => geometry.root_at(),
    };
    let mut names: Vec<Entry> = Vec::new();
    let listed = volume.list(volume.root(), Deleted::Hide, &mut |entry| {
        *newest = (*newest).max(entry.times.modified);
        names.push(entry);
        if names.len() < 4096 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    let plausible = names.iter().filter(|entry| is_plausible(entry, geometry)).count();
    let mut witnesses = Vec::new();
    let (weight, says) = match (listed, names.len()) {
        (Ok(_), 0) if volume.summary().label.is_none() => (1, "root directory is empty".to_string()),
        (Ok(_), 0) => (5, "root directory holds the label and no names".to_string()),
        (Ok(_), count) if plausible * 10 >= count * 9 => (20, format!("root directory lists {count} names")),
        (Ok(_), count) => (-20, format!("root directory holds nonsense: {} of {count} names cannot be", count - plausible)),
        (Err(_), _) => (-10, "root directory cannot be read".to_string()),
    };
    witnesses.push(Witness::at(WitnessKind::RootDirectory, start + root_at.0, weight, says));
    let folders = names.iter().filter(|entry| entry.kind == NodeKind::Directory && entry.existence == Existence::Present);
    let (mut met, mut asked) = (0, 0);
    for folder in folders.take(MOST_CHECKED) {
        let Some(at) = first_cluster_at(volume, window, folder) else { continue };
        asked += 1;
        let sector = read_bytes(window.as_ref(), at.0, 32, "directory").unwrap_or_default();
        if sector.starts_with(b".          ") && at.1 == dot_cluster(&sector) {
            met += 1;
        }
    }
    if asked > 0 {
        let weight = if met == asked { 15 } else { met * 10 / asked - 5 };
        let says = format!("folders of the root begin where their entries say: {met} of {asked}");
        witnesses.push(Witness {
            kind: WitnessKind::References,
            at_byte: None,
            says,
            weight,
            start_byte: Some(start),
            bytes: None,
        });
    }
    witnesses
}

fn is_plausible(entry: &Entry, geometry: &FatGeometry) -> bool {
    let signs = entry.name.chars().all(|sign| sign >= ' ' && !"\"*/:<>?\\|".contains(sign));
    signs && !entry.name.is_empty() && entry.bytes <= geometry.volume_bytes()
}

fn dot_cluster(sector: &[u8]) -> Option<u32> {
    let view = crate::View::new("directory", ByteOffset(0), sector);
    Some(u32::from(view.u16(20, "DIR_FstClusHI").ok()?) << 16 | u32::from(view.u16(26, "DIR_FstClusLO").ok()?))
}

fn first_cluster_at(volume: &FatVolume, window: &SharedSource, folder: &Entry) -> Option<(ByteOffset, Option<u32>)> {
    let raw = read_bytes(window.as_ref(), ByteOffset(folder.id.0), 32, "directory entry").ok()?;
    let cluster = dot_cluster(&raw)?;
    volume.geometry().cluster_at(cluster).map(|at| (at, Some(cluster)))
}

/// Directories seen on the surface inside the volume whose `.` number gives the place they stand at.
fn dot_witness(start: ByteOffset, geometry: &FatGeometry, dots: &[Dot]) -> Option<Witness> {
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let inside: Vec<&Dot> = dots.iter().filter(|dot| range.contains(dot.at)).collect();
    let met = inside.iter().filter(|dot| geometry.cluster_at(dot.own).is_some_and(|at| start + at.0 == dot.at)).count();
    if inside.is_empty() {
        return None;
    }
    let weight = if met * 2 >= inside.len() { 10 } else { 0 };
    let says = format!("directories on the surface give this start and cluster size: {met} of {}", inside.len());
    Some(Witness { kind: WitnessKind::References, at_byte: None, says, weight, start_byte: Some(start), bytes: None })
}
