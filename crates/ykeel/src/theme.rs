//! Colours: few, from the 16 that every terminal has, and never the only sign. Yellow marks nothing but the
//! selection's line on the keel and the recommended step.

use keel_core::ladder::RungState;
use ratatui::style::{Color, Modifier, Style};

/// How things are painted.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Theme {
    colours: bool,
}

impl Theme {
    /// The theme of this terminal: without colours where `NO_COLOR` is set.
    pub(crate) fn of_environment() -> Self {
        Self { colours: std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty()) }
    }

    /// The theme without colours.
    #[cfg(test)]
    pub(crate) fn plain() -> Self {
        Self { colours: false }
    }

    fn colour(self, colour: Color) -> Style {
        if self.colours { Style::new().fg(colour) } else { Style::new() }
    }

    /// Ordinary text.
    pub(crate) fn text(self) -> Style {
        Style::new()
    }

    /// What matters less.
    pub(crate) fn dim(self) -> Style {
        if self.colours {
            Style::new().fg(Color::Gray).add_modifier(Modifier::DIM)
        } else {
            Style::new().add_modifier(Modifier::DIM)
        }
    }

    /// What matters more.
    pub(crate) fn strong(self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// The accent: selection on the keel, recommended step.
    pub(crate) fn accent(self) -> Style {
        self.colour(Color::Yellow).add_modifier(Modifier::BOLD)
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
        self.colour(Color::Green)
    }

    /// What may hold.
    pub(crate) fn doubt(self) -> Style {
        self.colour(Color::Magenta)
    }

    /// What does not hold.
    pub(crate) fn bad(self) -> Style {
        self.colour(Color::LightRed).add_modifier(Modifier::BOLD)
    }

    /// Something staged or being written.
    pub(crate) fn staged(self) -> Style {
        self.colour(Color::Cyan).add_modifier(Modifier::BOLD)
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
