//! The MFT as a map: where each record stands.

mod pieces;

use keel_source::{ByteOffset, SharedSource};
use serde::Serialize;

use crate::ntfs::layout::{ATTRIBUTE_LIST, DATA};
use crate::ntfs::runs::{self, Run};
use crate::ntfs::{Body, NtfsGeometry, Record};
use crate::{Finding, FormatError, Problem, Severity, read_bytes};

/// Records among which the first one that stands is looked for, where record 0 is gone.
const FIRST_PROBED: u64 = 512;
/// Records that are looked at in each doubling of what is known to stand.
const PROBES_EACH: u64 = 512;
/// The most records that are looked at.
const MOST_PROBES: u64 = 16_384;
/// Extension records of the MFT itself stand among its first records.
const MOST_EXTENSIONS: u64 = 4096;

/// A piece of the MFT of a volume that another one was made over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct MftPiece {
    /// Number of its first record.
    pub first: u64,
    /// Count of records.
    pub count: u64,
    /// Where it begins, in bytes of the volume.
    pub at: ByteOffset,
}

/// What is left of a volume that another one was made over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FormerNtfs {
    /// Where clusters stand, as the records say.
    pub geometry: NtfsGeometry,
    /// The pieces of its MFT, by the numbers of their records.
    #[serde(skip)]
    pub pieces: Vec<MftPiece>,
    /// Index blocks of its folders that stand on ground which no present volume uses.
    #[serde(skip)]
    pub loose: Vec<LooseBlock>,
}

/// An index block that was met on the surface.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct LooseBlock {
    /// Where it begins, in bytes of the volume.
    pub at: ByteOffset,
    /// Number of the record of the folder whose names it holds.
    pub folder: u64,
}

/// The map of `$MFT`'s own data.
#[derive(Debug, Clone)]
pub struct MftMap {
    /// Runs, without gaps from VCN 0; empty for what is left of a former MFT.
    pub runs: Vec<Run>,
    /// The pieces of a former MFT, by the numbers of their records.
    pub pieces: Vec<MftPiece>,
    /// Count of records.
    pub records: u64,
    /// What was wrong on the way.
    pub findings: Vec<Finding>,
}

impl MftMap {
    /// Reads record 0 at its place, or from the mirror where it does not hold, and follows its attribute list. Where neither
    /// holds, the map is put together from the records that say their numbers.
    ///
    /// # Errors
    /// [`FormatError`] when neither copy of record 0 gives a map and no record of it is left.
    pub fn read(source: &SharedSource, geometry: &NtfsGeometry) -> Result<Self, FormatError> {
        let main = Self::from_record_at(source, geometry, geometry.cluster_at(geometry.mft_lcn));
        let error = match main {
            Ok(map) => return Ok(map),
            Err(error) => error,
        };
        let mirror = Self::from_record_at(source, geometry, geometry.cluster_at(geometry.mirror_lcn)).ok();
        let (mut map, what) = match mirror {
            Some(map) => (map, "MFT record 0 is damaged; the map of the MFT was read from its mirror"),
            None => {
                let map = Self::from_records(source, geometry).ok_or_else(|| error.clone())?;
                (
                    map,
                    "MFT record 0 and its mirror are damaged; the map of the MFT was put together from the records that are left",
                )
            }
        };
        map.findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
        Ok(map)
    }

    /// The map of what is left of a former MFT: its pieces, with holes between them.
    #[must_use]
    pub fn of_pieces(former: &FormerNtfs) -> Self {
        let records = former.pieces.last().map_or(0, |piece| piece.first.saturating_add(piece.count));
        Self { runs: Vec::new(), pieces: former.pieces.clone(), records, findings: Vec::new() }
    }

