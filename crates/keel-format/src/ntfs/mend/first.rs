//! The first four records of the MFT (`$MFT`, `$MFTMirr`, `$LogFile`, `$Volume`) when neither they nor their mirror are left: the
//! root's index still holds their names and sizes, the cluster bitmap counts their ground, and no other record claims it.

use std::ops::{ControlFlow, Range};

use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32, U64};

use super::super::attribute::{Body, FileName};
use super::super::layout::{
    BITMAP, DATA, FILE_NAME, IN_USE, ROOT, RawAttribute, RawNonResident, RawRecord, RawResident, STANDARD_INFORMATION,
    VOLUME_INFORMATION, VOLUME_NAME,
};
use super::super::record::{Record, redo_fixups};
use super::super::runs::{self, Run};
use super::super::{NtfsGeometry, NtfsVolume, check, index};
use crate::read_bytes;

/// Number of the record of the cluster bitmap, of which what all system files have alike is taken.
const CLUSTER_BITMAP: u64 = 6;
/// `$SECURITY_DESCRIPTOR`.
const SECURITY_DESCRIPTOR: u32 = 0x50;
/// Where the update sequence array of a record stands (NTFS 3.1).
const USA_OFFSET: u16 = 48;
/// The first four records.
const COUNT: usize = 4;

/// The four records as stored, and where the mirror stands.
pub(super) struct First {
    pub(super) records: [Vec<u8>; COUNT],
    pub(super) mirror_lcn: u64,
    /// How the ground was told apart, as a sentence.
    pub(super) says: String,
}

/// True when none of the four is left, neither in the MFT nor in the mirror that the geometry names.
pub(super) fn are_lost(volume: &NtfsVolume) -> bool {
    let geometry = volume.geometry();
    let size = geometry.record_bytes as usize;
    let in_mirror = |number: u64| {
        let at = geometry.cluster_at(geometry.mirror_lcn) + number * size as u64;
        let bytes = read_bytes(volume.source().as_ref(), at, size, "file record").ok()?;
        Record::parse(bytes, at).ok().filter(|record| record.number().is_none_or(|own| own == number))
    };
    (0..COUNT as u64).all(|number| volume.record(number).is_err() && in_mirror(number).is_none())
}

/// The four records, as far as what is left says them beyond doubt.
///
/// # Errors
/// Why they cannot be computed, as a sentence.
pub(super) fn compute(volume: &NtfsVolume) -> Result<First, &'static str> {
    let geometry = volume.geometry();
    if volume.mft().runs.iter().any(|run| run.lcn.is_none()) {
        return Err("a part of the MFT is not found");
    }
    let [mft_name, mirror_name, log_name, volume_name] =
        names(volume).ok_or("the root's index does not name all four of the first records")?;
    let pattern = volume.record(CLUSTER_BITMAP).map_err(|_| "the record of the cluster bitmap is gone as well")?;
    let unclaimed = check::unclaimed(volume).ok_or("the cluster bitmap cannot be read")?;
    let unit = u64::from(geometry.cluster_bytes).max(1);
    let clusters_of = |name: &FileName| name.raw.allocated_size.get().div_ceil(unit);
    let used = used_records(volume);
    let bits = u64::try_from(used.len()).unwrap_or(u64::MAX).div_ceil(8).next_multiple_of(8);
    let wanted = [clusters_of(&log_name.1), clusters_of(&mirror_name.1), bits.div_ceil(unit)];
    let (mft_runs, unclaimed) = with_tail(&volume.mft().runs, unclaimed, wanted.iter().sum());
    let ground = Ground::of(volume, unclaimed, wanted)?;
    let whole = |size: u64, runs: &[Run]| Stream { runs: runs.to_vec(), allocated: clusters(runs) * unit, data: size };
    let size = u64::from(geometry.record_bytes);
    let mft = whole(used.len() as u64 * size, &mft_runs);
    let bitmap = whole(bits, &[one(ground.bitmap.clone())]);
    let mirror = whole(mirror_name.1.raw.data_size.get(), &[one(ground.mirror.clone())]);
    let log = whole(log_name.1.raw.data_size.get(), &[one(ground.log.clone())]);
    let build = |number: u64, (sequence, name): &(u16, FileName), more: &[Part]| {
        record(geometry, (number, *sequence), (&pattern, name), more)
            .ok_or("the MFT lies in more pieces than one record can name")
    };
    let version = [0, 0, 0, 0, 0, 0, 0, 0, 3, 1, 0, 0];
    let records = [
        build(0, &mft_name, &[Part::Away(DATA, mft), Part::Away(BITMAP, bitmap)])?,
        build(1, &mirror_name, &[Part::Away(DATA, mirror)])?,
        build(2, &log_name, &[Part::Away(DATA, log)])?,
        build(
            3,
            &volume_name,
            &[
                Part::Inside(VOLUME_NAME, Vec::new()),
                Part::Inside(VOLUME_INFORMATION, version.to_vec()),
                Part::Inside(DATA, Vec::new()),
            ],
        )?,
    ];
    let says = format!(
        "the root's index gives names and sizes; of the clusters that the bitmap counts and no record claims, {} are the journal's \
         (from cluster {}), {} the mirror's (from {}), {} the MFT's own bitmap's (from {})",
        ground.log.end - ground.log.start,
        ground.log.start,
        ground.mirror.end - ground.mirror.start,
        ground.mirror.start,
        ground.bitmap.end - ground.bitmap.start,
        ground.bitmap.start
    );
    Ok(First { records, mirror_lcn: ground.mirror.start, says })
}

