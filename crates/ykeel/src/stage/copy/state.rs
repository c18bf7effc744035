//! The copy in work: what runs, what came of it, and what the technician chose.

use std::collections::VecDeque;
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use keel_core::CoreError;
use keel_core::copy::{
    self, COPY_PARTS, Copied, CopyControl, CopyOptions, CopyProgress, CopyVerified, Pass, Stopped, VerifyProgress,
};
use keel_core::ground::GroundMap;
use keel_core::job::{Job, Message};
use keel_core::leave::Confirmation;
use keel_source::{ByteRange, CopyMap, OpenOptions, SharedSource, counted};

use crate::app::App;
use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::config;
use crate::popup::Ask;
use crate::stage::Drive;

/// Rates that the curve shows.
const MOST_RATES: usize = 240;
/// What is told where nothing runs that could rest or be ended.
const NOT_RUNNING: &str = "no copy is running: C begins one";

/// What a destination turned out to be.
pub(crate) enum Place {
    /// A file, or one to be: the copy may begin.
    File,
    /// A device, which wants its code.
    Device { code: String },
}

/// The state of the Copy stage.
#[derive(Default)]
pub(crate) struct State {
    /// Where it goes.
    pub(crate) dest: Option<PathBuf>,
    /// What the volumes need comes first.
    pub(crate) volumes_first: bool,
    pub(crate) control: CopyControl,
    pub(crate) job: Option<Job<CopyProgress, Result<Copied, CoreError>>>,
    pub(crate) verify_job: Option<Job<VerifyProgress, Result<CopyVerified, CoreError>>>,
    /// The destination is asked what it is.
    pub(super) place_job: Option<Job<(), Result<Place, String>>>,
    pub(crate) progress: Option<CopyProgress>,
    pub(crate) verifying: Option<VerifyProgress>,
    pub(crate) done: Option<Copied>,
    /// A copy that an earlier run took, by its log.
    pub(crate) kept: Option<CopyMap>,
    /// Bytes in each state of that copy, for the parts of the picture.
    pub(crate) kept_parts: Vec<[u64; 5]>,
    pub(crate) verified: Option<CopyVerified>,
    /// The selected one of the places that did not come over.
    pub(super) selected: usize,
    /// Bytes per second, the last ones.
    pub(crate) rates: VecDeque<u64>,
}

impl State {
    pub(in crate::stage) fn of(_source: &SharedSource) -> Self {
        Self::default()
    }

    /// What did not come over, as far as a copy was taken.
    pub(super) fn missing(&self) -> Vec<ByteRange> {
        let kept = || self.kept.as_ref().map(CopyMap::missing).unwrap_or_default();
        self.done.as_ref().map_or_else(kept, |done| done.missing.clone())
    }

    /// True when a copy was taken, as far as the drive let it.
    pub(crate) fn is_there(&self) -> bool {
        let done = self.done.as_ref().is_some_and(|done| done.stopped.is_none());
        done || self.kept.as_ref().is_some_and(|map| map.bytes(keel_source::CopyState::Untried) == 0)
    }

    /// Takes the copy that an earlier run began.
    pub(crate) fn keep(&mut self, map: Option<CopyMap>) {
        self.kept_parts = map.as_ref().map(|map| map.parts(COPY_PARTS)).unwrap_or_default();
        self.kept = map;
    }

    pub(crate) fn is_busy(&self) -> bool {
        self.job.is_some() || self.verify_job.is_some() || self.place_job.is_some()
    }

