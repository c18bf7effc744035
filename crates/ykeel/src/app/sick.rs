//! Intake, copy and measurement in the screens: actions of the technician, and what the jobs told.

use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};

use keel_core::CoreError;
use keel_core::case::Case;
use keel_core::copy::Stopped;
use keel_core::fathom::{self, Method};
use keel_core::intake::{CHECKS, Outcome, SYMPTOMS};
use keel_core::job::{Desk, Job, Message};
use keel_core::leave::Confirmation;
use keel_core::reads::{self, Left, ReadsOptions, Survey};
use keel_core::sweep::{self, SweepOptions};
use keel_core::yard::takes_yes;
use keel_draw::Asked;
use keel_source::SharedSource;
use serde::Serialize;

use super::copy::CopyEnd;
use super::fathom::{FathomEnd, Measured};
use super::popup::{Popup, Question};
use super::{App, Effect};
use crate::keymap::{Action, Stage};

/// The most time that a reading of the whole surface may take, in the screens.
const SURFACE_BUDGET: std::time::Duration = std::time::Duration::from_secs(24 * 3600);

impl App {
    /// The path whose case is meant: the open drive's, in the Yard the selected one's.
    fn case_path(&self) -> Option<PathBuf> {
        let open = self.drive.as_ref().and_then(|drive| drive.source.identity().path.clone());
        let selected = self.berths.get(self.berth).map(|berth| berth.path.clone());
        if self.stage == Stage::Yard { selected } else { open.or(selected) }
    }

    /// Looks up the case of the drive that is meant.
    pub(crate) fn look_up_case(&mut self) {
        let path = self.case_path();
        let identity =
            self.berths.iter().find(|berth| Some(&berth.path) == path.as_ref()).and_then(|berth| berth.identity.clone());
        self.case = path.and_then(|path| Case::of(&path, identity.as_ref()).ok().flatten());
    }

    /// Changes the case, which is opened for it where there is none.
    fn with_case(&mut self, change: impl FnOnce(&mut Case) -> Result<(), CoreError>) {
        let Some(path) = self.case_path() else { return };
        let identity = self.berths.iter().find(|berth| berth.path == path).and_then(|berth| berth.identity.clone());
        let changed = Case::open(&path, identity.as_ref(), "").and_then(|mut case| {
            change(&mut case)?;
            Ok(case)
        });
        match changed {
            Ok(case) => {
                if let Some(berth) = self.berths.iter_mut().find(|berth| berth.path == path) {
                    berth.case = Some(case.record.name.clone());
                }
                self.case = Some(case);
            }
            Err(error) => self.show("The case cannot be written", keel_core::chain(&error)),
        }
    }

    /// Notes an event in the case of the open drive, where there is one.
    pub(crate) fn note(&mut self, event: &str, detail: &impl Serialize) {
        let path = self.drive.as_ref().and_then(|drive| drive.source.identity().path.clone());
        let Some(Ok(Some(mut case))) = path.map(|path| Case::of(&path, None)) else { return };
        if let Err(error) = case.write_down(event, &serde_json::to_value(detail).unwrap_or_default()) {
            self.tell(format!("the journal could not be written: {}", keel_core::chain(&error)));
        }
        self.case = Some(case);
    }

    /// Sees or no longer sees the symptom in this row of the list.
    pub(crate) fn toggle_symptom(&mut self, row: usize) {
        let Some(symptom) = SYMPTOMS.get(row) else { return };
        let seen = self.case.as_ref().is_some_and(|case| case.record.told.symptoms.iter().any(|own| own == symptom.id));
        self.with_case(|case| case.set_symptom(symptom.id, !seen));
    }

    /// Notes what came of the check in this row of the list.
    pub(crate) fn settle_check(&mut self, row: usize, outcome: Option<Outcome>) {
        let Some(check) = CHECKS.get(row) else { return };
        self.with_case(|case| case.set_check(check.id, outcome, ""));
    }

    /// What was noted with the check in this row.
    pub(crate) fn note_of_check(&self, row: usize) -> String {
        let made = self
            .case
            .iter()
            .flat_map(|case| &case.record.checks)
            .find(|made| CHECKS.get(row).is_some_and(|check| check.id == made.check));
        made.map(|made| made.note.clone()).unwrap_or_default()
    }

