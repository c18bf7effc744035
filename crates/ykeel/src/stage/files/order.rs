//! The order of what is listed, and what of it is shown.

use keel_core::files::{Hit, Query, QueryWrong, Sort, Tells};
use keel_format::NodeKind;

use crate::line_edit::LineEdit;

/// By what a folder is sorted. Folders come first, whatever it is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum Column {
    #[default]
    Name,
    Bytes,
    Changed,
    Sort,
}

impl Column {
    const ALL: [Self; 4] = [Self::Name, Self::Bytes, Self::Changed, Self::Sort];

    /// The word shown.
    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Bytes => "bytes",
            Self::Changed => "date of change",
            Self::Sort => "sort and ending",
        }
    }

    /// The next one.
    pub(super) fn next(self) -> Self {
        let at = Self::ALL.iter().position(|column| *column == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }
}

/// How a folder is looked at; it stays from folder to folder, but for what is searched for.
#[derive(Debug, Default)]
pub(crate) struct Order {
    pub(crate) by: Column,
    pub(crate) reversed: bool,
    /// What the entries that are shown meet.
    pub(crate) filter: LineEdit,
    /// True while keys go to it.
    pub(crate) typing: bool,
}

impl Order {
    /// The order alone: nothing is searched for.
    pub(super) fn whole(&self) -> Self {
        Self { by: self.by, reversed: self.reversed, ..Self::default() }
    }

    /// The rows of `all` that are shown, in their order; `told` says what is known of one beside its entry.
    ///
    /// # Errors
    /// Where what is typed is no query: all of it is shown then.
    pub(super) fn apply<'a>(&self, all: &[Hit], told: Tells<'a, '_>) -> (Vec<usize>, Option<QueryWrong>) {
        let (query, wrong) = match Query::typed(self.filter.text()) {
            Ok(query) => (query, None),
            Err(wrong) => (Query::default(), Some(wrong)),
        };
        let mut shown: Vec<usize> =
            (0..all.len()).filter(|row| query.meets_told(&all[*row].entry, told(&all[*row].entry))).collect();
        let entry = |row: &usize| &all[*row].entry;
        // What compares alike stands by its name.
        shown.sort_by_cached_key(|row| entry(row).name.to_lowercase());
        match self.by {
            Column::Name => {}
            Column::Bytes => shown.sort_by_key(|row| entry(row).bytes),
            Column::Changed => shown.sort_by_cached_key(|row| entry(row).times.modified.map(|time| time.to_string())),
            Column::Sort => shown.sort_by_cached_key(|row| (Sort::of(&entry(row).name), ending(&entry(row).name))),
        }
        if self.reversed {
            shown.reverse();
        }
        shown.sort_by_key(|row| entry(row).kind != NodeKind::Directory);
        (shown, wrong)
    }
}

/// The ending of a name, without regard to case.
fn ending(name: &str) -> String {
    name.rsplit_once('.').map(|(_, ending)| ending.to_lowercase()).unwrap_or_default()
}
