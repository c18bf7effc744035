//! What is kept of drives and cases is written behind the screens, one after the other: a disk that is busy holds no key.

use std::collections::VecDeque;
use std::path::PathBuf;

use keel_core::CoreError;
use keel_core::case::Case;
use keel_core::job::{Job, Message};

/// Something to be written. It says what came of it where the screens show that.
type Work = Box<dyn FnOnce() -> Option<Kept> + Send>;

/// What came of a change of a case.
pub(super) struct Kept {
    /// The drive whose case it is.
    pub(super) path: PathBuf,
    /// True where the technician asked for it; else it is noted beside other work.
    pub(super) is_asked: bool,
    /// The case as it is now, with what is told of the change.
    pub(super) case: Result<(Case, Option<String>), CoreError>,
}

/// Writes what waits, in its order.
#[derive(Default)]
pub(crate) struct Keeper {
    waiting: VecDeque<Work>,
    job: Option<Job<(), Option<Kept>>>,
}

impl Keeper {
    /// Has something written.
    pub(super) fn put(&mut self, work: impl FnOnce() -> Option<Kept> + Send + 'static) {
        self.waiting.push_back(Box::new(work));
        self.begin_next();
    }

    /// True while something is written, or waits for it.
    pub(super) fn is_busy(&self) -> bool {
        self.job.is_some()
    }

    /// What was written since the last frame. `Err` for work that died, with its last words.
    pub(super) fn take(&mut self) -> Vec<Result<Kept, String>> {
        let mut kept = Vec::new();
        for message in self.job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(()) => continue,
                Message::Done(done) => kept.extend(done.map(Ok)),
                Message::Died(text) => kept.push(Err(text)),
            }
            self.job = None;
        }
        self.begin_next();
        kept
    }

    fn begin_next(&mut self) {
        if self.job.is_none() {
            self.job = self.waiting.pop_front().map(|work| Job::start(|_| work()));
        }
    }
}

impl Drop for Keeper {
    /// What waits is written all the same, and nobody waits for it here: the program's end does.
    fn drop(&mut self) {
        let (Some(job), waiting) = (self.job.take(), std::mem::take(&mut self.waiting)) else { return };
        drop(Job::<(), ()>::start(|_| {
            // Each behind the one before it, as they were asked for.
            let _ = job.wait(|()| {});
            waiting.into_iter().for_each(|work| drop(work()));
        }));
    }
}

#[cfg(test)]
mod tests {
    use std::sync::{Arc, Mutex};
    use std::thread;
    use std::time::{Duration, Instant};

    use super::*;

    #[test]
    fn what_is_kept_is_written_in_its_order_and_nobody_waits_for_a_slow_disk() {
        let written = Arc::new(Mutex::new(Vec::new()));
        let mut keeper = Keeper::default();
        let began = Instant::now();
        for number in 0..6 {
            let written = Arc::clone(&written);
            keeper.put(move || {
                thread::sleep(Duration::from_millis(300));
                written.lock().unwrap().push(number);
                None
            });
        }
        assert!(keeper.is_busy());
        while written.lock().unwrap().len() < 2 {
            assert!(keeper.take().is_empty());
            thread::sleep(Duration::from_millis(1));
        }
        // The screens end: what waits is written behind them.
        drop(keeper);
        assert!(began.elapsed() < Duration::from_millis(1800), "the six of them take longer than all this did");
        keel_core::job::wait_for_dropped();
        assert_eq!(*written.lock().unwrap(), [0, 1, 2, 3, 4, 5]);
    }

    #[test]
    fn work_that_dies_says_so_and_the_next_is_done() {
        let mut keeper = Keeper::default();
        keeper.put(|| panic!("lost its footing"));
        keeper.put(|| None);
        let mut told = Vec::new();
        while keeper.is_busy() {
            told.extend(keeper.take().into_iter().filter_map(Result::err));
        }
        assert_eq!(told, ["lost its footing"]);
    }
}