    /// Where records stand: each stretch with the number of its first record, its place in the volume and its length in bytes.
    pub(super) fn stretches(&self, geometry: &NtfsGeometry) -> Vec<(u64, ByteOffset, u64)> {
        let (size, cluster) = (u64::from(geometry.record_bytes).max(1), u64::from(geometry.cluster_bytes));
        let of_run = |run: &Run| {
            let first = run.vcn.saturating_mul(cluster) / size;
            run.lcn.map(|lcn| (first, geometry.cluster_at(lcn), run.clusters.saturating_mul(cluster)))
        };
        let of_piece = |piece: &MftPiece| (piece.first, piece.at, piece.count.saturating_mul(size));
        self.runs.iter().filter_map(of_run).chain(self.pieces.iter().map(of_piece)).collect()
    }

    fn from_record_at(source: &SharedSource, geometry: &NtfsGeometry, at: ByteOffset) -> Result<Self, FormatError> {
        let bytes = read_bytes(source.as_ref(), at, geometry.record_bytes as usize, "file record")?;
        let record = Record::parse(bytes, at)?;
        let missing = || FormatError::new("file record 0", at, Problem::Missing("non-resident $DATA in it"));
        let data = record.attribute(DATA, "").ok_or_else(missing)?;
        let Body::NonResident { header, .. } = &data.body else { return Err(missing()) };
        let mut map = Self { runs: data.runs(geometry.clusters())?, pieces: Vec::new(), records: 0, findings: Vec::new() };
        map.records = header.data_size.get() / u64::from(geometry.record_bytes);
        if record.attribute(ATTRIBUTE_LIST, "").is_some() {
            map.extend(source, geometry, &record)?;
        }
        if !runs::join(&mut map.runs) {
            let what = "the run lists of $MFT have a gap: records behind it are out of reach";
            map.findings.push(Finding::at(Severity::Broken, at, what, "VCNs of its parts"));
        }
        let reach = map.runs.last().map_or(0, |run| run.vcn + run.clusters).saturating_mul(u64::from(geometry.cluster_bytes));
        // Neither behind what its runs reach nor more than the source has room for: run lists may lead over the same ground again.
        let there = reach.min(source.len()) / u64::from(geometry.record_bytes);
        map.records = map.records.min(there);
        Ok(map)
    }

