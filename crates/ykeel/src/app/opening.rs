//! Opening drives, and asking those of the yard: jobs, since a drive may take its time to answer.

use std::path::{Path, PathBuf};

use keel_core::advice::Swept;
use keel_core::case::Case;
use keel_core::job::{Job, Message};
use keel_core::sweep::SweepState;
use keel_core::yard::{Berth, Sight};
use keel_core::{CoreError, case, copy, fathom, plan, yard};
use keel_source::{OpenOptions, SharedSource};

use super::effect::{Effect, show, tell};
use super::{App, whole};
use crate::stage::plan::Interrupted;
use crate::stage::{Drive, StageId, ladder};

/// A drive that is being opened.
pub(crate) struct Opening {
    /// Where it lies.
    pub(crate) path: PathBuf,
    /// What comes of it; true with it when it was stopped meanwhile.
    pub(crate) job: Job<(), Result<(OpenedDrive, bool), CoreError>>,
    /// What is told when it is open.
    told: Option<&'static str>,
}

impl Opening {
    /// Begins to open the drive at `path`.
    pub(super) fn begin(path: &Path, sector_size: Option<u32>, told: Option<&'static str>) -> Self {
        let wanted = path.to_path_buf();
        let job = Job::start(move |desk| opened(&wanted, sector_size).map(|opened| (opened, desk.cancel().is_cancelled())));
        Self { path: path.to_path_buf(), job, told }
    }
}

/// A drive as it is opened, and what an earlier run left behind on it.
pub(crate) struct OpenedDrive {
    pub(super) drive: Box<Drive>,
    /// The bundle of an interrupted apply.
    interrupted: Option<PathBuf>,
}

impl App {
    /// Opens the drive at `path` and looks at it; `told` is told when it is open. One that is open already is looked at again, as it
    /// was left.
    pub(crate) fn open_drive(&mut self, path: &Path, told: Option<&'static str>) {
        let own = whole(path);
        if self.drive.as_ref().is_some_and(|drive| drive.is_at(&own) && drive.is_in_work()) {
            self.go_to(StageId::Ladder);
            return;
        }
        if let Some(index) = self.others.iter().position(|drive| drive.is_at(&own)) {
            let drive = self.others.remove(index);
            self.look_at(drive);
            self.told = told.map(str::to_string);
            return;
        }
        self.opening = Some(Opening::begin(path, self.sector_size, told));
    }

    /// Opens the drive at `path` again: what was known of it is let go. One behind waits until it is looked at.
    pub(super) fn open_anew(&mut self, path: &Path) {
        if let Some(drive) = self.drive.as_mut().filter(|_| self.is_behind) {
            drive.is_stale = true;
            return;
        }
        if self.drive.as_ref().is_some_and(|drive| drive.is_at(&whole(path))) {
            self.drive = None;
        }
        self.open_drive(path, None);
    }

    /// Takes the drive that was opened.
    pub(crate) fn take_opening(&mut self) {
        for message in self.opening.as_mut().map(|opening| opening.job.drain()).unwrap_or_default() {
            let effects = match message {
                Message::Progress(()) => continue,
                Message::Done(Ok((_, true))) => tell("not opened: it was stopped"),
                Message::Done(Ok((opened, false))) => {
                    let told = self.opening.take().and_then(|opening| opening.told);
                    self.take_opened(opened, told);
                    return;
                }
                Message::Done(Err(error)) => vec![show("The drive does not open", keel_core::chain(&error))],
                Message::Died(text) => vec![show("The opening died", text)],
            };
            self.opening = None;
            self.run(effects);
        }
    }

    fn take_opened(&mut self, opened: OpenedDrive, told: Option<&'static str>) {
        let identity = opened.drive.source.identity().clone();
        let probe_interrupted = opened.drive.fathom.interrupted;
        self.told = told.map(str::to_string);
        self.look_at(*opened.drive);
        let mut effects = Vec::new();
        effects.extend(opened.interrupted.map(|bundle| Effect::Over(Box::new(Interrupted { bundle }))));
        if probe_interrupted {
            effects.push(show(
                "A probe was interrupted",
                "What it touched does not stand as it was. It is kept: go to Fathom (4) and press u to put it back.",
            ));
        }
        self.identify(identity);
        effects.push(ladder::ask_ground());
        self.run(effects);
    }

