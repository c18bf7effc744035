//! The rules of HFS+: the journal, the counts of the header, and threads and nodes of the catalog.

use std::collections::{BTreeMap, HashSet};

use keel_source::{ByteOffset, SharedSource};

use super::layout::{ATTRIBUTE_INCONSISTENT, ATTRIBUTE_JOURNALED, ATTRIBUTE_UNMOUNTED, HEADER_AT, RawHeader};
use super::{HfsVolume, journal, make, mend};
use crate::check::{Allocation, BitOrder, Checked, Mending};
use crate::device::hold;
use crate::structure::Compute;
use crate::{Extent, Finding, Repair, Severity, read_bytes};
use zerocopy::IntoBytes;

/// Bytes that an entry of the sets of folders and threads takes.
const THREAD_BYTES: u64 = 16;
/// The largest map of blocks that is held, in bytes.
const LARGEST_MAP: u64 = 64 << 20;
/// The most bytes that a replay stages.
const LARGEST_REPLAY: u64 = 64 << 20;
/// Fields of the header that count, with their offsets: fileCount, folderCount, freeBlocks.
const COUNTS: [(&str, usize); 3] = [("fileCount", 32), ("folderCount", 36), ("freeBlocks", 48)];

pub(super) fn rules(volume: &HfsVolume) -> Vec<Checked> {
    vec![journal_rule(volume), marks(volume), counts(volume), threads(volume)]
}

fn header(volume: &HfsVolume) -> Option<RawHeader> {
    volume.header_at(ByteOffset(HEADER_AT))
}

/// Both headers with `change` made.
fn changed(volume: &HfsVolume, reason: &str, change: impl Fn(&mut RawHeader)) -> Vec<Repair> {
    let places =
        [(volume.geometry().alternate_at(), "alternate volume header", false), (ByteOffset(HEADER_AT), "volume header", true)];
    let one = |(at, name, is_main): (ByteOffset, &str, bool)| {
        let mut raw = volume.header_at(at).filter(|_| mend::is_stated_at(volume.source(), volume.geometry(), at))?;
        change(&mut raw);
        Some(Repair { is_main, ..Repair::computed(name, at, raw.as_bytes().to_vec(), reason) })
    };
    places.into_iter().filter_map(one).collect()
}

/// The journal is sound and empty. A sound one is replayed; in the place of one that is not a fresh one is written. Where
/// its place is lost too, journaling is switched off, so that the volume mounts.
fn journal_rule(volume: &HfsVolume) -> Checked {
    const RULE: (&str, &str) = ("journal", "the journal is sound, and everything that it holds is in its place");
    let geometry = volume.geometry();
    let ring = journal::place(&crate::pages::Pages::new(SharedSource::clone(volume.below())), geometry);
    let damaged = |what: &str, at: ByteOffset, how: String| {
        let finding = Finding::at(Severity::Broken, at, what, how);
        if let Some((at, bytes)) = ring {
            let fresh =
                Repair::computed("journal header", at, make::journal_header(bytes), "a fresh, empty journal in the same place");
            let loses = "changes of the last seconds that only the old journal holds";
            let mending = Mending::costly("a fresh, empty journal is written in its place", loses, vec![fresh]);
            return Checked::new(RULE.0, RULE.1, vec![finding]).mended_by(Some(mending));
        }
        let repairs = changed(volume, "journaling is switched off", |raw| {
            raw.attributes.set(raw.attributes.get() & !ATTRIBUTE_JOURNALED | ATTRIBUTE_UNMOUNTED);
            raw.journal_info_block.set(0);
        });
        let loses = "changes of the last seconds that only the journal holds; the system can switch journaling on again";
        Checked::new(RULE.0, RULE.1, vec![finding]).mended_by(Some(Mending::costly("journaling is switched off", loses, repairs)))
    };
    let plain = crate::pages::Pages::new(SharedSource::clone(volume.below()));
    let held = match journal::read(&plain, geometry) {
        Ok(None) => return Checked::new(RULE.0, RULE.1, Vec::new()),
        Err(error) => {
            return damaged("the journal does not hold: a system refuses to mount the volume", error.at, error.to_string());
        }
        Ok(Some(held)) => held,
    };
    if let Some(finding) = held.findings.first() {
        return damaged("the journal is damaged on its way", finding.at_byte.unwrap_or_default(), finding.how.clone());
    }
    if held.newer.is_empty() {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    }
    let what = format!("{} transactions wait to be written to their places", held.transactions);
    let finding = Finding::of_all(Severity::Note, what, "block lists behind the journal's start");
    let checked = Checked::new(RULE.0, RULE.1, vec![finding]);
    if held.newer.len() as u64 * held.unit > LARGEST_REPLAY {
        return checked;
    }
    let mut units: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
    for number in held.newer.keys() {
        let at = ByteOffset(number.saturating_mul(held.unit));
        if let Ok(bytes) = read_bytes(volume.source().as_ref(), at, usize::try_from(held.unit).unwrap_or(512), "block") {
            units.insert(*number, bytes);
        }
    }
    let replayed = units.into_iter().map(|(number, bytes)| {
        Repair::computed("journaled block", ByteOffset(number * held.unit), bytes, "the journal's block at its place")
    });
    let repairs = replayed.chain(held.emptied.clone()).collect();
    checked.mended_by(Some(Mending::safe("the journal is replayed and left empty", repairs)))
}

