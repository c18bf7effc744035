//! Fathom: how much the drive really stores.

mod state;
mod view;

use keel_core::advice::Advice;
use keel_core::export::Table;
use keel_core::fathom::Nature;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use serde_json::json;

pub(crate) use state::State;

use super::{Drive, Running, Stage, Standing, Weight, runs, stop};
use crate::app::App;
use crate::app::effect::Effects;
use crate::keys::{StageKey, drive};
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Fathom;

const KEYS: &[StageKey] = &[
    drive(
        "f",
        state::ask_probe,
        ("probe", "Prove the capacity: write tagged sectors at chosen places and put back what stood there"),
    ),
    drive("F", state::ask_fill, ("fill", "Write and verify every sector: everything on the drive is lost")),
    drive("G", state::estimate, ("estimate", "Only read: content that repeats is weak evidence")),
    drive("u", state::ask_put_back, ("put back", "Put back what an interrupted probe touched")),
];

impl Stage for Fathom {
    fn word(&self) -> &'static str {
        "Fathom"
    }

    fn about(&self) -> &'static str {
        "How much the drive can really store: the address that was written against the address that was read there. An honest drive is the diagonal; one that leads back shows teeth, one that drops shows nothing behind its end. A probe writes to chosen places and puts back what stood there; a fill writes everything."
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn carries_out(&self, advice: Advice) -> Option<&'static str> {
        match advice {
            Advice::PutBack => Some("u"),
            Advice::Measure => Some("f"),
            _ => None,
        }
    }

    fn table(&self, app: &App) -> Option<Table> {
        let fathom = &app.drive.as_ref()?.fathom;
        let points = fathom.verdict.as_ref().map_or(&fathom.points, |verdict| &verdict.plot);
        let rows = points.iter().map(|point| vec![json!(point.at.0), json!(point.seen)]).collect();
        Some(Table { rows, ..Table::new(&["byte", "seen"]) })
    }

    fn standing(&self, drive: &Drive) -> Standing {
        match &drive.fathom.verdict {
            None => Standing::Open,
            Some(verdict) if verdict.nature == Nature::Honest => Standing::Done,
            Some(_) => Standing::Doubt,
        }
    }

    fn reports(&self, drive: &mut Drive, _shown: Option<Rect>) -> Effects {
        state::reports(drive)
    }

    fn running(&self, drive: &Drive) -> Vec<Running> {
        let fathom = &drive.fathom;
        let weight = if fathom.writes() { Weight::Writes } else { Weight::Long };
        let what = fathom.progress.as_ref().map_or("measuring", |progress| progress.phase.word());
        let measuring = runs(fathom.job.is_some(), weight, what).map(|running| match &fathom.progress {
            Some(progress) => running.at(progress.done, progress.total, progress.rate),
            None => running,
        });
        let back = runs(fathom.restore_job.is_some(), Weight::Writes, "putting back").map(Running::whole);
        back.into_iter().chain(measuring).collect()
    }

    /// What a measurement touched is put back before it ends. A restoration is never stopped.
    fn cancel(&self, drive: &mut Drive) {
        stop(drive.fathom.job.as_ref());
    }
}

#[cfg(test)]
mod tests;
