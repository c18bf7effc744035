//! The state of the screens.

use keel_core::advice::Swept;
use keel_core::case::Case;
use keel_core::job::{Job, Message};
use keel_core::yard::Berth;
use ratatui::layout::Rect;

use super::drive::{Drive, Writing};
use super::effect::Opening;
use super::popup::Popup;
use super::{Effect, popup::Question};
use crate::keymap::Stage;
use crate::theme::Theme;

/// What is said of work that was stopped and left things as they were.
const STOPPED: &str = "It was stopped: layout and plan are those of before.";

/// Everything the screens show.
pub(crate) struct App {
    pub(crate) stage: Stage,
    pub(crate) berths: Vec<Berth>,
    pub(crate) berth: usize,
    pub(crate) drive: Option<Drive>,
    /// A drive that is being opened; true with it when it was stopped meanwhile.
    pub(crate) opening: Option<Job<(), Opening>>,
    /// What is told when it is open.
    pub(crate) told_when_open: Option<&'static str>,
    /// The drives of the yard are being asked.
    pub(crate) yard_job: Option<Job<(), Vec<Berth>>>,
    /// The case of the drive that is meant.
    pub(crate) case: Option<Case>,
    pub(crate) popups: Vec<Popup>,
    /// The last thing that was told, in the foot.
    pub(crate) told: Option<String>,
    pub(crate) theme: Theme,
    pub(crate) sector_size: Option<u32>,
    /// The terminal's size at the last frame.
    pub(crate) area: Rect,
    pub(crate) quit: bool,
}

impl App {
    pub(crate) fn new(berths: Vec<Berth>, sector_size: Option<u32>) -> Self {
        Self {
            stage: Stage::Yard,
            berths,
            berth: 0,
            drive: None,
            opening: None,
            told_when_open: None,
            yard_job: None,
            case: None,
            popups: Vec::new(),
            told: None,
            theme: Theme::of_environment(),
            sector_size,
            area: Rect::new(0, 0, 160, 45),
            quit: false,
        }
    }

    pub(crate) fn is_busy(&self) -> bool {
        self.opening.is_some() || self.yard_job.is_some() || self.drive.as_ref().is_some_and(Drive::is_busy)
    }

    /// Tells something in the foot.
    pub(crate) fn tell(&mut self, text: impl Into<String>) {
        self.told = Some(text.into());
    }

    /// Shows something to be read.
    pub(crate) fn show(&mut self, title: &str, text: impl Into<String>) {
        self.popups.push(Popup::Message { title: title.into(), text: text.into() });
    }

    /// Takes what the jobs told since the last frame.
    pub(crate) fn take_reports(&mut self) {
        self.take_opening();
        self.take_yard();
        self.take_sweep();
        self.take_settle();
        self.take_looks();
        self.take_ladders();
        self.take_mend();
        self.take_files();
        self.take_extract();
        self.take_writing();
        self.take_proof();
        self.take_sick();
        self.take_ground();
    }

    fn take_looks(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let Some(job) = &mut drive.looks_job else { return };
        for message in job.drain() {
            match message {
                Message::Progress(()) => {}
                Message::Done(looks) => {
                    drive.looks_job = None;
                    match looks {
                        Some(looks) => drive.looks = looks,
                        None => drive.comparing = None,
                    }
                }
                Message::Died(text) => {
                    drive.looks_job = None;
                    drive.comparing = None;
                    self.popups.push(Popup::Message { title: "The comparison died".into(), text });
                    return;
                }
            }
        }
    }

