//! The rules of NTFS: records and their bitmap, names that lead to records, marks, log and up-case table.

use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, RangeSet, printable};

use super::index::{self, each_name};
use super::layout::{BITMAP, DATA, IN_USE, IS_DIRECTORY, ROOT, VOLUME_INFORMATION};
use super::record::redo_fixups;
use super::{Body, NtfsVolume, stream};
use crate::check::{Allocation, BitOrder, Checked, Mending};
use crate::device::hold;
use crate::{Extent, Finding, Repair, Severity, Volume, read_bytes, read_whole};

/// The most findings that one rule reports.
const MOST_FINDINGS: usize = 50;
/// The largest bitmap that is read, in bytes.
const LARGEST_BITMAP: usize = 64 << 20;
/// Numbers of the system's own records.
const LOG_FILE: u64 = 2;
const VOLUME: u64 = 3;
const CLUSTER_BITMAP: u64 = 6;
const UP_CASE: u64 = 10;

pub(super) fn rules(volume: &NtfsVolume) -> Vec<Checked> {
    let sequences = sequences(volume);
    vec![marks(volume), log(volume), up_case(volume), record_bits(volume, &sequences), names(volume, &sequences)]
}

/// The sequence number of every record in use; 0 where none is.
fn sequences(volume: &NtfsVolume) -> Vec<u16> {
    let mut sequences = Vec::new();
    volume.scan(&|flags| flags & IN_USE != 0, &mut |number, record| {
        let index = usize::try_from(number).unwrap_or(usize::MAX);
        if index >= sequences.len() {
            // Records behind a hole have high numbers: what is kept for those before them has to fit.
            let more = (index - sequences.len()).saturating_add(1).saturating_mul(size_of::<u16>()) as u64;
            if hold(volume.source().as_ref(), record.position(), "file record", more).is_err() {
                return ControlFlow::Break(());
            }
            sequences.resize(index + 1, 0u16);
        }
        if let Some(slot) = sequences.get_mut(index) {
            *slot = record.header().sequence_number.get().max(1);
        }
        ControlFlow::Continue(())
    });
    sequences
}

/// The dirty bit in `$VOLUME_INFORMATION`.
fn marks(volume: &NtfsVolume) -> Checked {
    const RULE: (&str, &str) = ("volume flags", "the volume was cleanly unmounted");
    let Ok(record) = volume.record(VOLUME) else { return Checked::new(RULE.0, RULE.1, Vec::new()) };
    let view = record.attribute(VOLUME_INFORMATION, "").and_then(|attribute| attribute.resident());
    let flags = view.and_then(|view| view.u16(10, "flags").ok().map(|flags| (view, flags)));
    let Some((view, flags)) = flags.filter(|(_, flags)| flags & 1 != 0) else { return Checked::new(RULE.0, RULE.1, Vec::new()) };
    let what = "the dirty bit is set: a system checks the volume at its next start, and other drivers mount it read-only";
    let at = view.position() + 10;
    let finding = Finding::at(Severity::Note, at, what, format!("flags of $VOLUME_INFORMATION are 0x{flags:04x}"));
    let mut bytes = record.bytes().to_vec();
    let inside = usize::try_from(at.0.saturating_sub(record.position().0)).unwrap_or(usize::MAX);
    if let Some(byte) = bytes.get_mut(inside) {
        *byte &= !1;
    }
    let mut repairs = Vec::new();
    if redo_fixups(&mut bytes) {
        // The mirror keeps a copy of this record.
        let mirror = volume.geometry().cluster_at(volume.geometry().mirror_lcn) + VOLUME * bytes.len() as u64;
        let reason = "the dirty bit is cleared";
        repairs.push(Repair { is_main: false, ..Repair::computed("MFT mirror record 3", mirror, bytes.clone(), reason) });
        repairs.push(Repair::computed("MFT record 3 ($Volume)", record.position(), bytes, reason));
    }
    Checked::new(RULE.0, RULE.1, vec![finding]).mended_by(Some(Mending::safe("the dirty bit is cleared", repairs)))
}

