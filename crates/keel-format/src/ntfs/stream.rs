//! Putting a stream together: attribute lists, parts in extension records, sparse and compressed streams.

use std::sync::Arc;

use keel_source::{Budget, ByteOffset, ByteRange, SharedSource};

use super::layout::{ATTRIBUTE_LIST, NUMBER_MASK, RawListEntry};
use super::runs::{self, Run};
use super::{Attribute, Body, MftMap, NtfsGeometry, Record, lznt1};
use crate::device::{hold, step};
use crate::{Extent, ExtentStream, FormatError, MemoryStream, Problem, StreamReader, View};

/// The largest attribute list that is read: the format allows 256 KiB.
const LARGEST_LIST: u64 = 256 << 10;
/// The largest unit of compression, in bytes: sixteen of the largest clusters on which the file system compresses.
const LARGEST_UNIT: u64 = 1 << 20;
/// The most parts of one stream that are followed.
const MOST_PARTS: usize = 65_536;

/// An entry of an attribute list.
#[derive(Debug, Clone)]
pub(super) struct ListEntry {
    pub(super) type_code: u32,
    pub(super) name: String,
    pub(super) record: u64,
    pub(super) id: u16,
}

/// The attribute list of `record`; empty when it has none.
pub(super) fn list_entries(
    source: &SharedSource,
    geometry: &NtfsGeometry,
    record: &Record,
) -> Result<Vec<ListEntry>, FormatError> {
    let Some(list) = record.attribute(ATTRIBUTE_LIST, "") else { return Ok(Vec::new()) };
    let bytes = match &list.body {
        Body::Resident(view) => view.bytes().to_vec(),
        Body::NonResident { header, .. } => {
            let size = header.data_size.get();
            if size > LARGEST_LIST {
                return Err(FormatError::value("attribute list", record.position(), "data_size", size, "at most 256 KiB"));
            }
            let mut stream = plain_stream(source, geometry, &list.runs(geometry.clusters())?, size, size);
            crate::read_whole(&mut stream, LARGEST_LIST as usize).0
        }
    };
    let view = View::new("attribute list", record.position(), &bytes);
    let mut entries = Vec::new();
    let mut offset = 0;
    while offset + size_of::<RawListEntry>() <= bytes.len() && entries.len() < MOST_PARTS {
        let raw: &RawListEntry = view.at(offset, "entry")?;
        let length = usize::from(raw.length.get());
        if length < size_of::<RawListEntry>() {
            return Err(view.wrong(offset + 4, "length", length as u64, "at least 26"));
        }
        let name = view.slice(offset + usize::from(raw.name_offset), usize::from(raw.name_length) * 2, "name")?;
        entries.push(ListEntry {
            type_code: raw.type_code.get(),
            name: super::utf16_text(name.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair))),
            record: raw.record.get() & NUMBER_MASK,
            id: raw.id.get(),
        });
        offset += length;
    }
    Ok(entries)
}

/// A stream's sizes and map, from all of its parts.
#[derive(Debug, Clone)]
pub(super) struct StreamMap {
    pub(super) bytes: u64,
    pub(super) initialized: u64,
    pub(super) flags: u16,
    pub(super) unit_clusters: u64,
    pub(super) runs: Vec<Run>,
    pub(super) resident: Option<Vec<u8>>,
    /// False when a part is missing: what lies behind it cannot be read.
    pub(super) whole: bool,
}

impl StreamMap {
    fn new(attribute: &Attribute<'_>, limit: u64) -> Result<Self, FormatError> {
        let mut map = Self {
            bytes: attribute.bytes(),
            initialized: attribute.bytes(),
            flags: attribute.flags,
            unit_clusters: 0,
            runs: attribute.runs(limit)?,
            resident: attribute.resident().map(|view| view.bytes().to_vec()),
            whole: true,
        };
        if let Body::NonResident { header, .. } = &attribute.body {
            map.initialized = header.initialized_size.get().min(map.bytes);
            if attribute.flags & 1 != 0 && (1..=8).contains(&header.compression_unit) {
                map.unit_clusters = 1 << header.compression_unit;
            }
        }
        Ok(map)
    }

