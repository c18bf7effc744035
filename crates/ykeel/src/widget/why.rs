//! Why: the evidence for whatever is selected, in sentences.

use keel_core::coverage::Coverage;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::{capital, put, rule, wrap};
use crate::theme::Theme;

/// Paragraphs for the right side, each with its style; an empty text is a blank line.
#[derive(Debug, Default)]
pub(crate) struct Why {
    lines: Vec<(String, Style)>,
}

impl Why {
    /// Adds a paragraph.
    pub(crate) fn say(&mut self, text: impl Into<String>, style: Style) {
        self.lines.push((text.into(), style));
    }

    /// Adds a blank line.
    pub(crate) fn gap(&mut self) {
        self.lines.push((String::new(), Style::new()));
    }

    /// Adds what a ladder rests on.
    pub(crate) fn say_coverage(&mut self, coverage: &Coverage, theme: Theme) {
        if coverage.bytes == 0 {
            return;
        }
        self.gap();
        self.say("Coverage", theme.strong());
        self.say(format!("{}.", capital(&coverage.sentence())), theme.text());
        if let Some(next) = coverage.next() {
            self.say(format!("· {next}: 5, then s"), theme.text());
        }
    }

    /// Draws the paragraphs, wrapped; what does not fit is said to be more.
    pub(crate) fn draw(&self, theme: Theme, area: Rect, buf: &mut Buffer) {
        rule(buf, area, theme.line());
        let width = usize::from(area.width.saturating_sub(2));
        let mut y = 0;
        for (text, style) in &self.lines {
            let lines = if text.is_empty() { vec![String::new()] } else { wrap(text, width) };
            for line in lines {
                if y + 1 >= area.height {
                    put(buf, area, 1, area.height.saturating_sub(1), "… more", theme.dim());
                    return;
                }
                put(buf, area, 1, y, &line, *style);
                y += 1;
            }
        }
    }
}
