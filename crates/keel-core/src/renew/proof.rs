//! The drive as it would be: every new volume is whole, and what stays reads the same.

use std::collections::BTreeMap;
use std::sync::Arc;

use keel_format::{check, registry};
use keel_source::{ByteRange, SharedSource, Window};

use super::draft::Draft;
use super::entry::Content;
use super::fit::{self, Fitted};
use super::stage::Made;
use crate::find::Find;
use crate::job::{Cancel, Desk};
use crate::ladder::{self, Ground, Ladder};
use crate::mend::{self, Edit, Look, lost};
use crate::sweep::{Reach, Sweep, SweepOptions, sweep};

/// The largest new volume whose every rule is run; of larger ones the boot sector is read back and the core examined.
const LARGEST_CHECKED: u64 = 64 << 30;

/// What a look at the drive as it would be says.
#[derive(Debug, Clone)]
pub struct Proved {
    /// The drive as it would be.
    pub after: Ladder,
    /// What was found on it.
    pub swept: Sweep,
    /// Why the plan must not be written, as sentences.
    pub against: Vec<String>,
}

/// Looks at the drive as it would be with `edits`. `looks` are those into the volumes as they are.
#[must_use]
pub fn prove(
    source: &SharedSource,
    (draft, made, fitted, edits): (&Draft, &[Made], &[Fitted], &[Edit]),
    (finds, looks): (&[Find], &BTreeMap<String, Look>),
    (ground, now): (&Ground, &Ladder),
    cancel: &Cancel,
) -> Proved {
    let view: SharedSource = Arc::new(mend::overlay(source, edits));
    let swept = again(&view, draft, finds, cancel);
    let after = ladder::examine_on(ground, &view, &swept, cancel);
    let stands: Vec<ByteRange> =
        draft.entries.iter().filter(|entry| entry.content == Content::Stands).map(|entry| entry.range(draft.sector)).collect();
    let mut against: Vec<String> = made.iter().filter_map(|made| not_whole(&view, made)).collect();
    against.extend(fitted.iter().flat_map(|fitted| fit::against(source, &view, fitted, edits, cancel)));
    let is_fitted = |find: &Find| fitted.iter().any(|fitted| fitted.range.start == find.start_byte);
    for find in finds.iter().filter(|find| find.is_outer() && stands.iter().any(|range| range.start == find.start_byte)) {
        let Some(before) = looks.get(&find.id).filter(|_| !is_fitted(find)) else { continue };
        let window: SharedSource = Arc::new(Window::new(SharedSource::clone(&view), find.range()));
        let then = mend::look(&window, &find.geometry);
        if let Some(path) = lost(before, &then) {
            against.push(format!("{path} of {} would not read as it does", find.id));
        } else if then.counted != before.counted {
            against.push(format!("{} lists {} files and would list {}", find.id, before.counted, then.counted));
        }
    }
    // Volumes that go, and those whose marks were chosen, were decided about; others may stand no lower.
    let chosen: Vec<ByteRange> =
        draft.entries.iter().filter(|entry| entry.is_chosen).map(|entry| entry.range(draft.sector)).collect();
    let decided = |volume: &ladder::VolumeLadder| {
        let at = volume.start_byte;
        !stands.iter().any(|range| range.contains(at))
            || made.iter().any(|made| made.range.contains(at))
            || chosen.iter().any(|range| range.contains(at))
    };
    against.extend(mend::objections(edits, now, &after, &decided));
    Proved { after, swept, against }
}

/// What there is on a drive that is, or would be, what the draft says: the volumes that it keeps or makes, and what lies inside of those
/// that it keeps, by the ids that they had `before`. What was given up is nobody's to mend.
#[must_use]
pub fn again(view: &SharedSource, draft: &Draft, before: &[Find], cancel: &Cancel) -> Sweep {
    let options = SweepOptions { reach: Reach::Landmarks, state: None };
    let mut swept = sweep(view, &options, &Desk::new(cancel.clone()).0);
    named_as_before(&mut swept, before);
    let wanted = |find: &Find| {
        draft.entries.iter().any(|entry| {
            let range = entry.range(draft.sector);
            range.start == find.start_byte || (entry.content == Content::Stands && range.contains(find.start_byte))
        })
    };
    swept.finds.retain(wanted);
    swept
}

/// Gives finds the ids that they have on the drive as it is; those that are new have numbers behind these.
fn named_as_before(swept: &mut Sweep, before: &[Find]) {
    let same = |one: &Find, other: &Find| (one.start_byte, one.kind) == (other.start_byte, other.kind);
    let mut next = before.len();
    let mut names: BTreeMap<String, String> = BTreeMap::new();
    for find in &swept.finds {
        let known = before.iter().find(|old| same(old, find)).map(|old| old.id.clone());
        let name = known.filter(|id| !names.values().any(|taken| taken == id)).unwrap_or_else(|| {
            next += 1;
            format!("n{next}")
        });
        names.insert(find.id.clone(), name);
    }
    let renamed = |id: &mut String| names.get(id).into_iter().for_each(|name| id.clone_from(name));
    for find in &mut swept.finds {
        renamed(&mut find.id);
        find.inside.iter_mut().chain(&mut find.older_than).for_each(renamed);
    }
}

/// Why a new volume is not whole.
fn not_whole(view: &SharedSource, made: &Made) -> Option<String> {
    let name = format!("the new {} (entry {})", made.kind.word(), made.slot);
    if registry::boot_sector(view.as_ref(), made.range.start).as_ref() != Some(&made.geometry) {
        return Some(format!("{name} would not read back as it is made"));
    }
    let window: SharedSource = Arc::new(Window::new(SharedSource::clone(view), made.range));
    let volume = match made.geometry.open(window) {
        Ok(volume) => volume,
        Err(why) => return Some(format!("{name} would not open: {why}")),
    };
    let findings: Vec<keel_format::Finding> = match made.range.len() {
        0..=LARGEST_CHECKED => check::check(volume.as_ref()).into_iter().flat_map(|rule| rule.findings).collect(),
        _ => volume.examine(),
    };
    findings.first().map(|finding| format!("{name} would not be whole: {}", finding.what))
}
