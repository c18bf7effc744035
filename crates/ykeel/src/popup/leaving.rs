//! The question before work is left.

use crossterm::event::KeyEvent;

use super::{Answer, Content, Popup, PopupKey, Tone, key, pressed, words};
use crate::app::{App, Effect};
use crate::stage::{Drive, Weight};

/// Work goes on: it is stopped and kept, or stayed with.
pub(crate) struct Leaving;

const KEYS: &[PopupKey<Leaving>] = &[key("s", |_, _| Answer::Close(vec![Effect::Leave]), "stops it all and leaves")];

impl Popup for Leaving {
    fn title(&self, _app: &App) -> String {
        "Work goes on".into()
    }

    fn content(&self, app: &App, _width: usize) -> Content {
        let of = |drive: &Drive| {
            let name = drive.plain_name();
            let long = drive.running().into_iter().filter(|running| running.weight > Weight::Short);
            long.map(|running| (format!("{name}: {}", running.line()), Tone::Plain)).collect::<Vec<_>>()
        };
        let head = vec!["What was done is kept, and can be gone on with. Stop it and leave, or stay?".into(), String::new()];
        Content { head, rows: app.drives().flat_map(of).collect(), ..Content::default() }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}
