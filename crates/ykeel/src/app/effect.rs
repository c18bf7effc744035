//! What a key, a click or the end of a job sets off. The state's own changes are made before; only here jobs begin, files are touched
//! and popups open.

use std::path::{Path, PathBuf};

use keel_core::CoreError;
use keel_core::case::Case;
use keel_draw::Audience;
use serde_json::Value;

use super::App;
use crate::keys::Does;
use crate::log;
use crate::popup::{Popup, Text};
use crate::stage::{Drive, StageId, copy};

/// What is set off, in this order.
pub(crate) type Effects = Vec<Effect>;

/// A change of a case; what comes of it is told in the foot.
pub(crate) type CaseChange = Box<dyn FnOnce(&mut Case) -> Result<Option<String>, CoreError> + Send>;

/// Something to be set off.
pub(crate) enum Effect {
    /// Tell something in the foot.
    Tell(String),
    /// Lay something over the stage.
    Over(Box<dyn Popup>),
    /// Do what a key of this stage does.
    Do(Does),
    /// Go to a stage.
    GoTo(StageId),
    /// Open a drive and ask it; this is told when it is open.
    Open(PathBuf, Option<&'static str>),
    /// Open the drive at a path again: it is not as it was when it was opened.
    OpenAnew(PathBuf),
    /// Open whatever lies at a path: a folder becomes the yard.
    OpenAny(PathBuf),
    /// Begin work on the drive it came from.
    Work(Work),
    /// Keep what is seen of the drive: the yard says it from now on.
    Seen,
    /// Ask the drives of the yard anew.
    AskYard,
    /// Look up the case of the drive that is meant.
    LookUpCase,
    /// Change the case, which is opened for it where there is none.
    Case(CaseChange),
    /// Note an event in the case of the open drive, where there is one.
    Note(&'static str, Value),
    /// The copy that the case works on, where there is a case.
    WorksOn(PathBuf),
    /// Write the report.
    Report(PathBuf, Audience),
    /// Write the list that the stage shows to a file.
    Export(PathBuf),
    /// Remember what was answered to a question.
    Remember(&'static str, String),
    /// Put a text on the terminal's clipboard.
    Clip(String),
    /// Leave; it is asked first where work goes on.
    Quit,
    /// Leave: what runs is stopped, and keeps what it did.
    Leave,
    /// Look at a drive that is open, in this stage.
    LookAt(PathBuf, StageId),
    /// Stop what runs in a stage of an open drive.
    StopIn(PathBuf, StageId),
    /// Let the copy of an open drive rest, or go on.
    RestIn(PathBuf),
    /// Ask every drive of the yard for its ladder.
    LookAtAll,
}

/// Work on the drive in work: its name, and what begins it.
pub(crate) struct Work {
    pub(crate) name: &'static str,
    /// True for what reads or writes; false for what only moves something on the screen.
    pub(crate) is_told: bool,
    pub(crate) begin: Box<dyn FnOnce(&mut Drive) -> Effects>,
}

impl std::fmt::Debug for Effect {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Tell(text) => write!(f, "tell {text}"),
            Self::Over(_) => f.write_str("over"),
            Self::Do(_) => f.write_str("do"),
            Self::GoTo(stage) => write!(f, "go to {stage:?}"),
            Self::Open(path, _) => write!(f, "open {}", path.display()),
            Self::OpenAnew(path) => write!(f, "open anew {}", path.display()),
            Self::OpenAny(path) => write!(f, "open any {}", path.display()),
            Self::Work(work) => write!(f, "work: {}", work.name),
            Self::Seen => f.write_str("seen"),
            Self::AskYard => f.write_str("ask the yard"),
            Self::LookUpCase => f.write_str("look up the case"),
            Self::Case(_) => f.write_str("change the case"),
            Self::Note(event, _) => write!(f, "note {event}"),
            Self::WorksOn(path) => write!(f, "works on {}", path.display()),
            Self::Report(path, _) => write!(f, "report {}", path.display()),
            Self::Export(path) => write!(f, "export {}", path.display()),
            Self::Remember(question, _) => write!(f, "remember {question}"),
            Self::Clip(_) => f.write_str("clip"),
            Self::Quit => f.write_str("quit"),
            Self::Leave => f.write_str("leave"),
            Self::LookAt(path, stage) => write!(f, "look at {} in {stage:?}", path.display()),
            Self::StopIn(path, stage) => write!(f, "stop {stage:?} of {}", path.display()),
            Self::RestIn(path) => write!(f, "rest {}", path.display()),
            Self::LookAtAll => f.write_str("look at all"),
        }
    }
}

impl Effect {
    /// Writes it to the log, where it is something that was done, and not drawn, chosen or asked.
    fn log(&self) {
        match self {
            Self::Note(event, detail) => log::line(event, &detail.to_string()),
            Self::Work(work) if work.is_told => log::line("begin", work.name),
            Self::WorksOn(path) => log::line("works on", &path.to_string_lossy()),
            Self::Report(path, _) => log::line("report", &path.to_string_lossy()),
            Self::Export(path) => log::line("export", &path.to_string_lossy()),
            Self::Leave => log::line("leave", ""),
            _ => {}
        }
    }
}

/// Tell something in the foot, and nothing else.
pub(crate) fn tell(text: impl Into<String>) -> Effects {
    vec![Effect::Tell(text.into())]
}

/// Show something to be read.
pub(crate) fn show(title: impl Into<String>, text: impl Into<String>) -> Effect {
    Effect::Over(Box::new(Text::new(title, text)))
}

/// Begin work on the drive.
pub(crate) fn work(name: &'static str, begin: impl FnOnce(&mut Drive) -> Effects + 'static) -> Effect {
    Effect::Work(Work { name, is_told: true, begin: Box::new(begin) })
}

/// Change what is looked at of the drive: nothing is read.
pub(crate) fn change(name: &'static str, change: impl FnOnce(&mut Drive) + 'static) -> Effect {
    let begin = |drive: &mut Drive| {
        change(drive);
        Vec::new()
    };
    Effect::Work(Work { name, is_told: false, begin: Box::new(begin) })
}

/// Begin work on the drive that sets off nothing more.
pub(crate) fn job(name: &'static str, begin: impl FnOnce(&mut Drive) + 'static) -> Effect {
    work(name, |drive| {
        begin(drive);
        Vec::new()
    })
}

impl App {
    /// Sets all of it off.
    pub(crate) fn run(&mut self, effects: Effects) {
        effects.into_iter().for_each(|effect| self.run_effect(effect));
    }

