//! A list narrowed down by words and put in an order: which of its rows are shown, and which is the next one.

use std::cmp::Ordering;

use crate::line_edit::LineEdit;

/// A column that a list may be ordered by: its word, and the order of two rows.
pub(crate) type Column<T> = (&'static str, fn(&T, &T) -> Ordering);

/// How a list is looked at.
#[derive(Debug, Default)]
pub(crate) struct Narrowed {
    /// Words that the rows hold.
    pub(crate) filter: LineEdit,
    /// True while keys go to it.
    pub(crate) typing: bool,
    /// The column that orders it.
    by: usize,
    reversed: bool,
    /// The rows that are shown, in their order.
    shown: Vec<usize>,
}

impl Narrowed {
    /// Chooses the rows of `all` anew; `words` is what a row is found by.
    pub(crate) fn choose<T>(&mut self, all: &[T], columns: &[Column<T>], words: impl Fn(&T) -> String) {
        let wanted: Vec<String> = self.filter.text().split_whitespace().map(str::to_lowercase).collect();
        let has = |row: &usize| {
            let own = words(&all[*row]).to_lowercase();
            wanted.iter().all(|word| own.contains(word.as_str()))
        };
        self.shown = (0..all.len()).filter(|row| wanted.is_empty() || has(row)).collect();
        if let Some((_, order)) = columns.get(self.by % columns.len().max(1)) {
            self.shown.sort_by(|one, other| order(&all[*one], &all[*other]));
        }
        if self.reversed {
            self.shown.reverse();
        }
    }

    /// The rows that are shown, in their order.
    pub(crate) fn rows(&self) -> &[usize] {
        &self.shown
    }

    /// Where `selected` stands among them.
    pub(crate) fn place(&self, selected: usize) -> usize {
        self.shown.iter().position(|row| *row == selected).unwrap_or(0)
    }

    /// The row that is `by` rows from `selected`.
    pub(crate) fn stepped(&self, selected: usize, by: isize) -> usize {
        let to = self.place(selected).saturating_add_signed(by).min(self.shown.len().saturating_sub(1));
        self.shown.get(to).copied().unwrap_or(selected)
    }

    /// The selected row, or the first one where it is not shown.
    pub(crate) fn kept(&self, selected: usize) -> usize {
        self.stepped(selected, 0)
    }

    /// Orders by the next column, and says which.
    pub(crate) fn next_column<T>(&mut self, columns: &[Column<T>]) -> &'static str {
        self.by = (self.by + 1) % columns.len().max(1);
        columns.get(self.by).map_or("", |(word, _)| word)
    }

    /// Turns the order around.
    pub(crate) fn reverse(&mut self) {
        self.reversed = !self.reversed;
    }

    /// What narrows it down, for its head; empty where nothing does.
    pub(crate) fn said(&self, all: usize) -> String {
        let (before, behind) = self.filter.parts();
        match (self.typing, before.is_empty() && behind.is_empty()) {
            (true, _) => format!("  {} of {all}  / {before}▏{behind}", self.shown.len()),
            (false, true) => String::new(),
            (false, false) => format!("  {} of {all}  / {before}{behind}", self.shown.len()),
        }
    }

    /// Ends the typing: what was typed is kept, or let go.
    pub(crate) fn typed(&mut self, keep: bool) {
        self.typing = false;
        if !keep {
            self.filter = LineEdit::default();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const COLUMNS: &[Column<&str>] = &[("as found", |_, _| Ordering::Equal), ("name", |one, other| one.cmp(other))];

    #[test]
    fn rows_are_narrowed_down_ordered_and_walked() {
        let all = ["quay", "berth", "Quayside", "ramp"];
        let mut list = Narrowed::default();
        list.choose(&all, COLUMNS, ToString::to_string);
        assert_eq!((list.rows(), list.stepped(1, 1), list.stepped(3, 5), list.said(4)), (&[0, 1, 2, 3][..], 2, 3, String::new()));
        assert_eq!(list.next_column(COLUMNS), "name");
        list.reverse();
        list.filter.insert("QUAY");
        list.choose(&all, COLUMNS, ToString::to_string);
        assert_eq!((list.rows(), list.kept(1), list.stepped(0, 1)), (&[0, 2][..], 0, 2), "what is not shown is not selected");
        assert_eq!(list.said(4), "  2 of 4  / QUAY");
        list.typed(false);
        list.choose(&all, COLUMNS, ToString::to_string);
        assert_eq!(list.rows(), [3, 0, 1, 2].map(|row| row).as_slice());
        list.choose::<&str>(&[], COLUMNS, ToString::to_string);
        assert_eq!((list.rows().len(), list.stepped(7, 1)), (0, 7));
    }
}
