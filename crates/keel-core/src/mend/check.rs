//! The check of a volume, and the mendings that follow from it.

use std::collections::BTreeSet;
use std::sync::Arc;

use keel_format::check::{self, Checked};
use keel_format::{Repair, Severity, Volume};
use keel_source::{Overlay, SharedSource, Window};
use serde::Serialize;

use crate::CoreError;
use crate::sweep::Find;

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

/// The repairs that make rules hold: every safe one for what is doubtful or broken, and those of the rules in `also`.
/// Rules are mended one after the other, each on what the former left: what one writes another may count.
pub(super) fn mendings(source: &SharedSource, find: &Find, also: &BTreeSet<String>) -> ByCheck {
    let mut view = Arc::clone(source);
    let mut done: BTreeSet<&str> = BTreeSet::new();
    let mut found = ByCheck::default();
    for _ in 0..MOST_ROUNDS {
        let Ok(volume) = opened(&view, find) else { break };
        let rules = check::check(volume.as_ref());
        let wanted = |rule: &&Checked| {
            let asked = also.contains(rule.rule) || also.contains("all");
            let by_itself = rule.mending.as_ref().is_some_and(|mending| mending.is_safe) && rule.worst() >= Some(Severity::Doubt);
            rule.mending.is_some() && !done.contains(rule.rule) && (asked || by_itself)
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
            merge(&mut found.repairs, Repair { reason, ..repair.clone() });
        }
        view = Arc::new(overlay);
    }
    found
}

fn on_request(rule: &Checked) -> Option<String> {
    let mending = rule.mending.as_ref()?;
    let what = rule.findings.first().map(|finding| finding.what.clone())?;
    Some(format!("{what}; on request {}, which costs {} (mend --also {:?})", mending.does, mending.loses, rule.rule))
}

/// Adds `repair`; where it overlaps earlier ones its bytes go into them, so that no byte is written twice.
pub(super) fn merge(repairs: &mut Vec<Repair>, repair: Repair) {
    let mut rest = vec![repair];
    for earlier in repairs.iter_mut() {
        let mut left = Vec::new();
        for piece in rest {
            let (from, to) = (piece.at.0, piece.at.0 + piece.bytes.len() as u64);
            let (start, end) = (earlier.at.0, earlier.at.0 + earlier.bytes.len() as u64);
            let (low, high) = (from.max(start), to.min(end));
            if low >= high {
                left.push(piece);
                continue;
            }
            let part = |low: u64, high: u64| {
                let bytes = piece.bytes.get((low - from) as usize..(high - from) as usize).unwrap_or_default().to_vec();
                Repair { at: keel_source::ByteOffset(low), bytes, ..piece.clone() }
            };
            let common = part(low, high);
            if let Some(slot) = earlier.bytes.get_mut((low - start) as usize..(high - start) as usize) {
                slot.copy_from_slice(&common.bytes);
            }
            if !earlier.reason.contains(&piece.reason) {
                earlier.reason = format!("{}; {}", earlier.reason, piece.reason);
            }
            left.extend([part(from, low), part(high, to)].into_iter().filter(|part| !part.bytes.is_empty()));
        }
        rest = left;
    }
    repairs.extend(rest);
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
            let (mut plain, mut merged) = ([0u8; 100], Vec::new());
            for (index, (at, len, byte)) in pieces.iter().enumerate() {
                plain[*at as usize..*at as usize + len].fill(*byte);
                merge(&mut merged, Repair::computed("piece", ByteOffset(*at), vec![*byte; *len], format!("number {index}")));
            }
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
