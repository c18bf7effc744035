//! Directory indexes: the entries of `$I30` in the record and in index blocks.

use std::ops::ControlFlow;

use keel_source::{ByteOffset, SharedSource, Source};

use super::attribute::FileName;
use super::layout::{BITMAP, INDEX_ALLOCATION, INDEX_ROOT, NUMBER_MASK, RawIndexEntry, RawIndexHeader};
use super::{MftMap, NtfsGeometry, NtfsVolume, Record, record, stream};
use crate::device::step;
use crate::{
    Entry, Existence, Finding, FormatError, NodeId, NodeKind, Problem, Repair, Severity, StreamReader, View, read_whole,
};

/// The name of the index over file names.
const NAME: &str = "$I30";
/// The most index blocks of one directory that are read: 16 GiB of them.
const MOST_BLOCKS: u64 = 1 << 22;
/// The most findings that one listing reports.
const MOST_FINDINGS: usize = 200;
/// The largest index bitmap that is read: 64 KiB of bits name 524,288 blocks.
const LARGEST_BITMAP: usize = 8 << 20;

/// The bit of a name's `file_attributes` that says it is a directory's.
const DIRECTORY_ATTRIBUTE: u32 = 0x1000_0000;

/// One directory entry: record number and decoded name.
pub(super) struct IndexedName {
    pub(super) number: u64,
    pub(super) sequence: u16,
    pub(super) name: FileName,
}

/// The node of record `number`.
pub(super) fn node(number: u64, sequence: u16) -> NodeId {
    NodeId(number & NUMBER_MASK | u64::from(sequence) << 48)
}

/// What the index of a folder says of a file.
pub(super) fn entry_of_index(found: IndexedName, is_link: bool) -> Entry {
    let directory = found.name.raw.file_attributes.get() & DIRECTORY_ATTRIBUTE != 0;
    Entry {
        id: node(found.number, found.sequence),
        kind: kind(is_link, directory),
        bytes: if directory { 0 } else { found.name.raw.data_size.get() },
        times: found.name.times(),
        existence: Existence::Present,
        name: found.name.name,
    }
}

/// What a record or a name is of.
pub(super) fn kind(is_link: bool, directory: bool) -> NodeKind {
    match directory {
        _ if is_link => NodeKind::Link,
        true => NodeKind::Directory,
        false => NodeKind::File,
    }
}