    /// The map without record 0: as many records as stand one behind the other from the MFT's start, each where its number puts
    /// it, and behind them the runs that extension records of the MFT hold. Reads [`MOST_PROBES`] records at most, and those
    /// among which extension records stand.
    fn from_records(source: &SharedSource, geometry: &NtfsGeometry) -> Option<Self> {
        let size = u64::from(geometry.record_bytes);
        let start = geometry.cluster_at(geometry.mft_lcn);
        let room = geometry.volume_bytes().saturating_sub(start.0) / size;
        let record = |number: u64| {
            let at = start + number.checked_mul(size)?;
            let bytes = read_bytes(source.as_ref(), at, geometry.record_bytes as usize, "file record").ok()?;
            Record::parse(bytes, at).ok().filter(|record| record.number() == Some(number))
        };
        // Damage leaves gaps: a stretch counts as long as a record is met in the next doubling.
        let mut probes = MOST_PROBES;
        let mut met = |range: std::ops::Range<u64>| {
            let step = ((range.end - range.start) / PROBES_EACH).max(1);
            let mut last = None;
            for number in range.step_by(usize::try_from(step).unwrap_or(1)) {
                if probes == 0 {
                    break;
                }
                probes -= 1;
                if record(number).is_some() {
                    last = Some(number);
                }
            }
            last
        };
        let mut last = met(0..FIRST_PROBED.min(room))?;
        let mut end = FIRST_PROBED;
        while end < room {
            match met(end..(end * 2).min(room)) {
                Some(number) => last = number,
                None => break,
            }
            end *= 2;
        }
        // Between the last one met and the next probe the end is found by halves.
        let (mut low, mut high) = (last, (last + (end / PROBES_EACH).max(1) + 1).min(room));
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            if record(middle).is_some() { low = middle } else { high = middle }
        }
        let cluster = u64::from(geometry.cluster_bytes);
        let clusters = ((low + 1) * size).div_ceil(cluster);
        let first = Run { vcn: 0, lcn: Some(geometry.mft_lcn), clusters };
        let mut map = Self { runs: vec![first], pieces: Vec::new(), records: low + 1, findings: Vec::new() };
        let mut more: Vec<Run> = Vec::new();
        for number in 0..(low + 1).min(MOST_EXTENSIONS) {
            let Some(extension) = record(number).filter(|found| found.is_in_use() && found.extends(0)) else { continue };
            for attribute in extension.attributes().flatten().filter(|attribute| attribute.type_code == DATA) {
                more.extend(attribute.runs(geometry.clusters()).unwrap_or_default());
            }
        }
        more.retain(|run| run.vcn >= clusters);
        map.runs.extend(more);
        if !runs::join(&mut map.runs) || map.runs.len() == 1 {
            pieces::add(source, geometry, &mut map);
        }
        let reach = map.runs.last().map_or(0, |run| run.vcn + run.clusters).saturating_mul(cluster);
        map.records = reach.min(source.len()) / size;
        Some(map)
    }

    /// A very fragmented MFT keeps more of its runs in extension records; those lie in the part already known.
    fn extend(&mut self, source: &SharedSource, geometry: &NtfsGeometry, record: &Record) -> Result<(), FormatError> {
        let base = self.clone();
        let parts = crate::ntfs::stream::list_entries(source, geometry, record)?;
        for part in parts.iter().filter(|part| part.type_code == DATA && part.record != 0) {
            let Ok(extension) = base.record(source, geometry, part.record) else { continue };
            for attribute in
                extension.attributes().flatten().filter(|attribute| attribute.type_code == DATA && attribute.id == part.id)
            {
                self.runs.extend(attribute.runs(geometry.clusters())?);
            }
        }
        Ok(())
    }

    /// Where record `number` stands in the volume.
    #[must_use]
    pub fn position(&self, geometry: &NtfsGeometry, number: u64) -> Option<ByteOffset> {
        let size = u64::from(geometry.record_bytes);
        if !self.pieces.is_empty() {
            let index = self.pieces.partition_point(|piece| piece.first.saturating_add(piece.count) <= number);
            let piece = self.pieces.get(index).filter(|piece| piece.first <= number)?;
            return Some(piece.at + (number - piece.first).checked_mul(size)?);
        }
        let at = number.checked_mul(size)?;
        let cluster = u64::from(geometry.cluster_bytes);
        let vcn = at / cluster;
        let index = self.runs.partition_point(|run| run.vcn + run.clusters <= vcn);
        let run = self.runs.get(index).filter(|run| run.vcn <= vcn)?;
        Some(geometry.cluster_at(run.lcn? + (vcn - run.vcn)) + at % cluster)
    }

    /// Reads record `number`.
    ///
    /// # Errors
    /// [`FormatError`] when it is behind the end, does not read or does not hold. A record that crosses from one run
    /// into another (clusters smaller than records) is put together.
    pub fn record(&self, source: &SharedSource, geometry: &NtfsGeometry, number: u64) -> Result<Record, FormatError> {
        let missing =
            FormatError::new("file record", geometry.cluster_at(geometry.mft_lcn), Problem::Missing("record of that number"));
        let at = self.position(geometry, number).filter(|_| number < self.records).ok_or(missing.clone())?;
        let size = geometry.record_bytes as usize;
        if geometry.cluster_bytes >= geometry.record_bytes || !self.pieces.is_empty() {
            return Record::parse(read_bytes(source.as_ref(), at, size, "file record")?, at);
        }
        let mut bytes = Vec::with_capacity(size);
        let first = number * u64::from(geometry.record_bytes) / u64::from(geometry.cluster_bytes);
        for vcn in first..first + u64::from(geometry.record_bytes / geometry.cluster_bytes) {
            let index = self.runs.partition_point(|run| run.vcn + run.clusters <= vcn);
            let lcn = self.runs.get(index).and_then(|run| Some(run.lcn? + (vcn - run.vcn))).ok_or(missing.clone())?;
            bytes.extend(read_bytes(source.as_ref(), geometry.cluster_at(lcn), geometry.cluster_bytes as usize, "file record")?);
        }
        Record::parse(bytes, at)
    }
}
