//! What a reader of hostile structures may spend: work, memory, and the flag that stops it. The budget travels with the source that
//! is read, so that whoever is handed the source is bound by it.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, AtomicU32, AtomicU64, Ordering};

use crate::hand_on::hand_on;
use crate::{ByteOffset, ByteRange, Cancel, Identity, ReadCause, ReadError, SharedSource, Source};

/// Steps that any call may take, however small its source is.
const LEAST_STEPS: u64 = 1 << 20;
/// Steps for each sector of 512 bytes: a directory entry takes no less than 32 bytes, an extent no less than a cluster.
const STEPS_EACH: u64 = 16;
/// Steps that no call takes, however large its source is: ten million files are listed, and who holds which ground, with half of it.
const MOST_STEPS: u64 = 1 << 27;
/// Bytes of memory that one call holds at most.
const MOST_HELD: u64 = 128 << 20;
/// Bytes that are read in one step.
const STEP_BYTES: u64 = 4096;

/// Why a call was stopped.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Spent {
    /// It took more steps than a source of that length can ask for.
    Work,
    /// It held more memory than any sound structure asks for.
    Memory,
    /// Somebody asked it to stop.
    Stopped,
}

impl Spent {
    /// Why, as the end of a sentence.
    #[must_use]
    pub fn why(self) -> &'static str {
        match self {
            Self::Work => "it takes more work than a volume of this length can ask for",
            Self::Memory => "it takes more memory than is given to one reader (128 MiB)",
            Self::Stopped => "it was asked to stop",
        }
    }

    fn of(code: u8) -> Option<Self> {
        [None, Some(Self::Work), Some(Self::Memory), Some(Self::Stopped)].get(usize::from(code)).copied().flatten()
    }

    fn code(self) -> u8 {
        match self {
            Self::Work => 1,
            Self::Memory => 2,
            Self::Stopped => 3,
        }
    }
}

/// A reader's budget. Clones share it. It counts anew for each outermost [`Budget::call`].
#[derive(Debug, Clone)]
pub struct Budget {
    shared: Arc<Shared>,
    cancel: Cancel,
    most_steps: u64,
    most_held: u64,
}

#[derive(Debug, Default)]
struct Shared {
    calls: AtomicU32,
    steps: AtomicU64,
    held: AtomicU64,
    spent: AtomicU8,
}

/// A call that runs under a budget, until it is dropped.
#[must_use = "the budget counts as long as this lives"]
pub struct Call<'a>(&'a Budget);

