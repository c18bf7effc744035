//! The copy in work: what runs, what came of it, and what the technician chose.

use std::collections::VecDeque;
use std::path::PathBuf;

use keel_core::CoreError;
use keel_core::copy::{self, Copied, CopyControl, CopyOptions, CopyProgress, CopyVerified, Pass, VerifyProgress};
use keel_core::job::{Job, Message};
use keel_core::plan::Confirmation;
use keel_source::SharedSource;

/// Rates that the curve shows.
const MOST_RATES: usize = 240;

/// The state of the Copy stage.
#[derive(Default)]
pub(crate) struct CopyState {
    /// Where it goes.
    pub(crate) dest: Option<PathBuf>,
    /// What the volumes need comes first.
    pub(crate) volumes_first: bool,
    pub(crate) control: CopyControl,
    pub(crate) job: Option<Job<CopyProgress, Result<Copied, CoreError>>>,
    pub(crate) verify_job: Option<Job<VerifyProgress, Result<CopyVerified, CoreError>>>,
    pub(crate) progress: Option<CopyProgress>,
    pub(crate) verifying: Option<VerifyProgress>,
    pub(crate) done: Option<Copied>,
    pub(crate) verified: Option<CopyVerified>,
    /// Bytes per second, the last ones.
    pub(crate) rates: VecDeque<u64>,
}

/// What a copy told when it ended.
pub(crate) enum CopyEnd {
    /// It came to this.
    Copied(Copied),
    /// It was compared.
    Verified(CopyVerified),
    /// It cannot be written, or is refused.
    Failed(String),
}

impl CopyState {
    pub(crate) fn is_busy(&self) -> bool {
        self.job.is_some() || self.verify_job.is_some()
    }

    /// Begins the copy of `source`, or goes on with it.
    pub(crate) fn start(&mut self, source: &SharedSource, dest: PathBuf, code: Option<String>) {
        let mut passes = Pass::USUAL.to_vec();
        passes.extend(self.volumes_first.then_some(Pass::Volumes));
        self.control = CopyControl::default();
        let options = CopyOptions {
            passes,
            control: self.control.clone(),
            confirmation: code.map(Confirmation::Code),
            ..CopyOptions::default()
        };
        (self.done, self.verified) = (None, None);
        self.rates.clear();
        self.dest = Some(dest.clone());
        let source = SharedSource::clone(source);
        self.job = Some(Job::start(move |desk| copy::copy(&source, &dest, &options, desk)));
    }

    /// Compares the copy with its hashes.
    pub(crate) fn verify(&mut self) -> bool {
        let Some(dest) = self.dest.clone().filter(|_| !self.is_busy()) else { return false };
        self.verify_job = Some(Job::start(move |desk| copy::verify(&dest, None, desk)));
        true
    }

    /// Stops what runs.
    pub(crate) fn cancel(&self) {
        self.control.pause(false);
        if let Some(job) = &self.job {
            job.cancel().cancel();
        }
        if let Some(job) = &self.verify_job {
            job.cancel().cancel();
        }
    }

    /// Takes what the jobs told.
    pub(crate) fn take_reports(&mut self) -> Option<CopyEnd> {
        let mut end = None;
        for message in self.job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(progress) => {
                    if self.rates.len() >= MOST_RATES {
                        self.rates.pop_front();
                    }
                    self.rates.push_back(progress.rate);
                    self.progress = Some(progress);
                }
                Message::Done(Ok(copied)) => {
                    self.done = Some(copied.clone());
                    end = Some(CopyEnd::Copied(copied));
                }
                Message::Done(Err(error)) => end = Some(CopyEnd::Failed(keel_core::chain(&error))),
                Message::Died(text) => end = Some(CopyEnd::Failed(text)),
            }
        }
        if end.is_some() {
            self.job = None;
        }
        for message in self.verify_job.as_mut().map(Job::drain).unwrap_or_default() {
            let told = match message {
                Message::Progress(progress) => {
                    self.verifying = Some(progress);
                    continue;
                }
                Message::Done(Ok(verified)) => {
                    self.verified = Some(verified.clone());
                    CopyEnd::Verified(verified)
                }
                Message::Done(Err(error)) => CopyEnd::Failed(keel_core::chain(&error)),
                Message::Died(text) => CopyEnd::Failed(text),
            };
            (self.verify_job, self.verifying) = (None, None);
            return Some(told);
        }
        end
    }
}