/// Hands every name of the directory to `each`: the root in the record, then every block in use, in the order in
/// which they lie. The tree's links are not followed, so they cannot lead in circles.
pub(super) fn each_name(
    source: &SharedSource,
    geometry: &NtfsGeometry,
    mft: &MftMap,
    number: u64,
    directory: &Record,
    each: &mut dyn FnMut(IndexedName) -> ControlFlow<()>,
) -> Result<Vec<Finding>, FormatError> {
    let mut findings = Vec::new();
    let missing = || FormatError::new("directory record", directory.position(), Problem::Missing("index root in it"));
    let root = maps_of(source, geometry, mft, number, directory, INDEX_ROOT)?.ok_or_else(missing)?;
    let root = root.resident.ok_or_else(missing)?;
    let view = View::new("index root", directory.position(), &root);
    let root_part = view.part(16, root.len().saturating_sub(16), "index header")?;
    if entries(root_part, &mut findings, each).is_break() {
        return Ok(findings);
    }
    let Some(map) = maps_of(source, geometry, mft, number, directory, INDEX_ALLOCATION)? else { return Ok(findings) };
    if !map.whole {
        let what = "part of the directory's index blocks is out of reach";
        findings.push(Finding::at(Severity::Broken, directory.position(), what, "its run lists have a gap"));
    }
    let bitmap = match maps_of(source, geometry, mft, number, directory, BITMAP)? {
        Some(map) => read_whole(stream::open(source, geometry, map, directory.position())?.as_mut(), LARGEST_BITMAP).0,
        None => Vec::new(),
    };
    let size = geometry.index_bytes as usize;
    let extents = map.extents(geometry);
    // The size in the record is hostile: no block stands behind the last extent that has a place.
    let placed = extents.iter().filter(|extent| extent.volume_at.is_some());
    let mapped = placed.map(|extent| extent.stream_at.saturating_add(extent.bytes)).max().unwrap_or(0);
    let there = map.bytes.min(mapped).min(source.len());
    let count = (there / u64::from(geometry.index_bytes)).min(MOST_BLOCKS);
    let mut blocks = stream::open(source, geometry, map, directory.position())?;
    for index in 0..count {
        let byte = usize::try_from(index / 8).ok().and_then(|byte| bitmap.get(byte)).copied();
        // Without a bitmap every block is looked at.
        if byte.is_some_and(|byte| byte >> (index % 8) & 1 == 0) {
            continue;
        }
        let stream_at = index * u64::from(geometry.index_bytes);
        let after = extents.partition_point(|extent| extent.stream_at.saturating_add(extent.bytes) <= stream_at);
        let at = extents
            .get(after)
            .and_then(|extent| Some(extent.volume_at? + (stream_at - extent.stream_at)))
            .unwrap_or(directory.position());
        match one_block(source.as_ref(), blocks.as_mut(), stream_at, at, size, &mut findings, each) {
            Ok(ControlFlow::Continue(())) => {}
            Ok(ControlFlow::Break(())) => break,
            Err(error) if error.is_spent() => return Err(error),
            Err(error) => {
                let what = format!("index block {index} of the directory is damaged: its names are missing");
                if findings.len() < MOST_FINDINGS {
                    findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
                }
            }
        }
    }
    Ok(findings)
}

#[allow(clippy::too_many_arguments, reason = "one block of a listing: what it is read from and what it is told to")]
fn one_block(
    source: &dyn Source,
    blocks: &mut dyn StreamReader,
    stream_at: u64,
    at: ByteOffset,
    size: usize,
    findings: &mut Vec<Finding>,
    each: &mut dyn FnMut(IndexedName) -> ControlFlow<()>,
) -> Result<ControlFlow<()>, FormatError> {
    let mut block = vec![0; size];
    let missing = blocks.read(stream_at, &mut block);
    if let Some(range) = missing.first() {
        step(source, at, "index block", 0)?;
        return Err(FormatError::new("index block", at, Problem::Unreadable { bytes: range.len() }));
    }
    if !block.starts_with(b"INDX") {
        let found = block.first_chunk::<4>().map_or(0, |magic| u32::from_le_bytes(*magic));
        return Err(FormatError::value("index block", at, "magic", u64::from(found), "\"INDX\""));
    }
    record::undo_fixups("index block", at, &mut block)?;
    let view = View::new("index block", at, &block);
    let part = view.part(24, size.saturating_sub(24), "index header")?;
    Ok(entries(part, findings, each))
}

/// Hands every name of the index block at byte `at` of the volume to `each`.
///
/// # Errors
/// [`FormatError`] where no index block stands there, or only a part of one.
pub(super) fn each_name_of_block(
    source: &dyn Source,
    at: ByteOffset,
    each: &mut dyn FnMut(IndexedName) -> ControlFlow<()>,
) -> Result<ControlFlow<()>, FormatError> {
    step(source, at, "index block", 1)?;
    let head = crate::read_bytes(source, at, 512, "index block")?;
    // Its index header says how much of it is behind that header.
    let size = View::new("index block", at, &head).u32(BLOCK_HEADER + 8, "allocated_size")? as usize + BLOCK_HEADER;
    if !size.is_power_of_two() || !(512..=LARGEST_BLOCK).contains(&size) {
        return Err(FormatError::value("index block", at, "allocated_size", size as u64, "a power of two, with its header"));
    }
    let mut block = crate::read_bytes(source, at, size, "index block")?;
    record::undo_fixups("index block", at, &mut block)?;
    let part = View::new("index block", at, &block).part(BLOCK_HEADER, size - BLOCK_HEADER, "index header")?;
    Ok(entries(part, &mut Vec::new(), each))
}

