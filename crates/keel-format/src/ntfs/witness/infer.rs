//! From clues to NTFS volumes: by boot sector, by its backup, by MFT record 0, by the mirror, and by index blocks.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource};

use super::clue::{NtfsClues, boot_sector};
use super::verify::verify;
use crate::bounds::Bounds;
use crate::clue::Clues;
use crate::content::{ContentMatch, matches_type};
use crate::ntfs::attribute::Gist;
use crate::ntfs::layout::{DATA, INDEX_ROOT};
use crate::ntfs::{NtfsGeometry, Record};
use crate::{FoundVolume, Geometry, Witness, WitnessKind, read_bytes};

/// Starts that must agree before index blocks alone are believed.
const LEAST_VOTES: usize = 3;
/// The most starts by vote that are tried.
const MOST_VOTED: usize = 16;

/// Turns clues into verified NTFS volumes, one for each start.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues) -> Vec<FoundVolume> {
    let ntfs = &clues.ntfs;
    let mut found: BTreeMap<ByteOffset, FoundVolume> = BTreeMap::new();
    let mut take = |volume: Option<FoundVolume>| {
        if let Some(volume) = volume
            && volume.score() > 0
            && found.get(&volume.start).is_none_or(|old| old.score() < volume.score())
        {
            found.insert(volume.start, volume);
        }
    };
    for at in &ntfs.boots {
        let Some(Geometry::Ntfs(geometry)) = boot_sector(drive.as_ref(), *at) else { continue };
        let as_main = verify(drive, *at, geometry, ntfs);
        let main_stands = as_main.as_ref().is_some_and(stands);
        let as_backup =
            at.0.checked_sub(geometry.backup_at().0).and_then(|start| verify(drive, ByteOffset(start), geometry, ntfs));
        let backup_stands = as_backup.as_ref().is_some_and(stands);
        take(as_backup);
        // A backup taken for a start has no MFT where it says.
        if main_stands || !backup_stands {
            take(as_main);
        }
    }
    for at in &ntfs.zeros {
        // Record 0 of a volume that is known, in its MFT or in its mirror, begins no other one.
        if found.values().any(|volume| holds_record_zero(volume, *at)) {
            continue;
        }
        let answers = from_record_zero(drive, *at, clues);
        // Of the two starts that such a record allows one that is known already is right.
        if answers.iter().any(|(start, ..)| found.contains_key(start)) {
            continue;
        }
        for (start, geometry, witness) in answers {
            if found.contains_key(&start) {
                continue;
            }
            // Where only the bounds give a length, the root has to show that the start is right.
            let shown = |volume: &FoundVolume| witness.weight > 2 || volume.has(WitnessKind::RootDirectory);
            let verified = verify(drive, start, geometry, ntfs).filter(|volume| volume.score() > 0 && shown(volume));
            if let Some(mut volume) = verified {
                volume.witnesses.push(witness);
                found.insert(start, volume);
            }
        }
    }
    for (start, votes) in voted_starts(ntfs) {
        if found.values().any(|volume| volume.range().contains(start)) {
            continue;
        }
        if let Some(volume) = from_votes(drive, start, &votes, ntfs) {
            found.insert(start, volume);
        }
    }
    for (start, geometry, witnesses) in from_streaks(drive, clues, &found) {
        if let Some(mut volume) = verify(drive, start, geometry, ntfs) {
            volume.witnesses.extend(witnesses);
            if volume.score() > found.get(&start).map_or(0, FoundVolume::score) {
                found.insert(start, volume);
            }
        }
    }
    found.into_values().collect()
}

/// True when the MFT or the mirror of a volume that stands begins at byte `at` of the drive.
fn holds_record_zero(volume: &FoundVolume, at: ByteOffset) -> bool {
    let Geometry::Ntfs(geometry) = volume.geometry else { return false };
    let places = [geometry.mft_lcn, geometry.mirror_lcn].map(|lcn| volume.start.0.checked_add(geometry.cluster_at(lcn).0));
    stands(volume) && volume.has(WitnessKind::RootDirectory) && places.contains(&Some(at.0))
}

