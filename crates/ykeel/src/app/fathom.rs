//! The measurement in work.

use keel_core::CoreError;
use keel_core::fathom::{self, FathomProgress, Fathomed, Method, PlotPoint, ProbeOptions, Restored};
use keel_core::job::{Desk, Job, Message};
use keel_core::plan::Confirmation;
use keel_source::SharedSource;

/// Points that the plot keeps while it runs.
const MOST_POINTS: usize = 20_000;

/// The state of the Fathom stage.
#[derive(Default)]
pub(crate) struct FathomState {
    pub(crate) job: Option<Job<FathomProgress, Result<Measured, CoreError>>>,
    pub(crate) restore_job: Option<Job<(u64, u64), Result<Restored, CoreError>>>,
    pub(crate) progress: Option<FathomProgress>,
    /// What was seen so far.
    pub(crate) points: Vec<PlotPoint>,
    pub(crate) verdict: Option<Fathomed>,
}

/// A verdict, and the drive as every other stage sees it from then on.
pub(crate) struct Measured {
    pub(crate) verdict: Fathomed,
    pub(crate) seen: SharedSource,
    /// Why the verdict could not be kept.
    pub(crate) problem: Option<String>,
}

/// What a measurement told when it ended.
pub(crate) enum FathomEnd {
    /// A verdict.
    Verdict(Box<Measured>),
    /// What an interrupted probe touched is put back.
    Restored(Restored),
    /// It was refused, or failed.
    Failed(String),
}

impl FathomState {
    pub(crate) fn is_busy(&self) -> bool {
        self.job.is_some() || self.restore_job.is_some()
    }

    /// Measures `source`.
    pub(crate) fn start(&mut self, source: &SharedSource, method: Method, code: String) {
        let source = SharedSource::clone(source);
        self.points.clear();
        self.progress = None;
        self.job = Some(Job::start(move |desk: &Desk<FathomProgress>| {
            let confirmation = Confirmation::Code(code);
            let verdict = match method {
                Method::Probe => fathom::probe(&source, &confirmation, ProbeOptions::default(), desk),
                Method::Fill => fathom::fill(&source, &confirmation, desk),
                Method::Estimate => Ok(fathom::estimate(&source, desk)),
            }?;
            let problem = fathom::keep(&source, &verdict).err().map(|error| keel_core::chain(&error));
            Ok(Measured { seen: fathom::as_stored(source), verdict, problem })
        }));
    }

    /// Puts back what an interrupted probe touched.
    pub(crate) fn restore(&mut self, source: &SharedSource, confirmation: Confirmation) {
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

    /// Stops a measurement; what it touched is put back first. A restoration is never stopped.
    pub(crate) fn cancel(&self) {
        if let Some(job) = &self.job {
            job.cancel().cancel();
        }
    }

    /// Takes what the jobs told.
    pub(crate) fn take_reports(&mut self) -> Option<FathomEnd> {
        for message in self.job.as_mut().map(Job::drain).unwrap_or_default() {
            let end = match message {
                Message::Progress(mut progress) => {
                    let room = MOST_POINTS.saturating_sub(self.points.len());
                    self.points.extend(progress.points.drain(..).take(room));
                    self.progress = Some(progress);
                    continue;
                }
                Message::Done(Ok(measured)) => {
                    self.verdict = Some(measured.verdict.clone());
                    FathomEnd::Verdict(Box::new(measured))
                }
                Message::Done(Err(error)) => FathomEnd::Failed(keel_core::chain(&error)),
                Message::Died(text) => FathomEnd::Failed(text),
            };
            self.job = None;
            return Some(end);
        }
        for message in self.restore_job.as_mut().map(Job::drain).unwrap_or_default() {
            let end = match message {
                Message::Progress(_) => continue,
                Message::Done(Ok(restored)) => FathomEnd::Restored(restored),
                Message::Done(Err(error)) => FathomEnd::Failed(keel_core::chain(&error)),
                Message::Died(text) => FathomEnd::Failed(text),
            };
            self.restore_job = None;
            return Some(end);
        }
        None
    }
}
