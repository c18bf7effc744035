//! What an action sets off: opening drives, starting jobs. Kept apart from the state's own changes.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use keel_core::advice::Swept;
use keel_core::job::{Desk, Job, Message};
use keel_core::ladder::{Ground, Rung};
use keel_core::mend::{self, Look};
use keel_core::plan::{self, ApplyOptions, Bundle, Confirmation, Direction};
use keel_core::sweep::{self, Reach, SweepOptions};
use keel_core::{CoreError, case, fathom, files, yard};
use keel_source::{OpenOptions, SharedSource};

use super::App;
use super::drive::{Drive, Writing};
use super::popup::Popup;
use crate::keymap::Stage;

/// Something to be set off.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Effect {
    /// Open a drive and ask it.
    OpenDrive(PathBuf),
    /// Sweep it.
    Sweep(Reach),
    /// Examine the ladder, on the drive and on the plan's overlay.
    ExamineDrive,
    /// Examine the ladder on the plan's overlay.
    ExaminePlan,
    /// Look at the structures of the selected find, and check it.
    LookAtStructures,
    /// Ask what a check of each find would mend.
    AskChecks,
    /// Look into a find.
    LookInto(String),
    /// Read the roots of two finds.
    Compare(String, String),
    /// Apply the plan with this code.
    Apply(String),
    /// Finish or roll back with a bundle.
    Recover(PathBuf, Direction, Confirmation),
    /// Take files out to a folder.
    Extract(PathBuf),
    /// Save the repaired copy.
    SaveCopy(PathBuf),
    /// Show something to be read.
    Show(&'static str, String),
}

impl App {
    /// Sets it off.
    pub(crate) fn run_effect(&mut self, effect: Effect) {
        match effect {
            Effect::OpenDrive(path) => self.open_drive(&path),
            Effect::Sweep(reach) => self.start_sweep(reach),
            Effect::ExamineDrive => {
                self.examine_drive();
                self.examine_plan();
            }
            Effect::ExaminePlan => self.examine_plan(),
            Effect::LookAtStructures => self.look_at_structures(),
            Effect::AskChecks => self.ask_checks(),
            Effect::LookInto(id) => self.look_into(&id),
            Effect::Compare(one, other) => self.compare(&one, &other),
            Effect::Apply(code) => self.apply(code),
            Effect::Recover(bundle, direction, confirmation) => self.put_back(&bundle, direction, confirmation),
            Effect::Extract(to) => self.extract(to),
            Effect::SaveCopy(path) => self.save_copy(path),
            Effect::Show(title, text) => self.show(title, text),
        }
    }

    fn open_drive(&mut self, path: &Path) {
        if self.is_writing() {
            self.tell("the drive is being written; wait for the end, or stop the measurement with x");
            return;
        }
        self.told_when_open = None;
        let (path, sector_size) = (path.to_path_buf(), self.sector_size);
        self.opening =
            Some(Job::start(move |desk| opened(&path, sector_size).map(|opened| (opened, desk.cancel().is_cancelled()))));
    }

