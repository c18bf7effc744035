//! Yard: the drives on the bench.

use keel_source::{printable, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

use super::intake;
use crate::app::App;
use crate::widget::why::Why;
use crate::widget::{bar, first_shown, put, wrap};

/// Rows of one drive: name and facts, what was told, a gap.
const ROWS: usize = 4;
/// Row of the first drive.
const TOP: u16 = 2;

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let theme = app.theme;
    let panel = if area.height > 30 { intake::ROWS } else { 0 };
    if panel > 0 && !app.berths.is_empty() {
        intake::draw(app, Rect { y: area.bottom() - panel, height: panel, ..area }, buf);
    }
    let area = Rect { height: area.height - panel, ..area };
    put(buf, area, 1, 0, "drive", theme.dim());
    put(buf, area, 36, 0, "size       attached as", theme.dim());
    let shown = usize::from(area.height.saturating_sub(TOP)) / ROWS;
    let first = first_shown(app.berth, app.berths.len(), shown);
    for (row, berth) in app.berths.iter().enumerate().skip(first).take(shown) {
        let y = TOP + u16::try_from((row - first) * ROWS).unwrap_or(0);
        let name = printable(&berth.path.file_name().unwrap_or_default().to_string_lossy());
        let name = name.trim_end_matches(".drive.toml").trim_end_matches(".img").to_string();
        put(buf, area, 1, y, &name, theme.strong());
        match (&berth.identity, &berth.problem) {
            (Some(identity), _) => {
                put(buf, area, 36, y, &format!("{:<10} {}", size_decimal(identity.bytes), identity.link.word()), theme.text());
            }
            (None, problem) => put(buf, area, 36, y, problem.as_deref().unwrap_or("does not open"), theme.bad()),
        }
        if let Some(case) = &berth.case {
            put(buf, area, 64, y, &format!("case {case}"), theme.dim());
        }
        if berth.probe_interrupted.is_some() {
            put(buf, area, 1, y + 2, "a probe was interrupted: open it, and put back what it touched in Fathom", theme.bad());
        }
        if berth.interrupted.is_some() {
            put(buf, area, 1, y + 2, "an apply was interrupted: open it to finish or roll back", theme.bad());
        }
        if let Some(twin) = berth.same_identifier.first() {
            let twin = printable(&twin.file_name().unwrap_or_default().to_string_lossy());
            put(
                buf,
                area,
                1,
                y + 2,
                &format!("has the disk identifier of {twin}: an operating system shows one of the two"),
                theme.doubt(),
            );
        }
        let told = berth.symptom.as_deref().unwrap_or("nothing was told");
        for (line, text) in wrap(told, usize::from(area.width.saturating_sub(4))).iter().take(2).enumerate() {
            put(buf, area, 3, y + 1 + u16::try_from(line).unwrap_or(0), text, theme.dim());
        }
        if row == app.berth {
            bar(buf, area, y, theme.selected());
        }
    }
    if app.berths.is_empty() {
        put(buf, area, 1, TOP, "No image or simulated drive lies in this folder.", theme.text());
        put(buf, area, 1, TOP + 1, "Start with `ykeel demo`, or name drives: ykeel SOURCE...", theme.dim());
    }
    why(app)
}

fn why(app: &App) -> Why {
    let theme = app.theme;
    let mut why = Why::default();
    why.say("Why", theme.strong());
    let Some(berth) = app.berths.get(app.berth) else { return why };
    why.gap();
    if let Some(symptom) = &berth.symptom {
        why.say("As told", theme.strong());
        why.say(symptom.clone(), theme.text());
        why.gap();
    }
    if let Some(identity) = &berth.identity {
        why.say("What the drive says", theme.strong());
        let or_none = |text: &Option<String>| text.clone().unwrap_or_else(|| "not told".into());
        why.say(format!("model     {}", or_none(&identity.model)), theme.text());
        why.say(format!("serial    {}", or_none(&identity.serial)), theme.text());
        why.say(format!("firmware  {}", or_none(&identity.firmware)), theme.text());
        why.say(format!("bytes     {}", identity.bytes), theme.text());
        why.say(
            format!(
                "sectors   {} of {}/{} B",
                identity.bytes / identity.logical_sector.bytes(),
                identity.logical_sector.0,
                identity.physical_sector.0
            ),
            theme.text(),
        );
        why.gap();
    }
    if let Some(problem) = &berth.problem {
        why.say(problem.clone(), theme.bad());
        why.gap();
    }
    why.say("Next", theme.strong());
    if let Some(check) = app.case.as_ref().and_then(keel_core::case::Case::next_check) {
        why.say(format!("· check: {} ({} min); c notes it", check.words, check.minutes), theme.accent());
    }
    why.say("· enter opens the drive, read-only, and asks every rung of its ladder", theme.text());
    why.gap();
    why.say(printable(&berth.path.display().to_string()), theme.dim());
    why
}

/// The drive that stands at a place of the stage.
pub(super) fn row_at(app: &App, area: Rect, at: Position) -> Option<usize> {
    let panel = if area.height > 30 { intake::ROWS } else { 0 };
    let shown = usize::from((area.height - panel).saturating_sub(TOP)) / ROWS;
    let first = first_shown(app.berth, app.berths.len(), shown);
    let row = first + usize::from(at.y.saturating_sub(TOP)) / ROWS;
    (at.y < area.height - panel && row < app.berths.len()).then_some(row)
}
