//! What table and finds together tell of a table that does not belong: written in another sector size, shifted, or of
//! another drive.

use std::collections::BTreeMap;

use keel_format::table::{self, Partition, TableReading, gpt};
use keel_format::{Finding, Severity};
use keel_source::{ByteOffset, ByteRange, SharedSource};

use crate::find::{Find, outer};

/// A shift must move at least as many volumes alike before it is believed.
const LEAST_SHIFTED: usize = 2;

/// Findings of rung 5 that need both the table and the volumes seen.
pub(super) fn findings(source: &SharedSource, table: &TableReading, finds: &[Find]) -> Vec<Finding> {
    let outer: Vec<&Find> = outer(finds).collect();
    let sector = source.sector_size();
    let met = |partitions: &[Partition], size| {
        outer.iter().filter(|find| partitions.iter().any(|entry| entry.holds(find.range(), size))).count()
    };
    let now = met(&table.partitions, sector);
    let mut findings = Vec::new();
    if let Some((size, other)) = table::read_in_other_size(source)
        && met(&other.partitions, size) > now
    {
        let factor = size.0.max(sector.0) / size.0.min(sector.0).max(1);
        let what = format!(
            "the table was written for sectors of {} bytes; this drive has {}: every number in it is off by {factor}x",
            size.0, sector.0
        );
        let how = format!("read in sectors of {} bytes, {} of its entries meet volumes", size.0, met(&other.partitions, size));
        findings.push(Finding::at(Severity::Broken, ByteOffset(0), what, how));
        return findings;
    }
    if let Some((shift, count)) = shift(source, table, &outer) {
        let way = if shift > 0 { "behind" } else { "before" };
        let what = format!(
            "{count} volumes stand {} bytes {way} the places that the table gives them: the drive is shifted",
            shift.unsigned_abs()
        );
        let how = "starts of volumes against starts of entries of the same length";
        findings.push(Finding::at(Severity::Broken, ByteOffset(0), what, how));
    } else if now == 0
        && let Some(gpt) = displaced_gpt(source, &outer)
    {
        let way = if gpt.shift > 0 { "behind" } else { "before" };
        let what = format!(
            "a GPT stands {} bytes {way} the place that it names, and volumes stand where it leads from there: the drive is shifted",
            gpt.shift.unsigned_abs()
        );
        findings.push(Finding::at(Severity::Broken, gpt.at, what, "MyLBA of the header against where it stands"));
    } else if now == 0 && !outer.is_empty() && !table.partitions.is_empty() {
        let what = "no entry of the table meets a volume that stands on the drive: it is of another drive, or of another time";
        let how = format!("{} entries were compared with {} volumes", table.partitions.len(), outer.len());
        findings.push(Finding::at(Severity::Doubt, ByteOffset(0), what, how));
    }
    findings
}

/// A GPT that says it stands elsewhere, when moved with it one of its entries meets a volume.
fn displaced_gpt(source: &SharedSource, finds: &[&Find]) -> Option<gpt::Displaced> {
    let found = gpt::displaced(source.as_ref())?;
    let meets = |ground: &ByteRange| finds.iter().any(|find| find.start_byte == ground.start && ground.covers(find.range()));
    found.ground.iter().any(meets).then_some(found)
}

/// The constant by which the volumes stand elsewhere than entries of their length say, and how many agree on it.
fn shift(source: &SharedSource, table: &TableReading, finds: &[&Find]) -> Option<(i64, usize)> {
    let sector = source.sector_size();
    let mut votes: BTreeMap<i64, usize> = BTreeMap::new();
    for entry in &table.partitions {
        let range = entry.range(sector);
        // A volume may leave a tail of its entry unused.
        let alike = finds.iter().filter(|find| find.bytes <= range.len() && range.len() - find.bytes < 1 << 20);
        for find in alike {
            let shift = i64::try_from(find.start_byte.0).ok()? - i64::try_from(range.start.0).ok()?;
            *votes.entry(shift).or_default() += 1;
        }
    }
    let (shift, count) = votes.into_iter().max_by_key(|(shift, count)| (*count, *shift == 0))?;
    (shift != 0 && count >= LEAST_SHIFTED).then_some((shift, count))
}