/// The largest index block that is read by itself.
const LARGEST_BLOCK: usize = 64 << 10;
/// Bytes of an index block before its index header.
const BLOCK_HEADER: usize = 24;
/// Bytes of an index root before its index header.
const ROOT_HEADER: usize = 16;

/// The record and the index blocks of the folder without the entries that `is_dead` names. Entries that lead on to other
/// blocks are left: taking them out would rearrange the tree.
pub(super) fn without_dead(volume: &NtfsVolume, folder: u64, is_dead: &dyn Fn(u64, u16) -> bool) -> Vec<Repair> {
    let (source, geometry) = (volume.source(), volume.geometry());
    let Ok(record) = volume.record(folder) else { return Vec::new() };
    let map = maps_of(source, geometry, volume.mft(), folder, &record, INDEX_ALLOCATION).ok().flatten();
    let extents = map.map(|map| map.extents(geometry)).unwrap_or_default();
    let size = geometry.index_bytes as usize;
    let reason = "names that lead to no file are taken out";
    let mut repairs = Vec::new();
    // A record that lies in two clusters need not be in one piece.
    if geometry.cluster_bytes as usize >= record.bytes().len()
        && let Some(bytes) = record_without_dead(&record, is_dead)
    {
        repairs.push(Repair::computed(format!("folder record {folder}"), record.position(), bytes, reason));
    }
    for extent in extents {
        let Some(start) = extent.volume_at else { continue };
        if step(source.as_ref(), start, "index block", 1).is_err() {
            break;
        }
        for at in (0..extent.bytes.min(source.len())).step_by(size).map(|inside| start + inside) {
            let Ok(mut block) = crate::read_bytes(source.as_ref(), at, size, "index block") else { continue };
            let sound = block.starts_with(b"INDX") && record::undo_fixups("index block", at, &mut block).is_ok();
            if sound && take_out(&mut block, BLOCK_HEADER, is_dead) > 0 && record::redo_fixups(&mut block) {
                repairs.push(Repair::computed(format!("index block of folder record {folder}"), at, block, reason));
            }
        }
    }
    repairs
}

/// The record with a shorter index root, when dead names stand in it: the attribute ends earlier, and what follows it
/// closes up.
fn record_without_dead(record: &Record, is_dead: &dyn Fn(u64, u16) -> bool) -> Option<Vec<u8>> {
    let root = record.attribute(INDEX_ROOT, NAME)?.resident()?;
    let mut bytes = record.bytes().to_vec();
    let value = usize::try_from(root.position() - record.position()).ok()?;
    let (value_end, used) = (value.checked_add(root.bytes().len())?, record.header().used_size.get() as usize);
    let mut attribute = usize::from(record.header().attributes_offset.get());
    // The attribute whose bytes hold the value; every length is checked by the record's own walk.
    loop {
        let end = attribute.checked_add(word(&bytes, attribute + 4) as usize).filter(|end| *end > attribute)?;
        if (attribute..end).contains(&value) {
            break;
        }
        attribute = end;
    }
    let gone = take_out(&mut bytes, value + ROOT_HEADER, is_dead);
    // Attributes begin at multiples of 8.
    if gone == 0 || !gone.is_multiple_of(8) || value_end > used || used > bytes.len() || gone > root.bytes().len() {
        return None;
    }
    bytes.copy_within(value_end..used, value_end - gone);
    bytes.get_mut(used - gone..used)?.fill(0);
    let less = u32::try_from(gone).ok()?;
    // used_size of the record; length and value_length of the attribute; allocated_size of the index.
    for at in [24, attribute + 4, attribute + 16, value + ROOT_HEADER + 8] {
        let left = word(&bytes, at).checked_sub(less)?;
        bytes.get_mut(at..at + 4)?.copy_from_slice(&left.to_le_bytes());
    }
    record::redo_fixups(&mut bytes).then_some(bytes)
}

