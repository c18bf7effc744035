//! Copy: an image of a sick drive, sound parts first.

mod state;
mod view;

use keel_core::advice::Advice;
use keel_core::export::Table;
use keel_source::ByteRange;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use serde_json::json;

pub(crate) use state::{State, pause};

use super::{Drive, Running, Stage, Standing, Weight, runs, stop};
use crate::app::App;
use crate::app::effect::Effects;
use crate::keys::{StageKey, bench, drive};
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Copy;

const KEYS: &[StageKey] = &[
    bench("C", state::ask_copy, ("copy", "Begin a copy of the drive, or go on with it")),
    drive("space", state::pause, ("rest", "Let the copy rest, or go on")),
    drive("N", state::skip_pass, ("skip", "End the pass that runs; the next one begins")),
    drive("o", state::change_order, ("order", "Order of the copy: what the volumes need first, or as the drive has it")),
    drive("H", state::verify, ("verify", "Compare the copy with the hashes taken while it was read")),
    bench("enter", state::work_on_copy, ("work on it", "Go over to the copy: every stage works on it")),
];

impl Stage for Copy {
    fn word(&self) -> &'static str {
        "Copy"
    }

    fn about(&self) -> &'static str {
        "An image of a sick drive, sound parts first: large reads, then the edges of what failed, then what lies between, then once more. It can rest, be stopped, and gone on with. What did not come over is unreadable in the copy, never zeros. When it is there, enter goes over to it and every stage works on the copy."
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn carries_out(&self, advice: Advice) -> Option<&'static str> {
        match advice {
            Advice::CopyFirst { .. } => Some("C"),
            Advice::WorkOnCopy => Some("enter"),
            _ => None,
        }
    }

    fn table(&self, app: &App) -> Option<Table> {
        let copy = &app.drive.as_ref()?.copy;
        let rows = copy.missing().iter().map(|range| vec![json!(range.start.0), json!(range.len())]).collect();
        Some(Table { rows, selected: Some(copy.selected), ..Table::new(&["missing from byte", "bytes"]) })
    }

    fn step(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            let last = drive.copy.missing().len().saturating_sub(1);
            drive.copy.selected = drive.copy.selected.saturating_add_signed(by).min(last);
        }
        Vec::new()
    }

    fn selection(&self, drive: &Drive) -> Option<ByteRange> {
        let reads = drive.copy.progress.as_ref().filter(|_| drive.copy.job.is_some());
        // While it copies: where it reads.
        reads.map(|progress| ByteRange::sized(progress.at, 1)).or_else(|| drive.copy.missing().get(drive.copy.selected).copied())
    }

    fn standing(&self, drive: &Drive) -> Standing {
        let copy = &drive.copy;
        let kept = copy.kept.as_ref().map(|map| map.missing().is_empty());
        match (&copy.done, kept, drive.source.missing().is_empty()) {
            (_, _, false) => Standing::Doubt,
            (Some(done), ..) if done.copied_bytes == done.bytes => Standing::Done,
            (None, Some(true), _) => Standing::Done,
            (Some(_), ..) | (None, Some(false), _) => Standing::Doubt,
            (None, None, _) => Standing::Open,
        }
    }

    fn reports(&self, drive: &mut Drive, _shown: Option<Rect>) -> Effects {
        state::reports(drive)
    }

    fn running(&self, drive: &Drive) -> Vec<Running> {
        let copy = &drive.copy;
        let copying = runs(copy.job.is_some(), Weight::Long, "copy").map(|running| {
            let running = Running { rests: copy.control.is_paused(), ..running };
            match &copy.progress {
                Some(progress) => {
                    Running { errors: progress.errors, ..running.at(progress.copied, progress.total, progress.rate) }
                }
                None => running,
            }
        });
        let comparing = runs(copy.verify_job.is_some(), Weight::Long, "comparing the copy");
        let all = [
            copying,
            comparing.map(|running| match copy.verifying {
                Some(progress) => running.at(progress.done, progress.total, 0),
                None => running,
            }),
            runs(copy.place_job.is_some(), Weight::Short, "asking the destination"),
        ];
        all.into_iter().flatten().collect()
    }

    fn cancel(&self, drive: &mut Drive) {
        drive.copy.control.pause(false);
        stop(drive.copy.job.as_ref());
        stop(drive.copy.verify_job.as_ref());
        stop(drive.copy.place_job.as_ref());
    }
}

#[cfg(test)]
mod tests;
