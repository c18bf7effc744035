//! Mend: the structures of a volume in all versions, and what a check of it found.

mod state;
mod view;

use keel_core::export::Table;
use keel_core::sweep::Find;
use keel_format::{Take, Version};
use keel_source::ByteRange;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use serde_json::json;

pub(crate) use state::{State, ask_checks};

use super::{Drive, Running, Stage, Standing, Weight, files, plan, runs, stop};
use crate::app::App;
use crate::app::effect::Effects;
use crate::keys::{StageKey, drive};
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Mend;

const KEYS: &[StageKey] = &[
    drive(
        "enter",
        |drive| files::look_into(drive.selected_find()),
        ("look into", "Look into the selected find: whose files are these?"),
    ),
    drive("m", |drive| state::take(drive, Take::Main), ("main", "Take the structure, or the selected field, as it stands")),
    drive("c", take_copy, ("copy", "Take the structure, or the selected field, from its copy")),
    drive(
        "w",
        |drive| state::take(drive, Take::Computed),
        ("computed", "Take the structure, or the selected field, as computed from the volume"),
    ),
    drive("space", state::mend_rule, ("mend rule", "Mend what the selected rule found, or let it be")),
    drive(
        "E",
        state::erase_leftovers,
        ("", "Erase signatures of former tables and containers on ground that belongs to something else, or let them be"),
    ),
    drive("z", state::ask_by_hand, ("", "Set the selected field by hand, with what speaks for and against it")),
    drive("n", state::next_volume, ("next volume", "Go to the next volume; behind the last one comes the table")),
    plan::GO,
];

/// Takes the copy that is shown beside the main structure: the first one that holds.
fn take_copy(drive: &mut Drive) -> Effects {
    let structure = drive.mend.structure();
    let copy = structure.and_then(|structure| structure.copies.iter().position(Version::holds)).unwrap_or(0);
    state::take(drive, Take::Copy(copy))
}

impl Stage for Mend {
    fn word(&self) -> &'static str {
        "Mend"
    }

    fn about(&self) -> &'static str {
        "Each structure of the volume that stands twice, in three columns: main, copy, and computed from what the volume itself says, field by field with the witness for each. Below them the rules of the check. The evidence chooses where each is taken from; take another version for a structure or for a single field. All of it becomes edits of the plan; nothing here writes."
    }

    fn signs(&self) -> &'static [&'static str] {
        &["Before a structure or field: ≠ its versions differ; the one that is taken stands out."]
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn entered(&self, app: &mut App) -> Effects {
        let Some(drive) = &mut app.drive else { return Vec::new() };
        let other = drive.selected_find().is_none_or(|find| !drive.mend.is_of(&find.id));
        if other { state::look_at_selected(drive) } else { Vec::new() }
    }

    fn step(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            drive.mend.step(by);
        }
        Vec::new()
    }

    fn sideways(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            let fields = drive.mend.structure().is_some_and(|structure| !structure.fields.is_empty());
            drive.mend.field = (by > 0 && fields).then(|| drive.mend.field.unwrap_or(0));
        }
        Vec::new()
    }

    fn click(&self, app: &mut App, area: Rect, at: Position) -> Effects {
        let Some(drive) = &mut app.drive else { return Vec::new() };
        if let Some(item) = view::item_at(drive, area, at.y) {
            (drive.mend.row, drive.mend.field) = (item, None);
        } else if let Some((field, take)) = view::field_at(drive, area, at) {
            // A first click selects the field, a second one on a column takes it from there.
            let again = drive.mend.field == Some(field);
            drive.mend.field = Some(field);
            if let Some(take) = take.filter(|_| again) {
                return state::take(drive, take);
            }
        }
        Vec::new()
    }

    fn selection(&self, drive: &Drive) -> Option<ByteRange> {
        drive.selected_find().map(Find::range)
    }

    fn table(&self, app: &App) -> Option<Table> {
        let state = &app.drive.as_ref()?.mend;
        let row = |item: &state::Item<'_>| match item {
            state::Item::Structure(structure) => {
                let held = structure.copies.iter().filter(|copy| copy.holds()).count();
                let taken = state.taken(structure).map(Take::word);
                let (main, copies) = (structure.main.holds(), structure.copies.len());
                vec![
                    json!("structure"),
                    json!(structure.name),
                    json!(main),
                    json!(copies),
                    json!(held),
                    json!(taken),
                    json!(null),
                ]
            }
            state::Item::Rule(rule) => {
                let found = rule.findings.iter().map(|finding| finding.what.as_str()).collect::<Vec<_>>().join("; ");
                let holds = rule.findings.is_empty();
                vec![json!("rule"), json!(rule.rule), json!(holds), json!(null), json!(null), json!(null), json!(found)]
            }
        };
        let columns = ["what", "name", "holds", "copies", "copies that hold", "taken from", "findings"];
        let rows = state.items().iter().map(row).collect();
        Some(Table { rows, selected: Some(state.row), ..Table::new(&columns) })
    }

    fn standing(&self, drive: &Drive) -> Standing {
        match (drive.mend.subject.is_some(), drive.plan.withheld.is_empty()) {
            (_, false) => Standing::Doubt,
            (true, true) => Standing::Done,
            (false, true) => Standing::Open,
        }
    }

    fn reports(&self, drive: &mut Drive, _shown: Option<Rect>) -> Effects {
        state::reports(drive)
    }

    fn running(&self, drive: &Drive) -> Vec<Running> {
        let looks = runs(drive.mend.is_looking(), Weight::Short, "reading the structures");
        looks.into_iter().chain(runs(drive.mend.is_asking(), Weight::Short, "checking the volumes")).collect()
    }

    fn cancel(&self, drive: &mut Drive) {
        stop(drive.mend.look_job.as_ref());
        stop(drive.mend.known_job.as_ref());
    }
}

#[cfg(test)]
mod tests;
