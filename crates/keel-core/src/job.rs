//! Long work: started, reporting, cancellable, never dying silently, and never waited for by whoever lets go of it.

use std::any::Any;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Mutex;
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
pub use keel_source::Cancel;
use keel_source::{Budgeted, SharedSource};

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

/// Running work. Dropping it asks it to stop and does not wait: it ends by itself, at the latest before [`wait_for_dropped`] comes
/// back.
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
        let Some(thread) = self.thread.take() else { return };
        let Ok(mut dropped) = DROPPED.lock() else { return };
        dropped.retain(|thread| !thread.is_finished());
        dropped.push(thread);
    }
}

/// Jobs that were dropped and may still be on their way out.
static DROPPED: Mutex<Vec<JoinHandle<()>>> = Mutex::new(Vec::new());

/// Waits until every job that was dropped has ended: what puts something back before it ends must not be cut off by the end of the
/// program.
pub fn wait_for_dropped() {
    let dropped = DROPPED.lock().map(|mut dropped| std::mem::take(&mut *dropped)).unwrap_or_default();
    for thread in dropped {
        // What it died of was its owner's to hear.
        let _ = thread.join();
    }
}

/// Waits until every job that was dropped has ended, `most` at the longest.
pub fn wait_for_dropped_at_most(most: Duration) {
    let began = Instant::now();
    let ended = || DROPPED.lock().is_ok_and(|dropped| dropped.iter().all(JoinHandle::is_finished));
    while !ended() && began.elapsed() < most {
        thread::sleep(Duration::from_millis(5));
    }
}

impl<R: Send + 'static> Job<(), Option<R>> {
    /// Starts work that only reads `source`. It is stopped at its next read, wherever that is, and comes to nothing then.
    pub fn reading(source: &SharedSource, work: impl FnOnce(&SharedSource, &Cancel) -> R + Send + 'static) -> Self {
        let source = SharedSource::clone(source);
        Self::start(move |desk| {
            let source = Budgeted::until(source, desk.cancel());
            let result = work(&source, desk.cancel());
            (!desk.cancel().is_cancelled()).then_some(result)
        })
    }
}

fn panic_text(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(ToString::to_string).or_else(|| panic.downcast_ref::<String>().cloned());
    text.unwrap_or_else(|| "the worker died without a word".into())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicBool, Ordering};

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
    fn dropping_a_job_stops_it_without_waiting_and_the_end_waits_for_all() {
        let (begun, told) = bounded(1);
        let (let_go, go) = bounded::<()>(1);
        let ended = Arc::new(AtomicBool::new(false));
        let seen = Arc::clone(&ended);
        let job: Job<u32, ()> = Job::start(move |desk| {
            let _ = begun.send(());
            let _ = go.recv();
            seen.store(desk.cancel().is_cancelled(), Ordering::SeqCst);
        });
        told.recv().unwrap();
        // The work still waits here: a drop that waited for it would never come back.
        drop(job);
        assert!(!ended.load(Ordering::SeqCst));
        let_go.send(()).unwrap();
        wait_for_dropped();
        assert!(ended.load(Ordering::SeqCst), "it saw the flag and came to its end");
    }

    #[test]
    fn work_that_reads_is_stopped_at_its_next_read_and_comes_to_nothing() {
        let source: SharedSource = Arc::new(keel_source::MemorySource::new("r", vec![1; 4096], 512));
        let (told, begun) = bounded(1);
        let job = Job::reading(&source, move |source, _| {
            let _ = told.send(());
            let mut sector = [0; 512];
            while source.read_at(keel_source::ByteOffset(0), &mut sector).is_ok() {}
            7
        });
        begun.recv().unwrap();
        job.cancel().cancel();
        assert_eq!(job.wait(|()| {}), Ok(None));
        assert_eq!(Job::reading(&source, |_, _| 7).wait(|()| {}), Ok(Some(7)));
    }
}