    fn run_effect(&mut self, effect: Effect) {
        effect.log();
        match effect {
            Effect::Tell(text) => self.told = Some(self.named(text)),
            Effect::Over(popup) => self.lay_over(popup),
            Effect::Do(does) => {
                let effects = self.does(does);
                self.run(effects);
            }
            Effect::GoTo(stage) => self.go_to(stage),
            Effect::Open(path, told) => self.open_drive(&path, told),
            Effect::OpenAnew(path) => self.open_anew(&path),
            Effect::OpenAny(path) => self.open_any(&path),
            Effect::Work(work) => {
                let effects = self.drive.as_mut().map(work.begin).unwrap_or_default();
                self.run(effects);
            }
            Effect::Seen => self.keep_sight(),
            Effect::AskYard => self.ask_yard(),
            Effect::LookUpCase if self.is_behind => {}
            Effect::LookUpCase => self.look_up_case(),
            Effect::Case(change) => self.change_case(change),
            Effect::Note(event, detail) => self.note(event, detail),
            Effect::WorksOn(path) => self.works_on(path),
            Effect::Report(path, audience) => self.write_report(&path, audience),
            Effect::Export(path) => self.export(path),
            Effect::Remember(question, line) => self.remember(question, line),
            Effect::Clip(text) => self.clip = Some(text),
            Effect::Quit => self.quit_or_ask(),
            Effect::Leave => self.quit = true,
            Effect::LookAt(path, stage) => self.look_at_open(&path, stage),
            Effect::StopIn(path, stage) => self.on_drive(&path, |app| stop_in(app, stage)),
            Effect::RestIn(path) => self.on_drive(&path, rest_in),
            Effect::LookAtAll => self.begin_round(),
        }
    }

    /// What is told of a drive that is not looked at says whose it is.
    fn named(&self, text: String) -> String {
        let name = self.drive.as_ref().filter(|_| self.is_behind).map(Drive::plain_name);
        match name {
            Some(name) => format!("{name}: {text}"),
            None => text,
        }
    }

    /// Keeps what was answered, once, the last one at the end.
    fn remember(&mut self, question: &'static str, line: String) {
        const MOST: usize = 50;
        let typed = self.typed.entry(question).or_default();
        typed.retain(|own| *own != line);
        typed.push(line);
        let over = typed.len().saturating_sub(MOST);
        typed.drain(..over);
    }

    /// Lays a popup over the stage; one of a drive that is not looked at waits for it to be.
    fn lay_over(&mut self, popup: Box<dyn Popup>) {
        match self.drive.as_mut().filter(|_| self.is_behind) {
            Some(drive) => {
                drive.notices.push(popup);
                self.rings = true;
            }
            None => self.popups.push(popup),
        }
    }

    /// Does `work` on the open drive at `path`, looked at or not.
    fn on_drive(&mut self, path: &Path, work: impl FnOnce(&mut Self)) {
        if self.drive.as_ref().is_some_and(|drive| drive.is_at(path)) {
            work(self);
        } else if let Some(index) = self.others.iter().position(|drive| drive.is_at(path)) {
            self.behind(index, work);
        }
    }

    /// Looks at a drive that is open, in this stage.
    fn look_at_open(&mut self, path: &Path, stage: StageId) {
        if let Some(index) = self.others.iter().position(|drive| drive.is_at(path)) {
            let drive = self.others.remove(index);
            self.look_at(drive);
        }
        self.go_to(stage);
    }
}

/// Stops what runs in a stage of the drive.
fn stop_in(app: &mut App, stage: StageId) {
    if let Some(drive) = &mut app.drive {
        stage.stage().cancel(drive);
    }
}

/// Lets the copy of the drive rest, or go on.
fn rest_in(app: &mut App) {
    let effects = app.drive.as_mut().map(copy::pause).unwrap_or_default();
    app.run(effects);
}
