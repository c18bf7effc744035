//! Long work: started, reporting, cancellable, never dying silently.

use std::any::Any;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::thread::{self, JoinHandle};

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
pub use keel_source::Cancel;

/// What a job tells.
#[derive(Debug)]
pub enum Message<P, R> {
    /// How far it is.
    Progress(P),
    /// It ended with this result.
    Done(R),
    /// It died; the text of its panic.
    Died(String),
}

/// The worker's side of a job: the cancel flag and the way to report. Clones share both.
pub struct Desk<P> {
    cancel: Cancel,
    report: Sender<P>,
}

impl<P> Clone for Desk<P> {
    fn clone(&self) -> Self {
        Self { cancel: self.cancel.clone(), report: self.report.clone() }
    }
}

impl<P> Desk<P> {
    /// A desk without a job around it: for headless work on the calling thread.
    #[must_use]
    pub fn new(cancel: Cancel) -> (Self, Receiver<P>) {
        let (report, receiver) = unbounded();
        (Self { cancel, report }, receiver)
    }

    /// The cancel flag.
    #[must_use]
    pub fn cancel(&self) -> &Cancel {
        &self.cancel
    }

    /// Reports progress. A listener that went away is no error.
    pub fn tell(&self, progress: P) {
        let _ = self.report.send(progress);
    }
}

/// Running work. Dropping it cancels and waits.
pub struct Job<P, R> {
    progress: Receiver<P>,
    result: Receiver<Result<R, String>>,
    cancel: Cancel,
    thread: Option<JoinHandle<()>>,
}

impl<P: Send + 'static, R: Send + 'static> Job<P, R> {
    /// Starts `work` on a thread of its own.
    pub fn start(work: impl FnOnce(&Desk<P>) -> R + Send + 'static) -> Self {
        let cancel = Cancel::default();
        let (desk, progress) = Desk::new(cancel.clone());
        let (sender, result) = bounded(1);
        let thread = thread::spawn(move || {
            let outcome = catch_unwind(AssertUnwindSafe(|| work(&desk))).map_err(|panic| panic_text(panic.as_ref()));
            let _ = sender.send(outcome);
        });
        Self { progress, result, cancel, thread: Some(thread) }
    }

    /// The flag that stops it.
    #[must_use]
    pub fn cancel(&self) -> &Cancel {
        &self.cancel
    }

    /// Everything it told since the last call, without waiting. The result comes last.
    pub fn drain(&mut self) -> Vec<Message<P, R>> {
        // The result is asked for first: whatever was told before it is then in the other channel already.
        let result = self.result.try_recv();
        let mut messages: Vec<Message<P, R>> = self.progress.try_iter().map(Message::Progress).collect();
        match result {
            Ok(Ok(result)) => messages.push(Message::Done(result)),
            Ok(Err(text)) => messages.push(Message::Died(text)),
            Err(_) => {}
        }
        messages
    }

    /// Waits for the end; `each` sees every progress report.
    ///
    /// # Errors
    /// The text of the panic when the work died.
    pub fn wait(self, mut each: impl FnMut(P)) -> Result<R, String> {
        // The channel closes when the desk goes away with the work.
        while let Ok(progress) = self.progress.recv() {
            each(progress);
        }
        self.result.recv().unwrap_or_else(|_| Err("the worker went away".into()))
    }
}

impl<P, R> Drop for Job<P, R> {
    fn drop(&mut self) {
        self.cancel.cancel();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn panic_text(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(ToString::to_string).or_else(|| panic.downcast_ref::<String>().cloned());
    text.unwrap_or_else(|| "the worker died without a word".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_job_reports_ends_and_never_dies_silently() {
        let job = Job::start(|desk: &Desk<u32>| {
            desk.tell(1);
            desk.tell(2);
            7
        });
        let mut seen = Vec::new();
        assert_eq!(job.wait(|progress| seen.push(progress)), Ok(7));
        assert_eq!(seen, [1, 2]);
        let job: Job<u32, u32> = Job::start(|_| panic!("lost its footing"));
        assert_eq!(job.wait(|_| {}), Err("lost its footing".into()));
    }

    #[test]
    fn dropping_a_job_cancels_it() {
        let job: Job<u32, ()> = Job::start(|desk| {
            while !desk.cancel().is_cancelled() {
                thread::yield_now();
            }
        });
        drop(job);
    }
}
