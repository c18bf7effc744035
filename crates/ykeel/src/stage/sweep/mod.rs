//! Sweep: the volumes that were found, and the layout that the evidence settles on.

mod compare;
mod layout;
mod state;
mod view;

use keel_core::advice::{Advice, Swept};
use keel_core::export::Table;
use keel_core::sweep::{Find, Reach};
use keel_source::ByteRange;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use serde_json::json;

pub(crate) use state::{State, begin};

use super::{Drive, Running, Stage, StageId, Standing, Weight, files, plan, runs, stop};
use crate::app::App;
use crate::app::effect::{Effect, Effects};
use crate::keys::{StageKey, bench, drive};
use crate::line_edit::LineEdit;
use crate::widget::keel;
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Sweep;

/// The key that sweeps, wherever it works.
pub(super) const SWEEP: StageKey =
    bench("s", |_| sweep(Reach::Doubt), ("sweep", "Sweep: landmarks, then the surface where they leave room for doubt"));
/// The key that sweeps everything.
pub(super) const SURFACE: StageKey = bench("S", |_| sweep(Reach::Surface), ("", "Sweep every sector of the surface"));

const KEYS: &[StageKey] = &[
    drive(
        "enter",
        |drive| files::look_into(drive.selected_find()),
        ("look into", "Look into the selected find: whose files are these?"),
    ),
    SWEEP,
    SURFACE,
    drive("space", |drive| state::choose(drive, true), ("hold", "Hold the find in the layout, or let it go")),
    drive("d", |drive| state::choose(drive, false), ("drop", "Drop the find from the layout, or let it back")),
    drive("V", state::compare, ("compare", "Compare the find with the one that claims the same ground")),
    drive("T", state::change_scheme, ("MBR/GPT", "Change the scheme of the table: as the evidence says, MBR, GPT")),
    drive("y", state::change_type, ("", "Change the type of the find's entry: the next one that fits its kind")),
    drive(
        "z",
        state::ask_by_hand,
        ("", "Set start, length and type of the find's entry by hand, with what speaks for and against it"),
    ),
    drive(
        "/",
        |drive| {
            drive.sweep.list.typing = true;
            Vec::new()
        },
        ("find", "Show the finds that have these words: kind, name, grade, sector"),
    ),
    drive("o", state::order_next, ("", "Order the finds by the next column: place, grade, kind, name, size")),
    drive("r", state::reverse, ("", "Turn the order of the finds around")),
    plan::GO,
];

fn sweep(reach: Reach) -> Effects {
    let mut effects = vec![Effect::GoTo(StageId::Sweep)];
    effects.extend(begin(reach));
    effects
}

impl Stage for Sweep {
    fn word(&self) -> &'static str {
        "Sweep"
    }

    fn about(&self) -> &'static str {
        "The volumes that were found, on the keel's own scale: two that stand side by side claim the same ground. Below the list stands the layout that the evidence settles on, and why each find is in it or left out. Hold or drop finds; the rest is settled anew at once."
    }

    fn signs(&self) -> &'static [&'static str] {
        &[
            "Finds: ┏ in the layout, ╭ left out. Grades: certain (proven by references that meet), strong, weak, contradicted.",
            "Layout: + new, ~ changed, = as it is now, − goes. Witnesses: + speaks for it, − against it, · says nothing.",
        ]
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn step(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            drive.sweep.selected = drive.sweep.list.stepped(drive.sweep.selected, by);
        }
        Vec::new()
    }

    fn click(&self, app: &mut App, area: Rect, at: Position) -> Effects {
        let place = keel::byte_at(app, area, area.y + at.y);
        if let Some(drive) = &mut app.drive {
            view::click(drive, area, at, place);
        }
        Vec::new()
    }

    fn typing<'a>(&self, app: &'a mut App) -> Option<&'a mut LineEdit> {
        let list = &mut app.drive.as_mut()?.sweep.list;
        list.typing.then_some(&mut list.filter)
    }

    fn searched(&self, app: &mut App) -> Effects {
        app.drive.iter_mut().for_each(|drive| drive.sweep.choose_rows());
        Vec::new()
    }

    fn typed(&self, app: &mut App, keep: bool) -> Effects {
        app.drive.iter_mut().for_each(|drive| {
            drive.sweep.list.typed(keep);
            drive.sweep.choose_rows();
        });
        Vec::new()
    }

    fn selection(&self, drive: &Drive) -> Option<ByteRange> {
        drive.selected_find().map(Find::range)
    }

    fn carries_out(&self, advice: Advice) -> Option<&'static str> {
        match advice {
            Advice::GoOnSweeping | Advice::SweepOpen(_) | Advice::Sweep => Some("s"),
            Advice::Settle => Some(""),
            _ => None,
        }
    }

    fn table(&self, app: &App) -> Option<Table> {
        let sweep = &app.drive.as_ref()?.sweep;
        let columns = ["find", "kind", "name", "grade", "first sector", "sectors", "bytes", "score", "witnesses"];
        let row = |find: &Find| {
            let said = find.witnesses.iter().map(|witness| witness.says.as_str()).collect::<Vec<_>>().join("; ");
            let (kind, grade) = (find.kind.word(), find.grade.word());
            vec![
                json!(find.id),
                json!(kind),
                json!(find.name()),
                json!(grade),
                json!(find.start_lba.0),
                json!(find.sectors.0),
                json!(find.bytes),
                json!(find.score),
                json!(said),
            ]
        };
        let rows = sweep.list.rows().iter().filter_map(|row| sweep.finds.get(*row)).map(row).collect();
        Some(Table { rows, selected: Some(sweep.list.place(sweep.selected)), ..Table::new(&columns) })
    }

    fn standing(&self, drive: &Drive) -> Standing {
        match drive.sweep.swept {
            Swept::No => Standing::Open,
            Swept::Landmarks | Swept::Stopped => Standing::Doubt,
            Swept::Done => Standing::Done,
        }
    }

    fn reports(&self, drive: &mut Drive, _shown: Option<Rect>) -> Effects {
        state::reports(drive)
    }

    fn running(&self, drive: &Drive) -> Vec<Running> {
        let state = &drive.sweep;
        let surface = state.progress.as_ref().filter(|progress| progress.total > 0);
        let sweeps = match surface {
            None => runs(state.job.is_some(), Weight::Long, "landmarks"),
            Some(progress) => runs(state.job.is_some(), Weight::Long, "surface")
                .map(|running| running.at(progress.done, progress.total, progress.rate)),
        };
        sweeps.into_iter().chain(runs(state.looks_job.is_some(), Weight::Short, "reading two roots")).collect()
    }

    fn cancel(&self, drive: &mut Drive) {
        stop(drive.sweep.job.as_ref());
        stop(drive.sweep.looks_job.as_ref());
    }
}

#[cfg(test)]
mod tests;
