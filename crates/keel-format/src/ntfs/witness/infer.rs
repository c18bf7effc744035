//! From clues to NTFS volumes: by boot sector, by its backup, by MFT record 0, by the mirror, and by index blocks.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource};

use super::clue::{NtfsClues, boot_sector};
use super::verify::verify;
use crate::clue::Clues;
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
        let main_stands =
            as_main.as_ref().is_some_and(|volume| volume.has(WitnessKind::CoreMetadata) || volume.has(WitnessKind::CoreCopy));
        let as_backup =
            at.0.checked_sub(geometry.backup_at().0).and_then(|start| verify(drive, ByteOffset(start), geometry, ntfs));
        let backup_stands =
            as_backup.as_ref().is_some_and(|volume| volume.has(WitnessKind::CoreMetadata) || volume.has(WitnessKind::CoreCopy));
        take(as_backup);
        // A backup taken for a start has no MFT where it says.
        if main_stands || !backup_stands {
            take(as_main);
        }
    }
    for at in &ntfs.zeros {
        for (start, geometry, witness) in from_record_zero(drive, *at, clues) {
            if found.contains_key(&start) {
                continue;
            }
            if let Some(mut volume) = verify(drive, start, geometry, ntfs).filter(|volume| volume.score() > 0) {
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
    found.into_values().collect()
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
    let places = [mft_lcn, mirror_lcn].map(|lcn| at.0.checked_sub(lcn.saturating_mul(u64::from(cluster_bytes))).map(ByteOffset));
    let mut answers = Vec::new();
    for start in places.into_iter().flatten() {
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
        let Some(witness) = settle(drive, start, mft_at, &mut geometry, clues) else { continue };
        answers.push((start, geometry, witness));
    }
    answers
}

/// Length and index size from records 8 (`$BadClus`), 6 (`$Bitmap`) and 5 (the root).
fn settle(
    drive: &SharedSource,
    start: ByteOffset,
    mft_at: ByteOffset,
    geometry: &mut NtfsGeometry,
    clues: &Clues,
) -> Option<Witness> {
    let neighbour = |number: u64| record(drive, mft_at + number * u64::from(geometry.record_bytes), geometry.record_bytes);
    let root = neighbour(5)?;
    let index = root.attribute(INDEX_ROOT, "$I30")?.resident()?.u32(8, "index block size").ok()?;
    if index.is_power_of_two() && (512..=65_536).contains(&index) {
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
    let size = settle(drive, start, ByteOffset(mft_at), &mut geometry, &all);
    if size.is_none() {
        // No size record is left: the ground to the last record or block seen is the least it can be.
        let last = clues.streaks.iter().map(|streak| streak.at + streak.count * u64::from(streak.record_bytes)).max()?;
        geometry.total_sectors = (last - start) / u64::from(geometry.bytes_per_sector);
    }
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