    /// Takes what was settled; the ladder as it would be follows from it.
    fn take_settle(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let mut effect = None;
        for message in drive.settle_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(()) => continue,
                Message::Done(Some(settled)) => {
                    drive.take_settled(settled);
                    // While the drive is swept it is read for that alone; what is settled at its end is examined.
                    effect = drive.sweep_job.is_none().then_some(Effect::ExaminePlan);
                }
                Message::Done(None) => effect = Some(Effect::Show("Not settled", STOPPED.into())),
                Message::Died(text) => effect = Some(Effect::Show("The settling died", text)),
            }
            drive.settle_job = None;
        }
        effect.into_iter().for_each(|effect| self.run_effect(effect));
    }

    fn take_sweep(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let Some(job) = &mut drive.sweep_job else { return };
        let messages = job.drain();
        let (mut effects, mut not_kept) = (Vec::new(), None);
        for message in messages {
            match message {
                Message::Progress(mut progress) => {
                    if let Some(finds) = progress.finds.take() {
                        keep_selection(drive, finds);
                        drive.settle();
                    }
                    drive.bad.clone_from(&progress.bad);
                    drive.progress = Some(progress);
                }
                Message::Done(sweep) => {
                    not_kept.clone_from(&sweep.not_kept);
                    keep_selection(drive, sweep.finds);
                    drive.bad = sweep.bad;
                    drive.untold = sweep.untold;
                    drive.looked_at = sweep.looked_at;
                    drive.swept = match (sweep.cancelled, drive.reach) {
                        (true, _) => Swept::Stopped,
                        (false, keel_core::sweep::Reach::Landmarks) => Swept::Landmarks,
                        (false, _) => Swept::Done,
                    };
                    drive.settle();
                    drive.sweep_job = None;
                    // Other numbers may stand for the finds now.
                    drive.mend.find = None;
                    effects.extend([Effect::ExamineDrive, Effect::AskChecks]);
                }
                Message::Died(text) => {
                    drive.sweep_job = None;
                    effects.push(Effect::Show("The sweep died", text));
                }
            }
        }
        let stopped = drive.swept == Swept::Stopped && !effects.is_empty();
        if let Some(why) = not_kept {
            self.tell(format!("what was seen is not kept for the next sweep: {why}"));
        } else if stopped {
            self.tell("sweep stopped; s goes on from there");
        }
        effects.into_iter().for_each(|effect| self.run_effect(effect));
    }

    fn take_ladders(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let mut died = None;
        for message in drive.ladder_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Done(None) => drive.ladder_job = None,
                Message::Done(Some(ladder)) => {
                    let first = drive.ladder.is_none();
                    if let (true, Some(lowest)) = (first, &ladder.lowest_broken) {
                        drive.rung = lowest.rung.number();
                        let index =
                            lowest.volume.as_ref().and_then(|id| ladder.volumes.iter().position(|volume| volume.id == *id));
                        drive.volume = index.unwrap_or(0);
                    }
                    drive.ladder = Some(ladder);
                    drive.ladder_job = None;
                }
                Message::Died(text) => {
                    drive.ladder_job = None;
                    died = Some(text);
                }
                Message::Progress(()) => {}
            }
        }
        for message in drive.after_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Done(ladder) => {
                    drive.after = ladder;
                    drive.after_job = None;
                }
                Message::Died(text) => {
                    drive.after_job = None;
                    died = Some(text);
                }
                Message::Progress(()) => {}
            }
        }
        if let Some(text) = died {
            self.show("The examination died", text);
        }
    }

    /// Takes the rungs of the drive itself as they come; with all of them the landmarks are swept.
    fn take_ground(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let mut effect = None;
        for message in drive.ground_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(rung) => drive.live.push(rung),
                Message::Done(ground) => {
                    (drive.ground, drive.ground_job) = (Some(ground), None);
                    effect = Some(Effect::Sweep(keel_core::sweep::Reach::Landmarks));
                }
                Message::Died(text) => {
                    drive.ground_job = None;
                    effect = Some(Effect::Show("The examination died", text));
                }
            }
        }
        // Where it is opened anew after a measurement the finds are those of another length.
        effect.into_iter().for_each(|effect| self.run_effect(effect));
    }

    fn take_mend(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        match drive.mend.take_reports() {
            Ok(false) => {}
            Ok(true) => {
                drive.settle();
            }
            Err(text) => self.show("The check died", text),
        }
    }

    fn take_files(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let files = &mut drive.files;
        for message in files.open_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(()) => continue,
                Message::Done(Some(opened)) => {
                    files.open_job = None;
                    files.take_opened(opened);
                    break;
                }
                Message::Done(None) => files.problem = Some("stopped: the volume was not opened".into()),
                Message::Died(text) => files.problem = Some(text),
            }
            files.open_job = None;
        }
        for message in files.list_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Done(Ok((entries, findings))) => {
                    files.entries = entries;
                    files.findings = findings;
                    files.selected = files.selected.min(files.entries.len().saturating_sub(1));
                    files.list_job = None;
                }
                Message::Done(Err(error)) => {
                    files.entries.clear();
                    files.problem = Some(keel_core::chain(&error));
                    files.list_job = None;
                }
                Message::Died(text) => {
                    files.problem = Some(text);
                    files.list_job = None;
                }
                Message::Progress(()) => {}
            }
        }
        for message in files.preview_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Done(preview) => {
                    files.preview = Some(preview);
                    files.preview_job = None;
                }
                Message::Died(text) => {
                    files.problem = Some(text);
                    files.preview_job = None;
                }
                Message::Progress(()) => {}
            }
        }
        if self.stage == Stage::Files {
            let size = crate::screen::files::preview_size(self.area);
            files.look(size);
        }
    }

    fn take_extract(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let mut shown = None;
        for message in drive.extract_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(progress) => drive.extract_progress = Some(progress),
                Message::Done(result) => {
                    drive.extract_job = None;
                    drive.extract_progress = None;
                    shown = Some(match result {
                        Ok(done) => ("Taken out", crate::screen::files::summary(&done)),
                        Err(error) => ("Nothing was taken out", keel_core::chain(&error)),
                    });
                }
                Message::Died(text) => {
                    drive.extract_job = None;
                    shown = Some(("The extraction died", text));
                }
            }
        }
        if let Some((title, text)) = shown {
            self.show(title, text);
        }
    }

    fn take_writing(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        let Some(writing) = &mut drive.writing else { return };
        let (mut outcome, mut before) = (None, None);
        match writing {
            Writing::Apply(job) => {
                for message in job.drain() {
                    match message {
                        Message::Progress(_) => drive.written += 1,
                        Message::Done(Ok((applied, looks))) => {
                            before = Some(looks);
                            let text = format!(
                                "{} bytes were written, flushed, read back and compared.\nu puts the drive back; the undo bundle is\n{}",
                                applied.bytes,
                                applied.bundle.display()
                            );
                            drive.bundle = Some(applied.bundle);
                            drive.applied = true;
                            outcome = Some(("Applied", text));
                        }
                        Message::Done(Err(error)) => outcome = Some(("Not applied", keel_core::chain(&error))),
                        Message::Died(text) => outcome = Some(("The apply died", text)),
                    }
                }
            }
            Writing::Recover(job) => {
                for message in job.drain() {
                    match message {
                        Message::Progress(_) => drive.written += 1,
                        Message::Done(Ok(stands)) => {
                            drive.applied = stands;
                            let text =
                                if drive.applied { "The apply is finished." } else { "Every byte stands as before the apply." };
                            outcome = Some(("Done", text.to_string()));
                        }
                        Message::Done(Err(error)) => outcome = Some(("Not done", keel_core::chain(&error))),
                        Message::Died(text) => outcome = Some(("The work died", text)),
                    }
                }
            }
            Writing::Save(job) => {
                for message in job.drain() {
                    match message {
                        Message::Progress(bytes) => drive.written = bytes,
                        Message::Done(Ok(bad)) => {
                            let text = if bad.is_empty() {
                                "The repaired copy is whole.".to_string()
                            } else {
                                format!("The repaired copy has {} stretches that could not be read; they are zeros.", bad.len())
                            };
                            outcome = Some(("Saved", text));
                        }
                        Message::Done(Err(error)) => outcome = Some(("Not saved", keel_core::chain(&error))),
                        Message::Died(text) => outcome = Some(("The saving died", text)),
                    }
                }
            }
        }
        if let Some((title, text)) = outcome {
            let changed = !matches!(drive.writing, Some(Writing::Save(_)));
            drive.writing = None;
            if changed {
                drive.mend.find = None;
                drive.mend.takes.clear();
                drive.mend.also.clear();
                drive.mend.known.clear();
                drive.settle();
                self.run_effect(Effect::ExamineDrive);
                self.run_effect(Effect::AskChecks);
            }
            self.show(title, text);
        }
        if let Some(looks) = before {
            self.prove(looks);
        }
    }

    fn take_proof(&mut self) {
        let Some(drive) = &mut self.drive else { return };
        for message in drive.proof_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Done(proof) => {
                    drive.proof = proof.unwrap_or_default();
                    drive.proof_job = None;
                }
                Message::Died(text) => {
                    drive.proof_job = None;
                    self.show("The proof died", text);
                    return;
                }
                Message::Progress(()) => {}
            }
        }
    }

    /// Asks a question.
    pub(crate) fn ask(&mut self, question: Question, line: String) {
        self.popups.push(Popup::Ask { question, line });
    }
}

/// New finds may have other numbers: the selection stays on the same ground.
fn keep_selection(drive: &mut Drive, finds: Vec<keel_core::sweep::Find>) {
    let selected = drive.selected_find().map(|find| find.start_byte);
    let rename = |ids: &std::collections::BTreeSet<String>| -> std::collections::BTreeSet<String> {
        let starts = drive.finds.iter().filter(|find| ids.contains(&find.id)).map(|find| find.start_byte);
        starts.filter_map(|start| finds.iter().find(|find| find.start_byte == start).map(|find| find.id.clone())).collect()
    };
    let (hold, dropped) = (rename(&drive.choices.hold), rename(&drive.choices.drop));
    drive.choices.hold = hold;
    drive.choices.drop = dropped;
    drive.find = finds.iter().position(|find| Some(find.start_byte) == selected).unwrap_or(0);
    drive.finds = finds;
}