    /// Begins the copy of `source`, or goes on with it.
    fn start(&mut self, source: &SharedSource, dest: PathBuf, code: Option<String>) {
        let mut passes = Pass::USUAL.to_vec();
        passes.extend(self.volumes_first.then_some(Pass::Volumes));
        self.control = CopyControl::default();
        let options = CopyOptions {
            passes,
            control: self.control.clone(),
            confirmation: code.map(Confirmation::Code),
            again: config::get().copy.again.unwrap_or(CopyOptions::default().again),
            most_errors: config::get().copy.most_errors,
            most_celsius: config::get().copy.stop_heat,
            rest: Duration::from_secs(config::get().copy.rest.unwrap_or(0).into()),
            heads: config::get().copy.heads,
            ..CopyOptions::default()
        };
        (self.done, self.verified) = (None, None);
        self.keep(None);
        self.rates.clear();
        self.dest = Some(dest.clone());
        let source = SharedSource::clone(source);
        self.job = Some(Job::start(move |desk| copy::copy(&source, &dest, &options, desk)));
    }
}

/// Asks where the copy goes.
pub(super) fn ask_copy(app: &mut App) -> Effects {
    let named = app.case.as_ref().and_then(|case| case.record.copy.clone());
    let Some(drive) = &app.drive else { return Vec::new() };
    if drive.copy.is_busy() {
        return tell("the copy is running: space lets it rest, x stops it");
    }
    let beside = drive.source.identity().path.as_ref().and_then(|path| path.parent()).map(Path::to_path_buf);
    let folder = config::get().folders.copies.clone().unwrap_or_else(|| beside.unwrap_or_default().join("copies"));
    let usual = folder.join(format!("{}-copy.img", drive.plain_name()));
    let dest = drive.copy.dest.clone().or(named).unwrap_or(usual).to_string_lossy().into_owned();
    let text =
        "The image to write: a new file, or one that its log goes on with. A block device works as well, and wants its own code.";
    vec![Effect::Over(Box::new(Ask::new("Copy", text, dest, |_, line| ask_place(line.trim().into()))))]
}

/// Asks what the destination is: a device may take its time to answer, and wants its code.
fn ask_place(dest: PathBuf) -> Effects {
    vec![job("ask the destination", move |drive| {
        drive.copy.dest = Some(dest.clone());
        drive.copy.place_job = Some(Job::start(move |_| place(&dest)));
    })]
}

fn place(dest: &Path) -> Result<Place, String> {
    if std::fs::metadata(dest).is_ok_and(|found| found.file_type().is_block_device()) {
        let device = keel_source::open(dest, OpenOptions::default()).map_err(|error| keel_core::chain(&error))?;
        return Ok(Place::Device { code: device.identity().code() });
    }
    if let Some(folder) = dest.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder).map_err(|error| error.to_string())?;
    }
    Ok(Place::File)
}

/// Begins the copy to the destination that was named.
fn begin(code: Option<String>) -> Effects {
    vec![job("copy", move |drive| {
        if let Some(dest) = drive.copy.dest.clone().filter(|_| drive.copy.job.is_none()) {
            drive.copy.start(&drive.source, dest, code);
        }
    })]
}

pub(super) fn verify(drive: &mut Drive) -> Effects {
    let Some(dest) = drive.copy.dest.clone().filter(|_| !drive.copy.is_busy()) else {
        return tell("there is no copy here that could be compared now");
    };
    vec![job("compare the copy", move |drive| {
        drive.copy.verify_job = Some(Job::start(move |desk| copy::verify(&dest, None, desk)));
    })]
}

/// Lets the copy rest, or go on.
pub(crate) fn pause(drive: &mut Drive) -> Effects {
    if drive.copy.job.is_none() {
        return tell(NOT_RUNNING);
    }
    drive.copy.control.pause(!drive.copy.control.is_paused());
    Vec::new()
}

pub(super) fn skip_pass(drive: &mut Drive) -> Effects {
    if drive.copy.job.is_none() {
        return tell(NOT_RUNNING);
    }
    drive.copy.control.skip_pass();
    tell("the pass ends; the next one begins")
}

pub(super) fn change_order(drive: &mut Drive) -> Effects {
    drive.copy.volumes_first = !drive.copy.volumes_first;
    Vec::new()
}

