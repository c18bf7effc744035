//! The writes: a plan applied, finished or put back, a repaired copy saved, and the proof of what was written.

use std::collections::BTreeMap;
use std::path::PathBuf;

use keel_core::CoreError;
use keel_core::job::{Job, Message};
use keel_core::leave::Confirmation;
use keel_core::mend::{self, Look};
use keel_core::nodes::{self, Appeared};
use keel_core::plan::{self, Applied, ApplyOptions, Bundle, Direction, Step};
use keel_core::sweep::Find;
use keel_core::yard::takes_yes;
use keel_format::{registry, table};
use keel_source::{ByteOffset, ByteRange, SharedSource, counted};

use super::stage_anew;
use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::popup::Ask;
use crate::stage::{Drive, ladder, mend as mend_stage};

/// An apply, with what read before it.
pub(crate) struct Witnessed {
    applied: Applied,
    /// What the system made of it, where the drive is a device.
    appeared: Option<Appeared>,
    before: BTreeMap<String, Look>,
}

/// Whether the plan stands on the drive, what the system made of that, and whether all that stands there was found before.
type Recovered = (bool, Option<Appeared>, bool);

/// Work that writes.
pub(crate) enum Writing {
    /// A plan is applied.
    Apply(Job<Step, Result<Witnessed, CoreError>>),
    /// An apply is finished or rolled back; true when the plan stands on the drive then.
    Recover(Job<Step, Result<Recovered, CoreError>>),
    /// A repaired copy is saved.
    Save(Job<u64, Result<Vec<ByteRange>, CoreError>>),
}

/// A question over the stage.
fn ask(
    title: &'static str,
    text: String,
    line: impl Into<String>,
    answered: impl Fn(&Drive, &str) -> Effects + Send + 'static,
) -> Effects {
    let ask =
        Ask::new(title, text, line, move |app, line| app.drive.as_ref().map(|drive| answered(drive, line)).unwrap_or_default());
    vec![Effect::Over(Box::new(ask.once()))]
}

/// What was confirmed by a line that may hold the drive's code.
fn typed(line: &str) -> Confirmation {
    match line.trim() {
        "" => Confirmation::Yes,
        code => Confirmation::Code(code.to_string()),
    }
}

/// Asks for what an apply wants: the drive's code, and words where a failing drive is written.
pub(super) fn ask_apply(drive: &mut Drive) -> Effects {
    let plan = drive.staged_plan();
    if plan.edits.is_empty() {
        tell("the plan is empty: there is nothing to apply")
    } else if drive.plan.staging.is_some() {
        tell("the plan is being staged anew: a moment")
    } else if let Some(running) = drive.running().first().filter(|running| running.weight > crate::stage::Weight::Short) {
        tell(format!("wait for what runs, or stop it: {}", running.line()))
    } else if plan.copy_first && drive.plan.override_words.is_none() {
        let text = "It should be copied first; I saves a repaired copy without touching it. To write all the same, type: I write without a copy";
        ask("This drive fails reads", text.into(), "", |drive, line| {
            let words = line.trim().to_string();
            let mut effects = vec![job("keep the words", move |drive| drive.plan.override_words = Some(words))];
            effects.extend(ask_code(drive));
            effects
        })
    } else if let Some(words) = plan.words.filter(|_| drive.plan.override_words.is_none()) {
        let text =
            format!("What is on this drive will be lost, or it is not sound: Renew (9) says what. To go on, type: {words}");
        ask("This draft loses something", text, "", |drive, line| {
            let words = line.trim().to_string();
            let mut effects = vec![job("keep the words", move |drive| drive.plan.override_words = Some(words))];
            effects.extend(ask_code(drive));
            effects
        })
    } else {
        ask_code(drive)
    }
}

fn ask_code(drive: &Drive) -> Effects {
    let identity = drive.source.identity();
    let text = format!(
        "Will be written: {}, to\n{}\nWhat stands there now is saved first, so that it can be put back.\nType the code of this drive: {}",
        counted(drive.plan.edits.len(), "edit", "edits"),
        drive.who(),
        identity.code()
    );
    ask("Apply", text, "", |drive, line| {
        if !drive.is_code(line) {
            return vec![show("Not applied", "That is not the code of this drive. Nothing was written.")];
        }
        let code = line.to_string();
        vec![job("apply", move |drive| apply(drive, code))]
    })
}