    /// Notes something with the check in this row, which was made.
    pub(crate) fn note_check(&mut self, row: usize, note: &str) {
        let Some(check) = CHECKS.get(row) else { return };
        let made = self.case.as_ref().and_then(|case| case.record.checks.iter().find(|made| made.check == check.id));
        match made.map(|made| made.outcome) {
            Some(outcome) => self.with_case(|case| case.set_check(check.id, Some(outcome), note)),
            None => self.tell("first say what came of the check: y or n"),
        }
    }

    /// Keeps a text of the client.
    pub(crate) fn keep_text(&mut self, text: &str) {
        let mut known = Vec::new();
        self.with_case(|case| {
            known = case.tell(text)?;
            Ok(())
        });
        let words: Vec<&str> = known.iter().map(|known| known.means).collect();
        self.tell(if words.is_empty() { "kept; no known error is in it".into() } else { words.join("; ") });
    }

    /// Actions of the stages Yard, Copy and Fathom.
    pub(crate) fn act_on_sick(&mut self, action: Action) {
        match action {
            Action::Symptoms => self.popups.push(Popup::Symptoms { selected: 0 }),
            Action::Checks => {
                let next = self.case.as_ref().and_then(Case::next_check);
                let selected = next.and_then(|next| CHECKS.iter().position(|check| check.id == next.id)).unwrap_or(0);
                self.popups.push(Popup::Checks { selected });
            }
            Action::TellText => self.ask(Question::Told, String::new()),
            Action::StartCopy => self.ask_copy(),
            Action::PauseCopy => self.pause_copy(),
            Action::SkipPass => self.skip_pass(),
            Action::CopyOrder => {
                if let Some(drive) = &mut self.drive {
                    drive.copy.volumes_first = !drive.copy.volumes_first;
                }
            }
            Action::VerifyCopy => self.verify_copy(),
            Action::WorkOnCopy => self.work_on_copy(),
            Action::Probe => self.ask_fathom(Question::ProbeCode),
            Action::Fill => self.ask_fathom(Question::FillCode),
            Action::Estimate => self.measure(Method::Estimate, String::new()),
            Action::RestoreProbe => self.restore_probe(),
            Action::ReadSurface => self.read_surface(),
            Action::WriteReport => {
                let name = self.drive.as_ref().map(|drive| drive.source.identity().name.clone()).unwrap_or_default();
                self.ask(Question::ReportTo, format!("{}-report.pdf", name.replace(".img", "")));
            }
            _ => {}
        }
    }

    fn ask_copy(&mut self) {
        let Some(drive) = &self.drive else { return };
        if drive.copy.is_busy() {
            self.tell("the copy is running: space lets it rest, x stops it");
            return;
        }
        let name = drive.source.identity().name.replace(".img", "");
        let beside = drive.source.identity().path.as_ref().and_then(|path| path.parent()).map(Path::to_path_buf);
        let named = self.case.as_ref().and_then(|case| case.record.copy.clone());
        let usual = beside.unwrap_or_default().join("copies").join(format!("{name}-copy.img"));
        let dest = drive.copy.dest.clone().or(named).unwrap_or(usual);
        self.ask(Question::CopyTo, dest.to_string_lossy().into_owned());
    }

    /// Begins a copy; a device wants its own code first.
    pub(crate) fn start_copy(&mut self, dest: PathBuf, code: Option<String>) {
        let Some(drive) = &mut self.drive else { return };
        // Opening it here would wait for a device that does not answer.
        if code.is_none() && std::fs::metadata(&dest).is_ok_and(|found| found.file_type().is_block_device()) {
            drive.copy.dest = Some(dest);
            self.ask(Question::DestCode, String::new());
            return;
        }
        if let Some(folder) = dest.parent().filter(|folder| !folder.as_os_str().is_empty())
            && let Err(error) = std::fs::create_dir_all(folder)
        {
            self.show("Not copied", error.to_string());
            return;
        }
        drive.copy.start(&drive.source, dest, code);
    }

    fn verify_copy(&mut self) {
        if self.drive.as_mut().is_some_and(|drive| !drive.copy.verify()) {
            self.tell("there is no copy here that could be compared now");
        }
    }

    fn pause_copy(&mut self) {
        let Some(drive) = &self.drive else { return };
        if drive.copy.job.is_some() {
            drive.copy.control.pause(!drive.copy.control.is_paused());
        } else {
            self.tell("no copy is running: s begins one");
        }
    }

