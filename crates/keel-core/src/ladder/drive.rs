//! Rungs 1 to 5: the drive.

use keel_format::table::TableReading;
use keel_format::{Finding, Severity};
use keel_source::{ByteOffset, ByteRange, LinkKind, SharedSource};

use super::trouble;
use super::{Rung, RungName, RungState, worst};
use crate::job::Cancel;
use crate::sweep::Find;

/// Places over the surface that are read.
const SAMPLES: u64 = 256;
/// Bytes read at each.
const SAMPLE_BYTES: u64 = 4096;
/// The most unreadable places that are listed one by one.
const MOST_LISTED: usize = 16;

pub(super) fn rungs(source: &SharedSource, table: &TableReading, finds: &[Find], cancel: &Cancel) -> Vec<Rung> {
    vec![link(source), health(source), reads(source, cancel), capacity(source), table_rung(source, table, finds)]
}

fn link(source: &SharedSource) -> Rung {
    let note = match source.identity().link {
        LinkKind::Image | LinkKind::Derived => "an image has no link",
        LinkKind::BlockDevice | LinkKind::Simulated => "answers; not tested yet",
    };
    Rung::new(RungName::Link, RungState::Untested, note).then("the Yard's checks of cable, port and power will test it")
}

fn health(source: &SharedSource) -> Rung {
    let note = match source.identity().link {
        LinkKind::Image | LinkKind::Derived => "an image has no attributes",
        LinkKind::BlockDevice | LinkKind::Simulated => "attributes not read yet",
    };
    Rung::new(RungName::Health, RungState::Untested, note).then("reading the drive's health attributes will test it")
}

fn capacity(source: &SharedSource) -> Rung {
    let note = match source.identity().link {
        LinkKind::Image | LinkKind::Derived => "an image holds what it holds",
        LinkKind::BlockDevice | LinkKind::Simulated => "Fathom will test it",
    };
    Rung::new(RungName::Capacity, RungState::Untested, note).then("Fathom will prove how much the drive can store")
}

/// The reads of a copy were made when it was taken: what is missing is known, and a broken rung above it is the next step.
fn reads_of_copy(missing: &[ByteRange]) -> Rung {
    let bytes: u64 = missing.iter().map(|range| range.len()).sum();
    let places = missing.iter().take(MOST_LISTED);
    let findings = places.map(|range| {
        let what = format!("{} bytes are missing from the copy", range.len());
        Finding::at(Severity::Doubt, range.start, what, "the log of the copy")
    });
    let said = format!("{bytes} bytes missing in {} places", missing.len());
    Rung::new(RungName::Reads, RungState::Doubtful, said)
        .with(findings.collect())
        .then("while the drive still answers, go on with the copy: ykeel copy, the same command")
        .then("ykeel files --missing names the files that lack something")
}

/// Reads evenly spread samples, the first and the last sector among them.
fn reads(source: &SharedSource, cancel: &Cancel) -> Rung {
    if !source.missing().is_empty() {
        return reads_of_copy(source.missing());
    }
    let len = source.len();
    let span = len.saturating_sub(SAMPLE_BYTES.min(len));
    let mut findings = Vec::new();
    let (mut asked, mut failed) = (0u64, 0u64);
    let mut buf = vec![0; usize::try_from(SAMPLE_BYTES.min(len)).unwrap_or(0)];
    let mut last_at = None;
    for index in 0..SAMPLES {
        if cancel.is_cancelled() {
            break;
        }
        let at = ByteOffset(
            u128::from(span).saturating_mul(u128::from(index)).checked_div(u128::from(SAMPLES - 1)).map_or(0, |at| at as u64)
                / 512
                * 512,
        );
        if last_at == Some(at) {
            continue;
        }
        last_at = Some(at);
        asked += 1;
        if let Err(error) = source.read_at(at, &mut buf) {
            failed += 1;
            for bad in error.bad.iter().take(MOST_LISTED.saturating_sub(findings.len())) {
                findings.push(unreadable(*bad, &error.reason));
            }
        }
    }
    if asked == 0 {
        return Rung::new(RungName::Reads, RungState::Untested, "not sampled");
    }
    let state = if failed > 0 { RungState::Broken } else { RungState::Sound };
    let rung = Rung::new(RungName::Reads, state, format!("{} of {asked} samples", asked - failed)).with(findings);
    if failed > 0 {
        rung.then("copy the drive first (ykeel copy), then work on the copy: what cannot be read cannot be put back")
    } else {
        rung
    }
}

fn unreadable(range: ByteRange, reason: &str) -> Finding {
    let what = format!("{} bytes cannot be read", range.len());
    Finding::at(Severity::Broken, range.start, what, format!("sampled read: {reason}"))
}

fn table_rung(source: &SharedSource, table: &TableReading, finds: &[Find]) -> Rung {
    let mut findings = table.findings.clone();
    if let Some(find) = finds.iter().find(|find| find.needs_no_table(table)) {
        findings.retain(|finding| finding.severity == Severity::Note);
        let what = format!("{} fills the drive without a table, by design", find.id);
        findings.push(Finding::at(Severity::Note, ByteOffset(0), what, "its boot sector is sector 0, and its metadata agrees"));
        return Rung::new(RungName::Table, RungState::Sound, "none, by design").with(findings);
    }
    findings.extend(trouble::findings(source, table, finds));
    let nothing = table.scheme.is_none() && findings.is_empty();
    let state = if nothing { RungState::Broken } else { worst(&findings) };
    let note = match (table.scheme, state) {
        (Some(scheme), RungState::Sound) => format!("{}, {} entries", scheme.word(), table.partitions.len()),
        (Some(scheme), _) => format!("{} with damage", scheme.word()),
        (None, _) => "no table".into(),
    };
    let lost = finds
        .iter()
        .filter(|find| find.inside.is_none())
        .filter(|find| !table.partitions.iter().any(|entry| entry.holds(find.range(), source.sector_size())))
        .count();
    let rung = Rung::new(RungName::Table, state, note).with(findings);
    match (state, lost) {
        (RungState::Sound, _) => rung,
        (_, 0) => rung.then("sweep: landmarks, then the surface"),
        (_, count) => rung.then(format!("settle the layout of the {count} volumes seen, and stage a table")),
    }
}
