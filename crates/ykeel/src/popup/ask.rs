//! A question that wants a line of text.

use crossterm::event::KeyEvent;

use super::{Answer, Content, Popup, PopupKey, key, pressed, words};
use crate::app::{App, Effects};
use crate::line_edit::LineEdit;
use crate::widget::wrap;

/// What a line that was typed leads to.
type Answered = Box<dyn Fn(&App, &str) -> Effects>;

/// A question: what it is about, the line typed so far, and what the line leads to.
pub(crate) struct Ask {
    title: &'static str,
    text: String,
    line: LineEdit,
    answered: Answered,
}

const KEYS: &[PopupKey<Ask>] = &[key("enter", |ask, app| Answer::Close((ask.answered)(app, ask.line.text())), "answers")];

impl Ask {
    /// A question; `line` stands there already.
    pub(crate) fn new(
        title: &'static str,
        text: impl Into<String>,
        line: impl Into<String>,
        answered: impl Fn(&App, &str) -> Effects + 'static,
    ) -> Self {
        Self { title, text: text.into(), line: LineEdit::new(line), answered: Box::new(answered) }
    }
}

impl Popup for Ask {
    fn title(&self, _app: &App) -> String {
        self.title.into()
    }

    fn content(&self, _app: &App, width: usize) -> Content {
        let mut head = wrap(&self.text, width);
        head.push(String::new());
        let (before, behind) = self.line.parts();
        // The cursor stays in sight: of a long line its last part before it is shown.
        let room = width.saturating_sub(4).max(8);
        let skipped = before.chars().count().saturating_sub(room);
        let shown: String = before.chars().skip(skipped).collect();
        let mark = if skipped > 0 { '…' } else { '›' };
        let rest: String = behind.chars().take(room.saturating_sub(shown.chars().count())).collect();
        head.push(format!("{mark} {shown}▏{rest}"));
        Content { head, ..Content::default() }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or_else(|| {
            self.line.press(key);
            Answer::Stay(Vec::new())
        })
    }

    fn paste(&mut self, text: &str) {
        self.line.insert(text);
    }
}
