//! Structures of volumes put back from copies or as computed, proven before they are offered.

use std::collections::BTreeSet;
use std::sync::Arc;

use keel_format::{Compute, Field, Geometry, Repair, Structure, Take, registry};
use keel_source::{ByteOffset, Overlay, SharedSource, Window};

use super::check::{ByCheck, Merged};
use super::proof::{Look, look, look_again, lost};
use super::{Belongs, Checks, Edit, Intent, Only, Order, Staged, Subject, Wishes, Withheld, repairs_by_check};
use crate::find::Find;
use crate::job::Cancel;
use crate::ladder::{self, RungState};

/// What the technician took for a structure instead of what the evidence says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taken {
    /// The version for the whole structure.
    pub whole: Take,
    /// Fields from other versions.
    pub fields: Vec<(Field, Take)>,
    /// Fields set by hand, with their bytes.
    pub by_hand: Vec<(Field, Vec<u8>)>,
}

/// The structures of a find, each in all its versions.
#[must_use]
pub fn structures(source: &SharedSource, find: &Find, compute: Compute) -> Vec<Structure> {
    find.geometry.structures(&window(source, find), find.start_byte, compute)
}

fn window(source: &SharedSource, find: &Find) -> SharedSource {
    Arc::new(Window::new(Arc::clone(source), find.range()))
}

/// The edits that put back structures of `find`, and what is withheld because its proof fails.
pub(super) fn edits(source: &SharedSource, find: &Find, wishes: &Wishes) -> Staged {
    let mut copy_first = false;
    let mut repairs: Vec<Repair> = Vec::new();
    let subject = Subject::Volume(find.id.clone());
    let chosen = wishes.takes_of(&subject);
    let compute = if chosen { Compute::All } else { Compute::WhereNeeded };
    let mut withheld = Vec::new();
    for (index, structure) in structures(source, find, compute).into_iter().enumerate() {
        copy_first |= structure.main.is_unreadable();
        let wanted = match wishes.only {
            Only::All => true,
            Only::Boot => index == 0,
            Only::Fs => index > 0,
            Only::Table => false,
        };
        if !wanted {
            continue;
        }
        match wishes.takes.get(&(subject.clone(), structure.name.clone())) {
            Some(taken) => repairs.extend(structure.repairs_with(taken.whole, &taken.fields, &taken.by_hand)),
            None if !structure.main.holds() && structure.best().is_none() => withheld.push(Withheld {
                find: find.id.clone(),
                structure: structure.name.clone(),
                why: nothing_to_take(&structure),
            }),
            None => repairs.extend(structure.repairs()),
        }
    }
    // Of a volume that is cut short a check cannot tell what is wrong from what is missing.
    let is_whole = find.range().end.0 <= source.len();
    let behind = |repair: &Repair| find.start_byte.0.saturating_add(repair.at.0 + repair.bytes.len() as u64) > source.len();
    repairs.retain(|repair| !behind(repair));
    // What a check finds is found with these in their places.
    let own: BTreeSet<String> = repairs.iter().map(|repair| repair.name.clone()).collect();
    if matches!(wishes.only, Only::All | Only::Fs) && is_whole {
        let checked = by_check(source, find, wishes, &repairs);
        let mut merged = Merged::default();
        repairs.iter().chain(&checked.repairs).for_each(|repair| merged.add(repair));
        repairs = merged.into_repairs();
        withheld.extend(checked.on_request.into_iter().map(|(rule, why)| Withheld {
            find: find.id.clone(),
            structure: rule,
            why,
        }));
    }
    if repairs.is_empty() {
        return Staged { withheld, ..Staged::nothing(copy_first) };
    }
    if let Some(why) = disproved(source, find, &repairs) {
        let name = repairs.iter().find(|repair| repair.is_main).or(repairs.first()).map(|repair| repair.name.clone());
        withheld.push(Withheld { find: find.id.clone(), structure: name.unwrap_or_default(), why });
        return Staged { withheld, ..Staged::nothing(copy_first) };
    }
    let belongs = belongings(&find.id, &own, repairs.iter().map(|repair| repair.name.as_str()));
    let edit = |(repair, belongs)| Edit { belongs, ..edit_at(source, find.start_byte, &find.id, repair) };
    let edits = repairs.into_iter().zip(belongs).map(edit).collect();
    Staged { edits, withheld, ..Staged::nothing(copy_first) }
}

/// What a check finds on the volume with its structures put back.
fn by_check(source: &SharedSource, find: &Find, wishes: &Wishes, repairs: &[Repair]) -> ByCheck {
    match &wishes.checks {
        Checks::Known(known) => known.get(&find.id).cloned().unwrap_or_default(),
        Checks::Run => {
            let mut overlay = Overlay::new(Arc::clone(source));
            repairs.iter().for_each(|repair| overlay.lay(find.start_byte + repair.at.0, &repair.bytes));
            let view: SharedSource = Arc::new(overlay);
            let stated = stated(&view, find.start_byte).filter(|geometry| geometry.kind().is_alike(find.kind));
            let find = stated.map_or_else(|| find.clone(), |geometry| Find { geometry, ..find.clone() });
            repairs_by_check(&view, &find, wishes)
        }
    }
}

fn nothing_to_take(structure: &Structure) -> String {
    let copies: Vec<String> = structure
        .copies
        .iter()
        .filter_map(|copy| {
            Some(format!("the one at {} does not hold either: {}", structure.start + copy.at.0, structure.why_not(copy)?))
        })
        .take(3)
        .collect();
    let none = if structure.copies.is_empty() { "it has no copy".to_string() } else { copies.join("; ") };
    format!("{none}; and the volume's own metadata does not say enough to compute it")
}