/// True when something of the MFT stands where the boot sector puts it.
fn stands(volume: &FoundVolume) -> bool {
    [WitnessKind::CoreMetadata, WitnessKind::CoreCopy, WitnessKind::RootDirectory].into_iter().any(|kind| volume.has(kind))
}

/// Records that must stand in one piece of an MFT before it is tried alone.
const LEAST_STREAK: u64 = 8;
/// The most pieces of MFTs that are tried.
const MOST_STREAKS: usize = 24;
/// Records of a piece that are asked where their files lie.
const MOST_ASKED: u64 = 512;
/// How many more files must begin as their types promise than do not.
const LEAST_BEGUN: i32 = 3;
/// Clusters from a volume's start to its MFT, as formatters lay it.
const CUSTOMARY_MFT: [u64; 3] = [4, 786_432, 16];

/// Volumes of which pieces of the MFT are left and nothing that says where the volume starts: each start that a table entry,
/// the drive or a formatter's custom gives is tried, and the files that the records place must begin there as their types
/// promise.
fn from_streaks(
    drive: &SharedSource,
    clues: &Clues,
    found: &BTreeMap<ByteOffset, FoundVolume>,
) -> Vec<(ByteOffset, NtfsGeometry, Vec<Witness>)> {
    let known =
        |at: ByteOffset| found.values().any(|volume| volume.range().contains(at) && volume.has(WitnessKind::RootDirectory));
    let mut streaks: Vec<_> =
        clues.ntfs.streaks.iter().filter(|streak| streak.count >= LEAST_STREAK && !known(streak.at)).collect();
    streaks.sort_by_key(|streak| std::cmp::Reverse(streak.count));
    streaks.truncate(MOST_STREAKS);
    let bounds = Bounds::new(drive, clues);
    let mut answers: Vec<(ByteOffset, NtfsGeometry, Vec<Witness>)> = Vec::new();
    for streak in streaks {
        let size = u64::from(streak.record_bytes);
        let Some(mft_at) = streak.at.0.checked_sub(streak.first * size) else { continue };
        let placed = placed_files(drive, streak);
        let Some(cluster) = common_cluster(&placed) else { continue };
        let customary = CUSTOMARY_MFT.iter().filter_map(|lcn| mft_at.checked_sub(lcn * cluster));
        let mut starts: Vec<u64> =
            bounds.around(ByteOffset(mft_at)).map(|(start, _)| start.0).into_iter().chain(customary).collect();
        starts.retain(|start| (mft_at - start).is_multiple_of(cluster) && start.is_multiple_of(512));
        starts.dedup();
        let begun = |start: &u64| placed.iter().map(|file| file.begins(drive, *start)).sum::<i32>();
        let Some((met, start)) = starts.iter().map(|start| (begun(start), *start)).max_by_key(|(met, _)| *met) else { continue };
        if met < LEAST_BEGUN || answers.iter().any(|(other, ..)| other.0 == start) {
            continue;
        }
        let start = ByteOffset(start);
        let mut geometry = NtfsGeometry {
            bytes_per_sector: drive.sector_size().0,
            cluster_bytes: u32::try_from(cluster).unwrap_or(4096),
            mft_lcn: (mft_at - start.0) / cluster,
            mirror_lcn: 0,
            record_bytes: streak.record_bytes,
            index_bytes: 4096,
            total_sectors: 0,
            serial: 0,
        };
        let at = ByteOffset(mft_at);
        let size = sized(drive, start, at, &mut geometry, clues).or_else(|| bounded(drive, start, &mut geometry, &bounds, at));
        let Some(size) = size else { continue };
        let mirror = record(drive, at + u64::from(geometry.record_bytes), geometry.record_bytes);
        // Without record 1 the mirror is taken where formatters lay it: in the middle.
        geometry.mirror_lcn = mirror.as_ref().and_then(first_lcn).unwrap_or(geometry.clusters() / 2);
        let says = format!("{met} more files than not begin as their types promise where the records put them from this start");
        let files = Witness::at(WitnessKind::References, streak.at, 20, says).start(start);
        answers.push((start, geometry, vec![size, files]));
    }
    answers
}

