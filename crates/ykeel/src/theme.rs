//! Colours: few, in two themes that `themes.toml` holds, and never the only sign. Yellow marks nothing but the selection's line on the
//! keel and the recommended step.

use std::collections::BTreeMap;
use std::str::FromStr;
use std::sync::OnceLock;

use clap::ValueEnum;
use keel_core::ladder::RungState;
use ratatui::style::{Color, Modifier, Style};
use serde::{Deserialize, Serialize};

/// The colours of both themes.
const THEMES: &str = include_str!("themes.toml");

/// For which background.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ValueEnum)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Look {
    /// Light signs on a dark ground.
    #[default]
    Dark,
    /// Dark signs on a light ground.
    Light,
}

/// How many colours the terminal has.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ValueEnum)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Colours {
    /// As the terminal says.
    #[default]
    Auto,
    /// None.
    Never,
    /// The sixteen that every terminal with colours has.
    #[serde(rename = "16")]
    #[value(name = "16")]
    Base,
    /// The palette of 256.
    #[serde(rename = "256")]
    #[value(name = "256")]
    Palette,
    /// All that there are.
    Full,
}

impl Colours {
    /// What the terminal says, where it is asked.
    fn settled(self) -> Self {
        if self != Self::Auto {
            return self;
        }
        let said = |name: &str| std::env::var(name).unwrap_or_default();
        Self::said_by(&said("NO_COLOR"), &said("COLORTERM"), &said("TERM"))
    }

    fn said_by(no_color: &str, color_term: &str, term: &str) -> Self {
        match () {
            () if !no_color.is_empty() || term == "dumb" => Self::Never,
            () if matches!(color_term, "truecolor" | "24bit") => Self::Full,
            () if term.contains("256color") => Self::Palette,
            () => Self::Base,
        }
    }
}

/// A colour in three stages of wealth.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Shade {
    base: String,
    index: u8,
    full: String,
}

/// The shades of a theme, by their roles.
type Shades = BTreeMap<String, Shade>;

/// Both themes; what a file of the program says is known to be right, which a test holds.
fn themes() -> &'static BTreeMap<String, Shades> {
    static ALL: OnceLock<BTreeMap<String, Shades>> = OnceLock::new();
    ALL.get_or_init(|| toml::from_str(THEMES).unwrap_or_default())
}

/// How things are painted.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Theme {
    colours: Colours,
    look: Look,
}

impl Theme {
    /// The theme that was asked for, with as many colours as the terminal has.
    pub(crate) fn new(look: Look, colours: Colours) -> Self {
        Self { colours: colours.settled(), look }
    }

    /// The theme without colours.
    #[cfg(test)]
    pub(crate) fn plain() -> Self {
        Self { colours: Colours::Never, look: Look::Dark }
    }

    fn colour(self, role: &str) -> Style {
        let theme = match self.look {
            Look::Dark => "dark",
            Look::Light => "light",
        };
        let Some(shade) = themes().get(theme).and_then(|shades| shades.get(role)) else { return Style::new() };
        let colour = match self.colours {
            Colours::Never | Colours::Auto => None,
            Colours::Base => Color::from_str(&shade.base).ok(),
            Colours::Palette => Some(Color::Indexed(shade.index)),
            Colours::Full => Color::from_str(&shade.full).ok(),
        };
        colour.map_or_else(Style::new, |colour| Style::new().fg(colour))
    }

    /// Ordinary text.
    pub(crate) fn text(self) -> Style {
        Style::new()
    }

    /// What matters less.
    pub(crate) fn dim(self) -> Style {
        match self.colours {
            // These have a colour of their own for it.
            Colours::Palette | Colours::Full => self.colour("dim"),
            _ => self.colour("dim").add_modifier(Modifier::DIM),
        }
    }

    /// What matters more.
    pub(crate) fn strong(self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// The accent: selection on the keel, recommended step.
    pub(crate) fn accent(self) -> Style {
        self.colour("accent").add_modifier(Modifier::BOLD)
    }

    /// The selected row.
    pub(crate) fn selected(self) -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }

    /// Lines that divide.
    pub(crate) fn line(self) -> Style {
        self.dim()
    }

    /// What holds.
    pub(crate) fn good(self) -> Style {
        self.colour("good")
    }

    /// What may hold.
    pub(crate) fn doubt(self) -> Style {
        self.colour("doubt")
    }

    /// What does not hold.
    pub(crate) fn bad(self) -> Style {
        self.colour("bad").add_modifier(Modifier::BOLD)
    }

    /// Something staged or being written.
    pub(crate) fn staged(self) -> Style {
        self.colour("staged").add_modifier(Modifier::BOLD)
    }

    /// The state of a rung.
    pub(crate) fn rung(self, state: RungState) -> Style {
        match state {
            RungState::Sound => self.good(),
            RungState::Untested => self.dim(),
            RungState::Doubtful => self.doubt(),
            RungState::Broken => self.bad(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ROLES: [&str; 6] = ["accent", "dim", "good", "doubt", "bad", "staged"];

    #[test]
    fn every_role_has_a_colour_in_both_themes_and_every_wealth_and_no_two_are_alike() {
        for look in [Look::Dark, Look::Light] {
            for colours in [Colours::Base, Colours::Palette, Colours::Full] {
                let theme = Theme { colours, look };
                let shades: Vec<Option<Color>> = ROLES.iter().map(|role| theme.colour(role).fg).collect();
                assert!(shades.iter().all(Option::is_some), "{look:?} {colours:?}: {shades:?}");
                for (index, shade) in shades.iter().enumerate() {
                    assert!(!shades[..index].contains(shade), "{look:?} {colours:?}: {shade:?} twice");
                }
            }
            let none = Theme { colours: Colours::Never, look };
            assert!(ROLES.iter().all(|role| none.colour(role).fg.is_none()));
        }
    }

    #[test]
    fn the_terminal_says_how_many_colours_it_has() {
        for (no_color, color_term, term, colours) in [
            ("", "", "xterm", Colours::Base),
            ("", "", "linux", Colours::Base),
            ("", "", "tmux-256color", Colours::Palette),
            ("", "truecolor", "xterm-256color", Colours::Full),
            ("1", "truecolor", "xterm-256color", Colours::Never),
            ("", "truecolor", "dumb", Colours::Never),
        ] {
            assert_eq!(Colours::said_by(no_color, color_term, term), colours, "{term}");
        }
        assert_eq!(Colours::Base.settled(), Colours::Base, "what is asked for stands");
    }
}
