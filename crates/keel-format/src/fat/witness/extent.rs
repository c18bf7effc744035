//! Where a FAT volume without boot sectors starts and ends: by FSInfo, by table entries, by its neighbours and the drive's own
//! bounds. What nothing states stays open, and the witness says so.

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::surface::Fats;
use crate::bounded;
use crate::bounds::{ALIGNMENT, Bounds, Open};
use crate::clue::Clues;
use crate::fat::layout::{LEAST_FAT16, LEAST_FAT32};
use crate::fat::{FatGeometry, FatTable};
use crate::{View, VolumeKind, Witness, WitnessKind, read_bytes};

/// The most reserved sectors that are taken on alignment alone.
const MOST_RESERVED: u64 = 128;
/// The most entries of a FAT that are counted.
const MOST_COUNTED: u64 = 1 << 26;

/// A start, how it is known, and how much that is worth.
#[derive(Debug, Clone)]
pub(super) struct Start {
    pub(super) at: ByteOffset,
    pub(super) worth: i32,
    says: String,
    entry: Option<ByteRange>,
    /// `FSI_Free_Count`, where an FSInfo sector gives the start.
    free: Option<u32>,
    /// Sectors from the start to the copies of boot sector and FSInfo, where they are known.
    backup: Option<u16>,
    /// True where nothing is left of the FATs: what stands in their place says nothing.
    is_blank: bool,
}

impl Start {
    /// A start that a table entry or the drive gives, with its end.
    pub(super) fn between(start: ByteOffset, end: ByteOffset) -> Self {
        let says = "nothing is left of its FATs; a table entry or the drive itself gives the bounds".to_string();
        Self { at: start, worth: 6, says, entry: Some(ByteRange::new(start, end)), free: None, backup: None, is_blank: true }
    }
}

/// The start of a volume whose first FAT stands at `fats.first` and whose data at `data`.
pub(super) fn start(
    drive: &SharedSource,
    fats: Fats,
    data: ByteOffset,
    wide: bool,
    clues: &Clues,
    bounds: &Bounds,
) -> Option<Start> {
    let unit = drive.sector_size().bytes();
    let fat = fats.first;
    if wide && let Some(start) = by_fs_info(drive, fat, &clues.fat.fs_info) {
        return Some(start);
    }
    let known = |at: u64, worth: i32, says: String, entry: Option<ByteRange>| {
        Some(Start { at: ByteOffset(at), worth, says, entry, free: None, backup: None, is_blank: false })
    };
    if let Some(entry) = bounds.entry(fat, data) {
        let reserved = (fat - entry.start) / unit;
        if (fat - entry.start).is_multiple_of(unit) && (1..=65_535).contains(&reserved) {
            let worth = if reserved <= MOST_RESERVED { 12 } else { 6 };
            return known(entry.start.0, worth, "a table entry starts there".into(), Some(entry));
        }
    }
    let reserved = fat.0 / unit;
    if !bounds.has_table && (1..=MOST_RESERVED).contains(&reserved) {
        return known(0, 10, format!("the drive begins {reserved} sectors before the first FAT, and holds no table"), None);
    }
    let aligned = fat.0.checked_sub(1)? / ALIGNMENT * ALIGNMENT;
    let reserved = (fat.0 - aligned) / unit;
    if aligned > 0 && (fat.0 - aligned).is_multiple_of(unit) && reserved <= MOST_RESERVED {
        return known(aligned, 8, format!("a boundary of 1 MiB lies {reserved} sectors before the first FAT"), None);
    }
    let customary: &[u64] = if wide { &[32, 34, 36, 38, 64, 128, 6, 8] } else { &[1, 2, 4, 6, 8, 16, 32, 64] };
    let on = |step: u64| {
        customary.iter().copied().find(|count| (fat.0 / unit).checked_sub(*count).is_some_and(|lba| lba > 0 && lba % step == 0))
    };
    for (step, worth) in [(2048, 6), (63, 4), (8, 2)] {
        if let Some(count) = on(step) {
            let says = format!("{count} reserved sectors are customary and put the start on a multiple of {step} sectors");
            return known(fat.0 - count * unit, worth, says, None);
        }
    }
    let count = if wide { 32 } else { 1 };
    known(fat.0.checked_sub(count * unit)?, 0, format!("{count} reserved sectors are taken: nothing states the start"), None)
}