    fn skip_pass(&mut self) {
        let Some(drive) = &self.drive else { return };
        if drive.copy.job.is_some() {
            drive.copy.control.skip_pass();
            self.tell("the pass ends; the next one begins");
        } else {
            self.tell("no copy is running: s begins one");
        }
    }

    /// Goes over to the copy: every stage works on it from now on.
    fn work_on_copy(&mut self) {
        let Some(drive) = &self.drive else { return };
        let named = self.case.as_ref().and_then(|case| case.record.copy.clone());
        let Some(dest) = drive.copy.dest.clone().or(named).filter(|dest| dest.exists()) else {
            self.tell("no copy of this drive is known: s begins one");
            return;
        };
        if drive.copy.is_busy() {
            self.tell("wait for the copy, or stop it with x; it can be gone on with later");
            return;
        }
        self.run_effect(Effect::OpenDrive(dest));
        self.told_when_open = Some("from here on every stage works on the copy");
    }

    fn ask_fathom(&mut self, question: Question) {
        let Some(drive) = &self.drive else { return };
        if drive.is_busy() {
            self.tell("wait for the running job, or stop it with x");
        } else if drive.claimed.is_empty() || !drive.source.missing().is_empty() {
            self.tell("there is no capacity to measure here: no bytes, or a copy");
        } else {
            self.ask(question, String::new());
        }
    }

    /// Measures the drive as it claims to be.
    pub(crate) fn measure(&mut self, method: Method, code: String) {
        let Some(drive) = &mut self.drive else { return };
        if drive.fathom.is_busy() {
            return;
        }
        let claimed = SharedSource::clone(&drive.claimed);
        drive.fathom.start(&claimed, method, code);
    }

    fn restore_probe(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        if fathom::interrupted(drive.source.identity()).is_none() {
            self.tell("no probe of this drive was interrupted");
        } else if takes_yes(drive.claimed.identity()) {
            self.put_back_probe(Confirmation::Yes);
        } else {
            self.ask(Question::PutBackCode, String::new());
        }
    }

    /// Puts back what an interrupted probe touched.
    pub(crate) fn put_back_probe(&mut self, confirmation: Confirmation) {
        let Some(drive) = &mut self.drive else { return };
        if !drive.fathom.is_busy() {
            let claimed = SharedSource::clone(&drive.claimed);
            drive.fathom.restore(&claimed, confirmation);
        }
    }

    fn read_surface(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        if drive.survey_job.is_some() || drive.source.is_empty() {
            return;
        }
        let source = SharedSource::clone(&drive.source);
        drive.survey_job = Some(Job::start(move |desk| {
            let survey = reads::survey(&source, ReadsOptions::full(SURFACE_BUDGET), desk);
            let whole = survey.left != Some(Left::Cancelled);
            let kept = if whole { reads::keep(&source, &survey) } else { Ok(()) };
            (survey, kept.err().map(|error| keel_core::chain(&error)))
        }));
    }

    /// Writes the report.
    pub(crate) fn write_report(&mut self, path: &Path) {
        let Some(drive) = &mut self.drive else { return };
        let (case, path) = (self.case.clone(), path.to_path_buf());
        let source = SharedSource::clone(&drive.source);
        // How the drive delivers is asked of itself: it cannot be asked through anything.
        drive.report_job = Some(Job::start(move |desk| {
            let state = keel_core::case::drive_folder(source.identity()).join("sweep.json");
            let options = SweepOptions { state: Some(state), ..SweepOptions::default() };
            let sweep = || {
                let swept = sweep::sweep(&source, &options, &Desk::new(desk.cancel().clone()).0);
                (!swept.cancelled).then_some(swept)
            };
            let asked = Asked { source: &source, case: case.as_ref(), sweep: &sweep, cancel: desk.cancel() };
            let written = keel_draw::hand_over(&asked, &path, None);
            (!desk.cancel().is_cancelled()).then(|| written.map(|()| path).map_err(|error| keel_core::chain(&error)))
        }));
    }

