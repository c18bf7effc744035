//! Ladder: what holds of the drive and of each volume, from the link up to the files.

mod end;
mod shown;
mod state;
mod view;

use keel_core::advice::Advice;
use keel_core::export::Table;
use keel_core::ladder::Rung;
use keel_source::ByteRange;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use serde_json::json;

pub(crate) use state::{State, ask_ground, examine_drive};

use super::{Drive, Running, Stage, Standing, Weight, runs, stop, sweep};
use crate::app::App;
use crate::app::effect::Effects;
use crate::keys::{StageKey, drive};
use crate::stage::files;
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Ladder;

const KEYS: &[StageKey] = &[
    drive("enter", look_into, ("look into", "Look into the selected volume: whose files are these?")),
    sweep::SWEEP,
    sweep::SURFACE,
    drive("R", state::read_surface, ("", "Read the whole surface: where time and errors go")),
    drive(
        "U",
        shown::attach_or_detach,
        ("", "Attach, and detach again: this system shows its volumes, read-only, whether a table names them or not"),
    ),
    drive("Q", shown::release, ("", "Release the drive: unmounted, written, stopped, ready to be pulled")),
    drive(">", end::ask, ("", "End: a drive that shows less than it has is told to show all of it, or its former end again")),
    drive(";", shown::ask_test, ("", "Self-test: the drive tests itself, short or extended, or stops")),
    super::plan::GO,
];

fn look_into(drive: &mut Drive) -> Effects {
    files::look_into(drive.selected_volume_find())
}

impl Stage for Ladder {
    fn word(&self) -> &'static str {
        "Ladder"
    }

    fn about(&self) -> &'static str {
        "The base is the drive, rung 1 to 5; each volume stands on it with rungs 6 to 9 of its own. A whole rung is sound, a thinned one doubtful, one with a gap in the middle is broken, a dotted one was not tested. Start at the lowest broken rung."
    }

    fn signs(&self) -> &'static [&'static str] {
        &["On a rung: ╟━╢ sound, ╟╍╢ doubtful, ╟╴ ╶╢ broken, ╟┄╢ not tested; ▲ marks the lowest broken one."]
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn step(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            let rung = (drive.ladder.rung as isize).saturating_sub(by).clamp(1, 9);
            drive.ladder.rung = u32::try_from(rung).unwrap_or(5);
        }
        Vec::new()
    }

    fn sideways(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            let ladder = &mut drive.ladder;
            let count = ladder.now.as_ref().map_or(0, |now| now.volumes.len());
            ladder.volume = ladder.volume.saturating_add_signed(by).min(count.saturating_sub(1));
            // Left and right walk between volumes: the selection goes up to them.
            ladder.rung = ladder.rung.max(6);
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
        let volume = drive.ladder.now.as_ref().filter(|_| drive.ladder.rung > 5)?.volumes.get(drive.ladder.volume)?;
        Some(ByteRange::sized(volume.start_byte, volume.bytes))
    }

    fn carries_out(&self, advice: Advice) -> Option<&'static str> {
        matches!(advice, Advice::ReadDoubt(_)).then_some("")
    }

    fn table(&self, app: &App) -> Option<Table> {
        let drive = app.drive.as_ref()?;
        let ladder = drive.ladder.now.as_ref()?;
        let of_volumes =
            ladder.volumes.iter().flat_map(|volume| volume.rungs.iter().map(|rung| (volume.name().to_string(), rung)));
        let all: Vec<(String, &Rung)> = ladder.rungs.iter().map(|rung| (String::new(), rung)).chain(of_volumes).collect();
        let here = drive.ladder.rung;
        let of = ladder.volumes.get(drive.ladder.volume).map(|volume| volume.name().to_string()).unwrap_or_default();
        let is_selected = |(volume, rung): &(String, &Rung)| rung.rung.number() == here && (here <= 5 || *volume == of);
        let selected = all.iter().position(is_selected);
        let row = |(volume, rung): &(String, &Rung)| {
            let found = rung.findings.iter().map(|finding| finding.what.as_str()).collect::<Vec<_>>().join("; ");
            let (number, word) = (rung.rung.number(), rung.rung.word());
            vec![json!(volume), json!(number), json!(word), json!(rung.state), json!(rung.note), json!(found)]
        };
        let columns = ["volume", "rung", "name", "state", "note", "findings"];
        Some(Table { rows: all.iter().map(row).collect(), selected, ..Table::new(&columns) })
    }

    fn standing(&self, drive: &Drive) -> Standing {
        match &drive.ladder.now {
            None => Standing::Open,
            Some(ladder) if ladder.lowest_broken.is_some() => Standing::Doubt,
            Some(_) => Standing::Done,
        }
    }

    fn reports(&self, drive: &mut Drive, _shown: Option<Rect>) -> Effects {
        state::reports(drive)
    }

    fn running(&self, drive: &Drive) -> Vec<Running> {
        let ladder = &drive.ladder;
        let examining = ladder.job.is_some() || ladder.ground_job.is_some();
        let survey =
            runs(ladder.survey_job.is_some(), Weight::Long, "reading the surface").map(|running| match &ladder.surveying {
                Some(progress) => Running { errors: progress.errors, ..running.at(progress.done, progress.total, 0) },
                None => running,
            });
        let shown = runs(ladder.shown_job.is_some() || ladder.end_job.is_some(), Weight::Short, "at the volumes of this system");
        survey.into_iter().chain(shown).chain(runs(examining, Weight::Short, "examining the rungs")).collect()
    }

    fn cancel(&self, drive: &mut Drive) {
        stop(drive.ladder.ground_job.as_ref());
        stop(drive.ladder.job.as_ref());
        stop(drive.ladder.survey_job.as_ref());
    }
}

#[cfg(test)]
mod tests;
