//! Landmarks: the places where tables, copies and starts usually lie, and what is found implies.

use std::collections::BTreeSet;

use keel_format::Geometry;
use keel_format::clue::Clues;
use keel_format::table::{self, TableReading};
use keel_source::{ByteOffset, ByteRange, Cancel, RangeSet, SharedSource};

use super::{Find, Grade, infer, outer};
use crate::coverage::LEAST_VOLUME;

/// Bytes looked at from each landmark on: a FAT32's reserved sectors and the start of its FAT fit, and the superblock of a
/// Btrfs, which stands 64 KiB in.
const WIDTH: u64 = 72 << 10;
/// Customary alignment of starts.
const ALIGNMENT: u64 = 1 << 20;
/// A cylinder of 255 heads with 63 sectors each, in bytes.
const CYLINDER: u64 = 255 * 63 * 512;
/// Where the first copy of an ext superblock stands with blocks of 1024 and of 4096 bytes, and that of Btrfs.
const COPY_1K: u64 = 8193 << 10;
const COPY_4K: u64 = 128 << 20;
const COPY_BTRFS: u64 = 64 << 20;
/// How far into the drive every aligned place is looked at.
const DENSE: u64 = 64 << 20;
/// Bytes that are looked at for traces of an older generation.
const TRACES: u64 = 2 << 20;
/// Places behind the start of a volume that are looked at for them, in bytes.
const TRACED: [u64; 6] = [1 << 20, 3 << 20, 5 << 20, 7 << 20, 9 << 20, 16 << 20];
/// The most gaps between finds that are looked at.
const MOST_GAPS: usize = 256;
/// The most leads that are tried in all rounds together: a hundred volumes one behind the other, found one by one, ask for ten thousand.
const MOST_TRIED: usize = 16_384;
/// Rounds of following what was found; each one needs a new find.
const MOST_ROUNDS: usize = 256;

/// Looks at the landmarks and follows what they imply until nothing new comes up. When it is stopped, what the last whole round found
/// comes back; `source` is to end its reads then.
pub(super) fn walk(source: &SharedSource, table: &TableReading, clues: &mut Clues, cancel: &Cancel) -> Vec<Find> {
    let mut seen = BTreeSet::new();
    let mut places = first_places(source, table);
    let (mut finds, mut tried) = (Vec::new(), 0);
    for _ in 0..MOST_ROUNDS {
        let mut leads = 0;
        for range in places.drain(..) {
            if seen.insert(range) {
                let before = clues.leads();
                look(source, range, clues);
                leads += clues.leads().saturating_sub(before);
            }
        }
        if leads == 0 && !finds.is_empty() {
            break;
        }
        // Each round tries all leads anew. What a crowd of them leaves is the surface's.
        tried += clues.leads();
        if tried > MOST_TRIED && !finds.is_empty() {
            break;
        }
        let found = infer(source, table, clues).0;
        if cancel.is_cancelled() {
            break;
        }
        finds = found;
        places = implied_places(source, &finds);
        places.extend(small_gaps(source, &finds));
        places.extend(finds.iter().flat_map(|find| trace_places(source, find)));
        places.retain(|range| !seen.contains(range));
        if places.is_empty() {
            break;
        }
    }
    finds
}

fn look(source: &SharedSource, range: ByteRange, clues: &mut Clues) {
    const STEP: u64 = 1 << 20;
    let mut at = range.start;
    while at < range.end {
        let len = usize::try_from(STEP.min(range.end - at)).unwrap_or(0);
        let mut buf = vec![0; len];
        // What cannot be read is zero, and zeros are no clue.
        let _ = source.read_at(at, &mut buf);
        clues.look(at, &buf, len);
        at = at + len as u64;
    }
}

fn cut(source: &SharedSource, start: ByteOffset, bytes: u64) -> Option<ByteRange> {
    let start = ByteOffset(start.0 / 512 * 512);
    let range = ByteRange::new(start, (start + bytes).min(ByteOffset(source.len())));
    (!range.is_empty()).then_some(range)
}

