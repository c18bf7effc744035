//! The foot: running jobs, and the few keys that matter here.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::{columns, put};
use crate::app::App;
use crate::stage::Drive;

/// What runs at all: what weighs most, and how much else.
fn at_work(app: &App) -> Option<String> {
    if app.opening.is_some() {
        return Some("opening the drive  x stops".into());
    }
    let running = app.drive.as_ref().map(Drive::running).unwrap_or_default();
    match running.as_slice() {
        [] => app.yard_job.is_some().then(|| "asking the drives".into()),
        [one] => Some(one.says.clone()),
        [first, rest @ ..] => Some(format!("{}  (and {} more)", first.says, rest.len())),
    }
}

/// A time that is left, in words.
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
    for binding in app.stage.bindings().filter(|binding| !binding.short.is_empty()) {
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
