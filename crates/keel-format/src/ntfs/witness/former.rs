//! NTFS volumes that another volume was made over: pieces of their MFT on ground that the present one's metadata does not reach.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};

use super::clue::{IndexBlock, Streak};
use super::infer::{common_cluster, placed_files};
use crate::bounded;
use crate::bounds::Bounds;
use crate::clue::Clues;
use crate::former::{Former, Host};
use crate::ntfs::layout::FIRST_USER;
use crate::ntfs::{FormerNtfs, LooseBlock, MftPiece, NtfsGeometry, NtfsVolume};
use crate::{FoundVolume, Geometry, VolumeKind, Witness, WitnessKind};

/// The most pieces of MFTs that are looked at.
const MOST_PIECES: usize = 512;
/// The most index blocks that names are looked for in.
const MOST_LOOSE: usize = 16_384;
/// Records that a piece must have.
const LEAST_RECORDS: u64 = 2;
/// Records that a volume must have left to be told.
const LEAST_LEFT: u64 = 4;
/// Clusters from a volume's start to its MFT, as formatters lay it.
const CUSTOMARY_MFT: [u64; 3] = [4, 786_432, 16];

/// Volumes of an older generation that pieces of MFTs speak for which no volume of `present` reaches.
#[must_use]
pub(crate) fn former(drive: &SharedSource, clues: &Clues, found: &[FoundVolume], hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    let present: Vec<FoundVolume> = hosts.iter().map(|host| host.volume.clone()).collect();
    let present = &present;
    // What a boot sector or the like still says of an older volume is right for its pieces too.
    let stated =
        found.iter().filter(|older| hosts.iter().any(|host| host.is_over(older))).filter_map(|older| match older.geometry {
            Geometry::Ntfs(geometry) => Some((older.range(), u64::from(geometry.cluster_bytes))),
            _ => None,
        });
    let stated: Vec<(ByteRange, u64)> = stated.collect();
    let reached = reached(drive, present);
    let mut pieces: Vec<Streak> = clues.ntfs.streaks.iter().flat_map(|streak| unreached(streak, &reached)).collect();
    // Only ground that a present volume was made on has an older generation.
    pieces.retain(|piece| piece.count >= LEAST_RECORDS && present.iter().any(|volume| volume.range().contains(piece.at)));
    pieces.sort_by_key(|piece| std::cmp::Reverse(piece.count));
    pieces.truncate(MOST_PIECES);
    let bounds = Bounds::new(drive, clues);
    // Index blocks of folders on ground that no present volume uses.
    let blocks = clues.ntfs.blocks.iter().chain(&clues.ntfs.further);
    let loose: Vec<&IndexBlock> =
        blocks.filter(|block| hosts.iter().any(|host| host.leaves(block.at))).take(MOST_LOOSE).collect();
    let mut volumes: BTreeMap<(ByteOffset, u64, u32), (Vec<Streak>, i32)> = BTreeMap::new();
    for piece in &pieces {
        let Some(host) = present.iter().find(|volume| volume.range().contains(piece.at)) else { continue };
        let (start, cluster, met) = place(drive, piece, host, (&bounds, &stated));
        let known = volumes.entry((start, cluster, piece.record_bytes)).or_default();
        known.0.push(*piece);
        known.1 += met;
    }
    let told = |((start, cluster, record_bytes), (pieces, met)): ((ByteOffset, u64, u32), (Vec<Streak>, i32))| {
        let host = present.iter().find(|volume| pieces.first().is_some_and(|piece| volume.range().contains(piece.at)))?;
        tell(drive, (start, cluster, record_bytes), pieces, met, (host, &loose))
    };
    volumes.into_iter().filter_map(told).collect()
}

/// The ground of the present volumes' own MFTs and mirrors.
fn reached(drive: &SharedSource, present: &[FoundVolume]) -> RangeSet {
    let mut reached = RangeSet::default();
    for volume in present {
        let Geometry::Ntfs(geometry) = volume.geometry else { continue };
        let window = bounded::window(drive, volume.range());
        let mut add = |lcn: u64, clusters: u64| {
            let at = volume.start + geometry.cluster_at(lcn).0;
            reached.add(ByteRange::sized(at, clusters.saturating_mul(u64::from(geometry.cluster_bytes))));
        };
        add(geometry.mirror_lcn, (4 * u64::from(geometry.record_bytes)).div_ceil(u64::from(geometry.cluster_bytes.max(1))));
        let Ok(opened) = NtfsVolume::open(window, geometry) else { continue };
        // What lies behind its last record was set aside and may hold older ones still.
        let used = opened.mft().records.saturating_mul(u64::from(geometry.record_bytes));
        let used = used.div_ceil(u64::from(geometry.cluster_bytes.max(1)));
        for run in opened.mft().runs.iter().filter(|run| run.vcn < used) {
            run.lcn.into_iter().for_each(|lcn| add(lcn, run.clusters.min(used - run.vcn)));
        }
    }
    reached
}