/// FSInfo stands in sector 1, its copy behind the backup boot sector: the distance of two gives both, a single one is taken
/// for the main one.
fn by_fs_info(drive: &SharedSource, fat: ByteOffset, places: &[ByteOffset]) -> Option<Start> {
    let unit = drive.sector_size().bytes();
    let before: Vec<ByteOffset> = places.iter().filter(|at| **at < fat && fat - **at <= 65_535 * unit).copied().collect();
    // Sectors from the main FSInfo to its copy are those from the boot sector to its backup.
    let pair = before.iter().rev().skip(1).find_map(|main| {
        let copy = before.iter().rev().find(|copy| **copy > *main && **copy - *main <= 64 * unit)?;
        Some((*main, u16::try_from((*copy - *main) / unit).ok()?))
    });
    let (main, backup) = pair.map_or_else(|| (before.first().copied(), None), |(main, backup)| (Some(main), Some(backup)));
    let main = main?;
    let bytes = read_bytes(drive.as_ref(), main, 512, "FSInfo").ok()?;
    let free = View::new("FSInfo", main, &bytes).u32(488, "FSI_Free_Count").ok()?;
    let at = ByteOffset(main.0.checked_sub(unit)?);
    let says = "FSInfo stands in the second sector".to_string();
    Some(Start { at, worth: 12, says, entry: None, free: Some(free), backup, is_blank: false })
}

/// Fills in start and length of `geometry`, whose FATs and clusters are known; answers with the witness of the length.
pub(super) fn sized(
    drive: &SharedSource,
    start: &Start,
    fats: Fats,
    geometry: &mut FatGeometry,
    bounds: &Bounds,
) -> Option<Witness> {
    let unit = drive.sector_size().bytes();
    geometry.reserved_sectors = u32::try_from((fats.first - start.at) / unit).ok().filter(|count| *count > 0)?;
    if geometry.kind == VolumeKind::Fat32 {
        let fits = |sector: u16| u32::from(sector) + 1 < geometry.reserved_sectors;
        geometry.fs_info = u16::from(geometry.reserved_sectors > 1);
        geometry.backup =
            start.backup.or(Some(6)).filter(|sector| fits(*sector)).or(Some(2)).filter(|sector| fits(*sector)).unwrap_or(0);
    }
    let (clusters, exact, counted) = count_clusters(drive, start, geometry);
    let per_cluster = u64::from(geometry.sectors_per_cluster);
    let entries_per_sector = unit * 8 / geometry.entry_bits();
    // Formatters round a FAT up to whole clusters, so that the data begins on one.
    let slack = entries_per_sector * (per_cluster + 1);
    let least = if exact {
        clusters
    } else {
        clusters.saturating_sub(slack).max(if start.is_blank { 1 } else { highest_used(drive, start, geometry) }).max(1)
    };
    let floor = geometry.data_sector() + least * per_cluster;
    let ceiling = geometry.data_sector() + clusters * per_cluster + per_cluster - 1;
    let room = (bounds.drive.checked_sub(start.at.0)?) / unit;
    let ceiling = ceiling.min(room);
    if floor > ceiling {
        return None;
    }
    let legal = |total: u64| is_legal(geometry, total.saturating_sub(geometry.data_sector()) / per_cluster);
    let total_of = |end: ByteOffset| end.0.checked_sub(start.at.0).map_or(0, |bytes| bytes / unit);
    let at = |total: u64| start.at + total * unit;
    let open = Open { start: start.at, least: at(floor), most: at(ceiling), exact };
    let found = bounds.end(open, start.entry, &|end| legal(total_of(end)));
    let found = found.map(|end| (total_of(end.at), end.weight, end.how));
    let plain =
        [floor, ceiling].into_iter().find(|total| legal(*total)).map(|total| (total, 1, "nothing states the end to the sector"));
    let (total, weight, how) = found.or(plain)?;
    geometry.total_sectors = total;
    let open = match ceiling - floor {
        0 => String::new(),
        _ if weight >= 12 || exact => String::new(),
        sectors => format!("; by its FAT alone it may end up to {sectors} sectors from there"),
    };
    let says = format!("start: {}; length: {counted}, {how}{open}", start.says);
    let witness = Witness::at(WitnessKind::SizeRecord, fats.first, weight, says);
    Some(witness.start(start.at).length(geometry.volume_bytes()))
}

