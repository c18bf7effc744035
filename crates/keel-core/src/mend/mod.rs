//! Mend: turns a layout and sound copies into staged edits. Nothing here writes.

mod check;
mod intent;
mod leftovers;
mod proof;
mod prove;
mod structures;
pub(crate) mod table;
mod wish;

pub use check::{ByCheck, Report, report};
pub use intent::objections;

pub use crate::edit::{Belongs, Edit, Intent, Order};
pub use leftovers::{Leftover, leftovers};
pub use proof::{Look, Proven, look, looks, lost, proven};
pub use prove::{Proof, prove};
pub use structures::{Taken, structures};
pub use wish::{Checks, Only, Request, Rules, Subject, Wishes};

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use keel_format::Structure;
use keel_format::table::TableReading;
use keel_source::{ByteOffset, ByteRange, Overlay, SharedSource};
use serde::Serialize;

use crate::find::Find;
use crate::ladder::{self, Lowered, VolumeLadder};
use crate::layout::Layout;

/// The repairs that a check of `find` leads to: every safe one for what is doubtful or broken, and those that `wishes`
/// ask for. Empty where a quick look finds nothing and nothing is asked for. Takes as long as a walk over all metadata.
#[must_use]
pub fn repairs_by_check(source: &SharedSource, find: &Find, wishes: &Wishes) -> ByCheck {
    let rules = wishes.rules_of(&find.id);
    let wanted = find.kind.why_closed().is_none() && (!rules.is_empty() || check::is_worth_it(source, find));
    if wanted { check::mendings(source, find, &rules) } else { ByCheck::default() }
}

/// A structure that does not hold and for which nothing is staged.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Withheld {
    /// The find.
    pub find: String,
    /// The structure.
    pub structure: String,
    /// Why, as a sentence.
    pub why: String,
}

/// Everything staged, and what was not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Staged {
    /// The edits, in the order in which they will be written.
    pub edits: Vec<Edit>,
    /// What is broken and has no edit.
    pub withheld: Vec<Withheld>,
    /// True when a core structure of a volume cannot be read: the drive is to be copied first.
    pub copy_first: bool,
    /// Edits that were dropped, and those that rested on them.
    pub dropped: Vec<Edit>,
}

impl Staged {
    /// Nothing at all.
    fn nothing(copy_first: bool) -> Self {
        Self { edits: Vec::new(), withheld: Vec::new(), copy_first, dropped: Vec::new() }
    }

    /// Drops the groups of these names, and what rests on them.
    fn drop_groups(&mut self, without: &BTreeSet<String>) {
        let mut rest: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        for belongs in self.edits.iter().map(|edit| &edit.belongs) {
            for need in &belongs.needs {
                rest.entry(need).or_default().insert(&belongs.group);
            }
        }
        let mut gone = without.clone();
        let mut open: Vec<&str> = without.iter().map(String::as_str).collect();
        while let Some(group) = open.pop() {
            open.extend(rest.get(group).into_iter().flatten().filter(|own| gone.insert((**own).to_string())));
        }
        (self.dropped, self.edits) =
            std::mem::take(&mut self.edits).into_iter().partition(|edit| gone.contains(&edit.belongs.group));
    }
}

/// Stages every repair that the evidence supports, and what the technician took. `finds` are those of the sweep the
/// layout was settled from. What would make a sampled file unreadable is withheld.
#[must_use]
pub fn stage(source: &SharedSource, table: &TableReading, finds: &[Find], layout: &Layout, wishes: &Wishes) -> Staged {
    let mut staged = Staged::nothing(false);
    if matches!(wishes.only, Only::All | Only::Table) && !layout.whole_drive {
        staged.edits.extend(table::edits(source, table, layout));
    }
    take_table(source, table, layout, wishes, &mut staged);
    withhold_what_lowers(source, finds, layout, &mut staged);
    if wishes.only != Only::Table {
        let chosen = finds.iter().filter(|find| layout.holds(find));
        for find in chosen {
            let mended = structures::edits(source, find, wishes);
            staged.edits.extend(mended.edits);
            staged.withheld.extend(mended.withheld);
            staged.copy_first |= mended.copy_first;
        }
    }
    if wishes.only == Only::All && !finds.is_empty() {
        let found = leftovers::leftovers(source, table, finds, layout);
        let asked = wishes.erases_leftovers();
        if asked {
            staged.edits.extend(leftovers::edits(source, &found));
        }
        staged.withheld.extend(leftovers::told(found, asked));
    }
    // A stable sort: headers stay behind the arrays they describe.
    staged.edits.sort_by_key(|edit| edit.order);
    staged.drop_groups(&wishes.without);
    staged
}

/// The rule of staging, for the edits of the table: no rung may stand lower than it does now. What the technician decided
/// by holding or dropping finds is wanted.
fn withhold_what_lowers(source: &SharedSource, finds: &[Find], layout: &Layout, staged: &mut Staged) {
    if staged.edits.is_empty() {
        return;
    }
    let view: SharedSource = Arc::new(overlay(source, &staged.edits));
    let decided = |volume: &VolumeLadder| is_decided(volume, finds, layout);
    let lowered = ladder::lowered_table(source, &view, finds, &decided);
    if lowered.is_empty() {
        return;
    }
    let why: Vec<String> = lowered.iter().map(Lowered::sentence).collect();
    staged.edits.clear();
    staged.withheld.push(Withheld { find: "drive".into(), structure: Subject::Table.to_string(), why: why.join("; ") });
}

/// True for a volume or entry that the technician's choices are about: one that was held or dropped, or that shares
/// ground with such a one.
#[must_use]
pub fn is_decided(volume: &VolumeLadder, finds: &[Find], layout: &Layout) -> bool {
    let ground = ByteRange::sized(volume.start_byte, volume.bytes);
    let mut chosen = finds.iter().filter(|find| layout.by_choice.contains(&find.id));
    chosen.any(|find| find.range().overlap(ground).is_some())
}

/// The structures of the table: main, copies, and as `layout` asks for them.
#[must_use]
pub fn table_structures(source: &SharedSource, table: &TableReading, layout: &Layout) -> Vec<Structure> {
    keel_format::table::mend::structures(source, &table::wanted_sectors(source, table, layout))
}

/// Puts what the technician took for the table in the place of what the layout asks for.
fn take_table(source: &SharedSource, table: &TableReading, layout: &Layout, wishes: &Wishes, staged: &mut Staged) {
    if !wishes.takes_of(&Subject::Table) || !matches!(wishes.only, Only::All | Only::Table) {
        return;
    }
    for structure in table_structures(source, table, layout) {
        let Some(taken) = wishes.takes.get(&(Subject::Table, structure.name.clone())) else { continue };
        let place = ByteRange::sized(structure.main.at, structure.main.bytes.len() as u64);
        staged.edits.retain(|edit| edit.range().overlap(place).is_none());
        for repair in
            structure.repairs_with(taken.whole, &taken.fields, &taken.by_hand).into_iter().filter(|repair| repair.is_main)
        {
            let belongs = Belongs::to(format!("table/{}", structure.name));
            staged.edits.push(Edit { belongs, ..structures::edit_at(source, ByteOffset(0), "the drive", repair) });
        }
    }
}

/// The drive as it would be with `edits`.
#[must_use]
pub fn overlay(source: &SharedSource, edits: &[Edit]) -> Overlay {
    let mut overlay = Overlay::new(SharedSource::clone(source));
    for edit in edits {
        overlay.lay_payload(edit.at_byte, edit.after.clone());
    }
    overlay
}
