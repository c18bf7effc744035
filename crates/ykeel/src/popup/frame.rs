//! The frame of a popup: title, content, and its keys at the foot.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::widgets::{Clear, Widget};

use super::{Content, Place, Popup, Tone};
use crate::app::App;
use crate::widget::{self, bar, columns, first_shown, put, wrap};

/// Columns and rows that the frame takes around what it holds.
const AROUND: (u16, u16) = (6, 4);

/// The most that a popup may hold in a terminal of this size, in its place there.
pub(crate) fn inner(area: Rect) -> Rect {
    let width = area.width.saturating_sub(16).clamp(area.width.min(60), 96);
    Rect::new(0, 0, width.saturating_sub(AROUND.0), area.height.saturating_sub(4 + AROUND.1))
}

/// What a popup over all of the terminal may hold.
pub(crate) fn whole(area: Rect) -> Rect {
    Rect::new(0, 0, area.width.saturating_sub(AROUND.0), area.height.saturating_sub(2 + AROUND.1))
}

/// Draws a popup where it stands in the terminal.
pub(crate) fn draw(app: &App, popup: &dyn Popup, area: Rect, buf: &mut Buffer) {
    let side = widget::parts(area, false).map(|parts| parts.why).filter(|_| popup.place() == Place::Side);
    let most = match (side, popup.place()) {
        (Some(side), _) => Rect::new(0, 0, side.width.saturating_sub(AROUND.0), side.height.saturating_sub(AROUND.1)),
        (None, Place::Whole) => whole(area),
        (None, _) => inner(area),
    };
    let mut content = popup.content(app, usize::from(most.width));
    if side.is_some() {
        // The foot of a narrow frame has no room for them.
        content.rows.push((String::new(), Tone::Plain));
        // A key and its word stay on one line.
        let whole = |(key, word): (&str, &str)| format!("{key} {word}").replace(' ', "\u{a0}");
        let keys = popup.keys().into_iter().map(whole).collect::<Vec<_>>().join("   ");
        let lines = wrap(&keys, usize::from(most.width));
        content.rows.extend(lines.into_iter().map(|line| (line.replace('\u{a0}', " "), Tone::Dim)));
    }
    let rows = match popup.place() {
        Place::Whole => most.height,
        _ => u16::try_from(content.head.len() + content.rows.len()).unwrap_or(u16::MAX).min(most.height),
    };
    let (width, height) = ((most.width + AROUND.0).min(area.width), (rows + AROUND.1).min(area.height));
    let frame = match side {
        Some(side) => Rect { height, ..side },
        None => Rect::new(area.x + (area.width - width) / 2, area.y + (area.height - height) / 2, width, height),
    };
    Clear.render(frame.intersection(buf.area), buf);
    draw_frame(app, frame, popup, buf);
    let inner = Rect::new(frame.x + 3, frame.y + 2, width.saturating_sub(AROUND.0), height.saturating_sub(AROUND.1));
    match popup.place() {
        Place::Whole => popup.paint(app, inner, buf),
        _ => draw_content(app, &content, inner, buf),
    }
}

fn draw_content(app: &App, content: &Content, area: Rect, buf: &mut Buffer) {
    let head = content.head.len().min(usize::from(area.height));
    for (y, line) in content.head.iter().take(head).enumerate() {
        put(buf, area, 0, u16::try_from(y).unwrap_or(0), line, app.theme.text());
    }
    let top = u16::try_from(head).unwrap_or(0);
    let below = Rect { y: area.y + top, height: area.height - top, ..area };
    let room = usize::from(below.height);
    let first = match content.selected {
        Some(selected) => first_shown(selected, content.rows.len(), room),
        None => content.from.min(content.rows.len().saturating_sub(room)),
    };
    for (row, (text, tone)) in content.rows.iter().enumerate().skip(first).take(room) {
        let y = u16::try_from(row - first).unwrap_or(0);
        let style = match tone {
            Tone::Plain => app.theme.text(),
            Tone::Dim => app.theme.dim(),
        };
        put(buf, below, 0, y, text, style);
        if content.selected == Some(row) {
            bar(buf, below, y, app.theme.selected());
        }
    }
    let left = content.rows.len().saturating_sub(first + room);
    if left > 0 {
        let more = format!(" {left} more ");
        let x = area.width.saturating_sub(u16::try_from(columns(&more)).unwrap_or(0));
        // On the row between the content and the frame's foot.
        put(buf, Rect { height: area.height + 1, ..area }, x, area.height, &more, app.theme.dim());
    }
}

/// Keys with their words, on one line.
fn spoken(keys: impl Iterator<Item = (&'static str, &'static str)>) -> String {
    keys.map(|(key, word)| format!("{key} {word}")).collect::<Vec<_>>().join("   ")
}

fn draw_frame(app: &App, frame: Rect, popup: &dyn Popup, buf: &mut Buffer) {
    let style = app.theme.strong();
    let line = "─".repeat(usize::from(frame.width.saturating_sub(2)));
    put(buf, frame, 0, 0, &format!("╭{line}╮"), style);
    for y in 1..frame.height.saturating_sub(1) {
        put(buf, frame, 0, y, "│", style);
        put(buf, frame, frame.width.saturating_sub(1), y, "│", style);
    }
    put(buf, frame, 0, frame.height.saturating_sub(1), &format!("╰{line}╯"), style);
    put(buf, frame, 3, 0, &format!(" {} ", popup.title(app)), style);
    let own = if popup.place() == Place::Side { Vec::new() } else { popup.keys() };
    let keys = format!(" {} ", spoken(own.into_iter().chain([("esc", "closes")])));
    let x = frame.width.saturating_sub(u16::try_from(columns(&keys)).unwrap_or(0) + 2);
    put(buf, frame, x, frame.height.saturating_sub(1), &keys, app.theme.dim());
}