/// What `$LogFile` says of itself: restart pages, and whether clients were still using it.
fn log(volume: &NtfsVolume) -> Checked {
    const RULE: (&str, &str) = ("log file", "the log was closed: nothing in it waits to be written");
    let mut findings = Vec::new();
    let page = volume.open(crate::NodeId(LOG_FILE), "").map(|mut stream| {
        let mut page = vec![0; usize::try_from(stream.bytes().min(4096)).unwrap_or(0)];
        stream.read(0, &mut page);
        page
    });
    match page {
        Err(error) => findings.push(Finding::at(Severity::Doubt, error.at, "the log cannot be read", error.to_string())),
        // A log that was emptied holds only FF.
        Ok(page) if page.iter().all(|byte| *byte == 0xFF) => {}
        Ok(page) if page.starts_with(b"RSTR") || page.starts_with(b"CHKD") => {
            let word = |at: usize| page.get(at..at + 2).and_then(<[u8]>::first_chunk).map_or(0, |word| u16::from_le_bytes(*word));
            let area = usize::from(word(24));
            let (in_use, flags) = (word(area + 12), word(area + 14));
            if in_use != 0xFFFF && flags & 2 == 0 {
                let what =
                    "the log is open: it may hold changes that are not in their places; a system replays it when it mounts";
                findings.push(Finding::of_all(
                    Severity::Note,
                    what,
                    format!("restart area flags 0x{flags:04x}, client {in_use}"),
                ));
            }
        }
        Ok(_) => findings.push(Finding::of_all(Severity::Doubt, "the log does not begin with a restart page", "its first page")),
    }
    Checked::new(RULE.0, RULE.1, findings)
}

/// `$UpCase` is whole and folds letters.
fn up_case(volume: &NtfsVolume) -> Checked {
    const RULE: (&str, &str) = ("up-case table", "the table by which names are compared is whole");
    const BYTES: usize = 128 << 10;
    let mut findings = Vec::new();
    match volume.open(crate::NodeId(UP_CASE), "") {
        Err(error) => findings.push(Finding::at(Severity::Broken, error.at, "$UpCase cannot be read", error.to_string())),
        Ok(mut stream) => {
            let (table, whole) = read_whole(stream.as_mut(), BYTES);
            let unit = |sign: u16| table.as_chunks::<2>().0.get(usize::from(sign)).map(|pair| u16::from_le_bytes(*pair));
            let folds =
                (0x61..=0x7A).all(|sign| unit(sign) == Some(sign - 0x20)) && (0..0x61).all(|sign| unit(sign) == Some(sign));
            if !whole || table.len() != BYTES || !folds {
                let how = format!("{} bytes, and what it says of the Latin letters", table.len());
                findings.push(Finding::of_all(Severity::Broken, "$UpCase is not the table that it should be", how));
            }
        }
    }
    Checked::new(RULE.0, RULE.1, findings)
}

/// Which records are in use, by the MFT's own bitmap.
pub(super) fn record_allocation(volume: &NtfsVolume) -> Option<Allocation> {
    let record = volume.record(0).ok()?;
    let maps = stream::maps(volume.source(), volume.geometry(), volume.mft(), 0, &record, BITMAP).ok()?;
    let (_, map) = maps.into_iter().find(|(name, _)| name.is_empty())?;
    let places = map.extents(volume.geometry());
    let mut reader = stream::open(volume.source(), volume.geometry(), map, record.position()).ok()?;
    Some(Allocation {
        unit: "MFT record",
        unit_bytes: u64::from(volume.geometry().record_bytes),
        first_at: ByteOffset(0),
        first_number: 0,
        units: volume.mft().records,
        bits: read_whole(reader.as_mut(), LARGEST_BITMAP).0,
        order: BitOrder::LowFirst,
        places,
        knows_all: false,
    })
}

/// Every record in use is counted so in the MFT's own bitmap.
fn record_bits(volume: &NtfsVolume, sequences: &[u16]) -> Checked {
    const RULE: (&str, &str) = ("MFT bitmap", "records in use are counted so, that nothing is written over them");
    let Some(allocation) = record_allocation(volume) else { return Checked::new(RULE.0, RULE.1, Vec::new()) };
    let numbers = sequences.iter().zip(0u64..).filter(|(sequence, _)| **sequence != 0).map(|(_, number)| number);
    let missing: Vec<u64> = numbers.filter(|number| !allocation.is_used(*number)).collect();
    if missing.is_empty() {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    }
    let what = format!("{} records in use are counted as free, the first is {}", missing.len(), missing.first().unwrap_or(&0));
    let finding = Finding::of_all(Severity::Broken, what, "flags of the records against the MFT's bitmap");
    let units: Vec<std::ops::Range<u64>> = missing.iter().map(|number| *number..number + 1).collect();
    let repairs = allocation.marked(&units, true);
    Checked::new(RULE.0, RULE.1, vec![finding]).mended_by(Some(Mending::safe("they are counted as in use", repairs)))
}