    /// The word for how it is stored.
    pub(super) fn storage(&self) -> &'static str {
        match self {
            Self { resident: Some(_), .. } => "resident",
            Self { flags, .. } if flags & 0x4000 != 0 => "encrypted",
            Self { flags, .. } if flags & 1 != 0 => "compressed",
            Self { flags, .. } if flags & 0x8000 != 0 => "sparse",
            _ => "plain",
        }
    }

    /// The map as extents of the volume; holes have no place.
    pub(super) fn extents(&self, geometry: &NtfsGeometry) -> Vec<Extent> {
        extents(geometry, &self.runs)
    }
}

/// Every stream of `type_code` in `record` and its extension records, with its name.
pub(super) fn maps(
    source: &SharedSource,
    geometry: &NtfsGeometry,
    mft: &MftMap,
    number: u64,
    record: &Record,
    type_code: u32,
) -> Result<Vec<(String, StreamMap)>, FormatError> {
    let _while = source.budget().map(Budget::passing);
    let limit = geometry.clusters();
    let mut streams: Vec<(String, StreamMap)> = Vec::new();
    for attribute in record.attributes().flatten().filter(|attribute| attribute.type_code == type_code) {
        streams.push((attribute.name.clone(), StreamMap::new(&attribute, limit)?));
    }
    for part in
        list_entries(source, geometry, record)?.into_iter().filter(|part| part.type_code == type_code && part.record != number)
    {
        step(source.as_ref(), record.position(), "attribute list", 1)?;
        let extension = mft.record(source, geometry, part.record);
        let attribute = extension.as_ref().ok().and_then(|extension| {
            extension
                .attributes()
                .flatten()
                .find(|attribute| attribute.type_code == type_code && attribute.id == part.id && attribute.name == part.name)
        });
        let known = streams.iter_mut().find(|(name, _)| *name == part.name);
        match (attribute, known) {
            (Some(attribute), Some((_, map))) if !matches!(&attribute.body, Body::NonResident { header, .. } if header.lowest_vcn.get() == 0) =>
            {
                let more = attribute.runs(limit)?;
                hold(source.as_ref(), record.position(), "run list", (more.len() * size_of::<Run>()) as u64)?;
                map.runs.extend(more);
            }
            (Some(attribute), Some((_, map))) => {
                // The first part carries the sizes.
                let runs = std::mem::take(&mut map.runs);
                *map = StreamMap::new(&attribute, limit)?;
                map.runs.extend(runs);
            }
            (Some(attribute), None) => streams.push((part.name, StreamMap::new(&attribute, limit)?)),
            (None, Some((_, map))) => map.whole = false,
            (None, None) => {}
        }
    }
    for (_, map) in &mut streams {
        map.whole &= runs::join(&mut map.runs);
    }
    streams.sort_by(|one, two| one.0.cmp(&two.0));
    Ok(streams)
}

pub(super) fn extents(geometry: &NtfsGeometry, runs: &[Run]) -> Vec<Extent> {
    let size = u64::from(geometry.cluster_bytes);
    runs.iter()
        .map(|run| Extent {
            stream_at: run.vcn.saturating_mul(size),
            volume_at: run.lcn.map(|lcn| geometry.cluster_at(lcn)),
            bytes: run.clusters.saturating_mul(size),
        })
        .collect()
}

fn plain_stream(source: &SharedSource, geometry: &NtfsGeometry, runs: &[Run], bytes: u64, initialized: u64) -> ExtentStream {
    ExtentStream::new(Arc::clone(source), extents(geometry, runs), bytes, initialized)
}

