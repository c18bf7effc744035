//! Parts that every stage shares, and the tools they are drawn with.

pub(crate) mod course;
pub(crate) mod foot;
pub(crate) mod hex;
pub(crate) mod keel;
pub(crate) mod why;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Least width of a terminal.
const LEAST_WIDTH: u16 = 100;
/// Least height of a terminal.
const LEAST_HEIGHT: u16 = 30;

/// Where the parts of a frame stand.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Parts {
    pub(crate) title: Rect,
    pub(crate) course: Rect,
    pub(crate) keel: Rect,
    pub(crate) middle: Rect,
    pub(crate) why: Rect,
    pub(crate) foot: Rect,
}

/// The parts of a terminal of this size; none when it is too small.
pub(crate) fn parts(area: Rect) -> Option<Parts> {
    if area.width < LEAST_WIDTH || area.height < LEAST_HEIGHT {
        return None;
    }
    let keel = 28;
    let why = (area.width * 27 / 100).clamp(28, 48);
    let body = Rect::new(area.x, area.y + 2, area.width, area.height - 3);
    let line = |y| Rect::new(area.x, y, area.width, 1);
    Some(Parts {
        title: line(area.y),
        course: line(area.y + 1),
        keel: Rect { width: keel, ..body },
        middle: Rect { x: body.x + keel + 1, width: body.width - keel - why - 2, ..body },
        why: Rect { x: body.right() - why, width: why, ..body },
        foot: line(area.bottom() - 1),
    })
}

/// Writes `text` at column `x` and row `y` of `area`, cut at its edge. Control characters never pass: what comes from
/// a drive is made printable here once more.
pub(crate) fn put(buf: &mut Buffer, area: Rect, x: u16, y: u16, text: &str, style: Style) {
    let (left, top) = (area.x.saturating_add(x), area.y.saturating_add(y));
    let area = area.intersection(buf.area);
    if top >= area.bottom() || left >= area.right() || top < area.y {
        return;
    }
    let room = usize::from(area.right() - left);
    buf.set_stringn(left, top, keel_source::printable(text), room, style);
}

/// Fills the rest of a row with `style`.
pub(crate) fn bar(buf: &mut Buffer, area: Rect, y: u16, style: Style) {
    let row = Rect { y: area.y.saturating_add(y), height: 1, ..area }.intersection(area);
    buf.set_style(row.intersection(buf.area), style.remove_modifier(ratatui::style::Modifier::DIM));
}

/// A line down the left edge outside of `area`.
pub(crate) fn rule(buf: &mut Buffer, area: Rect, style: Style) {
    for y in 0..area.height {
        let left = Rect { x: area.x.saturating_sub(1), width: 1, ..area };
        put(buf, left, 0, y, "│", style);
    }
}

/// `text` in lines of at most `width` columns, broken at spaces.
pub(crate) fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    for paragraph in text.lines() {
        let mut line = String::new();
        for word in paragraph.split(' ') {
            let long = columns(&line) + columns(word) + 1;
            if !line.is_empty() && long > width {
                lines.push(std::mem::take(&mut line));
            }
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
            while columns(&line) > width.max(1) {
                let cut = line.char_indices().map(|(at, _)| at).take_while(|at| *at <= width.max(1)).last().unwrap_or(0).max(1);
                let cut = if line.is_char_boundary(cut) { cut } else { line.chars().next().map_or(1, char::len_utf8) };
                let rest = line.split_off(cut);
                lines.push(std::mem::replace(&mut line, rest));
            }
        }
        lines.push(line);
    }
    lines
}

/// `text` with its first letter large.
pub(crate) fn capital(text: &str) -> String {
    let mut signs = text.chars();
    signs.next().map_or_else(String::new, |first| first.to_uppercase().collect::<String>() + signs.as_str())
}

/// Width of `text` on the terminal.
pub(crate) fn columns(text: &str) -> usize {
    ratatui::text::Span::raw(text).width()
}

/// First row shown of a list of `count` rows so that row `selected` stands inside `height` rows.
pub(crate) fn first_shown(selected: usize, count: usize, height: usize) -> usize {
    selected.saturating_sub(height / 2).min(count.saturating_sub(height))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_wraps_at_spaces_and_long_words_are_cut() {
        assert_eq!(wrap("one two three", 7), ["one two", "three"]);
        assert_eq!(wrap("abcdefghij", 4), ["abcd", "efgh", "ij"]);
        assert!(wrap("ééééééééé 東東東東東東", 3).iter().all(|line| columns(line) <= 4));
    }

    #[test]
    fn a_list_keeps_its_selection_in_sight() {
        for (selected, count, height) in [(0, 5, 10), (999_999, 1_000_000, 30), (17, 40, 10), (0, 0, 5)] {
            let first = first_shown(selected, count, height);
            assert!(first <= selected && (selected < first + height || count == 0));
        }
    }

    #[test]
    fn small_terminals_have_no_parts_and_larger_ones_no_overlap() {
        assert!(parts(Rect::new(0, 0, 99, 30)).is_none() && parts(Rect::new(0, 0, 0, 0)).is_none());
        for (width, height) in [(100, 30), (160, 45), (300, 100)] {
            let parts = parts(Rect::new(0, 0, width, height)).unwrap();
            assert!(parts.keel.right() < parts.middle.x && parts.middle.right() < parts.why.x && parts.why.right() == width);
        }
    }
}