/// The marks of the header.
fn marks(volume: &HfsVolume) -> Checked {
    const RULE: (&str, &str) = ("volume attributes", "the volume was cleanly unmounted and is not marked as inconsistent");
    let attributes = header(volume).map_or(volume.geometry().attributes, |raw| raw.attributes.get());
    let unclean = attributes & (ATTRIBUTE_UNMOUNTED | ATTRIBUTE_JOURNALED) == 0;
    let mut findings = Vec::new();
    let at = ByteOffset(HEADER_AT + 4);
    if attributes & ATTRIBUTE_INCONSISTENT != 0 {
        findings.push(Finding::at(
            Severity::Doubt,
            at,
            "the volume is marked as inconsistent",
            format!("attributes 0x{attributes:08x}"),
        ));
    }
    if unclean {
        findings.push(Finding::at(
            Severity::Note,
            at,
            "the volume was not cleanly unmounted",
            format!("attributes 0x{attributes:08x}"),
        ));
    }
    let repairs = changed(volume, "the marks are set as after a clean unmount", |raw| {
        raw.attributes.set(raw.attributes.get() & !ATTRIBUTE_INCONSISTENT | ATTRIBUTE_UNMOUNTED);
    });
    let mending = Mending::costly("the marks are set as after a clean unmount", "the note that a check is due", repairs);
    Checked::new(RULE.0, RULE.1, findings).mended_by(Some(mending))
}

/// Counts of the header against catalog and bitmap.
fn counts(volume: &HfsVolume) -> Checked {
    const RULE: (&str, &str) = ("header counts", "the header counts files, folders and free blocks as they are");
    let structures = mend::structures(volume.source(), volume.geometry(), Compute::All);
    let computed = structures.first().and_then(|structure| structure.computed.as_ref()).map(|computed| computed.bytes.clone());
    let stored = header(volume).map(|raw| raw.as_bytes().to_vec());
    let (Some(computed), Some(stored)) = (computed, stored) else { return Checked::new(RULE.0, RULE.1, Vec::new()) };
    let number =
        |bytes: &[u8], at: usize| bytes.get(at..at + 4).and_then(<[u8]>::first_chunk).map_or(0, |word| u32::from_be_bytes(*word));
    let wrong: Vec<&(&str, usize)> = COUNTS.iter().filter(|(_, at)| number(&computed, *at) != number(&stored, *at)).collect();
    let mut findings: Vec<Finding> = Vec::new();
    for (name, at) in &wrong {
        let what = format!("{name} is {}, counted {}", number(&stored, *at), number(&computed, *at));
        findings.push(Finding::at(
            Severity::Doubt,
            ByteOffset(HEADER_AT + *at as u64),
            what,
            "every catalog record, and the bitmap",
        ));
    }
    let next = (number(&stored, 64), number(&computed, 64));
    if next.0 < next.1 {
        let what = format!("nextCatalogID is {}, the highest in use is {}", next.0, next.1 - 1);
        findings.push(Finding::at(Severity::Broken, ByteOffset(HEADER_AT + 64), what, "every catalog record"));
    }
    let repairs = changed(volume, "the counts are set to what is there", |raw| {
        raw.file_count.set(number(&computed, 32));
        raw.folder_count.set(number(&computed, 36));
        raw.free_blocks.set(number(&computed, 48));
        raw.next_catalog_id.set(next.0.max(next.1));
    });
    Checked::new(RULE.0, RULE.1, findings).mended_by(Some(Mending::safe("the counts are set to what is there", repairs)))
}