fn apply(drive: &mut Drive, code: String) {
    let options = ApplyOptions {
        confirmation: Confirmation::Code(code),
        override_words: drive.plan.override_words.take(),
        bundle: None,
        stamp: keel_core::case::stamp(),
    };
    let (source, plan, finds) = (SharedSource::clone(&drive.source), drive.staged_plan(), drive.sweep.finds.clone());
    drive.plan.written = 0;
    drive.plan.proof.clear();
    drive.plan.writing = Some(Writing::Apply(Job::start(move |desk| {
        let before = mend::looks(&source, &finds);
        let applied = plan::apply(&source, &plan, &options, &mut |step| desk.tell(step))?;
        // The nodes are there before it is said that all is done.
        Ok(Witnessed { appeared: nodes::renew(&source), applied, before })
    })));
}

/// Asks before the drive is put back as it was.
pub(super) fn ask_undo(drive: &mut Drive) -> Effects {
    match drive.plan.bundle.clone() {
        None => tell("no undo bundle of this drive is known"),
        Some(bundle) => recover(drive, bundle, Direction::RollBack),
    }
}

/// Finishes an apply or puts it back; a block device wants its code first, and nothing is put back that was not asked for twice.
pub(crate) fn recover(drive: &Drive, bundle: PathBuf, direction: Direction) -> Effects {
    let code = drive.source.identity().code();
    let plain = takes_yes(drive.source.identity());
    let (title, says) = match direction {
        Direction::RollBack => ("Undo", "Every byte that the apply changed is put back as it was."),
        Direction::Finish => {
            ("Finish the apply", "What is not written yet of the interrupted apply is written, from its bundle.")
        }
    };
    let how = if plain { "Enter does it.".to_string() } else { format!("Type the code of this drive: {code}") };
    ask(title, format!("{says}\n{how}"), "", move |_, line| {
        let (bundle, confirmation) = (bundle.clone(), typed(line));
        vec![job("recover", move |drive| put_back(drive, bundle, direction, confirmation))]
    })
}

fn put_back(drive: &mut Drive, path: PathBuf, direction: Direction, confirmation: Confirmation) {
    let (source, finds) = (SharedSource::clone(&drive.source), drive.sweep.finds.clone());
    drive.plan.bundle = Some(path.clone());
    drive.plan.written = 0;
    drive.plan.writing = Some(Writing::Recover(Job::start(move |desk| {
        let bundle = Bundle::read(&path)?;
        plan::recover(&source, (&path, &bundle), direction, &confirmation, &mut |step| desk.tell(step))?;
        let appeared = nodes::renew(&source);
        Ok((plan::condition(&source, &bundle)? == plan::Condition::Applied, appeared, is_known(&source, &finds)))
    })));
}

/// Asks where the repaired copy goes.
pub(super) fn ask_save(drive: &mut Drive) -> Effects {
    let name = format!("{}-repaired.img", drive.plain_name());
    ask("Save a repaired copy", "New image to write. The drive itself is not touched.".into(), name, |_, line| {
        let path = PathBuf::from(line.trim());
        vec![job("save a repaired copy", move |drive| {
            let view = drive.planned_view();
            drive.plan.written = 0;
            let save = move |desk: &keel_core::job::Desk<u64>| plan::save_as(view.as_ref(), &path, &mut |at| desk.tell(at));
            drive.plan.writing = Some(Writing::Save(Job::start(save)));
        })]
    })
}

/// How a write ended.
struct Ended {
    title: &'static str,
    text: String,
    /// What read before, where a plan was applied.
    before: Option<BTreeMap<String, Look>>,
    /// True where something stands on the drive now that was not found before.
    is_another: bool,
}

impl Ended {
    fn new(title: &'static str, text: impl Into<String>) -> Option<Self> {
        Some(Self { title, text: text.into(), before: None, is_another: false })
    }
}

/// True where the volumes to which the table leads now are among those that were found.
fn is_known(source: &SharedSource, finds: &[Find]) -> bool {
    let table = table::read(source.as_ref());
    let starts = table.partitions.iter().map(|entry| entry.first.offset(source.sector_size()));
    starts.chain([ByteOffset(0)]).all(|at| {
        let stands = registry::boot_sector(source.as_ref(), at).map(|geometry| geometry.kind());
        stands.is_none_or(|kind| finds.iter().any(|find| find.start_byte == at && find.kind.is_alike(kind)))
    })
}