impl Drop for Call<'_> {
    fn drop(&mut self) {
        self.0.shared.calls.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Budget {
    /// A budget for a source of `bytes` bytes, stopped by `cancel`.
    #[must_use]
    pub fn new(bytes: u64, cancel: Cancel) -> Self {
        let most_steps = (bytes / 512).saturating_mul(STEPS_EACH).saturating_add(LEAST_STEPS).min(MOST_STEPS);
        Self { shared: Arc::default(), cancel, most_steps, most_held: MOST_HELD }
    }

    /// A budget without bounds, that `cancel` alone ends: for work whose readers have budgets of their own.
    #[must_use]
    pub fn until(cancel: Cancel) -> Self {
        Self { shared: Arc::default(), cancel, most_steps: u64::MAX, most_held: u64::MAX }
    }

    /// Begins a call. The outermost one counts from nothing; what it calls itself counts with it.
    pub fn call(&self) -> Call<'_> {
        if self.shared.calls.fetch_add(1, Ordering::Relaxed) == 0 {
            self.shared.steps.store(0, Ordering::Relaxed);
            self.shared.held.store(0, Ordering::Relaxed);
            self.shared.spent.store(0, Ordering::Relaxed);
        }
        Call(self)
    }

    /// Takes `steps` steps: one for each structure that is looked at.
    ///
    /// # Errors
    /// [`Spent`] when the call is to end here.
    pub fn step(&self, steps: u64) -> Result<(), Spent> {
        let taken = self.shared.steps.fetch_add(steps, Ordering::Relaxed).saturating_add(steps);
        match () {
            () if self.cancel.is_cancelled() => Err(self.end(Spent::Stopped)),
            () if taken > self.most_steps => Err(self.end(Spent::Work)),
            () => self.spent().map_or(Ok(()), Err),
        }
    }

    /// Holds `bytes` bytes of memory more, to the end of the call.
    ///
    /// # Errors
    /// As [`Budget::step`].
    pub fn hold(&self, bytes: u64) -> Result<(), Spent> {
        let held = self.shared.held.fetch_add(bytes, Ordering::Relaxed).saturating_add(bytes);
        if held > self.most_held { Err(self.end(Spent::Memory)) } else { self.spent().map_or(Ok(()), Err) }
    }

    /// Lets go of `bytes` bytes that were held.
    pub fn let_go(&self, bytes: u64) {
        let less = |held: u64| Some(held.saturating_sub(bytes));
        let _ = self.shared.held.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
    }

    /// What is held from now on is let go when the answer is dropped: for what lives no longer than one folder or one file.
    #[must_use = "what is held is let go when this is dropped"]
    pub fn passing(&self) -> Passing<'_> {
        Passing { budget: self, before: self.shared.held.load(Ordering::Relaxed) }
    }

    /// Why the call, or the last one, was stopped; none while it may go on.
    #[must_use]
    pub fn spent(&self) -> Option<Spent> {
        Spent::of(self.shared.spent.load(Ordering::Relaxed))
    }

    /// Remembers that the call ends; the first reason counts.
    fn end(&self, why: Spent) -> Spent {
        let _ = self.shared.spent.compare_exchange(0, why.code(), Ordering::Relaxed, Ordering::Relaxed);
        why
    }
}

/// Memory that is held for a while.
pub struct Passing<'a> {
    budget: &'a Budget,
    before: u64,
}

impl Drop for Passing<'_> {
    fn drop(&mut self) {
        self.budget.shared.held.fetch_min(self.before, Ordering::Relaxed);
    }
}

/// A source that is read under a budget: every read is a step and more, and none is made when the budget is spent.
pub struct Budgeted {
    below: SharedSource,
    budget: Budget,
}

impl Budgeted {
    /// `source`, read under `budget`.
    #[must_use]
    pub fn new(source: SharedSource, budget: Budget) -> Self {
        Self { below: source, budget }
    }

    /// `source` as far as `cancel` lets it be read: whoever reads from it is stopped at the next read, and can tell by
    /// [`ReadCause::Stopped`].
    #[must_use]
    pub fn until(source: SharedSource, cancel: &Cancel) -> SharedSource {
        Arc::new(Self::new(source, Budget::until(cancel.clone())))
    }

    /// `source` with a budget for its length, stopped by `cancel`.
    #[must_use]
    pub fn shared(source: SharedSource, cancel: &Cancel) -> SharedSource {
        let budget = Budget::new(source.len(), cancel.clone());
        Arc::new(Self::new(source, budget))
    }
}

impl Source for Budgeted {
    fn identity(&self) -> &Identity {
        self.below.identity()
    }

    fn len(&self) -> u64 {
        self.below.len()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        match self.budget.step(1 + buf.len() as u64 / STEP_BYTES) {
            Ok(()) => {
                let read = self.below.read_at(at, buf);
                // A budget further down that ended ends this one.
                if read.as_ref().is_err_and(|error| error.cause == ReadCause::Stopped) {
                    self.budget.end(self.below.budget().and_then(Budget::spent).unwrap_or(Spent::Stopped));
                }
                read
            }
            Err(spent) => {
                buf.fill(0);
                let wanted = ByteRange::sized(at, buf.len() as u64);
                Err(ReadError::of(wanted, format!("not read: {}", spent.why())).because(ReadCause::Stopped))
            }
        }
    }

