//! The foot: running jobs, and the few keys that matter here.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::{columns, course, cut, put};
use crate::app::App;
use crate::keys::shown;
use crate::stage::{Drive, Running};

/// The key that explains all others.
const HELP: &str = "? help";
/// A narrower terminal says the next step here.
const SAYS_NEXT: u16 = 130;

/// What runs at all: what weighs most, and how much else.
fn at_work(app: &App) -> Option<String> {
    if app.opening.is_some() {
        return Some("opening the drive  x stops".into());
    }
    // What runs on the drive that is looked at comes first.
    let running: Vec<Running> = app.drives().flat_map(Drive::running).collect();
    match running.as_slice() {
        [] if app.round.is_busy() => {
            let (done, total) = app.round.share();
            Some(format!("asking all drives  {done} of {total}  x stops"))
        }
        [] => app.yard_job.is_some().then(|| "asking the drives".into()),
        [one] => Some(one.line()),
        [first, rest @ ..] => Some(format!("{}  (J: {} more)", first.line(), rest.len())),
    }
}

/// Draws the foot.
pub(crate) fn draw(app: &App, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let running = at_work(app);
    let (left, style) = match (&running, &app.told) {
        (_, Some(told)) => (told.clone(), theme.strong()),
        (Some(running), None) => (running.clone(), theme.strong()),
        // Where the course has no room for it.
        (None, None) if area.width < SAYS_NEXT => (format!("next: {}", course::recommended(app).1), theme.accent()),
        (None, None) => ("idle".to_string(), theme.dim()),
    };
    // The key that explains all others has its place at any width.
    let width = usize::from(area.width);
    let left = cut(&left, width.saturating_sub(columns(HELP) + 4));
    put(buf, area, 1, 0, &left, style);
    let room = width.saturating_sub(columns(&left) + columns(HELP) + 8);
    let mut keys = String::new();
    for binding in app.stage.bindings().filter(|binding| !binding.short.is_empty() && binding.keys != "?") {
        let piece = format!("{} {}   ", shown(binding.keys), binding.short);
        if columns(&keys) + columns(&piece) > room {
            break;
        }
        keys.push_str(&piece);
    }
    keys.push_str(HELP);
    let x = usize::from(area.width).saturating_sub(columns(&keys) + 1);
    put(buf, area, u16::try_from(x).unwrap_or(0), 0, &keys, theme.dim());
}
