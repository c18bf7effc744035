//! The measurement in work.

use keel_core::CoreError;
use keel_core::fathom::{self, FathomProgress, Fathomed, Method, PlotPoint, ProbeOptions, Restored};
use keel_core::job::{Desk, Job, Message};
use keel_core::leave::Confirmation;
use keel_core::yard::takes_yes;
use keel_source::SharedSource;

use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::popup::Ask;
use crate::stage::{Drive, ladder};

/// Points that the plot keeps while it runs.
const MOST_POINTS: usize = 20_000;

/// The state of the Fathom stage.
pub(crate) struct State {
    pub(crate) job: Option<Job<FathomProgress, Result<Measured, CoreError>>>,
    /// How the running measurement measures.
    method: Method,
    pub(crate) restore_job: Option<Job<(u64, u64), Result<Restored, CoreError>>>,
    pub(crate) progress: Option<FathomProgress>,
    /// What was seen so far.
    pub(crate) points: Vec<PlotPoint>,
    pub(crate) verdict: Option<Fathomed>,
    /// A probe was interrupted, and what it touched was not put back yet.
    pub(crate) interrupted: bool,
}

/// A verdict, and the drive as every other stage sees it from then on.
pub(crate) struct Measured {
    verdict: Fathomed,
    seen: SharedSource,
    /// A probe is left that was not put back.
    interrupted: bool,
    /// Why the verdict could not be kept.
    problem: Option<String>,
}

impl State {
    pub(in crate::stage) fn of(source: &SharedSource) -> Self {
        Self {
            job: None,
            method: Method::Estimate,
            restore_job: None,
            progress: None,
            points: Vec::new(),
            verdict: fathom::known(source),
            interrupted: false,
        }
    }

    pub(crate) fn is_busy(&self) -> bool {
        self.job.is_some() || self.restore_job.is_some()
    }

    /// True while the measurement that runs writes.
    pub(super) fn writes(&self) -> bool {
        self.job.is_some() && self.method != Method::Estimate
    }

    /// Measures `source`.
    fn start(&mut self, source: &SharedSource, method: Method, code: String) {
        let source = SharedSource::clone(source);
        self.points.clear();
        (self.progress, self.method) = (None, method);
        self.job = Some(Job::start(move |desk: &Desk<FathomProgress>| {
            let confirmation = Confirmation::Code(code);
            let verdict = match method {
                Method::Probe => fathom::probe(&source, &confirmation, ProbeOptions::default(), desk),
                Method::Fill => fathom::fill(&source, &confirmation, desk),
                Method::Estimate => Ok(fathom::estimate(&source, desk)),
            }?;
            let problem = fathom::keep(&source, &verdict).err().map(|error| keel_core::chain(&error));
            let interrupted = fathom::interrupted_of(&source).is_some();
            Ok(Measured { seen: fathom::as_stored(source), verdict, interrupted, problem })
        }));
    }

    /// Puts back what an interrupted probe touched.
    fn restore(&mut self, source: &SharedSource, confirmation: Confirmation) {
        let source = SharedSource::clone(source);
        self.restore_job = Some(Job::start(move |desk: &Desk<(u64, u64)>| {
            let mut told = std::time::Instant::now();
            fathom::restore_interrupted(&source, &confirmation, &mut |done, total| {
                if told.elapsed().as_millis() > 100 {
                    told = std::time::Instant::now();
                    desk.tell((done, total));
                }
            })
        }));
    }
}

/// Why nothing can be measured now.
fn hindrance(drive: &Drive) -> Option<&'static str> {
    if drive.is_busy() {
        Some("wait for the running job, or stop it with x")
    } else if drive.claimed.is_empty() || !drive.source.missing().is_empty() {
        Some("there is no capacity to measure here: no bytes, or a copy")
    } else {
        None
    }
}

/// Asks for the drive's code before something measures by writing.
fn ask(drive: &Drive, method: Method, title: &'static str, says: &str) -> Effects {
    if let Some(why) = hindrance(drive) {
        return tell(why);
    }
    let text = format!("{says}\nType the code of this drive: {}", drive.source.identity().code());
    let ask = Ask::new(title, text, "", move |app, line| {
        if !app.drive.as_ref().is_some_and(|drive| drive.is_code(line)) {
            return vec![show("Not measured", "That is not the code of this drive. Nothing was written.")];
        }
        measure(method, line.to_string())
    });
    vec![Effect::Over(Box::new(ask.once()))]
}