/// Whether a volume of the kind may have so many clusters.
pub(super) fn is_legal(geometry: &FatGeometry, clusters: u64) -> bool {
    match geometry.kind {
        VolumeKind::Fat12 => (1..LEAST_FAT16).contains(&clusters),
        VolumeKind::Fat16 => (LEAST_FAT16..LEAST_FAT32).contains(&clusters),
        _ => clusters >= 1,
    }
}

/// The most clusters that the FAT has room for, on the drive and by the kind.
fn room(geometry: &FatGeometry) -> u64 {
    let room = geometry.entries_in_fat().saturating_sub(2);
    match geometry.kind {
        VolumeKind::Fat12 => room.min(LEAST_FAT16 - 1),
        VolumeKind::Fat16 => room.min(LEAST_FAT32 - 1),
        _ => room,
    }
}

/// The FAT of the volume with all clusters that it has room for.
fn table_of(drive: &SharedSource, start: &Start, geometry: &FatGeometry) -> FatTable {
    let mut whole = *geometry;
    whole.total_sectors = geometry.data_sector() + room(geometry) * u64::from(geometry.sectors_per_cluster);
    let range = ByteRange::new(start.at, ByteOffset(drive.len()));
    FatTable::new(bounded::window(drive, range), whole)
}

/// The highest cluster in use, as a count of clusters.
fn highest_used(drive: &SharedSource, start: &Start, geometry: &FatGeometry) -> u64 {
    let room = room(geometry);
    if room > MOST_COUNTED {
        return 0;
    }
    let table = table_of(drive, start, geometry);
    let last = u32::try_from(room + 2).unwrap_or(u32::MAX);
    let used = (2..last).rev().find(|cluster| table.entry(*cluster).is_some_and(|entry| entry != 0));
    used.map_or(0, |cluster| u64::from(cluster) - 1)
}

/// Count of clusters: from the free count where FSInfo has one (used entries plus free ones), else the most that the
/// FAT has room for. Answers with the count, whether it is exact, and how it is known.
fn count_clusters(drive: &SharedSource, start: &Start, geometry: &FatGeometry) -> (u64, bool, String) {
    let room = room(geometry);
    let most = || (room, false, format!("the FAT has room for at most {room} clusters"));
    let Some(free) = start.free.filter(|free| u64::from(*free) <= room && room <= MOST_COUNTED) else { return most() };
    let table = table_of(drive, start, geometry);
    let last = u32::try_from(room + 2).unwrap_or(u32::MAX);
    let used = (2..last).filter(|cluster| table.entry(*cluster).is_some_and(|entry| entry != 0)).count() as u64;
    let count = used + u64::from(free);
    let slack = geometry.entry_bits().max(1);
    let slack = u64::from(geometry.bytes_per_sector) * 8 / slack * (u64::from(geometry.sectors_per_cluster) + 1);
    if count > room || room - count > slack.max(4096) {
        return most();
    }
    (count, true, format!("{used} used entries of the FAT and the free count {free} give {count} clusters"))
}
