//! FAT volumes whose boot sectors are gone: hypotheses of width, FATs and clusters, and how well the chains bear them out.

use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::clue::{Dot, FatStart};
use super::extent::{self, Start, is_legal};
use super::surface::{CUSTOMARY, Data, Fats, LARGEST_FAT, blank_fats, data_areas, fats_before};
use crate::bounded;
use crate::bounds::Bounds;
use crate::clue::Clues;
use crate::content::{ContentMatch, matches_type};
use crate::fat::layout::LEAST_FAT32;
use crate::fat::{FatGeometry, FatTable, FatVolume, Slots};
use crate::{Deleted, NodeId, NodeKind, Volume, VolumeKind, Witness, WitnessKind, read_bytes, read_whole};

/// Files whose chains are followed for one hypothesis.
const MOST_FILES: usize = 64;
/// Folders whose ends are looked at for one hypothesis, and the most clusters of one.
const MOST_FOLDERS: i32 = 16;
const MOST_CHAIN: u64 = 256;
/// Folders whose own entries are looked up in a FAT before more is asked.
const MOST_OWN: usize = 32;
/// Clusters among which the root of a FAT32 is looked for.
const MOST_ROOTS: u32 = 512;
/// Longest directory cluster that is read to see whether it may be a root, in bytes.
const ROOT_PIECE: usize = 4096;
/// Hypotheses that are fitted between their bounds.
const MOST_FITTED: usize = 8;
/// Data areas on which a single folder votes are tried only when there are few.
const MOST_SINGLE: usize = 40;

/// A volume as the surface states it.
pub(super) struct Lost {
    pub(super) start: ByteOffset,
    pub(super) geometry: FatGeometry,
    pub(super) witnesses: Vec<Witness>,
    /// True when folders alone speak for it: neither a FAT nor the root is left.
    pub(super) is_headless: bool,
}

/// How a hypothesis stands: chains that are as long as their files' sizes ask, and chains that are not; folders whose end mark stands
/// in the last cluster of their chain, and those that it does not.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Borne {
    good: i32,
    bad: i32,
    ended: i32,
    cut: i32,
}

/// The weight of a length that a table entry states.
const STATED: i32 = 14;

/// Every volume that folders and FATs speak for outside of `known` ground.
pub(super) fn volumes(drive: &SharedSource, clues: &Clues, known: &[ByteRange]) -> Vec<Lost> {
    let outside = |at: ByteOffset| !known.iter().any(|range| range.contains(at));
    let dots: Vec<Dot> = clues.fat.dots.iter().filter(|dot| outside(dot.at)).copied().collect();
    let starts: Vec<FatStart> = clues.fat.starts.iter().filter(|start| outside(start.at)).copied().collect();
    if dots.is_empty() && starts.is_empty() {
        return Vec::new();
    }
    let bounds = Bounds::new(drive, clues);
    let mut found: Vec<Lost> = Vec::new();
    let mut single = 0;
    for data in data_areas(&dots) {
        let taken = found.iter().any(|lost| ByteRange::sized(lost.start, lost.geometry.volume_bytes()).contains(data.at));
        let met = starts.iter().any(|start| start.at < data.at && data.at - start.at <= 2 * LARGEST_FAT);
        single += usize::from(data.votes == 1);
        if taken || (data.votes == 1 && (!met || single > MOST_SINGLE)) {
            continue;
        }
        // One folder fits every size of cluster: what its chains and files say decides.
        let alike = |dot: &Dot| (9..=18).filter_map(|power| Data::of(dot, power)).collect::<Vec<_>>();
        let alone = dots.iter().find(|dot| data.votes == 1 && stands_in(dot, data));
        let candidates = alone.map_or_else(|| vec![data], alike);
        let borne = candidates.into_iter().filter_map(|data| {
            let own: Vec<Dot> = dots.iter().filter(|dot| stands_in(dot, data)).take(MOST_OWN).copied().collect();
            Some((by_folders(drive, data, &own, &starts, clues, &bounds)?, data.cluster_bytes.abs_diff(CUSTOMARY)))
        });
        let best = borne.max_by_key(|((score, _), unusual)| (*score, std::cmp::Reverse(*unusual)));
        found.extend(best.map(|((_, lost), _)| lost));
    }
    for (first, second) in pairs(&starts) {
        let taken =
            |at: ByteOffset| found.iter().any(|lost| ByteRange::sized(lost.start, lost.geometry.volume_bytes()).contains(at));
        if !taken(first.at) && !taken(second.at) {
            found.extend(without_folders(drive, first, second, clues, &bounds));
        }
    }
    found
}