/// Start and end of the drive, aligned places near its start, and what tables (also damaged ones) point at.
fn first_places(source: &SharedSource, table: &TableReading) -> Vec<ByteRange> {
    let mut places: Vec<ByteRange> = Vec::new();
    places.extend(cut(source, ByteOffset(0), ALIGNMENT + WIDTH));
    places.extend((2..=DENSE / ALIGNMENT).filter_map(|step| cut(source, ByteOffset(step * ALIGNMENT), WIDTH)));
    places.extend(cut(source, ByteOffset(source.len().saturating_sub(2 * ALIGNMENT)), 2 * ALIGNMENT));
    let other = table::read_in_other_size(source);
    let own = std::iter::once((source.sector_size(), table));
    for (sector, table) in own.chain(other.iter().map(|(sector, table)| (*sector, table))) {
        let copies = [
            &table.mbr.partitions,
            &table.mbr.extended,
            &table.primary.partitions,
            &table.backup.partitions,
            &table.apm.partitions,
        ];
        for partition in copies.into_iter().flatten() {
            places.extend(around(source, partition.range(sector)));
        }
    }
    let displaced = table::gpt::displaced(source.as_ref()).map(|gpt| gpt.ground).unwrap_or_default();
    places.extend(displaced.into_iter().flat_map(|ground| around(source, ground)));
    places
}

/// What finds imply: the next volume starts where one ends, and the one before ends where one starts.
fn implied_places(source: &SharedSource, finds: &[Find]) -> Vec<ByteRange> {
    outer(finds).flat_map(|find| around(source, find.range())).collect()
}

/// Where an older generation under a present volume would show first: behind the start of its MFT, where its clusters begin, and a few
/// places behind the start where formatters lay tables and first folders.
fn trace_places(source: &SharedSource, find: &Find) -> Vec<ByteRange> {
    if matches!(find.geometry, Geometry::Former(_)) || find.grade != Grade::Certain || !find.is_outer() {
        return Vec::new();
    }
    let places = find.geometry.traced_at().into_iter().chain(TRACED.map(ByteOffset)).filter(|at| at.0 < find.bytes);
    places.filter_map(|at| cut(source, find.start_byte + at.0, TRACES)).collect()
}

/// What lies between finds and is too short to count as unexplained ground: looked at whole.
fn small_gaps(source: &SharedSource, finds: &[Find]) -> Vec<ByteRange> {
    let mut volumes = RangeSet::default();
    outer(finds).for_each(|find| volumes.add(find.range()));
    let gaps = volumes.lacking(ByteRange::sized(ByteOffset(0), source.len()));
    gaps.into_iter()
        .filter(|gap| gap.len() < LEAST_VOLUME)
        .take(MOST_GAPS)
        .filter_map(|gap| cut(source, gap.start, gap.len()))
        .collect()
}

fn around(source: &SharedSource, range: ByteRange) -> Vec<ByteRange> {
    let next = ByteOffset(range.end.0.div_ceil(ALIGNMENT).saturating_mul(ALIGNMENT));
    let before = ByteOffset(range.start.0.saturating_sub(ALIGNMENT));
    // Behind a logical partition come an EBR and the gap of one alignment step or one track.
    let places = [
        cut(source, range.start, WIDTH),
        cut(source, before, range.start - before),
        cut(source, range.end, WIDTH),
        cut(source, next, WIDTH),
        cut(source, next + ALIGNMENT, WIDTH),
        // Copies at the end of a volume, and the customary places of copies inside one.
        cut(source, ByteOffset(range.end.0.saturating_sub(WIDTH)), WIDTH),
        cut(source, range.start + COPY_1K, WIDTH),
        cut(source, range.start + COPY_BTRFS, WIDTH),
        cut(source, range.start + COPY_4K, WIDTH),
        // Older tables put starts on cylinders, or a track behind them.
        cut(source, ByteOffset(range.end.0.div_ceil(CYLINDER).saturating_mul(CYLINDER)), WIDTH),
    ];
    places.into_iter().flatten().collect()
}