/// Sequence number and name of each of the four, as the root's index holds them.
fn names(volume: &NtfsVolume) -> Option<[(u16, FileName); COUNT]> {
    let root = volume.record(ROOT).ok()?;
    let mut found: [Option<(u16, FileName)>; COUNT] = [const { None }; COUNT];
    let _ = index::each_name(volume.source(), volume.geometry(), volume.mft(), ROOT, &root, &mut |name| {
        let slot = usize::try_from(name.number).ok().and_then(|number| found.get_mut(number));
        if let Some(slot) = slot.filter(|slot| slot.is_none()) {
            *slot = Some((name.sequence, name.name));
        }
        if found.iter().all(Option::is_some) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    let all: Option<Vec<(u16, FileName)>> = found.into_iter().collect();
    all?.try_into().ok()
}

/// Which records of the MFT are in use, up to the last one that is a record at all.
fn used_records(volume: &NtfsVolume) -> Vec<bool> {
    let mut used: Vec<bool> = Vec::new();
    volume.scan(&|_| true, &mut |number, record| {
        if let Ok(index) = usize::try_from(number) {
            used.resize(used.len().max(index + 1), false);
            used.iter_mut().skip(index).take(1).for_each(|slot| *slot = record.is_in_use());
        }
        ControlFlow::Continue(())
    });
    used.resize(used.len().max(COUNT), false);
    used.iter_mut().take(COUNT).for_each(|slot| *slot = true);
    used
}

/// Where journal, mirror and the MFT's own bitmap lie.
struct Ground {
    log: Range<u64>,
    mirror: Range<u64>,
    bitmap: Range<u64>,
}

impl Ground {
    /// Told apart by their lengths and by what stands there: the journal begins with a restart page or was never written, the
    /// bitmap counts the records that are in use. Nothing else may be left over.
    fn of(volume: &NtfsVolume, runs: Vec<Range<u64>>, [log, mirror, least]: [u64; 3]) -> Result<Self, &'static str> {
        let all: u64 = runs.iter().map(|run| run.end - run.start).sum();
        if all < log + mirror + least || log == 0 || mirror == 0 {
            return Err("the clusters that no record claims are fewer than journal, mirror and bitmap take");
        }
        let starts = runs.iter().filter(|run| run.end - run.start >= log).flat_map(|run| run.start..=run.end - log);
        let log_at = starts.clone().find(|start| begins_log(volume, *start, b"RSTR"));
        let log_at = log_at.or_else(|| starts.clone().find(|start| begins_log(volume, *start, &[0xFF; 4])));
        let log_at = log_at.ok_or("no place of the journal's length begins as a journal does")?;
        let log = log_at..log_at + log;
        let rest = without(runs, &log);
        let bitmaps: Vec<Range<u64>> = rest.iter().filter(|run| counts_records(volume, run.start)).cloned().collect();
        let [bitmap] = bitmaps.as_slice() else {
            return Err("the MFT's own bitmap is not found on ground that no record claims");
        };
        let wanted = all - (log.end - log.start) - mirror;
        let bitmap = bitmap.start..bitmap.end.min(bitmap.start + wanted);
        let left: Vec<Range<u64>> = without(rest, &bitmap).into_iter().filter(|run| run.end - run.start >= mirror).collect();
        // Formatters lay the mirror in the middle, or beside the start.
        let middle = volume.geometry().clusters() / 2;
        let place = left.iter().min_by_key(|run| run.start.abs_diff(middle)).map(|run| run.start..run.start + mirror);
        let mirror = place.filter(|_| left.len() == 1).ok_or("more than one place may be that of the mirror")?;
        Ok(Self { log, mirror, bitmap })
    }
}

fn begins_log(volume: &NtfsVolume, lcn: u64, mark: &[u8]) -> bool {
    let at = volume.geometry().cluster_at(lcn);
    read_bytes(volume.source().as_ref(), at, mark.len(), "$LogFile").is_ok_and(|bytes| bytes == mark)
}

/// True when the bits at cluster `lcn` count every record that is in use, and none of those that are free.
fn counts_records(volume: &NtfsVolume, lcn: u64) -> bool {
    let used = used_records(volume);
    let at = volume.geometry().cluster_at(lcn);
    let Ok(bits) = read_bytes(volume.source().as_ref(), at, used.len().div_ceil(8), "$MFT bitmap") else { return false };
    // The records before the first user's are counted whether or not they are in use.
    let first = super::super::layout::FIRST_USER as usize;
    let is_set = |index: usize| bits.get(index / 8).is_some_and(|byte| byte >> (index % 8) & 1 == 1);
    used.iter().enumerate().all(|(index, used)| if *used { is_set(index) } else { index < first || !is_set(index) })
}

/// `runs` without the clusters of `taken`.
fn without(runs: Vec<Range<u64>>, taken: &Range<u64>) -> Vec<Range<u64>> {
    let cut =
        |run: Range<u64>| [run.start..run.end.min(taken.start.max(run.start)), run.start.max(taken.end.min(run.end))..run.end];
    let overlaps = |run: &Range<u64>| run.start < taken.end && taken.start < run.end;
    let parts = runs.into_iter().flat_map(|run| if overlaps(&run) { cut(run).to_vec() } else { vec![run] });
    parts.filter(|run| !run.is_empty()).collect()
}

fn one(clusters: Range<u64>) -> Run {
    Run { vcn: 0, lcn: Some(clusters.start), clusters: clusters.end - clusters.start }
}

fn clusters(runs: &[Run]) -> u64 {
    runs.iter().map(|run| run.clusters).sum()
}

/// The runs of the MFT with the clusters behind its last one that were set aside for more records: what is left over when `wanted`
/// clusters are given to the others.
fn with_tail(mft: &[Run], unclaimed: Vec<Range<u64>>, wanted: u64) -> (Vec<Run>, Vec<Range<u64>>) {
    let mut mft = mft.to_vec();
    let over = unclaimed.iter().map(|run| run.end - run.start).sum::<u64>().saturating_sub(wanted);
    let end = mft.last().and_then(|last| Some(last.lcn? + last.clusters));
    let tail = unclaimed.iter().find(|run| Some(run.start) == end).map(|run| run.start..run.end.min(run.start + over));
    let (Some(tail), Some(last)) = (tail.filter(|tail| !tail.is_empty()), mft.last_mut()) else { return (mft, unclaimed) };
    last.clusters += tail.end - tail.start;
    (mft, without(unclaimed, &tail))
}

/// A stream outside of its record.
struct Stream {
    runs: Vec<Run>,
    allocated: u64,
    data: u64,
}

/// An attribute to be laid into a record.
enum Part {
    Inside(u32, Vec<u8>),
    Away(u32, Stream),
}

/// A record of `number` with what `pattern` (another system file) has of times and rights, the name, and `more`; `None` when it does
/// not fit.
fn record(
    geometry: &NtfsGeometry,
    (number, sequence): (u64, u16),
    (pattern, name): (&Record, &FileName),
    more: &[Part],
) -> Option<Vec<u8>> {
    let size = geometry.record_bytes as usize;
    let words = size / 512 + 1;
    let first = (usize::from(USA_OFFSET) + words * 2).next_multiple_of(8);
    let mut id = 0u16;
    let mut next = || {
        id += 1;
        id - 1
    };
    let like = |type_code: u32| {
        pattern.attribute(type_code, "").and_then(|found| match found.body {
            Body::Resident(view) => Some(view.bytes().to_vec()),
            Body::NonResident { .. } => None,
        })
    };
    let mut bytes = Vec::new();
    bytes.extend(inside(STANDARD_INFORMATION, &like(STANDARD_INFORMATION)?, 0, next()));
    let units: Vec<u8> = name.name.encode_utf16().flat_map(u16::to_le_bytes).collect();
    bytes.extend(inside(FILE_NAME, &[name.raw.as_bytes(), &units].concat(), 1, next()));
    bytes.extend(like(SECURITY_DESCRIPTOR).map(|value| inside(SECURITY_DESCRIPTOR, &value, 0, next())).unwrap_or_default());
    for part in more {
        bytes.extend(match part {
            Part::Inside(type_code, value) => inside(*type_code, value, 0, next()),
            Part::Away(type_code, stream) => away(*type_code, stream, next()),
        });
    }
    bytes.extend(0xFFFF_FFFFu32.to_le_bytes());
    bytes.extend([0; 4]);
    let used = first + bytes.len();
    if used > size {
        return None;
    }
    let header = RawRecord {
        magic: *b"FILE",
        usa_offset: U16::new(USA_OFFSET),
        usa_count: U16::new(u16::try_from(words).ok()?),
        lsn: U64::new(0),
        sequence_number: U16::new(sequence),
        link_count: U16::new(1),
        attributes_offset: U16::new(u16::try_from(first).ok()?),
        flags: U16::new(IN_USE),
        used_size: U32::new(u32::try_from(used).ok()?),
        allocated_size: U32::new(geometry.record_bytes),
        base_record: U64::new(0),
        next_attribute_id: U16::new(next()),
        reserved: U16::new(0),
        record_number: U32::new(u32::try_from(number).ok()?),
    };
    let mut record = header.as_bytes().to_vec();
    record.resize(first, 0);
    record.extend(bytes);
    record.resize(size, 0);
    redo_fixups(&mut record).then_some(record)
}

fn head(type_code: u32, length: usize, non_resident: u8, id: u16) -> Vec<u8> {
    let name_offset = if non_resident == 1 { 64 } else { 24 };
    let raw = RawAttribute {
        type_code: U32::new(type_code),
        length: U32::new(u32::try_from(length).unwrap_or(u32::MAX)),
        non_resident,
        name_length: 0,
        name_offset: U16::new(name_offset),
        flags: U16::new(0),
        id: U16::new(id),
    };
    raw.as_bytes().to_vec()
}

fn inside(type_code: u32, value: &[u8], indexed: u16, id: u16) -> Vec<u8> {
    let length = (24 + value.len()).next_multiple_of(8);
    let mut bytes = head(type_code, length, 0, id);
    let raw = RawResident {
        value_length: U32::new(u32::try_from(value.len()).unwrap_or(u32::MAX)),
        value_offset: U16::new(24),
        flags: U16::new(indexed),
    };
    bytes.extend(raw.as_bytes());
    bytes.extend(value);
    bytes.resize(length, 0);
    bytes
}

fn away(type_code: u32, stream: &Stream, id: u16) -> Vec<u8> {
    let pairs = runs::encode(&stream.runs);
    let length = (64 + pairs.len()).next_multiple_of(8);
    let mut bytes = head(type_code, length, 1, id);
    let raw = RawNonResident {
        lowest_vcn: U64::new(0),
        highest_vcn: U64::new(clusters(&stream.runs).saturating_sub(1)),
        mapping_pairs_offset: U16::new(64),
        compression_unit: 0,
        reserved: [0; 5],
        allocated_size: U64::new(stream.allocated),
        data_size: U64::new(stream.data),
        initialized_size: U64::new(stream.data),
    };
    bytes.extend(raw.as_bytes());
    bytes.extend(pairs);
    bytes.resize(length, 0);
    bytes
}