fn word(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at.saturating_add(4)).and_then(<[u8]>::first_chunk).map_or(0, |word| u32::from_le_bytes(*word))
}

/// Takes dead leaf entries out of the index whose header stands at `header` of a block or record whose fixups are undone;
/// the bytes that they took.
fn take_out(block: &mut [u8], header: usize, is_dead: &dyn Fn(u64, u16) -> bool) -> usize {
    let mut offset = header.saturating_add(word(block, header) as usize);
    let mut gone = 0;
    loop {
        let end = header.saturating_add(word(block, header + 4) as usize).min(block.len());
        let view = View::new("index entry", ByteOffset(0), block);
        let Ok(raw) = view.at::<RawIndexEntry>(offset, "index entry").copied() else { return gone };
        let length = usize::from(raw.length.get());
        if offset >= end || length < 16 || raw.flags.get() & 2 != 0 || offset + length > end {
            return gone;
        }
        let sequence = u16::try_from(raw.file.get() >> 48).unwrap_or(0);
        if raw.flags.get() & 1 != 0 || !is_dead(raw.file.get() & NUMBER_MASK, sequence) {
            offset += length;
            continue;
        }
        block.copy_within(offset + length..end, offset);
        if let Some(tail) = block.get_mut(end - length..end) {
            tail.fill(0);
        }
        let left = u32::try_from(end - header - length).unwrap_or(0).to_le_bytes();
        if let Some(slot) = block.get_mut(header + 4..header + 8) {
            slot.copy_from_slice(&left);
        }
        gone += length;
    }
}

fn maps_of(
    source: &SharedSource,
    geometry: &NtfsGeometry,
    mft: &MftMap,
    number: u64,
    directory: &Record,
    type_code: u32,
) -> Result<Option<stream::StreamMap>, FormatError> {
    let maps = stream::maps(source, geometry, mft, number, directory, type_code)?;
    Ok(maps.into_iter().find(|(name, _)| name == NAME).map(|(_, map)| map))
}

/// The entries behind the index header at the start of `view`. Bounded by its bytes: every entry has a length.
pub(super) fn entries(
    view: View<'_>,
    findings: &mut Vec<Finding>,
    each: &mut dyn FnMut(IndexedName) -> ControlFlow<()>,
) -> ControlFlow<()> {
    match try_entries(view, each) {
        Ok(flow) => flow,
        Err(error) => {
            let what = "a directory index ends before its entries do";
            findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
            ControlFlow::Continue(())
        }
    }
}

fn try_entries(view: View<'_>, each: &mut dyn FnMut(IndexedName) -> ControlFlow<()>) -> Result<ControlFlow<()>, FormatError> {
    let header: &RawIndexHeader = view.at(0, "index header")?;
    let end = header.index_length.get() as usize;
    let mut offset = header.entries_offset.get() as usize;
    while offset < end {
        let raw: &RawIndexEntry = view.at(offset, "index entry")?;
        let length = usize::from(raw.length.get());
        if length < 16 {
            return Err(view.wrong(offset + 8, "length", length as u64, "at least 16"));
        }
        if raw.flags.get() & 2 != 0 {
            break;
        }
        let key = view.part(offset + 16, usize::from(raw.key_length.get()), "$FILE_NAME")?;
        let name = FileName::parse(key)?;
        let sequence = u16::try_from(raw.file.get() >> 48).unwrap_or(0);
        if each(IndexedName { number: raw.file.get() & NUMBER_MASK, sequence, name }).is_break() {
            return Ok(ControlFlow::Break(()));
        }
        offset += length;
    }
    Ok(ControlFlow::Continue(()))
}
