//! Ground that nothing holds: outside of every entry, and inside of volumes that are whole and closed what they count as free.

use std::sync::Arc;

use keel_format::check;
use keel_format::table::{Scheme, TableReading};
use keel_source::{ByteOffset, ByteRange, Cancel, RangeSet, SharedSource, Window, size_decimal};

use super::NotWiped;
use crate::renew::{ALIGN, Draft, Drafted};

/// Free ground, and what was left out of it.
#[derive(Debug, Clone)]
pub struct Free {
    /// The ground, in whole sectors.
    pub ground: RangeSet,
    /// What is left alone, and why, as sentences.
    pub told: Vec<String>,
}

/// The ground of `source` that nothing holds by its table and its volumes. A volume that was not closed, or is not whole, is left alone:
/// what it counts as free may be in use.
///
/// # Errors
/// [`NotWiped::Ground`] where nothing sound says what is in use.
pub fn free(source: &SharedSource, table: &TableReading, cancel: &Cancel) -> Result<Free, NotWiped> {
    let draft = Draft::of(source, table, ALIGN);
    if let Some(wrong) = draft.unsound() {
        return Err(NotWiped::Ground(format!(
            "what is free is told by a sound table ({wrong}): mend it first, or wipe the whole drive"
        )));
    }
    if draft.scheme == Some(Scheme::Apm) {
        let why = "an Apple partition map keeps places that are not told apart here: wipe volumes or ranges";
        return Err(NotWiped::Ground(why.into()));
    }
    if draft.scheme.is_none() && draft.entries.is_empty() {
        let why = "no table and no volume says what is in use on this drive: mend it first, or wipe the whole drive";
        return Err(NotWiped::Ground(why.into()));
    }
    let mut told = Vec::new();
    let mut kept = RangeSet::default();
    kept_by_table(&draft, &mut kept, &mut told);
    let mut free = RangeSet::default();
    for entry in &draft.entries {
        let range = entry.range(draft.sector);
        kept.add(range);
        match inside(source, entry, range) {
            Ok(ranges) => ranges.into_iter().for_each(|range| free.add(range)),
            Err(why) => told.push(format!("entry {} is left alone: {why}", entry.slot)),
        }
        if cancel.is_cancelled() {
            break;
        }
    }
    let sectors = draft.drive * draft.sector.bytes();
    kept.lacking(ByteRange::sized(ByteOffset(0), sectors)).into_iter().for_each(|range| free.add(range));
    if free.bytes() == 0 {
        return Err(NotWiped::Ground(format!(
            "no ground of this drive is free{}",
            told.first().map_or(String::new(), |why| format!("; {why}"))
        )));
    }
    Ok(Free { ground: free, told })
}

/// The ground of the table, and before the first volume of an MBR that of boot loaders.
fn kept_by_table(draft: &Draft, kept: &mut RangeSet, told: &mut Vec<String>) {
    let sector = draft.sector.bytes();
    let sectors = |from: u64, to: u64| ByteRange::new(ByteOffset(from * sector), ByteOffset(to * sector));
    if draft.scheme.is_none() {
        return;
    }
    let usable = draft.usable();
    kept.add(sectors(0, usable.start));
    if draft.scheme == Some(Scheme::Gpt) {
        kept.add(sectors(usable.end, draft.drive));
        return;
    }
    draft.former_ebrs.iter().for_each(|ebr| kept.add(sectors(ebr.0, ebr.0 + 1)));
    let first = draft.entries.iter().map(|entry| entry.ground().start).min().unwrap_or(0);
    if (2..=ALIGN / sector).contains(&first) {
        kept.add(sectors(0, first));
        told.push(format!("{} before the first volume are left alone: boot loaders stand there", size_decimal(first * sector)));
    }
}

/// What the volume of an entry counts as free; why that is not known otherwise.
fn inside(source: &SharedSource, entry: &Drafted, range: ByteRange) -> Result<Vec<ByteRange>, String> {
    let geometry = entry.stands.as_ref().ok_or("nothing that is known stands there")?;
    let window: SharedSource = Arc::new(Window::new(SharedSource::clone(source), range));
    let volume = geometry.open(window).map_err(|why| format!("its {} does not open ({why})", geometry.kind().word()))?;
    if !volume.left_open().is_empty() {
        return Err(format!("its {} was not closed, so what it counts as free may be in use", geometry.kind().word()));
    }
    let wrong = check::check(volume.as_ref()).into_iter().flat_map(|rule| rule.findings).next();
    if let Some(wrong) = wrong {
        return Err(format!("its {} is not whole ({})", geometry.kind().word(), wrong.what));
    }
    let allocation =
        volume.allocation().ok_or_else(|| format!("a {} does not tell its free ground here", geometry.kind().word()))?;
    let mut used = RangeSet::default();
    allocation.used().iter().for_each(|units| used.add(allocation.range(units)));
    let units = allocation.range(&(0..allocation.units));
    let own = ByteRange::new(units.start, units.end.min(ByteOffset(geometry.bytes().min(range.len()))));
    let sector = source.sector_size().bytes();
    let whole = |free: ByteRange| {
        let from = ByteOffset((range.start.0 + free.start.0).next_multiple_of(sector));
        let to = ByteOffset((range.start.0 + free.end.0) / sector * sector);
        (from < to).then(|| ByteRange::new(from, to))
    };
    Ok(used.lacking(own).into_iter().filter_map(whole).collect())
}