    /// Opens whatever lies at `path`: a folder becomes the yard, everything else a drive that stands in it.
    pub(crate) fn open_any(&mut self, path: &Path) {
        let path = &whole(path);
        if path.is_dir() {
            self.yard = Yard::Folder(path.clone());
            self.berth = 0;
            self.ask_yard();
            return;
        }
        if !self.berths.iter().any(|berth| berth.path == *path) {
            self.added.push(path.to_path_buf());
            self.ask_yard();
        }
        self.open_drive(path, None);
    }

    /// Asks the drives of the yard anew; the selected one stays selected.
    pub(crate) fn ask_yard(&mut self) {
        let (yard, added) = (self.yard.clone(), self.added.clone());
        self.yard_job = Some(Job::start(move |_| yard.berths(&added)));
    }

    /// Takes what the drives of the yard said.
    pub(crate) fn take_yard(&mut self) {
        for message in self.yard_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(()) => continue,
                Message::Done(berths) => {
                    let selected = self.berths.get(self.berth).map(|berth| berth.path.clone());
                    let former = std::mem::replace(&mut self.berths, berths);
                    // What was seen while they were asked is newer than what they answered.
                    for berth in &mut self.berths {
                        let old = former.iter().find(|old| old.path == berth.path).and_then(|old| old.sight.as_ref());
                        let seen = |sight: Option<&Sight>| sight.map(|sight| sight.at.clone());
                        if seen(old) > seen(berth.sight.as_ref()) {
                            berth.sight = old.cloned();
                        }
                    }
                    let same = self.berths.iter().position(|berth| Some(&berth.path) == selected.as_ref());
                    self.berth = same.unwrap_or(0);
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
    let claimed = keel_source::open(path, OpenOptions { sector_size, ..OpenOptions::default() })?;
    crate::log::opened(claimed.as_ref())?;
    let source = yard::as_seen(SharedSource::clone(&claimed))?;
    let mut drive = Drive::new(SharedSource::clone(&source));
    drive.claimed = claimed;
    drive.plan.bundle = case::bundles(source.identity()).pop();
    drive.fathom.interrupted = fathom::interrupted_of(&source).is_some();
    let sight = Sight::known(source.identity());
    // What was seen counts for what calls itself so: what it led to is of this drive only when that holds the same.
    let state = case::drive_folder(source.identity()).join("sweep.json");
    let swept = sight.as_ref().is_some_and(|sight| sight.swept == Swept::Done);
    drive.ladder.was_swept = swept && SweepState::is_of(&state, &source);
    let case = source.identity().path.as_ref().and_then(|path| Case::of(path, Some(source.identity())).ok().flatten());
    drive.symptoms = case.as_ref().map(|case| case.record.told.symptoms.clone()).unwrap_or_default();
    if let Some(copy) = case.and_then(|case| case.record.copy).or(sight.and_then(|sight| sight.copy)) {
        drive.copy.keep(copy::known_of(&copy, &source));
        // One that holds something else is another drive's.
        drive.copy.dest = (drive.copy.kept.is_some() || copy::known(&copy).is_none()).then_some(copy);
    }
    Ok(OpenedDrive { interrupted: plan::interrupted(&source), drive: Box::new(drive) })
}

/// What the yard is made of.
#[derive(Debug, Clone)]
pub(crate) enum Yard {
    /// The drives in a folder, and the devices of this machine.
    Folder(PathBuf),
    /// These, as they were named.
    Named(Vec<PathBuf>),
}

impl Yard {
    /// Its drives, and those that were added by hand.
    pub(super) fn berths(&self, added: &[PathBuf]) -> Vec<Berth> {
        let (mut paths, devices) = match self {
            Self::Folder(folder) => (yard::paths(folder).unwrap_or_default(), yard::device_berths()),
            Self::Named(paths) => (paths.clone(), Vec::new()),
        };
        let more: Vec<PathBuf> = added.iter().filter(|path| !paths.contains(path)).cloned().collect();
        paths.extend(more);
        let mut berths = yard::berths(paths);
        let known = |device: &Berth| berths.iter().any(|berth| berth.path == device.path);
        let devices: Vec<Berth> = devices.into_iter().filter(|device| !known(device)).collect();
        berths.extend(devices);
        berths
    }
}
