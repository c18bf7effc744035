//! The list of jobs, of all drives: what runs, how far it is, and the keys that stop it, let it rest or lead to it.

use std::path::PathBuf;

use crossterm::event::KeyEvent;

use super::{Answer, Content, Popup, PopupKey, Tone, key, moved, pressed, words};
use crate::app::{App, Effect};
use crate::stage::{Drive, Running, StageId};
use crate::widget::{columns, cut};

/// The list, with a row selected.
#[derive(Debug, Default)]
pub(crate) struct Jobs {
    selected: usize,
}

const KEYS: &[PopupKey<Jobs>] = &[
    key("enter", |list, app| list.with(app, |row| Answer::Close(vec![Effect::LookAt(row.path, row.stage)])), "looks at it"),
    key("x", |list, app| list.with(app, |row| Answer::Stay(vec![Effect::StopIn(row.path, row.stage)])), "stops it"),
    key("space", |list, app| list.with(app, Row::rest), "rests, goes on"),
    key("up k", |list, app| list.step(app, -1), ""),
    key("down j", |list, app| list.step(app, 1), ""),
    key("J", |_, _| Answer::Close(Vec::new()), ""),
];

/// A job of a drive.
struct Row {
    path: PathBuf,
    name: String,
    stage: StageId,
    running: Running,
}

impl Row {
    fn rest(self) -> Answer {
        let copies = self.stage == StageId::Copy;
        Answer::Stay(if copies { vec![Effect::RestIn(self.path)] } else { vec![Effect::Tell("only a copy can rest".into())] })
    }
}

/// Every job of every drive.
fn rows(app: &App) -> Vec<Row> {
    let of = |drive: &Drive| {
        let (name, path) = (drive.plain_name(), drive.source.identity().path.clone().unwrap_or_default());
        let row = move |(stage, running)| Row { path: path.clone(), name: name.clone(), stage, running };
        drive.running_in_stages().into_iter().map(row).collect::<Vec<_>>()
    };
    app.drives().flat_map(of).collect()
}

impl Jobs {
    fn step(&mut self, app: &App, by: isize) -> Answer {
        self.selected = moved(self.selected, by, rows(app).len());
        Answer::Stay(Vec::new())
    }

    fn with(&self, app: &App, what: impl FnOnce(Row) -> Answer) -> Answer {
        rows(app).into_iter().nth(self.selected).map_or(Answer::Stay(Vec::new()), what)
    }
}

impl Popup for Jobs {
    fn title(&self, _app: &App) -> String {
        "Jobs".into()
    }

    fn content(&self, app: &App, width: usize) -> Content {
        let all = rows(app);
        let names = all.iter().map(|row| columns(&row.name)).max().unwrap_or(0).min(width / 3);
        let line = |row: &Row| {
            let name = cut(&row.name, names);
            (format!("{name:<names$}  {:<7} {}", row.stage.stage().word(), row.running.line()), Tone::Plain)
        };
        let head = if all.is_empty() { vec!["Nothing runs.".into()] } else { Vec::new() };
        let selected = Some(self.selected.min(all.len().saturating_sub(1))).filter(|_| !all.is_empty());
        Content { head, rows: all.iter().map(line).collect(), selected, from: 0 }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}
