//! The foot: running jobs, and the few keys that matter here.

use keel_source::size_decimal;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::{columns, put};
use crate::app::App;
use crate::app::drive::{Drive, Writing};
use crate::keymap;

/// What runs at all.
fn at_work(app: &App) -> Option<String> {
    if app.opening.is_some() {
        return Some("opening the drive  x stops".into());
    }
    app.drive.as_ref().and_then(running).or_else(|| app.yard_job.is_some().then(|| "asking the drives".into()))
}

/// What runs on the drive, with progress, rate and time left.
pub(crate) fn running(drive: &Drive) -> Option<String> {
    if let Some(writing) = &drive.writing {
        return Some(match writing {
            Writing::Apply(_) => format!("APPLYING  step {}", drive.written),
            Writing::Recover(_) => format!("putting back  step {}", drive.written),
            Writing::Save(_) => format!("saving the copy  {}", size_decimal(drive.written)),
        });
    }
    if drive.sweep_job.is_some() {
        let Some(progress) = drive.progress.as_ref().filter(|progress| progress.total > 0) else {
            return Some("landmarks".into());
        };
        let percent = progress.done.saturating_mul(100) / progress.total.max(1);
        let left = progress.total.saturating_sub(progress.done).checked_div(progress.rate);
        let left = left.map_or_else(String::new, |seconds| format!("  {}", time_left(seconds)));
        return Some(format!("surface {percent} %  {}/s{left}  x stops", size_decimal(progress.rate)));
    }
    if let Some(progress) = &drive.extract_progress {
        return Some(format!("taking out  {} files  {}  x stops", progress.files, size_decimal(progress.bytes)));
    }
    if let Some(progress) = drive.copy.progress.as_ref().filter(|_| drive.copy.job.is_some()) {
        let percent = progress.copied.saturating_mul(100) / progress.total.max(1);
        return Some(format!("copy {percent} %  {}/s  {} errors  x stops", size_decimal(progress.rate), progress.errors));
    }
    if let Some(progress) = drive.copy.verifying {
        return Some(format!("comparing the copy {} %", progress.done.saturating_mul(100) / progress.total.max(1)));
    }
    if drive.fathom.restore_job.is_some() {
        return Some("WRITING  putting back".into());
    }
    if let Some(progress) = drive.fathom.progress.as_ref().filter(|_| drive.fathom.job.is_some()) {
        let percent = progress.done.saturating_mul(100) / progress.total.max(1);
        return Some(format!("{} {percent} %  x stops", progress.phase.word()));
    }
    if let Some(progress) = &drive.surveying {
        let percent = progress.done.saturating_mul(100) / progress.total.max(1);
        return Some(format!("reading {percent} %  {} failed  x stops", progress.errors));
    }
    if drive.report_job.is_some() {
        return Some("writing the report  x stops".into());
    }
    if drive.proof_job.is_some() {
        return Some("proving what was written".into());
    }
    if drive.settle_job.is_some() {
        return Some("settling layout and plan  x stops".into());
    }
    if drive.ladder_job.is_some() || drive.after_job.is_some() || drive.ground_job.is_some() {
        return Some("examining the rungs  x stops".into());
    }
    if drive.mend.is_busy() {
        return Some("checking  x stops".into());
    }
    (drive.files.is_busy() || drive.looks_job.is_some()).then(|| "reading  x stops".into())
}

pub(crate) fn time_left(seconds: u64) -> String {
    match seconds {
        0..100 => format!("{seconds} s left"),
        100..6000 => format!("{} min left", seconds / 60),
        _ => format!("{} h left", seconds / 3600),
    }
}

/// Draws the foot.
pub(crate) fn draw(app: &App, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let running = at_work(app);
    let (left, style) = match (&running, &app.told) {
        (_, Some(told)) => (told.clone(), theme.strong()),
        (Some(running), None) => (running.clone(), theme.strong()),
        (None, None) => ("idle".to_string(), theme.dim()),
    };
    put(buf, area, 1, 0, &left, style);
    let room = usize::from(area.width).saturating_sub(columns(&left) + 6);
    let mut keys = String::new();
    for binding in keymap::bindings(app.stage).filter(|binding| binding.foot) {
        let piece = format!("{} {}", binding.keys, binding.short);
        if columns(&keys) + columns(&piece) + 3 > room {
            break;
        }
        if !keys.is_empty() {
            keys.push_str("   ");
        }
        keys.push_str(&piece);
    }
    let x = usize::from(area.width).saturating_sub(columns(&keys) + 1);
    put(buf, area, u16::try_from(x).unwrap_or(0), 0, &keys, theme.dim());
}
