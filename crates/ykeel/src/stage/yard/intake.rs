//! The intake in the Yard: what was told of the selected drive, and the checks made on it.

use keel_core::intake::{self, CHECKS, Cause, Outcome};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::App;
use crate::widget::{put, wrap};

/// Rows that the panel takes.
pub(super) const ROWS: u16 = 15;

/// Draws the case of the selected drive.
pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    put(buf, area, 0, 0, &"─".repeat(usize::from(area.width)), theme.line());
    let Some(case) = &app.case else {
        put(buf, area, 1, 0, " no case is open ", theme.dim());
        put(
            buf,
            area,
            1,
            2,
            "i  what the client sees    t  an error message, as pasted    B  checks made outside the computer",
            theme.text(),
        );
        put(buf, area, 1, 3, "Each of them opens a case for this drive, with a journal that proves itself.", theme.dim());
        return;
    };
    put(buf, area, 1, 0, &format!(" case {}  {} ", case.record.name, case.record.client), theme.strong());
    let half = area.width / 2;
    let left = Rect { width: half.saturating_sub(1), ..area };
    let mut y = 1;
    let width = usize::from(left.width.saturating_sub(3));
    let mut say = |text: &str, style| {
        for line in wrap(text, width) {
            if y < area.height {
                put(buf, left, 1, y, &line, style);
            }
            y += 1;
        }
    };
    let symptoms: Vec<_> = case.record.told.symptoms.iter().filter_map(|id| intake::symptom(id)).collect();
    for symptom in &symptoms {
        say(&format!("sees  {}", symptom.words), theme.text());
    }
    for text in case.record.told.texts.iter().rev().take(2) {
        say(&format!("told  {}", text.lines().next().unwrap_or_default()), theme.dim());
    }
    let mut rungs: Vec<_> = symptoms.iter().flat_map(|symptom| symptom.rungs.iter().copied()).collect();
    rungs.sort_unstable();
    rungs.dedup();
    if !rungs.is_empty() {
        let words: Vec<String> = rungs.iter().map(|rung| format!("{} {}", rung.number(), rung.word())).collect();
        say(&format!("may come from  {}", words.join(", ")), theme.text());
        let causes: Vec<&str> = case.remaining().into_iter().map(Cause::word).collect();
        say(&format!("at fault may be  {}", causes.join(", ")), theme.strong());
    }
    if let Some(copy) = &case.record.copy {
        say(&format!("copy  {}", copy.display()), theme.dim());
    }
    let right = Rect { x: area.x + half, width: area.width - half, ..area };
    let next = case.next_check();
    for (row, check) in CHECKS.iter().enumerate() {
        let made = case.record.checks.iter().find(|made| made.check == check.id);
        let (mark, result, style) = match made.map(|made| made.outcome) {
            Some(Outcome::Yes) => ("●", check.results.0, theme.strong()),
            Some(Outcome::No) => ("○", check.results.1, theme.text()),
            None if next.is_some_and(|next| next.id == check.id) => ("▶", "next", theme.accent()),
            None => (" ", "", theme.dim()),
        };
        put(buf, right, 0, 1 + u16::try_from(row).unwrap_or(0), &format!("{mark} {result:<11} {}", check.short), style);
    }
}
