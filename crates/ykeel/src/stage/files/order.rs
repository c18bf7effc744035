//! The order of a folder's entries, and which of them are shown.

use keel_format::{Entry, NodeKind};

use crate::line_edit::LineEdit;

/// By what a folder is sorted. Folders come first, whatever it is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum Column {
    #[default]
    Name,
    Bytes,
    Changed,
    Kind,
}

impl Column {
    const ALL: [Self; 4] = [Self::Name, Self::Bytes, Self::Changed, Self::Kind];

    /// The word shown.
    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Bytes => "bytes",
            Self::Changed => "date of change",
            Self::Kind => "kind of file",
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
    /// What the names that are shown hold.
    pub(crate) filter: LineEdit,
    /// True while keys go to it.
    pub(crate) typing: bool,
}

impl Order {
    /// The entries that are shown, in their order.
    pub(super) fn apply(&self, all: &[Entry]) -> Vec<Entry> {
        let wanted = self.filter.text().to_lowercase();
        let mut shown: Vec<Entry> = all.iter().filter(|entry| matches(&entry.name.to_lowercase(), &wanted)).cloned().collect();
        // What compares alike stands by its name.
        shown.sort_by_cached_key(|entry| entry.name.to_lowercase());
        match self.by {
            Column::Name => {}
            Column::Bytes => shown.sort_by_key(|entry| entry.bytes),
            Column::Changed => shown.sort_by_cached_key(|entry| entry.times.modified.map(|time| time.to_string())),
            Column::Kind => shown.sort_by_cached_key(|entry| ending(&entry.name)),
        }
        if self.reversed {
            shown.reverse();
        }
        shown.sort_by_key(|entry| entry.kind != NodeKind::Directory);
        shown
    }
}

/// The ending of a name, without regard to case.
fn ending(name: &str) -> String {
    name.rsplit_once('.').map(|(_, ending)| ending.to_lowercase()).unwrap_or_default()
}

/// True where `name` holds all words of `wanted`; a word with `*` or `?` has to fit the whole name.
fn matches(name: &str, wanted: &str) -> bool {
    wanted.split_whitespace().all(|word| if word.contains(['*', '?']) { fits(name, word) } else { name.contains(word) })
}

/// True where `name` fits a pattern: `*` stands for any run of signs, `?` for one.
fn fits(name: &str, pattern: &str) -> bool {
    let (name, pattern): (Vec<char>, Vec<char>) = (name.chars().collect(), pattern.chars().collect());
    let (mut at, mut met) = (0, 0);
    // The last `*`, and where what it stands for ends so far.
    let mut star: Option<(usize, usize)> = None;
    while at < name.len() {
        match pattern.get(met) {
            Some('*') => {
                star = Some((met, at));
                met += 1;
            }
            Some(sign) if *sign == '?' || *sign == name[at] => {
                (at, met) = (at + 1, met + 1);
            }
            _ => {
                let Some((place, end)) = star else { return false };
                star = Some((place, end + 1));
                (at, met) = (end + 1, place + 1);
            }
        }
    }
    pattern.get(met..).unwrap_or_default().iter().all(|sign| *sign == '*')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_found_by_words_and_by_patterns() {
        for (wanted, found) in [
            ("", true),
            ("boat", true),
            ("jpg boat", true),
            ("*.jpg", true),
            ("boat-??.jpg", true),
            ("*-*", true),
            ("boat*jpg", true),
            ("*", true),
            ("*.png", false),
            ("boat-?.jpg", false),
            ("harbour", false),
            ("boat *.png", false),
        ] {
            assert_eq!(matches("boat-07.jpg", wanted), found, "{wanted}");
        }
        // Many stars take no longer than the name times the pattern.
        assert!(!fits(&"a".repeat(2000), &format!("{}b", "*a".repeat(200))));
    }
}
