//! Plan: every staged edit, the ladder as it would be, and the writes.

mod interrupted;
mod outlook;
mod proof;
mod state;
mod view;
mod write;

use keel_core::advice::Advice;
use keel_core::export::Table;
use keel_core::mend::Edit;
use keel_source::{ByteRange, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use serde_json::json;

pub(crate) use interrupted::Interrupted;
pub(crate) use state::{State, examine, stage_anew};
pub(crate) use write::{Writing, recover};

use super::{Drive, Running, Stage, StageId, Standing, Weight, runs, stop};
use crate::app::App;
use crate::app::effect::{Effect, Effects};
use crate::keys::{StageKey, bench, drive};
use crate::line_edit::LineEdit;
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Plan;

/// Bytes on a line of an edit.
const LINE: u64 = 16;
/// Lines that a step to the side goes.
const LINES: isize = 8;

/// The key that leads here from the stages that stage repairs.
pub(super) const GO: StageKey =
    bench("p", |_| vec![Effect::GoTo(StageId::Plan)], ("plan", "Stage the repairs and read the plan"));

const KEYS: &[StageKey] = &[
    drive("a", write::ask_apply, ("apply", "Apply the plan to the drive; asks for the drive's code")),
    drive("u", write::ask_undo, ("undo", "Put the drive back as it was before the apply")),
    drive("I", write::ask_save, ("save copy", "Save the drive as it would be as a new image")),
    drive("d", state::drop_edit, ("drop", "Drop the edit from the plan with what is written with it, or take it back")),
    drive(
        "/",
        |drive| {
            drive.plan.list.typing = true;
            Vec::new()
        },
        ("find", "Show the edits that have these words: structure, place, reason"),
    ),
    drive("o", state::order_next, ("", "Order the edits by the next column: writing, place, structure, size")),
    drive("r", state::reverse, ("", "Turn the order of the edits around")),
];

impl Stage for Plan {
    fn word(&self) -> &'static str {
        "Plan"
    }

    fn about(&self) -> &'static str {
        "Every staged edit, byte by byte and in plain words, and the ladder as it is beside the ladder as it would be. Applying saves what stood there, writes copies before primaries, flushes, reads back and compares. It can be undone, also after a crash half-way."
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn typing<'a>(&self, app: &'a mut App) -> Option<&'a mut LineEdit> {
        let list = &mut app.drive.as_mut()?.plan.list;
        list.typing.then_some(&mut list.filter)
    }

    fn searched(&self, app: &mut App) -> Effects {
        app.drive.iter_mut().for_each(|drive| drive.plan.choose_rows());
        Vec::new()
    }

    fn typed(&self, app: &mut App, keep: bool) -> Effects {
        app.drive.iter_mut().for_each(|drive| {
            drive.plan.list.typed(keep);
            drive.plan.choose_rows();
        });
        Vec::new()
    }

    fn entered(&self, app: &mut App) -> Effects {
        let unknown = app.drive.as_ref().is_some_and(|drive| drive.plan.after.is_none() && drive.plan.after_job.is_none());
        if unknown { vec![examine()] } else { Vec::new() }
    }

    fn step(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            drive.plan.selected = drive.plan.list.stepped(drive.plan.selected, by);
            drive.plan.line = 0;
        }
        Vec::new()
    }

    fn sideways(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            let plan = &mut drive.plan;
            let bytes = plan.edits.get(plan.selected).map_or(0, |edit| edit.after.len());
            let lines = usize::try_from(bytes.div_ceil(LINE)).unwrap_or(usize::MAX);
            plan.line = plan.line.saturating_add_signed(by * LINES).min(lines.saturating_sub(1));
        }
        Vec::new()
    }

    fn click(&self, app: &mut App, area: Rect, at: Position) -> Effects {
        if let Some(drive) = &mut app.drive {
            view::click(drive, area, at);
        }
        Vec::new()
    }

    fn selection(&self, drive: &Drive) -> Option<ByteRange> {
        drive.plan.edits.get(drive.plan.selected).map(Edit::range)
    }

    fn carries_out(&self, advice: Advice) -> Option<&'static str> {
        matches!(advice, Advice::Apply | Advice::ReadPlan).then_some("")
    }

    fn table(&self, app: &App) -> Option<Table> {
        let plan = &app.drive.as_ref()?.plan;
        let columns = ["number", "structure", "byte", "bytes", "order", "group", "reason"];
        let row = |row: &usize| {
            let (edit, dropped) = plan.row(*row)?;
            let number = if dropped { json!("dropped") } else { json!(row + 1) };
            let (at, bytes, group) = (edit.at_byte.0, edit.after.len(), &edit.belongs.group);
            Some(vec![
                number,
                json!(edit.structure),
                json!(at),
                json!(bytes),
                json!(edit.order),
                json!(group),
                json!(edit.reason),
            ])
        };
        let rows = plan.list.rows().iter().filter_map(row).collect();
        Some(Table { rows, selected: Some(plan.list.place(plan.selected)), ..Table::new(&columns) })
    }

    fn standing(&self, drive: &Drive) -> Standing {
        match (drive.plan.applied, drive.plan.edits.is_empty()) {
            (true, _) => Standing::Done,
            (false, true) => Standing::Open,
            (false, false) => Standing::Doubt,
        }
    }

    fn reports(&self, drive: &mut Drive, _shown: Option<Rect>) -> Effects {
        let mut effects = state::reports(drive);
        effects.extend(write::reports(drive));
        effects
    }

    fn running(&self, drive: &Drive) -> Vec<Running> {
        let plan = &drive.plan;
        let what = plan.writing.as_ref().map(|writing| match writing {
            Writing::Apply(_) => format!("APPLYING  step {}", plan.written),
            Writing::Recover(_) => format!("putting back  step {}", plan.written),
            Writing::Save(_) => format!("saving the copy  {}", size_decimal(plan.written)),
        });
        let writing = what.and_then(|what| runs(true, Weight::Writes, what)).map(Running::whole);
        let rest = [
            runs(plan.proof_job.is_some(), Weight::Long, "proving what was written"),
            runs(plan.staging.is_some(), Weight::Short, "settling the layout"),
            runs(plan.after_job.is_some(), Weight::Short, "examining the plan"),
        ];
        writing.into_iter().chain(rest.into_iter().flatten()).collect()
    }

    fn cancel(&self, drive: &mut Drive) {
        stop(drive.plan.staging.as_ref());
        stop(drive.plan.after_job.as_ref());
        stop(drive.plan.proof_job.as_ref());
    }
}

#[cfg(test)]
mod tests;