/// The parts of a streak that lie outside of `reached`.
fn unreached(streak: &Streak, reached: &RangeSet) -> Vec<Streak> {
    let size = u64::from(streak.record_bytes);
    let range = ByteRange::sized(streak.at, streak.count.saturating_mul(size));
    let part = |left: ByteRange| {
        let skipped = (left.start - streak.at).div_ceil(size);
        let at = streak.at + skipped * size;
        let count = left.end.0.saturating_sub(at.0) / size;
        Streak { at, first: streak.first + skipped, count, record_bytes: streak.record_bytes }
    };
    reached.lacking(range).into_iter().map(part).filter(|part| part.count > 0).collect()
}

/// Where the volume of a piece starts, its cluster size, and how many more of its files begin there as their types promise
/// than anywhere else.
fn place(
    drive: &SharedSource,
    piece: &Streak,
    host: &FoundVolume,
    (bounds, stated): (&Bounds, &[(ByteRange, u64)]),
) -> (ByteOffset, u64, i32) {
    let placed = placed_files(drive, piece);
    // What was overwritten since begins otherwise everywhere: matches count, mismatches do not.
    let begun = |start: u64| placed.iter().filter(|file| file.begins(drive, start) > 0).count();
    if let Some((range, cluster)) = stated.iter().find(|(range, _)| range.contains(piece.at)) {
        return (range.start, *cluster, i32::try_from(begun(range.start.0)).unwrap_or(0));
    }
    let own = match &host.geometry {
        Geometry::Ntfs(geometry) => u64::from(geometry.cluster_bytes),
        _ => 4096,
    };
    let cluster = common_cluster(&placed).unwrap_or(own);
    let mft_at = piece.at.0.checked_sub(piece.first * u64::from(piece.record_bytes));
    let customary = CUSTOMARY_MFT.iter().filter_map(|lcn| mft_at?.checked_sub(lcn * cluster));
    let around = bounds.around(piece.at).map(|(start, _)| start.0);
    let mut starts: Vec<u64> = [host.start.0].into_iter().chain(around).chain(customary).collect();
    starts.retain(|start| (piece.at.0.abs_diff(*start)).is_multiple_of(512) && *start <= piece.at.0);
    let best = starts
        .iter()
        .copied()
        .map(|start| (begun(start), start))
        .fold((0, host.start.0), |best, next| if next.0 > best.0 { next } else { best });
    (ByteOffset(best.1), cluster, i32::try_from(best.0).unwrap_or(0))
}

fn tell(
    drive: &SharedSource,
    (start, cluster, record_bytes): (ByteOffset, u64, u32),
    mut streaks: Vec<Streak>,
    met: i32,
    (host, loose): (&FoundVolume, &[&IndexBlock]),
) -> Option<FoundVolume> {
    let size = u64::from(record_bytes);
    streaks.sort_by_key(|streak| (streak.first, std::cmp::Reverse(streak.count)));
    let mut pieces: Vec<MftPiece> = Vec::new();
    let mut next = 0;
    for streak in streaks.iter().filter(|streak| streak.at >= start) {
        // Of two pieces with the same numbers the one that begins first is taken.
        let skip = next.max(streak.first) - streak.first;
        if skip >= streak.count {
            continue;
        }
        let at = ByteOffset(streak.at.0 + skip * size - start.0);
        let piece = MftPiece { first: streak.first + skip, count: streak.count - skip, at };
        next = piece.first + piece.count;
        pieces.push(piece);
    }
    let left: u64 = pieces.iter().map(|piece| piece.count).sum();
    // The file system's own records alone name nobody's files.
    let names = pieces.iter().any(|piece| piece.first + piece.count > FIRST_USER);
    if left < LEAST_LEFT || cluster == 0 || !names {
        return None;
    }
    let end = if start == host.start { host.range().end } else { ByteOffset(drive.len()).min(host.range().end.max(start)) };
    let geometry = NtfsGeometry {
        bytes_per_sector: drive.sector_size().0,
        cluster_bytes: u32::try_from(cluster).ok()?,
        mft_lcn: pieces.first()?.at.0 / cluster,
        mirror_lcn: pieces.first()?.at.0 / cluster,
        record_bytes,
        index_bytes: 4096,
        total_sectors: ((end.0.checked_sub(start.0)?) / u64::from(drive.sector_size().0)).checked_sub(1)?,
        serial: 0,
    };
    let records = format!("{left} file records in {} pieces of an MFT that no present volume reaches", pieces.len());
    let begun = format!("{met} of their files begin as their types promise where the records put them from this start");
    let within = loose.iter().filter(|block| (start..end).contains(&block.at));
    let loose = within.map(|block| LooseBlock { at: ByteOffset(block.at - start), folder: block.owner }).collect();
    let what = Former::Ntfs(FormerNtfs { geometry, pieces, loose });
    Some(FoundVolume {
        kind: VolumeKind::Ntfs,
        start,
        bytes: geometry.volume_bytes(),
        label: None,
        witnesses: vec![
            Witness::at(WitnessKind::CoreMetadata, streaks.first()?.at, 15 + i32::try_from(left.min(15)).unwrap_or(15), records),
            Witness::at(WitnessKind::References, start, met.min(20), begun).start(start),
        ],
        geometry: what.into(),
        newest: None,
    })
}
