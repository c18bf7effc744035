//! Opening drives, and asking those of the yard: jobs, since a drive may take its time to answer.

use std::path::{Path, PathBuf};

use keel_core::job::{Job, Message};
use keel_core::{CoreError, case, fathom, plan, yard};
use keel_source::{OpenOptions, SharedSource};

use super::effect::{Effect, show, tell};
use super::{App, WRITING};
use crate::stage::plan::Interrupted;
use crate::stage::{Drive, StageId, ladder};

/// What the opening of a drive comes to; true with it when it was stopped meanwhile.
pub(crate) type Opening = Result<(OpenedDrive, bool), CoreError>;

/// A drive as it is opened, and what an earlier run left behind on it.
pub(crate) struct OpenedDrive {
    drive: Box<Drive>,
    /// The bundle of an interrupted apply.
    interrupted: Option<PathBuf>,
}

impl App {
    /// Opens the drive at `path`; `told` is told when it is open.
    pub(crate) fn open_drive(&mut self, path: &Path, told: Option<&'static str>) {
        if self.is_writing() {
            self.run(tell(WRITING));
            return;
        }
        self.told_when_open = told;
        let (path, sector_size) = (path.to_path_buf(), self.sector_size);
        self.opening =
            Some(Job::start(move |desk| opened(&path, sector_size).map(|opened| (opened, desk.cancel().is_cancelled()))));
    }

    /// Takes the drive that was opened.
    pub(crate) fn take_opening(&mut self) {
        for message in self.opening.as_mut().map(Job::drain).unwrap_or_default() {
            let effects = match message {
                Message::Progress(()) => continue,
                Message::Done(Ok((_, true))) => tell("not opened: it was stopped"),
                Message::Done(Ok((opened, false))) => {
                    self.opening = None;
                    self.take_opened(opened);
                    return;
                }
                Message::Done(Err(error)) => vec![show("The drive does not open", keel_core::chain(&error))],
                Message::Died(text) => vec![show("The opening died", text)],
            };
            self.opening = None;
            self.run(effects);
        }
    }

    fn take_opened(&mut self, opened: OpenedDrive) {
        let identity = opened.drive.source.identity().clone();
        let probe_interrupted = opened.drive.fathom.interrupted;
        self.told = self.told_when_open.take().map(str::to_string);
        // The former drive's jobs end with it.
        self.drive = Some(*opened.drive);
        self.stage = StageId::Ladder;
        let mut effects = Vec::new();
        effects.extend(opened.interrupted.map(|bundle| Effect::Over(Box::new(Interrupted { bundle }))));
        if probe_interrupted {
            effects.push(show(
                "A probe was interrupted",
                "What it touched does not stand as it was. It is kept: go to Fathom (4) and press u to put it back.",
            ));
        }
        self.look_up_case();
        if let Some(case) = &mut self.case {
            let _ = case.identify(&identity);
        }
        effects.push(ladder::ask_ground());
        self.run(effects);
    }

    /// Asks the drives of the yard anew.
    pub(crate) fn ask_yard(&mut self) {
        let paths: Vec<PathBuf> = self.berths.iter().map(|berth| berth.path.clone()).collect();
        self.yard_job = Some(Job::start(move |_| yard::berths(paths)));
    }

    /// Takes what the drives of the yard said.
    pub(crate) fn take_yard(&mut self) {
        for message in self.yard_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(()) => continue,
                Message::Done(berths) => {
                    self.berths = berths;
                    self.look_up_case();
                }
                Message::Died(text) => self.run(vec![show("The yard died", text)]),
            }
            self.yard_job = None;
        }
    }
}

/// Opens the drive at `path` for the stages: as it claims to be for Fathom, as far as it stores for all others.
fn opened(path: &Path, sector_size: Option<u32>) -> Result<OpenedDrive, CoreError> {
    let claimed = keel_source::open(path, OpenOptions { sector_size })?;
    let source = yard::as_seen(SharedSource::clone(&claimed))?;
    let mut drive = Drive::new(SharedSource::clone(&source));
    drive.claimed = claimed;
    drive.plan.bundle = case::bundles(source.identity()).pop();
    drive.fathom.interrupted = fathom::interrupted_of(&source).is_some();
    Ok(OpenedDrive { interrupted: plan::interrupted(&source), drive: Box::new(drive) })
}