    fn take_report(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        for message in drive.report_job.as_mut().map(Job::drain).unwrap_or_default() {
            let Some(drive) = &mut self.drive else { return };
            match message {
                Message::Progress(()) => continue,
                Message::Done(Some(Ok(path))) => {
                    drive.report_job = None;
                    self.note("report", &path);
                    self.show("Report", format!("{} is written.", path.display()));
                }
                Message::Done(Some(Err(text))) => {
                    drive.report_job = None;
                    self.show("No report", text);
                }
                Message::Done(None) => {
                    drive.report_job = None;
                    self.tell("the report was stopped");
                }
                Message::Died(text) => {
                    drive.report_job = None;
                    self.show("The report died", text);
                }
            }
        }
    }

    /// Takes what copy, measurement and reading told.
    pub(crate) fn take_sick(&mut self) {
        self.take_report();
        let Some(drive) = &mut self.drive else { return };
        let (copied, measured) = (drive.copy.take_reports(), drive.fathom.take_reports());
        let mut surveyed = None;
        for message in drive.survey_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(progress) => drive.surveying = Some(progress),
                Message::Done(survey) => surveyed = Some(Ok(survey)),
                Message::Died(text) => surveyed = Some(Err(text)),
            }
        }
        if surveyed.is_some() {
            (drive.survey_job, drive.surveying) = (None, None);
        }
        if let Some(end) = copied {
            self.take_copy_end(end);
        }
        if let Some(end) = measured {
            self.take_fathom_end(end);
        }
        match surveyed {
            Some(Ok((survey, problem))) => self.take_survey(survey, problem),
            Some(Err(text)) => self.show("The reading died", text),
            None => {}
        }
    }

    fn take_copy_end(&mut self, end: CopyEnd) {
        match end {
            CopyEnd::Copied(copied) => {
                let dest = self.drive.as_ref().and_then(|drive| drive.copy.dest.clone());
                // Its journal has a line more.
                self.look_up_case();
                if let Some(path) = dest.and_then(|dest| std::path::absolute(dest).ok())
                    && let Some(case) = &mut self.case
                {
                    let _ = case.work_on(&path);
                }
                let missing = copied.bytes - copied.copied_bytes;
                self.tell(match (copied.stopped, missing) {
                    (Some(Stopped::Cancelled), _) => "the copy is stopped; s goes on with it".to_string(),
                    (Some(stopped), _) => stopped.word().to_string(),
                    (None, 0) => "the copy is whole; w works on it".to_string(),
                    (None, bytes) => format!("the copy lacks {bytes} bytes; w works on it"),
                });
            }
            CopyEnd::Verified(verified) => {
                let copy = self.drive.as_ref().and_then(|drive| drive.copy.dest.clone());
                self.note("verify", &serde_json::json!({ "copy": copy, "verified": verified }));
                if verified.rotten.is_empty() {
                    self.tell(format!("{} bytes are what was read from the drive", verified.verified_bytes));
                    return;
                }
                let text = format!("{} stretches are no longer what was read; s fetches them again.", verified.rotten.len());
                self.show("The copy does not hold", text);
            }
            CopyEnd::Failed(text) => self.show("The copy stopped", text),
        }
    }

    fn take_fathom_end(&mut self, end: FathomEnd) {
        match end {
            FathomEnd::Verdict(measured) => {
                let Measured { verdict, seen, problem } = *measured;
                self.tell(if verdict.cancelled { "stopped; everything was put back".to_string() } else { verdict.line() });
                let Some(drive) = &mut self.drive else { return };
                if let Some(problem) = problem {
                    self.show("The verdict cannot be kept", problem);
                } else if !verdict.cancelled {
                    // From here on every other stage sees the drive as far as it stores.
                    drive.source = seen;
                    drive.ground = None;
                    self.ask_ground();
                }
            }
            FathomEnd::Restored(restored) => {
                self.show(
                    "Put back",
                    format!(
                        "{} bytes were put back, {} of them read back as they were.",
                        restored.bytes, restored.verified_bytes
                    ),
                );
                self.ask_ground();
            }
            FathomEnd::Failed(text) => self.show("Not measured", text),
        }
    }

    fn take_survey(&mut self, survey: Survey, problem: Option<String>) {
        let Some(drive) = &mut self.drive else { return };
        if let Some(problem) = problem {
            self.show("The survey cannot be kept", problem);
            return;
        }
        let told = format!("{} of {} reads came at once, {} places failed", survey.came, survey.asked, survey.failed.len());
        drive.survey = Some(survey);
        self.note("reads", &told);
        self.tell(told);
    }
}

#[cfg(test)]
mod tests;