/// Takes what the writes told.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    let ended = match drive.plan.writing.take() {
        Some(Writing::Apply(mut job)) => {
            let ended = take_apply(drive, job.drain());
            drive.plan.writing = Some(Writing::Apply(job));
            ended
        }
        Some(Writing::Recover(mut job)) => {
            let ended = take_recover(drive, job.drain());
            drive.plan.writing = Some(Writing::Recover(job));
            ended
        }
        Some(Writing::Save(mut job)) => {
            let ended = take_save(drive, job.drain());
            drive.plan.writing = Some(Writing::Save(job));
            ended
        }
        None => None,
    };
    let mut effects = Vec::new();
    if let Some(ended) = ended {
        let changed = !matches!(drive.plan.writing, Some(Writing::Save(_)));
        drive.plan.writing = None;
        // Of a drive that was renewed, or put back from that, nothing is known that was known before.
        let is_another = changed && (drive.plan.renewal.take().is_some() || ended.is_another);
        if is_another {
            effects.extend(drive.source.identity().path.clone().map(Effect::OpenAnew));
            effects.push(show(ended.title, ended.text));
            return effects;
        }
        if changed {
            drive.mend.forget();
            effects.extend(stage_anew());
            effects.extend([ladder::examine_drive(), super::examine(), mend_stage::ask_checks()]);
        }
        effects.push(show(ended.title, ended.text));
        effects.extend(ended.before.map(prove));
    }
    effects.extend(take_proof(drive));
    effects
}

fn take_apply(drive: &mut Drive, messages: Vec<Message<Step, Result<Witnessed, CoreError>>>) -> Option<Ended> {
    let mut ended = None;
    for message in messages {
        ended = match message {
            Message::Progress(_) => {
                drive.plan.written += 1;
                continue;
            }
            Message::Done(Ok(Witnessed { applied, appeared, before })) => {
                let text = format!(
                    "{} bytes were written, flushed, read back and compared.\nu puts the drive back; the undo bundle is\n{}{}",
                    applied.bytes,
                    applied.bundle.display(),
                    told(appeared.as_ref())
                );
                (drive.plan.bundle, drive.plan.applied) = (Some(applied.bundle), true);
                Some(Ended { title: "Applied", text, before: Some(before), is_another: false })
            }
            Message::Done(Err(error)) => Ended::new("Not applied", keel_core::chain(&error)),
            Message::Died(text) => Ended::new("The apply died", text),
        };
    }
    ended
}

fn take_recover(drive: &mut Drive, messages: Vec<Message<Step, Result<Recovered, CoreError>>>) -> Option<Ended> {
    let mut ended = None;
    for message in messages {
        ended = match message {
            Message::Progress(_) => {
                drive.plan.written += 1;
                continue;
            }
            Message::Done(Ok((stands, appeared, is_known))) => {
                drive.plan.applied = stands;
                let text = if stands { "The apply is finished." } else { "Every byte stands as before the apply." };
                let ended = Ended::new("Done", format!("{text}{}", told(appeared.as_ref())));
                ended.map(|ended| Ended { is_another: !is_known, ..ended })
            }
            Message::Done(Err(error)) => Ended::new("Not done", keel_core::chain(&error)),
            Message::Died(text) => Ended::new("The work died", text),
        };
    }
    ended
}

/// What the system made of the drive, below what was done.
fn told(appeared: Option<&Appeared>) -> String {
    let lines = appeared.map(Appeared::words).unwrap_or_default();
    lines.iter().fold(String::new(), |text, line| text + "\n" + line)
}

fn take_save(drive: &mut Drive, messages: Vec<Message<u64, Result<Vec<ByteRange>, CoreError>>>) -> Option<Ended> {
    let mut ended = None;
    for message in messages {
        ended = match message {
            Message::Progress(bytes) => {
                drive.plan.written = bytes;
                continue;
            }
            Message::Done(Ok(bad)) if bad.is_empty() => Ended::new("Saved", "The repaired copy is whole."),
            Message::Done(Ok(bad)) => {
                let text = "stretches that could not be read; they are zeros.";
                Ended::new("Saved", format!("The repaired copy has {} {text}", bad.len()))
            }
            Message::Done(Err(error)) => Ended::new("Not saved", keel_core::chain(&error)),
            Message::Died(text) => Ended::new("The saving died", text),
        };
    }
    ended
}

/// Compares what reads now with what read before the apply, and asks the kernel.
fn prove(before: BTreeMap<String, Look>) -> Effect {
    job("prove", move |drive| {
        let finds = drive.sweep.finds.clone();
        drive.plan.proof_job = Some(Job::reading(&drive.source, move |source, _| mend::proven(source, &finds, &before)));
    })
}

fn take_proof(drive: &mut Drive) -> Effects {
    let mut effects = Vec::new();
    for message in drive.plan.proof_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(proof) => drive.plan.proof = proof.unwrap_or_default(),
            Message::Died(text) => effects.push(show("The proof died", text)),
        }
        drive.plan.proof_job = None;
    }
    effects
}