/// Every name of a folder leads to the record that it means.
fn names(volume: &NtfsVolume, sequences: &[u16]) -> Checked {
    const RULE: (&str, &str) = ("names", "every name of a folder leads to a record in use");
    let dead = |number: u64, sequence: u16| {
        let own = usize::try_from(number).ok().and_then(|index| sequences.get(index)).copied().unwrap_or(0);
        own == 0 || (sequence != 0 && own != sequence)
    };
    let mut found: Vec<(u64, String)> = Vec::new();
    let mut findings = Vec::new();
    volume.scan(&|flags| flags & (IN_USE | IS_DIRECTORY) == IN_USE | IS_DIRECTORY, &mut |folder, record| {
        let listed = each_name(volume.source(), volume.geometry(), volume.mft(), folder, &record, &mut |name| {
            if dead(name.number, name.sequence) && found.len() < MOST_FINDINGS {
                found.push((folder, name.name.name.clone()));
            }
            ControlFlow::Continue(())
        });
        // Damage of the root's index is a finding of the core already.
        let damaged = listed.unwrap_or_else(|error| {
            vec![Finding::at(Severity::Broken, error.at, "a folder cannot be listed", error.to_string())]
        });
        if folder != ROOT && findings.len() < MOST_FINDINGS {
            findings.extend(damaged);
            findings.truncate(MOST_FINDINGS);
        }
        if found.len() < MOST_FINDINGS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    let mut repairs = Vec::new();
    let mut folders: Vec<u64> = found.iter().map(|(folder, _)| *folder).collect();
    folders.dedup();
    for folder in folders {
        repairs.extend(index::without_dead(volume, folder, &dead));
    }
    for (folder, name) in found {
        let what = format!("{} leads to a record that is free or another file's", printable(&name));
        findings.push(Finding::of_all(Severity::Doubt, what, format!("entry of folder record {folder}")));
    }
    let mending = Mending::costly("the names are taken out of their folders", "names whose files are gone", repairs);
    Checked::new(RULE.0, RULE.1, findings).mended_by(Some(mending))
}

/// `$Bitmap`.
pub(super) fn allocation(volume: &NtfsVolume) -> Option<Allocation> {
    let record = volume.record(CLUSTER_BITMAP).ok()?;
    let data = record.attribute(DATA, "")?;
    let bytes = data.bytes();
    let Body::NonResident { .. } = &data.body else { return None };
    let places = volume.extents(crate::NodeId(CLUSTER_BITMAP)).ok()?;
    if bytes > LARGEST_BITMAP as u64 {
        return None;
    }
    let bits = read_whole(volume.open(crate::NodeId(CLUSTER_BITMAP), "").ok()?.as_mut(), LARGEST_BITMAP).0;
    Some(Allocation {
        unit: "cluster",
        unit_bytes: u64::from(volume.geometry().cluster_bytes),
        first_at: ByteOffset(0),
        first_number: 0,
        units: volume.geometry().clusters(),
        bits,
        order: BitOrder::LowFirst,
        places,
        knows_all: true,
    })
}

/// The ground of every attribute of every record in use.
pub(super) fn claims(volume: &NtfsVolume, each: &mut dyn FnMut(&str, &[Extent])) {
    let limit = volume.geometry().clusters();
    volume.scan(&|flags| flags & IN_USE != 0, &mut |number, record| {
        let mut extents: Vec<Extent> = Vec::new();
        for attribute in record.attributes().flatten() {
            extents.extend(stream::extents(volume.geometry(), &attribute.runs(limit).unwrap_or_default()));
        }
        if !extents.is_empty() {
            let name = super::attribute::Gist::of(&record).name.map(|name| name.name).unwrap_or_default();
            each(&format!("{name} (record {number})"), &extents);
        }
        ControlFlow::Continue(())
    });
    // The backup boot sector lies in the last cluster of volumes that it does not lie behind.
    let at = volume.geometry().backup_at();
    let backup = Extent { stream_at: 0, volume_at: Some(at), bytes: u64::from(volume.geometry().bytes_per_sector) };
    if read_bytes(volume.source().as_ref(), at, 512, "backup boot sector").is_ok()
        && at.0 < limit * u64::from(volume.geometry().cluster_bytes)
    {
        each("the backup boot sector", &[backup]);
    }
}

/// Clusters that the cluster bitmap counts as used and that no record claims, in runs.
pub(super) fn unclaimed(volume: &NtfsVolume) -> Option<Vec<std::ops::Range<u64>>> {
    let allocation = allocation(volume)?;
    let unit = u64::from(volume.geometry().cluster_bytes).max(1);
    let mut left = RangeSet::default();
    allocation.used().iter().for_each(|units| left.add(allocation.range(units)));
    let mut claimed = RangeSet::default();
    claims(volume, &mut |_, extents| {
        for extent in extents {
            extent.volume_at.into_iter().for_each(|at| claimed.add(ByteRange::sized(at, extent.bytes)));
        }
    });
    for run in &volume.mft().runs {
        let at = run.lcn.map(|lcn| volume.geometry().cluster_at(lcn));
        at.into_iter().for_each(|at| claimed.add(ByteRange::sized(at, run.clusters.saturating_mul(unit))));
    }
    let lacking = left.ranges().iter().flat_map(|range| claimed.lacking(*range));
    Some(lacking.map(|range| range.start.0.div_ceil(unit)..range.end.0 / unit).filter(|run| !run.is_empty()).collect())
}