/// Every folder has its thread record, by which its path is found; the map of the catalog's nodes counts those in use.
fn threads(volume: &HfsVolume) -> Checked {
    let (mut folders, mut threads): (HashSet<u32>, HashSet<u32>) = (HashSet::new(), HashSet::new());
    let walked = volume.each_catalog_record(&mut |folder, thread| {
        if folder.is_some() || thread.is_some() {
            // Where they do not fit the budget is spent, and nothing is said of them.
            let _ = hold(volume.source().as_ref(), ByteOffset(0), "catalog", THREAD_BYTES);
        }
        folders.extend(folder);
        threads.extend(thread);
    });
    let mut findings = Vec::new();
    let at = volume.catalog().node_at(0).unwrap_or_default();
    if let Err(error) = walked {
        findings.push(Finding::at(Severity::Broken, error.at, "the catalog cannot be read to its end", error.to_string()));
    } else {
        let mut missing: Vec<u32> = folders.difference(&threads).copied().collect();
        missing.sort_unstable();
        if let Some(first) = missing.first() {
            let what = format!("{} folders have no thread record, the first is number {first}", missing.len());
            findings.push(Finding::at(Severity::Doubt, at, what, "folder records against thread records"));
        }
        let orphaned = threads.difference(&folders).count();
        if orphaned > 0 {
            let what = format!("{orphaned} thread records belong to no folder");
            findings.push(Finding::at(Severity::Note, at, what, "thread records against folder records"));
        }
    }
    let header = volume.catalog().header();
    if header.free_nodes.get() > header.total_nodes.get() {
        let what = format!("the catalog counts {} free nodes of {}", header.free_nodes, header.total_nodes);
        findings.push(Finding::at(Severity::Doubt, at + 40, what, "freeNodes against totalNodes"));
    }
    let mapped = volume.catalog_nodes_in_map();
    let counted = header.total_nodes.get().saturating_sub(header.free_nodes.get());
    if mapped.is_some_and(|mapped| mapped != counted) {
        let what = format!("the catalog's map counts {} nodes in use, its header {counted}", mapped.unwrap_or(0));
        findings.push(Finding::at(Severity::Doubt, at, what, "set bits of the map record and of every map node"));
    }
    Checked::new("catalog", "every folder has its thread, and the tree counts its nodes right", findings)
}

/// The allocation file.
pub(super) fn allocation(volume: &HfsVolume) -> Option<Allocation> {
    let geometry = volume.geometry();
    let wanted = u64::from(geometry.total_blocks).div_ceil(8);
    if wanted > LARGEST_MAP {
        return None;
    }
    let places = volume.special_ground().into_iter().find(|(name, _)| *name == "the allocation file")?.1;
    let mut bits = Vec::new();
    for extent in &places {
        let len = extent.bytes.min(wanted.saturating_sub(bits.len() as u64));
        for from in (0..len).step_by(4 << 20) {
            let piece = usize::try_from((len - from).min(4 << 20)).ok()?;
            bits.extend(read_bytes(volume.source().as_ref(), extent.volume_at? + from, piece, "allocation file").ok()?);
        }
    }
    Some(Allocation {
        unit: "block",
        unit_bytes: u64::from(geometry.block_bytes),
        first_at: ByteOffset(0),
        first_number: 0,
        units: u64::from(geometry.total_blocks),
        bits,
        order: BitOrder::HighFirst,
        places,
        // Attributes that are kept in blocks of their own are not among the claims.
        knows_all: geometry.attributes_file.blocks == 0,
    })
}

/// The blocks of headers, special files and both forks of every file.
pub(super) fn claims(volume: &HfsVolume, each: &mut dyn FnMut(&str, &[Extent])) {
    let size = u64::from(volume.geometry().block_bytes);
    let blocks = u64::from(volume.geometry().total_blocks);
    let whole = |from: u64, to: u64| {
        let (first, end) = (from / size, to.div_ceil(size).min(blocks));
        [Extent { stream_at: 0, volume_at: Some(ByteOffset(first * size)), bytes: end.saturating_sub(first) * size }]
    };
    let end = blocks * size;
    each("the volume header", &whole(0, HEADER_AT + 512));
    each("the alternate volume header", &whole(end.saturating_sub(HEADER_AT), end));
    for (name, extents) in volume.special_ground() {
        each(name, &extents);
    }
    // Other systems keep the journal as hidden files; then its blocks are among the forks.
    let pages = crate::pages::Pages::new(SharedSource::clone(volume.below()));
    let ring = journal::place(&pages, volume.geometry()).filter(|_| !volume.has_journal_file());
    if let Some((at, bytes)) = ring {
        let info = u64::from(volume.geometry().journal_info_block) * size;
        each("the journal", &[whole(info, info + 1), whole(at.0, at.0 + bytes)].concat());
    }
    volume.each_fork(each);
}