/// Length by the entry that starts here, or by the drive's end.
fn bounded(
    drive: &SharedSource,
    start: ByteOffset,
    geometry: &mut NtfsGeometry,
    bounds: &Bounds,
    mft_at: ByteOffset,
) -> Option<Witness> {
    let sector = u64::from(geometry.bytes_per_sector);
    let (end, how) = match bounds.entry_at(start) {
        Some(entry) => (entry.end, "a table entry gives the end"),
        None => (ByteOffset(drive.len() / sector * sector), "nothing states the end; the drive's is taken"),
    };
    geometry.total_sectors = (end.0.checked_sub(start.0)? / sector).checked_sub(1).filter(|total| *total > 0)?;
    Some(Witness::at(WitnessKind::SizeRecord, mft_at, 2, how).start(start).length(geometry.volume_bytes()))
}

/// A file whose record says where it lies.
pub(super) struct Placed {
    name: String,
    lcn: u64,
    bytes: u64,
    cluster_bytes: u64,
}

impl Placed {
    /// 1 where the file begins as its type promises when the volume starts at byte `start`, -1 where it does not.
    pub(super) fn begins(&self, drive: &SharedSource, start: u64) -> i32 {
        let Some(at) = self.lcn.checked_mul(self.cluster_bytes).and_then(|back| start.checked_add(back)) else { return -1 };
        let len = usize::try_from(self.bytes.min(1024)).unwrap_or(0);
        let head = read_bytes(drive.as_ref(), ByteOffset(at), len, "file").unwrap_or_default();
        match matches_type(&self.name, &head) {
            ContentMatch::Match => 1,
            ContentMatch::Mismatch => -1,
            // What cannot be read is no file of a known type.
            ContentMatch::Unknown => -i32::from(head.is_empty()),
        }
    }
}

/// Files of known types of a piece of an MFT, with the place of their first cluster.
pub(super) fn placed_files(drive: &SharedSource, streak: &super::clue::Streak) -> Vec<Placed> {
    let size = u64::from(streak.record_bytes);
    let step = streak.count.div_ceil(MOST_ASKED).max(1);
    let numbers = (0..streak.count).step_by(usize::try_from(step).unwrap_or(1));
    let placed = |index: u64| {
        let record = record(drive, streak.at + index * size, streak.record_bytes).filter(Record::is_in_use)?;
        let name = Gist::of(&record).name;
        let name = name?.name;
        let data = record.attribute(DATA, "")?;
        let known = matches_type(&name, b"?") != ContentMatch::Unknown && data.flags == 0;
        let cluster_bytes = data.implied_cluster_bytes().filter(|_| known)?;
        Some(Placed { name, lcn: first_lcn(&record)?, bytes: data.bytes(), cluster_bytes: u64::from(cluster_bytes) })
    };
    numbers.filter_map(placed).take(64).collect()
}

/// The cluster size that most of the files have.
pub(super) fn common_cluster(placed: &[Placed]) -> Option<u64> {
    let mut votes: BTreeMap<u64, usize> = BTreeMap::new();
    placed.iter().for_each(|file| *votes.entry(file.cluster_bytes).or_default() += 1);
    votes.into_iter().max_by_key(|(_, count)| *count).map(|(cluster, _)| cluster)
}

fn record(drive: &SharedSource, at: ByteOffset, size: u32) -> Option<Record> {
    Record::parse(read_bytes(drive.as_ref(), at, size as usize, "file record").ok()?, at).ok()
}

fn first_lcn(record: &Record) -> Option<u64> {
    record.attribute(DATA, "")?.runs(u64::MAX >> 1).ok()?.first()?.lcn
}

