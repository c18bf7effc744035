//! The check of a volume, and the mendings that follow from it.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use keel_format::check::{self, Checked};
use keel_format::{Repair, Severity, Volume};
use keel_source::{Overlay, SharedSource, Window};
use serde::Serialize;

use super::Rules;
use crate::CoreError;
use crate::find::Find;

/// The most rounds of checking and mending: one for each rule, and one to see that it holds.
const MOST_ROUNDS: usize = 24;

/// What every rule found on one volume.
#[derive(Debug, Clone, Serialize)]
pub struct Report {
    /// The find.
    pub volume: String,
    /// Its kind.
    pub kind: keel_format::VolumeKind,
    /// Every rule, with what it found. Offsets count from the start of the drive.
    pub rules: Vec<Checked>,
}

impl Report {
    /// The worst that any rule found.
    #[must_use]
    pub fn worst(&self) -> Option<Severity> {
        self.rules.iter().filter_map(Checked::worst).max()
    }
}

/// What a check of one volume leads to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ByCheck {
    /// What is written.
    pub repairs: Vec<Repair>,
    /// Rules that are broken and are mended on request only: name, and why.
    pub on_request: Vec<(String, String)>,
}

/// Runs every rule over the volume of `find`. Reading only.
///
/// # Errors
/// [`CoreError::Format`] when it cannot be opened.
pub fn report(source: &SharedSource, find: &Find) -> Result<Report, CoreError> {
    let volume = opened(source, find)?;
    let mut rules = check::check(volume.as_ref());
    for finding in rules.iter_mut().flat_map(|rule| &mut rule.findings) {
        *finding = finding.clone().moved(find.start_byte.0);
    }
    Ok(Report { volume: find.id.clone(), kind: find.kind, rules })
}

pub(super) fn opened(source: &SharedSource, find: &Find) -> Result<Box<dyn Volume>, CoreError> {
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), find.range()));
    Ok(find.geometry.open(window)?)
}

/// True when a quick look at the core of the volume already finds what a check may mend.
pub(super) fn is_worth_it(source: &SharedSource, find: &Find) -> bool {
    let Ok(volume) = opened(source, find) else { return false };
    volume.examine().iter().any(|finding| finding.severity >= Severity::Doubt)
}

/// The repairs that make rules hold: every safe one for what is doubtful or broken, and those of the rules `asked` for.
/// Rules are mended one after the other, each on what the former left: what one writes another may count.
pub(super) fn mendings(source: &SharedSource, find: &Find, asked: &Rules) -> ByCheck {
    let mut view = Arc::clone(source);
    let mut done: BTreeSet<&str> = BTreeSet::new();
    let mut found = ByCheck::default();
    let mut merged = Merged::default();
    for _ in 0..MOST_ROUNDS {
        let Ok(volume) = opened(&view, find) else { break };
        let rules = check::check(volume.as_ref());
        let wanted = |rule: &&Checked| {
            let by_itself = rule.mending.as_ref().is_some_and(|mending| mending.is_safe) && rule.worst() >= Some(Severity::Doubt);
            rule.mending.is_some() && !done.contains(rule.rule) && (asked.has(rule.rule) || by_itself)
        };
        let Some(rule) = rules.iter().find(wanted) else {
            let open = rules.iter().filter(|rule| rule.worst() == Some(Severity::Broken) && !done.contains(rule.rule));
            found.on_request = open.filter_map(|rule| Some((rule.rule.to_string(), on_request(rule)?))).collect();
            break;
        };
        done.insert(rule.rule);
        let mut overlay = Overlay::new(view);
        for repair in rule.mending.iter().flat_map(|mending| &mending.repairs) {
            overlay.lay(find.start_byte + repair.at.0, &repair.bytes);
            let reason = format!("{}: {}", rule.rule, repair.reason);
            merged.add(&Repair { reason, ..repair.clone() });
        }
        view = Arc::new(overlay);
    }
    found.repairs = merged.into_repairs();
    found
}

fn on_request(rule: &Checked) -> Option<String> {
    let mending = rule.mending.as_ref()?;
    let what = rule.findings.first().map(|finding| finding.what.clone())?;
    Some(format!("{what}; on request {}, which costs {} (mend --also {:?})", mending.does, mending.loses, rule.rule))
}

/// Repairs of one volume, of which no two write the same byte: kept by their places, so that tens of thousands cost no more than
/// they write.
#[derive(Debug, Default)]
pub(super) struct Merged(BTreeMap<u64, (usize, Repair)>);

impl Merged {
    /// Adds `repair`; where it overlaps earlier ones its bytes go into them, so that no byte is written twice.
    pub(super) fn add(&mut self, repair: &Repair) {
        let order = self.0.len();
        let (mut from, to) = (repair.at.0, repair.at.0.saturating_add(repair.bytes.len() as u64));
        let part = |low: u64, high: u64| {
            let inside = |place: u64| usize::try_from(place.saturating_sub(repair.at.0)).unwrap_or(usize::MAX);
            let bytes = repair.bytes.get(inside(low)..inside(high)).unwrap_or_default().to_vec();
            Repair { at: keel_source::ByteOffset(low), bytes, ..repair.clone() }
        };
        let first = self.0.range(..=from).next_back().map_or(from, |(start, _)| *start);
        let mut rest: Vec<Repair> = Vec::new();
        for (start, (_, earlier)) in self.0.range_mut(first..to.max(first)) {
            let end = start.saturating_add(earlier.bytes.len() as u64);
            let (low, high) = (from.max(*start), to.min(end));
            if low >= high {
                continue;
            }
            if from < low {
                rest.push(part(from, low));
            }
            if let Some(slot) = earlier.bytes.get_mut((low - start) as usize..(high - start) as usize) {
                slot.copy_from_slice(&part(low, high).bytes);
            }
            if !earlier.reason.contains(&repair.reason) {
                earlier.reason = format!("{}; {}", earlier.reason, repair.reason);
            }
            from = high;
        }
        if from < to {
            rest.push(part(from, to));
        }
        self.0.extend(rest.into_iter().map(|piece| (piece.at.0, (order, piece))));
    }

    /// The repairs in the order in which they came.
    pub(super) fn into_repairs(self) -> Vec<Repair> {
        let mut all: Vec<(usize, Repair)> = self.0.into_values().collect();
        all.sort_by_key(|(order, _)| *order);
        all.into_iter().map(|(_, repair)| repair).collect()
    }
}

#[cfg(test)]
mod tests {
    use keel_source::ByteOffset;
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn merged_repairs_write_each_byte_once_and_the_last_word_counts(
            pieces in proptest::collection::vec((0u64..60, 1usize..20, any::<u8>()), 1..12)
        ) {
            let (mut plain, mut merged) = ([0u8; 100], Merged::default());
            for (index, (at, len, byte)) in pieces.iter().enumerate() {
                plain[*at as usize..*at as usize + len].fill(*byte);
                merged.add(&Repair::computed("piece", ByteOffset(*at), vec![*byte; *len], format!("number {index}")));
            }
            let merged = merged.into_repairs();
            let (mut laid, mut times) = ([0u8; 100], [0u8; 100]);
            for repair in &merged {
                for (index, byte) in repair.bytes.iter().enumerate() {
                    laid[repair.at.0 as usize + index] = *byte;
                    times[repair.at.0 as usize + index] += 1;
                }
            }
            prop_assert_eq!(laid, plain);
            prop_assert!(times.iter().all(|count| *count <= 1));
        }
    }
}
