//! A volume under a budget: every call on it is bounded in work and memory and can be stopped, whichever format answers it.

use std::ops::ControlFlow;
use std::sync::{Arc, OnceLock};

use keel_source::{Budget, Budgeted, ByteOffset, ByteRange, Cancel, SharedSource, Spent, Window};

use crate::check::{Allocation, Checked};
use crate::{
    Deleted, Entry, Extent, Finding, FormatError, LeftOpen, NodeId, Problem, Repair, Severity, StreamInfo, StreamReader, Volume,
    VolumeSummary, WalkEntry,
};

/// A volume and the budget of its source.
struct Bounded {
    inner: Box<dyn Volume>,
    budget: Budget,
    /// Why a call on it was ended before: what it keeps in memory of that call is not whole.
    ended: OnceLock<Spent>,
}

/// `range` of the drive, to infer or verify a volume in, under a budget of its own for its length.
pub(crate) fn window(drive: &SharedSource, range: ByteRange) -> SharedSource {
    Budgeted::shared(Arc::new(Window::new(SharedSource::clone(drive), range)), &Cancel::default())
}

/// Opens the volume in `window` by `open`, which is handed the window under a budget for its length; every later call on the volume
/// has that budget too. `cancel` stops any of them.
///
/// # Errors
/// Those of `open`; [`Problem::Spent`] when the budget ended first.
pub(crate) fn bounded(
    window: SharedSource,
    cancel: &Cancel,
    open: impl FnOnce(SharedSource) -> Result<Box<dyn Volume>, FormatError>,
) -> Result<Box<dyn Volume>, FormatError> {
    let budget = Budget::new(window.len(), cancel.clone());
    let inner = {
        let _call = budget.call();
        let opened = open(Arc::new(Budgeted::new(window, budget.clone())));
        told(&budget, opened)?
    };
    Ok(Box::new(Bounded { inner, budget, ended: OnceLock::new() }))
}

/// `result`, or that the budget was spent: what was found on the way there says nothing.
fn told<T>(budget: &Budget, result: Result<T, FormatError>) -> Result<T, FormatError> {
    match budget.spent() {
        Some(spent) => Err(spent_error(spent)),
        None => result,
    }
}

fn spent_error(spent: Spent) -> FormatError {
    FormatError::new("volume", ByteOffset(0), Problem::Spent(spent))
}

impl Bounded {
    /// Why this call or one before it was ended.
    fn ended(&self) -> Option<Spent> {
        if let Some(spent) = self.budget.spent() {
            return Some(*self.ended.get_or_init(|| spent));
        }
        self.ended.get().copied()
    }

    /// The findings of a listing, with one more where it was stopped: entries that it handed on are right.
    fn listed(&self, result: Result<Vec<Finding>, FormatError>) -> Result<Vec<Finding>, FormatError> {
        let Some(spent) = self.ended() else { return result };
        let mut findings = result.unwrap_or_default();
        findings.push(stopped(spent));
        Ok(findings)
    }
}

/// What is said of a volume that was not read to its end.
fn stopped(spent: Spent) -> Finding {
    let severity = if spent == Spent::Stopped { Severity::Note } else { Severity::Doubt };
    Finding::of_all(severity, "not read to its end: what lies behind is not told", spent.why())
}

impl Volume for Bounded {
    fn summary(&self) -> &VolumeSummary {
        self.inner.summary()
    }

    fn root(&self) -> NodeId {
        self.inner.root()
    }

    fn list(
        &self,
        dir: NodeId,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let _call = self.budget.call();
        self.listed(self.inner.list(dir, deleted, each))
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let _call = self.budget.call();
        self.listed(self.inner.walk(deleted, each))
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        let _call = self.budget.call();
        told(&self.budget, self.inner.streams(file))
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        let _call = self.budget.call();
        let inner = told(&self.budget, self.inner.open(file, stream))?;
        Ok(Box::new(BoundedStream { inner, budget: self.budget.clone() }))
    }

    fn link_target(&self, link: NodeId) -> Option<String> {
        let _call = self.budget.call();
        self.inner.link_target(link)
    }

    fn mode(&self, node: NodeId) -> Option<u32> {
        let _call = self.budget.call();
        self.inner.mode(node)
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        let _call = self.budget.call();
        told(&self.budget, self.inner.extents(file))
    }

    fn is_guessed(&self, file: NodeId) -> bool {
        let _call = self.budget.call();
        self.inner.is_guessed(file)
    }

    fn left_open(&self) -> Vec<LeftOpen> {
        let _call = self.budget.call();
        self.inner.left_open()
    }

    fn examine(&self) -> Vec<Finding> {
        let _call = self.budget.call();
        let mut findings = self.inner.examine();
        // What did not read because nobody asked any more is no damage.
        if let Some(spent) = self.ended() {
            findings.retain(|finding| finding.severity == Severity::Note);
            findings.push(stopped(spent));
        }
        findings
    }

    fn allocation(&self) -> Option<Allocation> {
        let _call = self.budget.call();
        self.inner.allocation().filter(|_| self.ended().is_none())
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        let _call = self.budget.call();
        let result = self.inner.claims(each);
        match self.ended() {
            Some(spent) => Err(spent_error(spent)),
            None => result,
        }
    }

    fn mark(&self, allocation: &Allocation, units: &[std::ops::Range<u64>], used: bool) -> Vec<Repair> {
        let _call = self.budget.call();
        let repairs = self.inner.mark(allocation, units, used);
        if self.ended().is_some() { Vec::new() } else { repairs }
    }

    fn rules(&self) -> Vec<Checked> {
        let _call = self.budget.call();
        let rules = self.inner.rules();
        match self.ended() {
            None => rules,
            // Nothing is mended on the strength of what was not looked at.
            Some(spent) => vec![Checked::new("rules", "what this kind of volume asks beside the rest", vec![stopped(spent)])],
        }
    }

    fn spend(&self, steps: u64) -> Result<(), Spent> {
        self.budget.step(steps)
    }
}

/// A stream whose single reads are bounded: unpacking and maps, not the length of the file.
struct BoundedStream {
    inner: Box<dyn StreamReader>,
    budget: Budget,
}

impl StreamReader for BoundedStream {
    fn bytes(&self) -> u64 {
        self.inner.bytes()
    }

    fn read(&mut self, at: u64, buf: &mut [u8]) -> Vec<keel_source::ByteRange> {
        let _call = self.budget.call();
        self.inner.read(at, buf)
    }
}