/// Goes over to the copy: every stage works on it from now on.
pub(super) fn work_on_copy(app: &mut App) -> Effects {
    let Some(drive) = &app.drive else { return Vec::new() };
    let named = app.case.as_ref().and_then(|case| case.record.copy.clone());
    match drive.copy.dest.clone().or(named) {
        _ if drive.copy.is_busy() => tell("wait for the copy, or stop it with x; it can be gone on with later"),
        Some(dest) => vec![Effect::Open(dest, Some("from here on every stage works on the copy"))],
        None => tell("no copy of this drive is known: C begins one"),
    }
}

/// Takes what the jobs told.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    let copy = &mut drive.copy;
    let mut effects = take_place(copy);
    effects.extend(take_copy(copy, &mut drive.ground));
    effects.extend(take_verified(copy));
    effects
}

fn take_place(copy: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in copy.place_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(Ok(Place::File)) => effects.extend(begin(None)),
            Message::Done(Ok(Place::Device { code })) => {
                let text = format!("Everything on that device is overwritten. Type the code of the destination: {code}");
                let ask = Ask::new("Copy to a device", text, "", |_, line| begin(Some(line.trim().to_string())));
                effects.push(Effect::Over(Box::new(ask.once())));
            }
            Message::Done(Err(text)) | Message::Died(text) => effects.push(show("Not copied", text)),
        }
        copy.place_job = None;
    }
    effects
}

fn take_copy(copy: &mut State, ground: &mut GroundMap) -> Effects {
    let mut effects = Vec::new();
    for message in copy.job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(progress) => {
                if copy.rates.len() >= MOST_RATES {
                    copy.rates.pop_front();
                }
                copy.rates.push_back(progress.rate);
                ground.merge(&progress.ground);
                copy.progress = Some(progress);
                continue;
            }
            Message::Done(Ok(copied)) => {
                // The case's journal has a line more.
                effects.push(Effect::LookUpCase);
                copy.done = Some(copied.clone());
                effects.push(Effect::Seen);
                let dest = copy.dest.as_ref().and_then(|dest| std::path::absolute(dest).ok());
                effects.extend(dest.map(Effect::WorksOn));
                effects.extend(tell(ended(&copied)));
            }
            Message::Done(Err(error)) => effects.push(show("The copy stopped", keel_core::chain(&error))),
            Message::Died(text) => effects.push(show("The copy stopped", text)),
        }
        copy.job = None;
    }
    effects
}

/// What is told of a copy that ended.
fn ended(copied: &Copied) -> String {
    match (copied.stopped, copied.bytes - copied.copied_bytes) {
        (Some(Stopped::Cancelled), _) => "the copy is stopped; C goes on with it".to_string(),
        (Some(stopped), _) => stopped.word().to_string(),
        (None, 0) => "the copy is whole; enter works on it".to_string(),
        (None, bytes) => format!("the copy lacks {bytes} bytes; enter works on it"),
    }
}

fn take_verified(copy: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in copy.verify_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(progress) => {
                copy.verifying = Some(progress);
                continue;
            }
            Message::Done(Ok(verified)) => {
                effects.push(Effect::Note("verify", serde_json::json!({ "copy": copy.dest, "verified": verified })));
                match verified.rotten.len() {
                    0 => effects.extend(tell(format!("{} bytes are what was read from the drive", verified.verified_bytes))),
                    rotten => effects.push(show(
                        "The copy does not hold",
                        format!("No longer what was read: {}. s fetches again.", counted(rotten, "stretch", "stretches")),
                    )),
                }
                copy.verified = Some(verified);
            }
            Message::Done(Err(error)) => effects.push(show("The copy was not compared", keel_core::chain(&error))),
            Message::Died(text) => effects.push(show("The copy was not compared", text)),
        }
        (copy.verify_job, copy.verifying) = (None, None);
    }
    effects
}