    /// Takes the drive that was opened.
    pub(crate) fn take_opening(&mut self) {
        for message in self.opening.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(()) => continue,
                Message::Done(Ok((_, true))) => self.tell("not opened: it was stopped"),
                Message::Done(Ok((opened, false))) => self.take_opened(opened),
                Message::Done(Err(error)) => self.show("The drive does not open", keel_core::chain(&error)),
                Message::Died(text) => self.show("The opening died", text),
            }
            self.opening = None;
        }
    }

    fn take_opened(&mut self, opened: OpenedDrive) {
        let identity = opened.drive.source.identity().clone();
        self.told = self.told_when_open.take().map(str::to_string);
        // The former drive's jobs end with it.
        self.drive = Some(*opened.drive);
        self.stage = Stage::Ladder;
        if let Some(bundle) = opened.interrupted {
            self.popups.push(Popup::Interrupted { bundle });
        }
        if opened.probe_interrupted {
            self.show(
                "A probe was interrupted",
                "What it touched does not stand as it was. It is kept: go to Fathom (4) and press u to put it back.",
            );
        }
        self.look_up_case();
        if let Some(case) = &mut self.case {
            let _ = case.identify(&identity);
        }
        self.ask_ground();
    }

    /// True while something is written to the drive in work.
    pub(crate) fn is_writing(&self) -> bool {
        self.drive.as_ref().is_some_and(|drive| drive.writing.is_some() || drive.fathom.is_busy())
    }

    /// Asks the drive for its own rungs; the landmarks are swept when they are known.
    pub(crate) fn ask_ground(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        drive.live.clear();
        let source = SharedSource::clone(&drive.source);
        drive.ground_job =
            Some(Job::start(move |desk: &Desk<Rung>| Ground::ask(&source, desk.cancel(), &mut |rung| desk.tell(rung.clone()))));
    }

    fn start_sweep(&mut self, reach: Reach) {
        let Some(drive) = &mut self.drive else { return };
        if drive.sweep_job.is_some() {
            return;
        }
        drive.reach = reach;
        drive.progress = None;
        // What an earlier sweep saw of a drive that did not change is known from the start.
        let state = Some(case::drive_folder(drive.source.identity()).join("sweep.json"));
        let (source, options) = (SharedSource::clone(&drive.source), SweepOptions { reach, state });
        drive.sweep_job = Some(Job::start(move |desk| sweep::sweep(&source, &options, desk)));
        if reach != Reach::Landmarks {
            drive.swept = Swept::Stopped;
        }
    }

    fn examine_drive(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        drive.ladder_job = Some(drive.examine(&drive.source));
    }

    fn examine_plan(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        drive.after = None;
        drive.after_job = None;
        if !drive.edits.is_empty() {
            drive.after_job = Some(drive.examine(&drive.view()));
        }
    }

    fn look_at_structures(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        match drive.finds.get(drive.find).cloned() {
            Some(find) => drive.mend.look(&drive.source, &find),
            None => drive.look_at_table(),
        }
    }

    fn ask_checks(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        drive.mend.ask(&drive.source, &drive.finds);
    }

    fn look_into(&mut self, id: &str) {
        let Some(drive) = &mut self.drive else { return };
        let Some(find) = drive.finds.iter().find(|find| find.id == id).cloned() else { return };
        let source = SharedSource::clone(&drive.source);
        let finds = drive.finds.clone();
        drive.files.open(&source, &finds, &find);
        self.stage = Stage::Files;
    }

    fn compare(&mut self, one: &str, other: &str) {
        let Some(drive) = &mut self.drive else { return };
        let pair: Vec<_> = drive.finds.iter().filter(|find| find.id == one || find.id == other).cloned().collect();
        drive.looks.clear();
        drive.looks_job =
            Some(Job::reading(&drive.source, move |source, _| pair.iter().map(|find| sweep::root_look(source, find)).collect()));
    }

    fn apply(&mut self, code: String) {
        let Some(drive) = &mut self.drive else { return };
        let options = ApplyOptions {
            confirmation: Confirmation::Code(code),
            override_words: drive.override_words.take(),
            bundle: None,
            stamp: keel_core::case::stamp(),
        };
        let (source, plan, finds) = (SharedSource::clone(&drive.source), drive.plan(), drive.finds.clone());
        drive.written = 0;
        drive.proof.clear();
        drive.writing = Some(Writing::Apply(Job::start(move |desk| {
            let before = mend::looks(&source, &finds);
            plan::apply(&source, &plan, &options, &mut |step| desk.tell(step)).map(|applied| (applied, before))
        })));
    }

    /// Compares what reads now with what read before the apply, and asks the kernel.
    pub(crate) fn prove(&mut self, before: BTreeMap<String, Look>) {
        let Some(drive) = &mut self.drive else { return };
        let finds = drive.finds.clone();
        drive.proof_job = Some(Job::reading(&drive.source, move |source, _| mend::proven(source, &finds, &before)));
    }

    fn put_back(&mut self, path: &Path, direction: Direction, confirmation: Confirmation) {
        let Some(drive) = &mut self.drive else { return };
        let (source, path) = (SharedSource::clone(&drive.source), path.to_path_buf());
        drive.bundle = Some(path.clone());
        drive.written = 0;
        drive.writing = Some(Writing::Recover(Job::start(move |desk| {
            let bundle = Bundle::read(&path)?;
            plan::recover(&source, (&path, &bundle), direction, &confirmation, &mut |step| desk.tell(step))?;
            Ok(plan::condition(&source, &bundle)? == plan::Condition::Applied)
        })));
    }

    fn extract(&mut self, to: PathBuf) {
        let Some(drive) = &mut self.drive else { return };
        let Some(find) = drive.files.find.clone() else { return };
        let wanted = drive.files.wanted();
        let taken = drive.files.taken.clone();
        let source = SharedSource::clone(&drive.source);
        drive.extract_job = Some(Job::start(move |desk| {
            // A volume of its own: stopping the listing beside it is nothing that did not read.
            let volume = files::open(&source, &find)?;
            let judge = super::files::judge(volume.as_ref(), taken.as_deref());
            files::take_out(&source, (volume.as_ref(), judge), &wanted, &to, desk)
        }));
    }

    fn save_copy(&mut self, path: PathBuf) {
        let Some(drive) = &mut self.drive else { return };
        let view = drive.view();
        drive.written = 0;
        drive.writing = Some(Writing::Save(Job::start(move |desk| plan::save_as(view.as_ref(), &path, &mut |at| desk.tell(at)))));
    }

    /// Asks the drives of the yard anew.
    pub(crate) fn refresh_yard(&mut self) {
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
                Message::Died(text) => self.show("The yard died", text),
            }
            self.yard_job = None;
        }
    }
}

/// What the opening of a drive comes to; true with it when it was stopped meanwhile.
pub(crate) type Opening = Result<(OpenedDrive, bool), CoreError>;

/// A drive as it is opened, and what an earlier run left behind on it.
pub(crate) struct OpenedDrive {
    drive: Box<Drive>,
    /// The bundle of an interrupted apply.
    interrupted: Option<PathBuf>,
    probe_interrupted: bool,
}

/// Opens the drive at `path` for the stages: as it claims to be for Fathom, as far as it stores for all others.
fn opened(path: &Path, sector_size: Option<u32>) -> Result<OpenedDrive, CoreError> {
    let claimed = keel_source::open(path, OpenOptions { sector_size })?;
    let source = yard::as_seen(SharedSource::clone(&claimed))?;
    let mut drive = Drive::new(SharedSource::clone(&source));
    drive.claimed = claimed;
    drive.bundle = case::bundles(source.identity()).pop();
    let probe_interrupted = fathom::interrupted_of(&source).is_some();
    Ok(OpenedDrive { interrupted: plan::interrupted(&source), probe_interrupted, drive: Box::new(drive) })
}
