//! The lists of the intake: what the client sees, and the checks made outside the computer.

use crossterm::event::KeyEvent;
use keel_core::case::Case;
use keel_core::intake::{CHECKS, Outcome, SYMPTOMS};

use crate::app::App;
use crate::app::effect::{Effect, tell};
use crate::popup::{Answer, Ask, Content, Popup, PopupKey, Tone, key, moved, pressed, words};
use crate::widget::cut;

/// The symptoms to choose from.
#[derive(Debug, Default)]
pub(super) struct Symptoms {
    selected: usize,
}

const SYMPTOM_KEYS: &[PopupKey<Symptoms>] = &[
    key("space", Symptoms::toggle, "sees it, or not"),
    key("up k", |list, _| list.step(-1), ""),
    key("down j", |list, _| list.step(1), ""),
    key("home", |list, _| list.step(isize::MIN / 2), ""),
    key("end", |list, _| list.step(isize::MAX / 2), ""),
    key("enter", |_, _| Answer::Close(Vec::new()), ""),
];

impl Symptoms {
    fn step(&mut self, by: isize) -> Answer {
        self.selected = moved(self.selected, by, SYMPTOMS.len());
        Answer::Stay(Vec::new())
    }

    fn toggle(&mut self, _app: &App) -> Answer {
        let Some(symptom) = SYMPTOMS.get(self.selected) else { return Answer::Stay(Vec::new()) };
        Answer::Stay(vec![Effect::Case(Box::new(|case| {
            let seen = case.record.told.symptoms.iter().any(|own| own == symptom.id);
            case.set_symptom(symptom.id, !seen).map(|()| None)
        }))])
    }
}

impl Popup for Symptoms {
    fn title(&self, _app: &App) -> String {
        "What the client sees".into()
    }

    fn content(&self, app: &App, _width: usize) -> Content {
        let told = app.case.as_ref().map(|case| case.record.told.symptoms.as_slice()).unwrap_or_default();
        let rows = SYMPTOMS.iter().map(|symptom| {
            let mark = if told.iter().any(|id| id == symptom.id) { "●" } else { "○" };
            let rungs: Vec<String> = symptom.rungs.iter().map(|rung| rung.number().to_string()).collect();
            (format!("{mark} {:<52} rungs {}", symptom.words, rungs.join(" ")), Tone::Plain)
        });
        Content { rows: rows.collect(), selected: Some(self.selected), ..Content::default() }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(SYMPTOM_KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, SYMPTOM_KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}

/// The checks made outside the computer.
#[derive(Debug)]
pub(super) struct Checks {
    selected: usize,
}

const CHECK_KEYS: &[PopupKey<Checks>] = &[
    key("y", |list, _| list.note(Some(Outcome::Yes)), "yes: it helped, is listed, was found"),
    key("n", |list, _| list.note(Some(Outcome::No)), "no"),
    key("e", Checks::ask_note, "a note"),
    key("backspace", |list, _| list.note(None), "not made"),
    key("up k", |list, _| list.step(-1), ""),
    key("down j", |list, _| list.step(1), ""),
    key("home", |list, _| list.step(isize::MIN / 2), ""),
    key("end", |list, _| list.step(isize::MAX / 2), ""),
    key("enter", |_, _| Answer::Close(Vec::new()), ""),
];

impl Checks {
    /// The list, with this row selected.
    pub(super) fn at(selected: usize) -> Self {
        Self { selected }
    }

    fn step(&mut self, by: isize) -> Answer {
        self.selected = moved(self.selected, by, CHECKS.len());
        Answer::Stay(Vec::new())
    }

    /// Notes what came of the selected check.
    fn note(&mut self, outcome: Option<Outcome>) -> Answer {
        let Some(check) = CHECKS.get(self.selected) else { return Answer::Stay(Vec::new()) };
        Answer::Stay(vec![Effect::Case(Box::new(move |case| case.set_check(check.id, outcome, "").map(|()| None)))])
    }

    /// Asks for a note to the selected check, which was made.
    fn ask_note(&mut self, app: &App) -> Answer {
        let Some(check) = CHECKS.get(self.selected) else { return Answer::Stay(Vec::new()) };
        let made = app.case.as_ref().and_then(|case| case.record.checks.iter().find(|made| made.check == check.id));
        let Some((outcome, note)) = made.map(|made| (made.outcome, made.note.clone())) else {
            return Answer::Stay(tell("first say what came of the check: y or n"));
        };
        let ask = Ask::new("A note with the check", check.words, note, move |_, line| {
            let note = line.to_string();
            vec![Effect::Case(Box::new(move |case| case.set_check(check.id, Some(outcome), &note).map(|()| None)))]
        });
        Answer::Stay(vec![Effect::Over(Box::new(ask))])
    }
}

impl Popup for Checks {
    fn title(&self, _app: &App) -> String {
        "Checks outside the computer".into()
    }

    fn content(&self, app: &App, width: usize) -> Content {
        let case = app.case.as_ref();
        let next = case.and_then(Case::next_check);
        let rows = CHECKS.iter().map(|check| {
            let made = case.and_then(|case| case.record.checks.iter().find(|made| made.check == check.id));
            let result = match made.map(|made| made.outcome) {
                Some(Outcome::Yes) => check.results.0,
                Some(Outcome::No) => check.results.1,
                None if next.is_some_and(|next| next.id == check.id) => "next",
                None => "",
            };
            let room = width.saturating_sub(20);
            let words = cut(check.words, room);
            (format!("{result:<11} {words:<room$} {:>2} min", check.minutes), Tone::Plain)
        });
        let rows: Vec<(String, Tone)> = rows.collect();
        // What was noted with the selected one is read above the list.
        let noted = case.and_then(|case| {
            let check = CHECKS.get(self.selected)?;
            case.record.checks.iter().find(|made| made.check == check.id).map(|made| made.note.clone())
        });
        let head = vec![format!("note: {}", noted.filter(|note| !note.is_empty()).unwrap_or_else(|| "-".into())), String::new()];
        Content { head, rows, selected: Some(self.selected), from: 0 }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(CHECK_KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, CHECK_KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}
