//! Rung 5: the table.

use keel_format::table::TableReading;
use keel_format::{Finding, Severity};
use keel_source::{ByteOffset, SharedSource, counted};

use super::trouble;
use super::{Rung, RungName, RungState, worst};
use crate::find::{Find, outer};

pub(super) fn table_rung(source: &SharedSource, table: &TableReading, finds: &[Find]) -> Rung {
    let mut findings = table.findings.clone();
    if let Some(find) = finds.iter().find(|find| find.needs_no_table(table)) {
        findings.retain(|finding| finding.severity == Severity::Note);
        let reaches = if find.range().end.0 > source.len() { ", and reaches behind its end" } else { "" };
        let what = format!("{} fills the drive without a table, by design{reaches}", find.id);
        findings.push(Finding::at(Severity::Note, ByteOffset(0), what, "its boot sector is sector 0, and its metadata agrees"));
        return Rung::new(RungName::Table, RungState::Sound, "none, by design").with(findings);
    }
    findings.extend(trouble::findings(source, table, finds));
    let nothing = table.scheme.is_none() && findings.is_empty();
    let state = if nothing { RungState::Broken } else { worst(&findings) };
    let note = match (table.scheme, state) {
        (Some(scheme), RungState::Sound) => format!("{}, {}", scheme.word(), counted(table.partitions.len(), "entry", "entries")),
        (Some(scheme), _) => format!("{} with damage", scheme.word()),
        (None, _) => "no table".into(),
    };
    let lost =
        outer(finds).filter(|find| !table.partitions.iter().any(|entry| entry.holds(find.range(), source.sector_size()))).count();
    let rung = Rung::new(RungName::Table, state, note).with(findings);
    match (state, lost) {
        (RungState::Sound, _) => rung,
        (_, 0) => rung.then("sweep: landmarks, then the surface"),
        (_, count) => rung.then(format!("settle the layout of the {count} volumes seen, and stage a table")),
    }
}