pub(super) fn ask_probe(drive: &mut Drive) -> Effects {
    let says = "Tagged sectors are written to chosen places of this drive. What stands there is kept first and put back, also after an interruption. For a failing drive copy it first.";
    ask(drive, Method::Probe, "Probe", says)
}

pub(super) fn ask_fill(drive: &mut Drive) -> Effects {
    ask(drive, Method::Fill, "Fill", "EVERYTHING ON THIS DRIVE WILL BE LOST: every sector is written and read back.")
}

pub(super) fn estimate(drive: &mut Drive) -> Effects {
    hindrance(drive).map_or_else(|| measure(Method::Estimate, String::new()), tell)
}

/// Measures the drive as it claims to be.
fn measure(method: Method, code: String) -> Effects {
    vec![job("measure", move |drive| {
        if !drive.fathom.is_busy() {
            let claimed = SharedSource::clone(&drive.claimed);
            drive.fathom.start(&claimed, method, code);
        }
    })]
}

/// Puts back what an interrupted probe touched; a block device wants its code first.
pub(super) fn ask_put_back(drive: &mut Drive) -> Effects {
    if !drive.fathom.interrupted {
        return tell("no probe of this drive was interrupted");
    }
    if takes_yes(drive.claimed.identity()) {
        return put_back(Confirmation::Yes);
    }
    let code = drive.source.identity().code();
    let text = format!("What the interrupted probe touched is put back as it stood.\nType the code of this drive: {code}");
    let answered = |_: &_, line: &str| put_back(Confirmation::Code(line.trim().to_string()));
    vec![Effect::Over(Box::new(Ask::new("Put back", text, "", answered).once()))]
}

fn put_back(confirmation: Confirmation) -> Effects {
    vec![job("put back", move |drive| {
        if !drive.fathom.is_busy() {
            let claimed = SharedSource::clone(&drive.claimed);
            drive.fathom.restore(&claimed, confirmation);
        }
    })]
}

/// Takes what the jobs told.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    let mut effects = take_measured(drive);
    effects.extend(take_restored(&mut drive.fathom));
    effects
}

fn take_measured(drive: &mut Drive) -> Effects {
    let mut effects = Vec::new();
    for message in drive.fathom.job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(mut progress) => {
                let state = &mut drive.fathom;
                let room = MOST_POINTS.saturating_sub(state.points.len());
                state.points.extend(progress.points.drain(..).take(room));
                state.progress = Some(progress);
                continue;
            }
            Message::Done(Ok(measured)) => effects.extend(take_verdict(drive, measured)),
            Message::Done(Err(error)) => effects.push(show("Not measured", keel_core::chain(&error))),
            Message::Died(text) => effects.push(show("Not measured", text)),
        }
        drive.fathom.job = None;
    }
    effects
}

fn take_verdict(drive: &mut Drive, measured: Measured) -> Effects {
    let Measured { verdict, seen, interrupted, problem } = measured;
    let cancelled = verdict.cancelled;
    let mut effects = tell(if cancelled { "stopped; everything was put back".to_string() } else { verdict.line() });
    drive.fathom.interrupted = interrupted;
    // Of a measurement that was stopped nothing is known: an earlier verdict stands.
    if !cancelled {
        drive.fathom.verdict = Some(verdict);
    }
    match problem {
        Some(problem) => effects.push(show("The verdict cannot be kept", problem)),
        None if !cancelled => {
            // From here on every other stage sees the drive as far as it stores.
            drive.source = seen;
            drive.ladder.ground = None;
            effects.push(ladder::ask_ground());
        }
        None => {}
    }
    effects
}

fn take_restored(state: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in state.restore_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(_) => continue,
            Message::Done(Ok(restored)) => {
                state.interrupted = false;
                let (bytes, verified) = (restored.bytes, restored.verified_bytes);
                effects
                    .push(show("Put back", format!("{bytes} bytes were put back, {verified} of them read back as they were.")));
                effects.push(ladder::ask_ground());
            }
            Message::Done(Err(error)) => effects.push(show("Not put back", keel_core::chain(&error))),
            Message::Died(text) => effects.push(show("Not put back", text)),
        }
        state.restore_job = None;
    }
    effects
}
