//! The question of a drive on which an apply was interrupted.

use std::path::PathBuf;

use crossterm::event::KeyEvent;
use keel_core::plan::Direction;

use super::recover;
use crate::app::App;
use crate::popup::{Answer, Content, Popup, PopupKey, key, pressed, words};
use crate::widget::wrap;

/// An apply was interrupted: it is finished, or everything is put back.
pub(crate) struct Interrupted {
    pub(crate) bundle: PathBuf,
}

const KEYS: &[PopupKey<Interrupted>] = &[
    key("f", |popup, app| popup.recover(app, Direction::Finish), "finishes the apply"),
    key("r", |popup, app| popup.recover(app, Direction::RollBack), "puts everything back"),
];

impl Interrupted {
    fn recover(&self, app: &App, direction: Direction) -> Answer {
        let recovered = app.drive.as_ref().map(|drive| recover(drive, self.bundle.clone(), direction));
        Answer::Close(recovered.unwrap_or_default())
    }
}

impl Popup for Interrupted {
    fn title(&self, _app: &App) -> String {
        "An apply was interrupted".into()
    }

    fn content(&self, _app: &App, width: usize) -> Content {
        let text = format!(
            "Part of a plan stands on this drive. f finishes the apply, r puts everything back; both lead to a known state.\n{}",
            self.bundle.display()
        );
        Content { head: wrap(&text, width), ..Content::default() }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}