/// What record 0 and its neighbours say: cluster size from sizes and runs, the places of MFT and mirror from their own
/// run lists, the length from the stream of bad clusters. Record 0 may stand in the MFT or in the mirror: both starts
/// are answered, the caller verifies them.
fn from_record_zero(drive: &SharedSource, at: ByteOffset, clues: &Clues) -> Vec<(ByteOffset, NtfsGeometry, Witness)> {
    let Ok(head) = read_bytes(drive.as_ref(), at, 48, "file record") else { return Vec::new() };
    let size = crate::View::new("file record", at, &head).u32(28, "allocated_size").unwrap_or(0);
    if !matches!(size, 1024 | 2048 | 4096) {
        return Vec::new();
    }
    let neighbour = |number: u64| {
        record(drive, at + number * u64::from(size), size)
            .filter(|record| u64::from(record.header().record_number.get()) == number)
    };
    let (Some(zero), Some(one)) = (neighbour(0), neighbour(1)) else { return Vec::new() };
    let cluster_bytes = zero.attribute(DATA, "").and_then(|data| data.implied_cluster_bytes());
    let (Some(cluster_bytes), Some(mft_lcn), Some(mirror_lcn)) = (cluster_bytes, first_lcn(&zero), first_lcn(&one)) else {
        return Vec::new();
    };
    // A mirror has four records, or as many as fill a cluster; an MFT has more.
    let in_mirror = (u64::from(cluster_bytes) / u64::from(size)).max(4);
    let is_mirror = [4, in_mirror].into_iter().any(|count| neighbour(count - 1).is_some() && neighbour(count).is_none());
    let lcns: &[u64] = if is_mirror { &[mirror_lcn] } else { &[mft_lcn, mirror_lcn] };
    let places = lcns.iter().map(|lcn| at.0.checked_sub(lcn.saturating_mul(u64::from(cluster_bytes))).map(ByteOffset));
    let mut answers = Vec::new();
    for start in places.flatten() {
        let mut geometry = NtfsGeometry {
            bytes_per_sector: drive.sector_size().0,
            cluster_bytes,
            mft_lcn,
            mirror_lcn,
            record_bytes: size,
            index_bytes: 4096,
            total_sectors: 0,
            serial: 0,
        };
        let mft_at = start + geometry.cluster_at(mft_lcn).0;
        let witness = sized(drive, start, mft_at, &mut geometry, clues)
            .or_else(|| bounded(drive, start, &mut geometry, &Bounds::new(drive, clues), mft_at));
        let Some(witness) = witness else { continue };
        answers.push((start, geometry, witness));
    }
    answers
}

/// Length and index size from records 8 (`$BadClus`), 6 (`$Bitmap`) and 5 (the root).
fn sized(
    drive: &SharedSource,
    start: ByteOffset,
    mft_at: ByteOffset,
    geometry: &mut NtfsGeometry,
    clues: &Clues,
) -> Option<Witness> {
    let neighbour = |number: u64| record(drive, mft_at + number * u64::from(geometry.record_bytes), geometry.record_bytes);
    let index = neighbour(5).and_then(|root| root.attribute(INDEX_ROOT, "$I30")?.resident()?.u32(8, "index block size").ok());
    if let Some(index) = index
        && index.is_power_of_two()
        && (512..=65_536).contains(&index)
    {
        geometry.index_bytes = index;
    }
    let cluster = u64::from(geometry.cluster_bytes);
    let bad_stream = neighbour(8).and_then(|bad| bad.attribute(DATA, "$Bad").map(|data| data.bytes()));
    let bitmap = neighbour(6).and_then(|bitmap| bitmap.attribute(DATA, "").map(|data| data.bytes()));
    let (clusters, how) = match (bad_stream.filter(|bytes| *bytes > 0), bitmap) {
        (Some(bytes), _) => (bytes / cluster, format!("$BadClus counts {} clusters", bytes / cluster)),
        (None, Some(bytes)) => (bytes.saturating_mul(8), format!("$Bitmap has room for {} clusters", bytes.saturating_mul(8))),
        (None, None) => return None,
    };
    let sector = u64::from(geometry.bytes_per_sector);
    // The partition has at least one sector more than the clusters fill, and less than a whole cluster more.
    let least = clusters.checked_mul(cluster)?;
    let backup = clues.ntfs.boots.iter().find(|at| **at >= start + least && **at < start + least + cluster);
    let (bytes, exact) = match backup {
        Some(at) => (*at - start + sector, true),
        None => (least + cluster, false),
    };
    let bytes = bytes.min(drive.len().saturating_sub(start.0));
    geometry.total_sectors = (bytes / sector).checked_sub(1).filter(|total| *total > 0)?;
    let tail = if exact {
        "a backup boot sector gives the end"
    } else {
        "partitions hold whole clusters, the last one for the backup boot sector"
    };
    Some(Witness::at(WitnessKind::SizeRecord, mft_at, 10, format!("{how}; {tail}")).start(start).length(geometry.volume_bytes()))
}