/// Opens a stream by its map.
pub(super) fn open(
    source: &SharedSource,
    geometry: &NtfsGeometry,
    map: StreamMap,
    at: ByteOffset,
) -> Result<Box<dyn StreamReader>, FormatError> {
    if map.flags & 0x4000 != 0 {
        return Err(FormatError::new("stream", at, Problem::Coding("the stream is encrypted by the operating system")));
    }
    if let Some(bytes) = map.resident {
        return Ok(Box::new(MemoryStream(bytes)));
    }
    let unit = map.unit_clusters.saturating_mul(u64::from(geometry.cluster_bytes));
    if unit > LARGEST_UNIT {
        return Err(FormatError::value("stream", at, "compression_unit", unit, "a unit of at most 1 MiB"));
    }
    if map.unit_clusters > 0 {
        return Ok(Box::new(CompressedStream::new(Arc::clone(source), geometry, map)));
    }
    Ok(Box::new(plain_stream(source, geometry, &map.runs, map.bytes, map.initialized)))
}

/// An LZNT1-compressed stream; one unit is unpacked at a time and kept.
struct CompressedStream {
    source: SharedSource,
    map: StreamMap,
    cluster_bytes: u64,
    unit: Vec<u8>,
    unit_number: Option<u64>,
    unit_bad: bool,
}

impl CompressedStream {
    fn new(source: SharedSource, geometry: &NtfsGeometry, map: StreamMap) -> Self {
        Self {
            source,
            map,
            cluster_bytes: u64::from(geometry.cluster_bytes),
            unit: Vec::new(),
            unit_number: None,
            unit_bad: false,
        }
    }

    fn unit_bytes(&self) -> u64 {
        self.map.unit_clusters * self.cluster_bytes
    }

    fn load(&mut self, number: u64) {
        if self.unit_number == Some(number) {
            return;
        }
        let len = usize::try_from(self.unit_bytes()).unwrap_or(0);
        let mut packed = Vec::with_capacity(len);
        let mut mapped = 0;
        self.unit_bad = false;
        for vcn in number * self.map.unit_clusters..(number + 1) * self.map.unit_clusters {
            let index = self.map.runs.partition_point(|run| run.vcn + run.clusters <= vcn);
            let Some(run) = self.map.runs.get(index) else { break };
            mapped += 1;
            let Some(lcn) = run.lcn else { continue };
            let mut cluster = vec![0; usize::try_from(self.cluster_bytes).unwrap_or(0)];
            let place = ByteOffset((lcn + (vcn - run.vcn)).saturating_mul(self.cluster_bytes));
            self.unit_bad |= self.source.read_at(place, &mut cluster).is_err();
            packed.extend(cluster);
        }
        let needed = self.map.bytes.saturating_sub(number * self.unit_bytes()).min(self.unit_bytes());
        self.unit_bad |= mapped * self.cluster_bytes < needed.div_ceil(self.cluster_bytes) * self.cluster_bytes;
        self.unit.resize(len, 0);
        if packed.len() == len {
            self.unit.copy_from_slice(&packed);
        } else {
            let view = View::new("compressed unit", ByteOffset(number * self.unit_bytes()), &packed);
            self.unit_bad |= lznt1::unpack(view, &mut self.unit).is_err();
        }
        self.unit_number = Some(number);
    }
}

impl StreamReader for CompressedStream {
    fn bytes(&self) -> u64 {
        self.map.bytes
    }

    fn read(&mut self, at: u64, buf: &mut [u8]) -> Vec<ByteRange> {
        let unit = self.unit_bytes().max(1);
        let mut bad = Vec::new();
        let mut done = 0usize;
        buf.fill(0);
        while done < buf.len() {
            let here = at + done as u64;
            if here >= self.map.bytes {
                bad.push(ByteRange::new(ByteOffset(here), ByteOffset(at + buf.len() as u64)));
                break;
            }
            let inside = usize::try_from(here % unit).unwrap_or(0);
            let count = usize::try_from(unit).unwrap_or(0).saturating_sub(inside).min(buf.len() - done);
            if here < self.map.initialized {
                self.load(here / unit);
                if self.unit_bad {
                    bad.push(ByteRange::sized(ByteOffset(here), count as u64));
                }
                let live = usize::try_from(self.map.initialized - here).unwrap_or(usize::MAX).min(count);
                if let (Some(to), Some(from)) = (buf.get_mut(done..done + live), self.unit.get(inside..inside + live)) {
                    to.copy_from_slice(from);
                }
            }
            done += count;
        }
        bad
    }
}
