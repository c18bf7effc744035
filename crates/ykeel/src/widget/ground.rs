//! The lane of the ground: what a row of the keel holds, by texture before colour.

use keel_core::ground::{Holds, Stretch};
use ratatui::style::Style;

use crate::theme::Theme;

/// The texture of what the surface holds.
pub(crate) fn texture(holds: Holds) -> &'static str {
    match holds {
        Holds::Zeros => "··",
        Holds::Repeated => "∷∷",
        Holds::Text => "░░",
        Holds::Data => "▒▒",
        Holds::Packed => "▓▓",
        Holds::Structure => "≡≡",
    }
}

/// How a stretch of ground is drawn: what did not read before what came late before what it holds.
pub(crate) fn sign(stretch: &Stretch, theme: Theme) -> (&'static str, Style) {
    match stretch {
        Stretch { failed: true, .. } => ("××", theme.bad()),
        Stretch { late: true, .. } => ("~~", theme.doubt()),
        Stretch { holds: Some(Holds::Structure), marks, .. } => {
            (marks.letters().unwrap_or(texture(Holds::Structure)), style(Holds::Structure, theme))
        }
        Stretch { holds: Some(holds), .. } => (texture(*holds), style(*holds, theme)),
        Stretch { holds: None, .. } => ("  ", theme.dim()),
    }
}

fn style(holds: Holds, theme: Theme) -> Style {
    match holds {
        Holds::Zeros | Holds::Repeated => theme.dim(),
        Holds::Structure => theme.strong(),
        Holds::Text | Holds::Data | Holds::Packed => theme.text(),
    }
}

/// In words, for the right side.
pub(crate) fn words(stretch: &Stretch) -> String {
    let holds = match stretch.holds {
        None => "not read yet".to_string(),
        Some(Holds::Structure) if !stretch.marks.is_empty() => {
            format!("structures of {} ({} % of what was seen)", stretch.marks.words().join(", "), stretch.percent)
        }
        Some(holds) => format!("{} ({} % of what was seen)", holds.word(), stretch.percent),
    };
    let failed = if stretch.failed { "; something here does not read" } else { "" };
    let late = if stretch.late { "; reads here come late" } else { "" };
    format!("{holds}{failed}{late}")
}

/// What the signs mean, line by line.
pub(crate) fn legend() -> Vec<String> {
    let holds = Holds::ALL.iter().map(|holds| match holds {
        Holds::Structure => format!("{}  {}, or the letters of the kind: Nt, Fa, …", texture(*holds), holds.word()),
        holds => format!("{}  {}", texture(*holds), holds.word()),
    });
    holds.chain(["~~  comes late".into(), "××  does not read".into(), "    (blank) not read yet".into()]).collect()
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use keel_format::clue::Marks;

    use super::*;

    #[test]
    fn every_sort_of_ground_has_a_texture_and_a_word_of_its_own() {
        let textures: BTreeSet<&str> = Holds::ALL.into_iter().map(texture).chain(["~~", "××", "  "]).collect();
        let words: BTreeSet<&str> = Holds::ALL.into_iter().map(Holds::word).collect();
        assert_eq!((textures.len(), words.len()), (Holds::ALL.len() + 3, Holds::ALL.len()));
        assert_eq!(legend().len(), Holds::ALL.len() + 3);
    }

    #[test]
    fn what_does_not_read_is_shown_before_what_comes_late_and_what_it_holds() {
        let theme = Theme::plain();
        let plain =
            Stretch { holds: Some(Holds::Text), marks: Marks::default(), percent: 80, failed: false, late: false, slowest_us: 0 };
        let signs = [
            sign(&plain, theme).0,
            sign(&Stretch { late: true, ..plain }, theme).0,
            sign(&Stretch { late: true, failed: true, ..plain }, theme).0,
            sign(&Stretch { holds: None, ..plain }, theme).0,
        ];
        assert_eq!(signs, ["░░", "~~", "××", "  "]);
        let structures =
            |words: &[&str]| Stretch { holds: Some(Holds::Structure), marks: Marks::named(words.iter().copied()), ..plain };
        assert_eq!(sign(&structures(&["NTFS"]), theme).0, "Nt", "one kind is named");
        assert_eq!(sign(&structures(&["NTFS", "table"]), theme).0, "≡≡");
        assert!(super::words(&structures(&["table", "NTFS"])).starts_with("structures of table, NTFS (80 %"));
        assert_eq!(words(&Stretch { failed: true, ..plain }), "text (80 % of what was seen); something here does not read");
    }
}