/// Why `repairs` must not be offered: the volume would not open by what they put back, or a file that reads now would
/// not read then.
fn disproved(source: &SharedSource, find: &Find, repairs: &[Repair]) -> Option<String> {
    if find.kind.why_closed().is_some() {
        return None;
    }
    let now = look(&window(source, find), &find.geometry);
    let mut overlay = Overlay::new(Arc::clone(source));
    repairs.iter().for_each(|repair| overlay.lay(find.start_byte + repair.at.0, &repair.bytes));
    let view: SharedSource = Arc::new(overlay);
    let Some(geometry) = stated(&view, find.start_byte) else {
        return Some("the volume does not open by the boot sector that would stand there".into());
    };
    if !geometry.kind().is_alike(find.kind) {
        return Some(format!("it would make the volume {} instead of {}", geometry.kind().word(), find.kind.word()));
    }
    let then = look_again(&window(&view, find), &geometry, &now);
    let computed = repairs.iter().any(|repair| repair.is_main && repair.from == Take::Computed);
    refusal(&now, &then).or_else(|| lowers(source, &view, find, &geometry, computed))
}

/// The rule of staging, for the rungs of one volume: none may stand lower by what is put back, and what was computed may
/// not leave one broken: the volume itself speaks against it then.
fn lowers(source: &SharedSource, view: &SharedSource, find: &Find, planned: &Geometry, computed: bool) -> Option<String> {
    let rungs = |source: &SharedSource, geometry: &Geometry| match geometry.open(window(source, find)) {
        Ok(volume) => ladder::of_volume(volume.as_ref(), find, &Cancel::default()),
        Err(_) => Vec::new(),
    };
    let (now, then) = (rungs(source, &find.geometry), rungs(view, planned));
    if let Some(broken) = then.iter().find(|rung| computed && rung.state == RungState::Broken) {
        let (number, word) = (broken.rung.number(), broken.rung.word());
        let what = broken.findings.first().map_or_else(|| broken.note.clone(), |finding| finding.what.clone());
        return Some(format!("what was computed does not prove itself: rung {number} {word} would be broken ({what})"));
    }
    ladder::compare(None, &now, &then).first().map(ladder::Lowered::sentence)
}

fn refusal(now: &Look, then: &Look) -> Option<String> {
    if !then.opens {
        return Some("the volume would not open".into());
    }
    lost(now, then).map(|path| format!("{path}, which reads now, would not read the same"))
}

fn stated(view: &SharedSource, start: ByteOffset) -> Option<Geometry> {
    registry::boot_sector(view.as_ref(), start)
}

/// What each repair of a volume belongs to, in their order. One that a check asks for rests on the structures that were put in their
/// places for it, and on what was mended before it: what one writes the next one counts.
fn belongings<'a>(find: &str, structures: &BTreeSet<String>, names: impl Iterator<Item = &'a str>) -> Vec<Belongs> {
    let mut before: Option<&str> = None;
    let of = |name: &'a str| {
        let mut belongs = Belongs::to(group(find, name));
        if !structures.contains(name) {
            belongs.needs = structures.iter().map(|own| group(find, own)).collect();
            belongs.needs.extend(before.replace(name).filter(|before| *before != name).map(|before| group(find, before)));
        }
        belongs
    };
    names.map(of).collect()
}

/// The name of a structure's edits, or of a rule's.
fn group(of: &str, name: &str) -> String {
    format!("{of}/{name}")
}

/// The edit that a repair of what begins at `start` becomes.
pub(super) fn edit_at(source: &SharedSource, start: ByteOffset, of: &str, repair: Repair) -> Edit {
    let at_byte = start + repair.at.0;
    let mut before = vec![0; repair.bytes.len()];
    if source.read_at(at_byte, &mut before).is_err() {
        before.clear();
    }
    let from = repair.copy.map(|copy| format!(" (taken from {})", start + copy.start.0)).unwrap_or_default();
    Edit {
        structure: format!("{} of {of}", repair.name),
        at_byte,
        before,
        after: repair.bytes.into(),
        intent: Intent::Repair,
        belongs: Belongs::to(group(of, &repair.name)),
        order: if repair.is_main { Order::Primary } else { Order::Copy },
        reason: format!("{}{from}", repair.reason),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_check_asks_for_rests_on_the_structures_and_on_what_was_mended_before_it() {
        let structures = BTreeSet::from(["superblock".to_string()]);
        let names = ["superblock", "block bitmap", "block bitmap", "free counts", "inode bitmap"];
        let belongs = belongings("n1", &structures, names.into_iter());
        let needs: Vec<Vec<&str>> = belongs.iter().map(|own| own.needs.iter().map(String::as_str).collect()).collect();
        assert_eq!(
            needs,
            [
                vec![],
                vec!["n1/superblock"],
                vec!["n1/superblock"],
                vec!["n1/superblock", "n1/block bitmap"],
                vec!["n1/superblock", "n1/free counts"],
            ]
        );
        let edits = belongs.into_iter().map(|belongs| Edit {
            structure: String::new(),
            at_byte: ByteOffset(0),
            before: Vec::new(),
            after: Vec::new().into(),
            intent: Intent::Repair,
            belongs,
            order: Order::Primary,
            reason: String::new(),
        });
        let all = Staged { edits: edits.collect(), ..Staged::nothing(false) };
        for (dropped, left) in [("n1/superblock", 0), ("n1/block bitmap", 1), ("n1/free counts", 3), ("n1/inode bitmap", 4)] {
            let mut staged = all.clone();
            staged.drop_groups(&BTreeSet::from([dropped.to_string()]));
            assert_eq!((staged.edits.len(), staged.dropped.len()), (left, 5 - left), "{dropped}");
        }
    }
}