fn stands_in(dot: &Dot, data: Data) -> bool {
    data.at + u64::from(dot.own - 2) * data.cluster_bytes == dot.at
}

/// FAT starts that are two copies of one FAT: the same first sector, nothing of the same sort between them.
fn pairs(starts: &[FatStart]) -> Vec<(FatStart, FatStart)> {
    let mut pairs = Vec::new();
    let mut index = 0;
    while let Some(first) = starts.get(index) {
        let same =
            |second: &FatStart| (second.bits, second.crc) == (first.bits, first.crc) && second.at - first.at <= LARGEST_FAT;
        let mate = starts.iter().skip(index + 1).position(same);
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

/// The geometry of a hypothesis over all the clusters that it may have; its start is one sector before its FAT.
fn geometry(drive: &SharedSource, kind: VolumeKind, fats: Fats, cluster_bytes: u64) -> Option<FatGeometry> {
    let unit = drive.sector_size().bytes();
    let sectors = |bytes: u64| u32::try_from(bytes / unit).ok().filter(|count| *count > 0);
    let mut geometry = FatGeometry {
        kind,
        bytes_per_sector: drive.sector_size().0,
        sectors_per_cluster: sectors(cluster_bytes)?,
        reserved_sectors: 1,
        fats: fats.count,
        fat_sectors: sectors(fats.bytes)?,
        root_entries: u32::try_from(fats.root_bytes / 32).ok()?,
        root_cluster: if kind == VolumeKind::Fat32 { 2 } else { 0 },
        total_sectors: 0,
        media: media(drive, fats),
        serial: 0,
        fs_info: 0,
        backup: 0,
    };
    let behind = fats.first + u64::from(fats.count) * fats.bytes + fats.root_bytes;
    let on_drive = drive.len().checked_sub(behind.0)? / cluster_bytes;
    let room = match kind {
        VolumeKind::Fat12 => 4084,
        VolumeKind::Fat16 => 65_524,
        _ => u64::MAX,
    };
    let clusters = geometry.entries_in_fat().saturating_sub(2).min(on_drive).min(room);
    geometry.total_sectors = geometry.data_sector() + clusters * u64::from(geometry.sectors_per_cluster);
    (clusters > 0 && geometry.sectors_per_cluster <= 1024).then_some(geometry)
}

fn media(drive: &SharedSource, fats: Fats) -> u8 {
    let places = [fats.first, fats.first + fats.bytes];
    let first = |at: ByteOffset| read_bytes(drive.as_ref(), at, 3, "FAT").ok();
    let begins = |bytes: &[u8]| matches!(bytes, [0xF0 | 0xF8..=0xFF, 0xFF, 0xFF]);
    let found = places.into_iter().filter_map(first).find(|bytes| begins(bytes));
    found.and_then(|bytes| bytes.first().copied()).unwrap_or(0xF8)
}

fn window(drive: &SharedSource, start: ByteOffset) -> SharedSource {
    bounded::window(drive, ByteRange::new(start, ByteOffset(drive.len())))
}

/// One sector before the first FAT: where a hypothesis is opened.
fn before(drive: &SharedSource, fats: Fats) -> Option<ByteOffset> {
    fats.first.0.checked_sub(drive.sector_size().bytes()).map(ByteOffset)
}

/// The hypothesis for a data area that its folders, chains and FATs bear out best.
fn by_folders(
    drive: &SharedSource,
    data: Data,
    own: &[Dot],
    starts: &[FatStart],
    clues: &Clues,
    bounds: &Bounds,
) -> Option<(i32, Lost)> {
    let mut borne_by: Vec<Hypothesis> = Vec::new();
    for kind in [VolumeKind::Fat32, VolumeKind::Fat16, VolumeKind::Fat12] {
        let wide = kind == VolumeKind::Fat32;
        for fats in fats_before(drive, data, starts, wide) {
            let Some(mut hypothesis) = geometry(drive, kind, fats, data.cluster_bytes) else { continue };
            if !is_legal(&hypothesis, hypothesis.cluster_count()) {
                continue;
            }
            let Some(open_at) = before(drive, fats) else { continue };
            let table = FatTable::new(window(drive, open_at), hypothesis);
            let used = own.iter().filter(|dot| is_link(&table, &hypothesis, dot.own)).count();
            if used * 2 < own.len() {
                continue;
            }
            if wide {
                let Some(root) = root_cluster(drive, open_at, &hypothesis, own) else { continue };
                hypothesis.root_cluster = root;
            }
            let borne = borne_out(drive, open_at, &hypothesis);
            let Some(start) = extent::start(drive, fats, data.at, wide, clues, bounds) else { continue };
            let score = 3 * borne.good - 5 * borne.bad + 4 * borne.ended - 6 * borne.cut + start.worth + likeness(drive, fats);
            let enough = borne.good > borne.bad || (borne.bad == 0 && used >= 2);
            if enough {
                borne_by.push(Hypothesis { score, geometry: hypothesis, fats, start, borne });
            }
        }
    }
    best_of(drive, borne_by, bounds).or_else(|| Some((0, without_fats(drive, data, own, bounds)?)))
}

/// A geometry with all that speaks for it.
struct Hypothesis {
    score: i32,
    geometry: FatGeometry,
    fats: Fats,
    start: Start,
    borne: Borne,
}

/// The best hypothesis that fits between its bounds: among the best few the one whose end something states counts for more.
fn best_of(drive: &SharedSource, mut hypotheses: Vec<Hypothesis>, bounds: &Bounds) -> Option<(i32, Lost)> {
    hypotheses.sort_by_key(|hypothesis| std::cmp::Reverse(hypothesis.score));
    let fitted = hypotheses.into_iter().filter_map(|found| {
        let lost = finished(drive, found.geometry, found.fats, &found.start, found.borne, bounds)?;
        let size = lost.witnesses.iter().find(|witness| witness.kind == WitnessKind::SizeRecord).map_or(0, |size| size.weight);
        Some((found.score + size - excess(&lost.geometry), lost))
    });
    // The first of equals: they come by their own scores.
    fitted.take(MOST_FITTED).reduce(|best, next| if next.0 > best.0 { next } else { best })
}

/// How much too long the FATs would be: formatters give them what their clusters need, rounded up to whole clusters.
fn excess(geometry: &FatGeometry) -> i32 {
    let sector = u64::from(geometry.bytes_per_sector) * 8;
    let needed = ((geometry.cluster_count() + 2) * geometry.entry_bits()).div_ceil(sector);
    let left = u64::from(geometry.fat_sectors).saturating_sub(needed);
    if left > needed.max(1) / 4 + u64::from(geometry.sectors_per_cluster) { 8 } else { 0 }
}

/// Nothing is left of the FATs, and all chains with them: the folders alone give clusters and data, a table entry or the
/// drive the bounds, and between them is just the room that two FATs need.
fn without_fats(drive: &SharedSource, data: Data, own: &[Dot], bounds: &Bounds) -> Option<Lost> {
    const LEAST_FOLDERS: usize = 2;
    const LEAST_HEADLESS: usize = 3;
    if own.len() < LEAST_FOLDERS {
        return None;
    }
    let unit = drive.sector_size().bytes();
    let (from, end) = bounds.around(data.at)?;
    let mut best: Option<(i32, FatGeometry, Fats, bool)> = None;
    for (kind, bits) in [(VolumeKind::Fat32, 32), (VolumeKind::Fat16, 16), (VolumeKind::Fat12, 12)] {
        for fats in blank_fats(from, data, end, bits, unit) {
            let Some(mut hypothesis) = geometry(drive, kind, fats, data.cluster_bytes) else { continue };
            let Some(open_at) = before(drive, fats) else { continue };
            let clusters = (end - data.at) / data.cluster_bytes;
            if !is_legal(&hypothesis, clusters) || (kind == VolumeKind::Fat32 && clusters < LEAST_FAT32 / 16) {
                continue;
            }
            let met = match kind {
                VolumeKind::Fat32 => match root_cluster(drive, open_at, &hypothesis, own) {
                    Some(root) => {
                        hypothesis.root_cluster = root;
                        1
                    }
                    None => continue,
                },
                _ => i32::from(fixed_root_names(drive, data.at.0.saturating_sub(fats.root_bytes), fats.root_bytes, own)),
            };
            // Of a root that is gone as well nothing can be asked: the customary shape is taken, and folders prove the clusters.
            let headless = met == 0 && own.len() >= LEAST_HEADLESS;
            let told = match headless {
                true => 0,
                false => told_by_content(drive, open_at, &hypothesis) + 4 * met + i32::from(fats.count == 2),
            };
            if (met > 0 || headless) && best.as_ref().is_none_or(|(other, ..)| *other < told) {
                best = Some((told, hypothesis, fats, headless));
            }
        }
    }
    let (_, geometry, fats, is_headless) = best?;
    let start = extent::Start::between(from, end);
    let mut lost = finished(drive, geometry, fats, &start, Borne::default(), bounds)?;
    let says = format!(
        "{} folders stand on the clusters that they name: that gives where clusters stand and how large they are",
        own.len()
    );
    lost.witnesses.push(Witness::at(WitnessKind::References, data.at, 20, says).start(lost.start));
    lost.is_headless = is_headless;
    Some(lost)
}

/// True when the fixed root of `bytes` bytes before the data names one of the folders.
fn fixed_root_names(drive: &SharedSource, data: u64, bytes: u64, own: &[Dot]) -> bool {
    let at = ByteOffset(data);
    let Ok(bytes) = read_bytes(drive.as_ref(), at, usize::try_from(bytes).unwrap_or(0), "root directory") else { return false };
    let plain = bytes.first().is_some_and(|first| *first != 0 && *first != b'.');
    plain && Slots::new(&bytes, at).any(|slot| slot.is_directory() && own.iter().any(|dot| dot.own == slot.first_cluster()))
}

/// What the FATs themselves look like: starts in their places, and equal sectors.
fn likeness(drive: &SharedSource, fats: Fats) -> i32 {
    let begins = |at: ByteOffset| {
        read_bytes(drive.as_ref(), at, 3, "FAT").is_ok_and(|bytes| matches!(bytes.as_slice(), [0xF0 | 0xF8..=0xFF, 0xFF, 0xFF]))
    };
    let first = i32::from(begins(fats.first));
    if fats.count < 2 {
        return 10 * first - 6;
    }
    let unit = drive.sector_size().bytes();
    let sectors = fats.bytes / unit;
    let places = (0..16).map(|part| sectors * part / 16 * unit);
    let read = |at: ByteOffset| read_bytes(drive.as_ref(), at, 512, "FAT").ok();
    let (mut same, mut other) = (0, 0);
    for place in places {
        match (read(fats.first + place), read(fats.first + fats.bytes + place)) {
            (Some(one), Some(two)) if one == two => same += i32::from(one.iter().any(|byte| *byte != 0)),
            _ => other += 1,
        }
    }
    let second = i32::from(begins(fats.first + fats.bytes));
    // One start and nothing that stands twice: rather one FAT than two.
    let alone = if same == 0 && second == 0 { 12 } else { 0 };
    6 * first + 6 * second + 2 * same - other.min(8) - alone
}

/// The last steps: start, length, and what speaks for it.
fn finished(
    drive: &SharedSource,
    mut geometry: FatGeometry,
    fats: Fats,
    start: &Start,
    borne: Borne,
    bounds: &Bounds,
) -> Option<Lost> {
    let mut size = extent::sized(drive, start, fats, &mut geometry, bounds);
    // Of two FATs the second may begin with anything: what looks like one of twice the length is two where an entry's end says so.
    let stated = |size: &Option<Witness>| size.as_ref().is_some_and(|size| size.weight >= STATED);
    if geometry.fats == 1 && geometry.fat_sectors.is_multiple_of(2) && !stated(&size) {
        let mut two = FatGeometry { fats: 2, fat_sectors: geometry.fat_sectors / 2, ..geometry };
        let other = extent::sized(drive, start, fats, &mut two, bounds);
        if stated(&other) {
            (geometry, size) = (two, other);
        }
    }
    let size = size?;
    let weight = (borne.good * 2 - borne.bad * 4).clamp(-20, 20);
    let says = format!("chains of {} of {} sampled files are as long as their sizes ask", borne.good, borne.good + borne.bad);
    let chains = Witness::at(WitnessKind::References, fats.first, weight, says).start(start.at);
    Some(Lost { start: start.at, geometry, witnesses: vec![size, chains], is_headless: false })
}

fn is_link(table: &FatTable, geometry: &FatGeometry, cluster: u32) -> bool {
    let last = geometry.cluster_count() + 2;
    (0..geometry.fats).filter_map(|copy| table.entry_in(copy, cluster)).any(|entry| match entry {
        0x0FFF_FFF8.. => true,
        next => next >= 2 && u64::from(next) < last,
    })
}

/// The root of a FAT32: a directory without dot entries that names folders which say that the root is their parent.
fn root_cluster(drive: &SharedSource, start: ByteOffset, geometry: &FatGeometry, own: &[Dot]) -> Option<u32> {
    let children: Vec<u32> = own.iter().filter(|dot| dot.parent == 0).map(|dot| dot.own).collect();
    let mut second = None;
    for cluster in 2..MOST_ROOTS.min(u32::try_from(geometry.cluster_count()).unwrap_or(u32::MAX).saturating_add(2)) {
        let at = start + geometry.cluster_at(cluster)?.0;
        let len = ROOT_PIECE.min(geometry.cluster_bytes() as usize);
        let Ok(bytes) = read_bytes(drive.as_ref(), at, len, "root directory") else { continue };
        if bytes.starts_with(b".          ") {
            continue;
        }
        let slots: Vec<_> = Slots::new(&bytes, at).take(64).collect();
        let names_child = slots.iter().any(|slot| slot.is_directory() && children.contains(&slot.first_cluster()));
        if names_child {
            return Some(cluster);
        }
        // Its folders may stand behind its first cluster; in the customary place that is enough.
        if cluster == 2 && !slots.is_empty() && slots.iter().all(|slot| slot.raw.attr & 0xC0 == 0) {
            second = Some(2);
        }
        if children.is_empty() {
            break;
        }
    }
    second
}

/// Follows the chains of a sample of files.
fn borne_out(drive: &SharedSource, start: ByteOffset, geometry: &FatGeometry) -> Borne {
    let mut borne = Borne::default();
    let Ok(volume) = FatVolume::open(window(drive, start), *geometry) else { return borne };
    let cluster = u64::from(geometry.cluster_bytes()).max(1);
    let mut count = 0;
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        if found.entry.kind == NodeKind::Directory
            && borne.ended + borne.cut < MOST_FOLDERS
            && let Some(ends) = ends_with_its_chain(&volume, found.entry.id)
        {
            let slot = if ends { &mut borne.ended } else { &mut borne.cut };
            *slot += 1;
        }
        if found.entry.kind == NodeKind::File && found.entry.bytes > 0 {
            count += 1;
            let extents = volume.recorded_extents(found.entry.id).unwrap_or_default();
            let held: u64 = extents.iter().map(|extent| extent.bytes / cluster).sum();
            match held == found.entry.bytes.div_ceil(cluster) {
                true => borne.good += 1,
                false => borne.bad += 1,
            }
        }
        if count >= MOST_FILES { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    borne
}

/// True where the end mark of a folder stands in the last cluster of its chain: with another size of clusters it stands before it or
/// is not met. None for a folder of one cluster, which says nothing.
fn ends_with_its_chain(volume: &FatVolume, folder: NodeId) -> Option<bool> {
    let geometry = volume.geometry();
    let raw = read_bytes(volume.source().as_ref(), ByteOffset(folder.0), 32, "directory entry").ok()?;
    let half =
        |at: usize| raw.get(at..at + 2).and_then(<[u8]>::first_chunk).map_or(0, |half| u32::from(u16::from_le_bytes(*half)));
    let chain = volume.table().chain(half(20) << 16 | half(26), MOST_CHAIN);
    if chain.clusters < 2 || chain.finding.is_some() {
        return None;
    }
    let clusters = chain.runs.iter().flat_map(|(first, count)| *first..first.saturating_add(*count));
    let has_end = |cluster: u32| {
        let at = geometry.cluster_at(cluster)?;
        let bytes = read_bytes(volume.source().as_ref(), at, geometry.cluster_bytes() as usize, "directory").ok()?;
        Some(bytes.chunks_exact(32).any(|entry| entry.first() == Some(&0)))
    };
    let marks: Vec<bool> = clusters.map(|cluster| has_end(cluster).unwrap_or(false)).collect();
    let (last, before) = marks.split_last()?;
    Some(*last && before.iter().all(|mark| !mark))
}

/// Without folders: two FATs give their length, the chains of the root's files the size of clusters, and for FAT12 and
/// FAT16 what the files hold the end of the root.
fn without_folders(drive: &SharedSource, first: FatStart, second: FatStart, clues: &Clues, bounds: &Bounds) -> Option<Lost> {
    const ROOTS: [u64; 10] = [512, 224, 112, 240, 256, 1024, 64, 128, 2048, 4096];
    let bytes = second.at - first.at;
    let behind = second.at + bytes;
    let mut borne_by: Vec<Hypothesis> = Vec::new();
    for kind in [VolumeKind::Fat32, VolumeKind::Fat16, VolumeKind::Fat12] {
        let wide = kind == VolumeKind::Fat32;
        let roots: &[u64] = if wide { &[0] } else { &ROOTS };
        for (rank, root_bytes) in roots.iter().map(|count| count * 32).enumerate() {
            let fats = Fats { first: first.at, bytes, count: 2, root_bytes };
            let Some(start) = extent::start(drive, fats, behind + root_bytes, wide, clues, bounds) else { continue };
            for cluster_bytes in (9..=16).map(|power| 1u64 << power).filter(|size| *size >= drive.sector_size().bytes()) {
                let Some(hypothesis) = geometry(drive, kind, fats, cluster_bytes) else { continue };
                let Some(open_at) = before(drive, fats) else { continue };
                if !is_legal(&hypothesis, hypothesis.cluster_count()) {
                    continue;
                }
                let borne = borne_out(drive, open_at, &hypothesis);
                let told = if borne.good > 0 { told_by_content(drive, open_at, &hypothesis) } else { 0 };
                let score = 6 * borne.good - 9 * borne.bad + 4 * told - i32::try_from(rank).unwrap_or(9);
                if borne.good > borne.bad {
                    borne_by.push(Hypothesis { score, geometry: hypothesis, fats, start: start.clone(), borne });
                }
            }
        }
    }
    best_of(drive, borne_by, bounds).map(|(_, lost)| lost)
}

/// How many files of the root begin as their types promise, less those that do not.
fn told_by_content(drive: &SharedSource, start: ByteOffset, geometry: &FatGeometry) -> i32 {
    let Ok(volume) = FatVolume::open(window(drive, start), *geometry) else { return 0 };
    let mut told = 0;
    let _ = volume.list(volume.root(), Deleted::Hide, &mut |entry| {
        let head = volume.open(entry.id, "").map(|mut stream| read_whole(stream.as_mut(), 4096).0).unwrap_or_default();
        told += match matches_type(&entry.name, &head) {
            ContentMatch::Match => 1,
            ContentMatch::Mismatch => -1,
            ContentMatch::Unknown => 0,
        };
        ControlFlow::Continue(())
    });
    told
}
