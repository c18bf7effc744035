//! Something to be read, and what a stage says of itself.

use crossterm::event::KeyEvent;

use super::{Answer, Content, Popup, PopupKey, Tone, frame, key, moved, pressed, words};
use crate::app::App;
use crate::keys::shown;
use crate::stage::StageId;
use crate::widget::wrap;

/// A text to be read, which scrolls.
#[derive(Debug)]
pub(crate) struct Text {
    title: String,
    text: String,
    /// The help of this stage stands below, with its keys.
    stage: Option<StageId>,
    first: usize,
}

/// Rows of a page.
const PAGE: isize = 12;

const KEYS: &[PopupKey<Text>] = &[
    key("enter q", |_, _| Answer::Close(Vec::new()), ""),
    key("up k", |text, app| text.scroll(app, -1), ""),
    key("down j", |text, app| text.scroll(app, 1), ""),
    key("pageup", |text, app| text.scroll(app, -PAGE), ""),
    key("pagedown space", |text, app| text.scroll(app, PAGE), ""),
    key("home", |text, app| text.scroll(app, isize::MIN / 2), ""),
    key("end", |text, app| text.scroll(app, isize::MAX / 2), ""),
];

impl Text {
    /// Something to be read.
    pub(crate) fn new(title: impl Into<String>, text: impl Into<String>) -> Self {
        Self { title: title.into(), text: text.into(), stage: None, first: 0 }
    }

    /// What a stage shows, and which keys work there.
    pub(crate) fn help(stage: StageId) -> Self {
        let title = format!("Help: {}", stage.stage().word());
        Self { title, text: stage.stage().about().into(), stage: Some(stage), first: 0 }
    }

    fn scroll(&mut self, app: &App, by: isize) -> Answer {
        let room = frame::inner(app.area);
        let rows = self.content(app, usize::from(room.width)).rows.len();
        self.first = moved(self.first, by, rows.saturating_sub(usize::from(room.height)) + 1);
        Answer::Stay(Vec::new())
    }
}

impl Popup for Text {
    fn title(&self, _app: &App) -> String {
        self.title.clone()
    }

    fn content(&self, _app: &App, width: usize) -> Content {
        let mut rows: Vec<(String, Tone)> = wrap(&self.text, width).into_iter().map(|line| (line, Tone::Plain)).collect();
        if let Some(stage) = self.stage {
            for line in stage.legend() {
                rows.extend(wrap(&line, width).into_iter().map(|line| (line, Tone::Plain)));
            }
            rows.push((String::new(), Tone::Plain));
            for binding in stage.bindings() {
                let mut lines = wrap(binding.long, width.saturating_sub(14)).into_iter();
                rows.push((format!("{:<14}{}", shown(binding.keys), lines.next().unwrap_or_default()), Tone::Plain));
                rows.extend(lines.map(|line| (format!("{:<14}{line}", ""), Tone::Plain)));
            }
        }
        Content { rows, from: self.first, ..Content::default() }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}
