//! Parts that every stage shares, and the tools they are drawn with.

pub(crate) mod ascii;
pub(crate) mod course;
pub(crate) mod foot;
pub(crate) mod ground;
pub(crate) mod hex;
pub(crate) mod keel;
pub(crate) mod times;
pub(crate) mod why;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// The least terminal with the keel at its full width and the right side beside the stage.
const FULL: (u16, u16) = (120, 30);
/// The least terminal at all.
pub(crate) const LEAST: (u16, u16) = (80, 24);
/// Columns of the keel, and of the strip that it folds to.
const KEEL: u16 = 36;
const STRIP: u16 = 8;

/// Where the parts of a frame stand.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Parts {
    pub(crate) title: Rect,
    pub(crate) course: Rect,
    pub(crate) keel: Rect,
    pub(crate) middle: Rect,
    pub(crate) why: Rect,
    pub(crate) foot: Rect,
    /// True on a small terminal: the keel is a strip, and the right side a key away.
    pub(crate) is_small: bool,
}

/// The parts of a terminal of this size; none when it is too small. A stage that is `wide` has the keel's place too.
pub(crate) fn parts(area: Rect, wide: bool) -> Option<Parts> {
    if area.width < LEAST.0 || area.height < LEAST.1 {
        return None;
    }
    let is_small = area.width < FULL.0 || area.height < FULL.1;
    let keel = match (wide, is_small) {
        (true, _) => 0,
        (false, true) => STRIP,
        (false, false) => KEEL,
    };
    let why = if is_small { 0 } else { (area.width * 27 / 100).clamp(28, 60) };
    let body = Rect::new(area.x, area.y + 2, area.width, area.height - 3);
    let line = |y| Rect::new(area.x, y, area.width, 1);
    let left = if keel > 0 { keel + 1 } else { 0 };
    let right = if why > 0 { why + 1 } else { 0 };
    let middle = Rect { x: body.x + left, width: body.width - left - right, ..body };
    Some(Parts {
        title: line(area.y),
        course: line(area.y + 1),
        keel: Rect { width: keel, ..body },
        middle,
        why: if is_small { middle } else { Rect { x: body.right() - why, width: why, ..body } },
        foot: line(area.bottom() - 1),
        is_small,
    })
}

/// `text` in at most `width` columns; one that is longer ends with a mark.
pub(crate) fn cut(text: &str, width: usize) -> String {
    if columns(text) <= width {
        return text.to_string();
    }
    let mut kept = String::new();
    for sign in text.chars() {
        let longer = columns(&kept) + columns(sign.encode_utf8(&mut [0; 4]));
        if longer + 1 > width {
            break;
        }
        kept.push(sign);
    }
    if width > 0 {
        kept.push('…');
    }
    kept
}

/// Writes `text` at column `x` and row `y` of `area`, cut with a mark at its edge; lines that divide are cut without. Control characters
/// never pass: what comes from a drive is made printable here once more.
pub(crate) fn put(buf: &mut Buffer, area: Rect, x: u16, y: u16, text: &str, style: Style) {
    let (left, top) = (area.x.saturating_add(x), area.y.saturating_add(y));
    let area = area.intersection(buf.area);
    if top >= area.bottom() || left >= area.right() || top < area.y {
        return;
    }
    let room = usize::from(area.right() - left);
    let text = keel_source::printable(text);
    let says = text.chars().any(char::is_alphanumeric);
    let text = if says { cut(&text, room) } else { text };
    #[cfg(test)]
    written::note(left, top, &text);
    buf.set_stringn(left, top, text, room, style);
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

/// What was written where, for the test that nothing is written over something else.
#[cfg(test)]
pub(crate) mod written {
    use std::cell::RefCell;

    thread_local! {
        static ALL: RefCell<Option<Vec<(u16, u16, String)>>> = const { RefCell::new(None) };
    }

    pub(super) fn note(x: u16, y: u16, text: &str) {
        ALL.with_borrow_mut(|all| {
            if let Some(all) = all {
                all.push((x, y, text.to_string()));
            }
        });
    }

    /// Everything that `draw` writes: column, row and text.
    pub(crate) fn by(draw: impl FnOnce()) -> Vec<(u16, u16, String)> {
        ALL.with_borrow_mut(|all| *all = Some(Vec::new()));
        draw();
        ALL.with_borrow_mut(Option::take).unwrap_or_default()
    }
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
    fn what_is_cut_says_so_and_wide_signs_count_twice() {
        for (text, width, shown) in [
            ("quay", 4, "quay"),
            ("quayside", 5, "quay…"),
            ("東京湾", 5, "東京…"),
            ("東京湾", 4, "東…"),
            ("ab", 1, "…"),
            ("ab", 0, ""),
        ] {
            assert_eq!(cut(text, width), shown);
            assert!(columns(&cut(text, width)) <= width);
        }
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
        for (width, height) in [(0, 0), (79, 24), (80, 23), (200, 10)] {
            assert!(parts(Rect::new(0, 0, width, height), false).is_none());
        }
        for (width, height) in [(120, 30), (120, 35), (160, 47), (200, 60), (300, 100)] {
            let all = parts(Rect::new(0, 0, width, height), false).unwrap();
            assert!(
                all.keel.right() < all.middle.x && all.middle.right() < all.why.x && all.why.right() == width && !all.is_small
            );
            let board = parts(Rect::new(0, 0, width, height), true).unwrap();
            assert!(board.keel.width == 0 && board.middle.x == 0 && board.middle.right() < board.why.x);
        }
        for (width, height) in [(80, 24), (100, 30), (119, 50), (160, 29)] {
            let small = parts(Rect::new(0, 0, width, height), false).unwrap();
            assert!(small.is_small && small.keel.right() < small.middle.x && small.middle.right() == width);
            assert_eq!(small.why, small.middle, "the right side lies over the stage when it is asked for");
        }
    }
}