    fn missing(&self) -> &[ByteRange] {
        self.below.missing()
    }

    hand_on!(self, self.below);

    /// When nothing is read any more all that is left may be data: it is never taken for a hole.
    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        match self.budget.step(0) {
            Ok(()) => self.below.next_data(from),
            Err(_) => Some(ByteRange::new(from, ByteOffset(self.len()))).filter(|left| from < left.end),
        }
    }

    fn change_mark(&self) -> Option<String> {
        self.below.change_mark()
    }

    fn budget(&self) -> Option<&Budget> {
        Some(&self.budget)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{MemorySource, Overlay, Window};

    fn drive() -> SharedSource {
        Arc::new(MemorySource::new("b", vec![7; 1 << 20], 512))
    }

    #[test]
    fn a_call_ends_when_its_steps_are_spent_and_the_next_one_begins_anew() {
        let budget = Budget::new(1 << 20, Cancel::default());
        {
            let _call = budget.call();
            let mut steps = 0u64;
            while budget.step(1).is_ok() {
                steps += 1;
                // What is called inside a call counts with it.
                let _inner = budget.call();
            }
            assert_eq!(steps, LEAST_STEPS + 2048 * STEPS_EACH);
            assert_eq!((budget.step(0), budget.hold(0)), (Err(Spent::Work), Err(Spent::Work)));
        }
        assert_eq!(budget.spent(), Some(Spent::Work), "it is known until the next call");
        let _call = budget.call();
        assert_eq!((budget.spent(), budget.step(1)), (None, Ok(())));
    }

    #[test]
    fn memory_is_counted_and_the_flag_stops_at_once() {
        let cancel = Cancel::default();
        let budget = Budget::new(u64::MAX, cancel.clone());
        let _call = budget.call();
        assert_eq!((budget.hold(MOST_HELD), budget.hold(1)), (Ok(()), Err(Spent::Memory)));
        assert_eq!(budget.step(1), Err(Spent::Memory), "the first reason counts");
        let passing = Budget::new(u64::MAX, Cancel::default());
        for _ in 0..10 {
            let _while = passing.passing();
            assert_eq!(passing.hold(MOST_HELD), Ok(()), "what a folder held is let go with it");
        }
        assert_eq!(passing.hold(MOST_HELD / 2), Ok(()));
        passing.let_go(MOST_HELD / 2);
        assert_eq!(passing.hold(MOST_HELD), Ok(()));
        let other = Budget::new(u64::MAX, cancel.clone());
        assert_eq!(other.step(MOST_STEPS), Ok(()), "no source is large enough for more");
        cancel.cancel();
        assert_eq!(other.step(1), Err(Spent::Stopped));
    }

    #[test]
    fn nothing_is_read_on_a_spent_budget_through_whatever_lies_above() {
        let cancel = Cancel::default();
        let budgeted = Budgeted::shared(drive(), &cancel);
        let above: SharedSource =
            Arc::new(Window::new(Arc::new(Overlay::new(budgeted)), ByteRange::sized(ByteOffset(512), 4096)));
        let mut buf = [1u8; 600];
        above.read_at(ByteOffset(0), &mut buf).unwrap();
        assert!(above.budget().is_some_and(|budget| budget.spent().is_none()) && buf == [7; 600]);
        cancel.cancel();
        let reader = Budgeted::shared(Arc::clone(&above), &Cancel::default());
        assert!(reader.read_at(ByteOffset(0), &mut buf).is_err());
        assert_eq!(reader.budget().and_then(Budget::spent), Some(Spent::Stopped), "a reader above is ended too");
        let error = above.read_at(ByteOffset(100), &mut buf).unwrap_err();
        assert_eq!((error.cause, error.bad[0], buf), (ReadCause::Stopped, ByteRange::sized(ByteOffset(100), 600), [0; 600]));
    }
}
