//! Renew: a drive made ready for use again, drafted, seen before, undoable; and ground that is overwritten for good.

mod ask;
mod state;
mod view;
mod wipe;
mod work;

use keel_core::export::Table;
use keel_source::ByteRange;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use serde_json::json;

pub(crate) use state::{Renewal, Row, State};

use super::{Drive, Running, Stage, StageId, Standing, Weight, runs, stop};
use crate::app::App;
use crate::app::effect::{Effect, Effects, tell};
use crate::keys::{StageKey, drive};
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Renew;

const KEYS: &[StageKey] = &[
    drive("enter", ask::of_row, ("change", "Change what is selected: table, entry, free ground, recipe, or overwrite ground")),
    drive("delete", ask::delete, ("delete", "Delete the selected entry; what stands on its ground stays findable")),
    drive("backspace", work::take_back, ("back", "Take the last step of the draft back")),
    drive("{", |drive| work::lengthen(drive, -1), ("", "Make the selected entry shorter by a hundredth of the drive")),
    drive("}", |drive| work::lengthen(drive, 1), ("", "Make the selected entry longer by a hundredth of the drive")),
    drive("p", work::stage, ("plan", "Stage the draft and read the plan: nothing is written before that")),
];

impl Stage for Renew {
    fn word(&self) -> &'static str {
        "Renew"
    }

    fn about(&self) -> &'static str {
        "A drive made ready for use again: a new table or a converted one, volumes made, deleted, grown and shrunk, former signatures cleared. Each row is changed with enter; with the mouse the end of a volume is dragged along the keel, and a new one drawn over free ground; the draft shows on the keel's plan lane as it changes, and what it loses and whom it serves stands beside it. p makes a plan of it, which is looked through, applied and undone as any other. Overwriting is the last row: it alone cannot be undone."
    }

    fn signs(&self) -> &'static [&'static str] {
        &[
            "Before an entry: + new, ~ gets another volume, length, type or name, = as it is now. Behind a system: ✓ it reads and writes the kind, ◐ it does so in part, – it does not.",
        ]
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn entered(&self, app: &mut App) -> Effects {
        let is_unknown = app.drive.as_ref().is_some_and(|drive| drive.renew.draft.is_none() && drive.renew.drafting.is_none());
        if is_unknown { vec![work::draft_anew()] } else { Vec::new() }
    }

    fn step(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            let last = drive.renew.rows().len().saturating_sub(1);
            drive.renew.selected = drive.renew.selected.saturating_add_signed(by).min(last);
        }
        Vec::new()
    }

    fn click(&self, app: &mut App, area: Rect, at: Position) -> Effects {
        let Some(drive) = &mut app.drive else { return Vec::new() };
        match view::row_at(drive, area, at) {
            // A first click selects, a second one changes.
            Some(row) if row == drive.renew.selected => ask::of_row(drive),
            Some(row) => {
                drive.renew.selected = row;
                Vec::new()
            }
            None => Vec::new(),
        }
    }

    fn dragged(&self, app: &mut App, from: ByteRange, to: ByteRange) -> Effects {
        let Some(drive) = &mut app.drive else { return Vec::new() };
        let Some((row, range)) = drive.renew.held(from, to) else { return Vec::new() };
        let rows = drive.renew.rows();
        drive.renew.selected = rows.iter().position(|own| *own == row).unwrap_or(drive.renew.selected);
        match row {
            _ if from == to => Vec::new(),
            Row::Entry(index) => work::set_length(drive, index, range.len()),
            Row::Free(..) if range.is_empty() => tell("that is less than the alignment leaves free"),
            _ => ask::of_stretch(drive, range),
        }
    }

    fn selection(&self, drive: &Drive) -> Option<ByteRange> {
        drive.renew.selected_ground()
    }

    fn table(&self, app: &App) -> Option<Table> {
        let state = &app.drive.as_ref()?.renew;
        let draft = state.draft.as_ref()?;
        let columns = ["number", "first sector", "sectors", "kind", "type", "name", "new"];
        let row = |entry: &keel_core::renew::Drafted| {
            let is_new = matches!(entry.content, keel_core::renew::Content::New(_));
            let kind = entry.kind().map(keel_format::VolumeKind::word);
            vec![
                json!(entry.slot),
                json!(entry.first.0),
                json!(entry.sectors.0),
                json!(kind),
                json!(entry.type_code.to_string()),
                json!(entry.name),
                json!(is_new),
            ]
        };
        let selected = match state.rows().get(state.selected) {
            Some(Row::Entry(index)) => Some(*index),
            _ => None,
        };
        Some(Table { rows: draft.entries.iter().map(row).collect(), selected, ..Table::new(&columns) })
    }

    fn standing(&self, drive: &Drive) -> Standing {
        match (&drive.renew.wiped, drive.renew.is_asked()) {
            (Some(wiped), _) if wiped.is_whole() => Standing::Done,
            (Some(_), _) | (_, true) => Standing::Doubt,
            (None, false) => Standing::Open,
        }
    }

    fn reports(&self, drive: &mut Drive, _shown: Option<Rect>) -> Effects {
        let mut effects = work::reports(drive);
        effects.extend(wipe::reports(drive));
        effects
    }

    fn running(&self, drive: &Drive) -> Vec<Running> {
        let renew = &drive.renew;
        let drafting = runs(renew.drafting.is_some(), Weight::Short, "drafting");
        let proving = runs(renew.proving.is_some(), Weight::Short, "looking into the draft");
        let wiping = runs(renew.wiping.is_some(), Weight::Writes, "OVERWRITING").map(|running| match &renew.wipe_progress {
            Some(progress) => {
                Running { what: progress.phase.word().to_uppercase(), ..running }.at(progress.done, progress.total, progress.rate)
            }
            None => running,
        });
        wiping.into_iter().chain(drafting).chain(proving).collect()
    }

    fn cancel(&self, drive: &mut Drive) {
        stop(drive.renew.drafting.as_ref());
        stop(drive.renew.proving.as_ref());
        stop(drive.renew.wiping.as_ref());
    }
}

/// Goes to the plan.
fn to_plan() -> Effect {
    Effect::GoTo(StageId::Plan)
}

#[cfg(test)]
mod tests;