/// Starts on which directory records and index blocks agree, most votes first.
fn voted_starts(clues: &NtfsClues) -> Vec<(ByteOffset, Vec<usize>)> {
    let mut votes: BTreeMap<ByteOffset, Vec<usize>> = BTreeMap::new();
    let mut owners: BTreeMap<u64, Vec<ByteOffset>> = BTreeMap::new();
    for block in &clues.blocks {
        owners.entry(block.owner).or_default().push(block.at);
    }
    for (index, directory) in clues.directories.iter().enumerate() {
        for at in owners.get(&directory.number).into_iter().flatten().take(8) {
            let back = directory.lcn.saturating_mul(u64::from(directory.cluster_bytes));
            if let Some(start) = at.0.checked_sub(back) {
                votes.entry(ByteOffset(start)).or_default().push(index);
            }
        }
    }
    let mut starts: Vec<_> = votes.into_iter().filter(|(_, votes)| votes.len() >= LEAST_VOTES).collect();
    starts.sort_by_key(|(start, votes)| (std::cmp::Reverse(votes.len()), *start));
    starts.truncate(MOST_VOTED);
    starts
}

/// A volume of which only directory records and index blocks are left: its start is known, its MFT from the place of
/// the streak that holds the voters, its length from `$BadClus` or `$Bitmap` where those records still stand.
fn from_votes(drive: &SharedSource, start: ByteOffset, votes: &[usize], clues: &NtfsClues) -> Option<FoundVolume> {
    let directory = clues.directories.get(*votes.first()?)?;
    let streak = clues.streaks.iter().find(|streak| {
        let end = streak.at + streak.count * u64::from(streak.record_bytes);
        streak.at <= directory.at && directory.at < end
    })?;
    let mft_at = streak.at.0.checked_sub(streak.first * u64::from(streak.record_bytes))?;
    let cluster = u64::from(directory.cluster_bytes);
    let mft_lcn = mft_at.checked_sub(start.0)? / cluster;
    let mut geometry = NtfsGeometry {
        bytes_per_sector: drive.sector_size().0,
        cluster_bytes: directory.cluster_bytes,
        mft_lcn,
        mirror_lcn: mft_lcn,
        record_bytes: streak.record_bytes,
        index_bytes: 4096,
        total_sectors: 1,
        serial: 0,
    };
    let all = Clues { ntfs: clues.clone(), ..Clues::default() };
    let size = sized(drive, start, ByteOffset(mft_at), &mut geometry, &all)
        .or_else(|| bounded(drive, start, &mut geometry, &Bounds::new(drive, &all), ByteOffset(mft_at)));
    if let Some(record) = record(drive, ByteOffset(mft_at) + u64::from(geometry.record_bytes), geometry.record_bytes)
        && let Some(lcn) = first_lcn(&record)
    {
        geometry.mirror_lcn = lcn;
    }
    let mut volume = verify(drive, start, geometry, clues)?;
    let says = format!("index blocks and the run lists of their directories meet at this start {} times", votes.len());
    volume.witnesses.push(Witness {
        kind: WitnessKind::References,
        at_byte: None,
        says,
        weight: 20,
        start_byte: Some(start),
        bytes: None,
    });
    volume.witnesses.extend(size);
    (volume.score() > 0).then_some(volume)
}
