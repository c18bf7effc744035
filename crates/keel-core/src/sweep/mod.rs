//! The sweep: finds lost volumes on the surface.

mod compare;
mod inside;
mod landmarks;
mod make;
mod state;
mod stored;
mod surface;

pub use crate::find::{Behind, Find, Grade, outer, readable};
pub use compare::{RootLook, RootName, rival, root_look};
pub use state::SweepState;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Instant;

use keel_adrift::Starts;
use keel_format::clue::Clues;
use keel_format::registry;
use keel_format::table::{self, TableReading};
use keel_source::{Budgeted, ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::Serialize;

use self::state::Keeper;
use crate::coverage::Coverage;
use crate::ground::{self, GroundMap};
use crate::job::Desk;

/// Where a sweep looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Reach {
    /// Landmarks first, then the surface where they leave room for doubt.
    #[default]
    Doubt,
    /// Places where tables, copies and starts usually lie, and what is found implies.
    Landmarks,
    /// Every sector.
    Surface,
}

/// How to sweep.
#[derive(Debug, Clone, Default)]
pub struct SweepOptions {
    /// Where to look.
    pub reach: Reach,
    /// The file that keeps the state, so that a cancelled sweep goes on later; none keeps nothing.
    pub state: Option<PathBuf>,
}

/// What a running sweep tells.
#[derive(Debug, Clone)]
pub struct SweepProgress {
    /// Bytes of surface looked at.
    pub done: u64,
    /// Bytes of surface to look at.
    pub total: u64,
    /// Where the scan is.
    pub head: ByteOffset,
    /// Bytes a second since the sweep began or was resumed.
    pub rate: u64,
    /// All finds so far, when they changed since the last report.
    pub finds: Option<Vec<Find>>,
    /// Places that could not be read, so far.
    pub bad: Vec<ByteRange>,
    /// What the surface holds, as far as it was looked at.
    pub ground: Arc<GroundMap>,
    /// Where files may begin, so far; told now and then, when there are more.
    pub starts: Option<Arc<Starts>>,
}

/// What a sweep found.
#[derive(Debug, Clone)]
pub struct Sweep {
    /// The finds, by their start.
    pub finds: Vec<Find>,
    /// What the table places say: read once, for all that goes on from here.
    pub table: TableReading,
    /// The surface that was looked at, ascending.
    pub looked_at: Vec<ByteRange>,
    /// Places that could not be read.
    pub bad: Vec<ByteRange>,
    /// What the surface holds, as far as it was looked at.
    pub ground: GroundMap,
    /// Where files may begin, on all ground that was looked at sector by sector.
    pub starts: Starts,
    /// True when it was cancelled; with a state file it goes on from there.
    pub cancelled: bool,
    /// Remains of GPT headers.
    pub gpt_remains: Vec<ByteOffset>,
    /// Why nothing of it is kept for the next sweep, as a sentence, where that was asked for and cannot be done.
    pub not_kept: Option<String>,
    /// Volumes that were inferred beside the finds and are not told, because they are too many: what speaks for them is weaker.
    pub untold: usize,
}

impl Sweep {
    /// A sweep that was stopped before anything was looked at.
    fn stopped(table: TableReading) -> Self {
        Self {
            finds: Vec::new(),
            table,
            looked_at: Vec::new(),
            bad: Vec::new(),
            ground: GroundMap::default(),
            starts: Starts::default(),
            cancelled: true,
            gpt_remains: Vec::new(),
            not_kept: None,
            untold: 0,
        }
    }

    /// The present finds under which traces of an older generation were met and whose ground was not swept whole: there may be
    /// more of it.
    #[must_use]
    pub fn traces(&self) -> Vec<&Find> {
        let mut seen = RangeSet::default();
        self.looked_at.iter().for_each(|range| seen.add(*range));
        let older = |find: &&Find| self.finds.iter().any(|other| other.older_than.as_ref() == Some(&find.id));
        self.finds.iter().filter(older).filter(|find| !seen.lacking(find.range()).is_empty()).collect()
    }

    /// The find with this id.
    #[must_use]
    pub fn find(&self, id: &str) -> Option<&Find> {
        self.finds.iter().find(|find| find.id == id)
    }
}

/// What a sweep leaves for verdicts: its finds, and the ground of which every sector was looked at.
#[derive(Debug, Clone, Copy)]
pub struct Seen<'a> {
    /// The finds.
    pub finds: &'a [Find],
    /// The ground, ascending.
    pub looked_at: &'a [ByteRange],
}

impl<'a> From<&'a Sweep> for Seen<'a> {
    fn from(sweep: &'a Sweep) -> Self {
        Self { finds: &sweep.finds, looked_at: &sweep.looked_at }
    }
}

impl<'a> From<&'a Vec<Find>> for Seen<'a> {
    /// Finds of which nothing more is known.
    fn from(finds: &'a Vec<Find>) -> Self {
        Self { finds, looked_at: &[] }
    }
}

/// Sweeps `source`. Progress goes to `desk`; when it is cancelled the state so far is written to the state file and
/// what was found so far comes back. Unreadable places are told in [`Sweep::bad`]; a state that cannot be kept stops nothing,
/// [`Sweep::not_kept`] says why.
#[must_use]
pub fn sweep(source: &SharedSource, options: &SweepOptions, desk: &Desk<SweepProgress>) -> Sweep {
    let cancel = desk.cancel();
    // Whatever is read here ends at the next read when it is to stop; the scan of the surface asks by itself.
    let watched = Budgeted::until(SharedSource::clone(source), cancel);
    let known = options.state.as_deref().and_then(|path| SweepState::load(path, &watched));
    let mut state = known.unwrap_or_else(|| SweepState::new(&watched));
    let mut keeper = Keeper::new(source, options.state.as_deref());
    let table = table::read(watched.as_ref());
    if cancel.is_cancelled() {
        // What was kept before may not have been taken for its own: nothing is kept over it.
        return Sweep::stopped(table);
    }
    let (mut finds, mut untold) = (Vec::new(), 0);
    if options.reach != Reach::Surface {
        finds = landmarks::walk(&watched, &table, &mut state.clues, cancel);
        let (told, ground) = (Some(finds.clone()), Arc::new(state.ground.clone()));
        desk.tell(SweepProgress {
            done: 0,
            total: 0,
            head: ByteOffset(0),
            rate: 0,
            finds: told,
            bad: Vec::new(),
            ground,
            starts: None,
        });
    }
    let ground = match options.reach {
        Reach::Landmarks => Vec::new(),
        Reach::Surface => vec![ByteRange::new(ByteOffset(0), ByteOffset(source.len()))],
        // What the landmarks explain is not read again; all else is.
        Reach::Doubt => Coverage::of(&watched, &table, &finds, &[]).unexplained,
    };
    if !ground.is_empty() && !cancel.is_cancelled() {
        let told = surface::scan((source, &table), &ground, &mut state, &mut keeper, desk);
        let inferred = (!cancel.is_cancelled()).then(|| infer(&watched, &table, &state.clues));
        // Who stops a sweep wants the drive left alone: what was told last stands, and what was seen since is in the state.
        let whole = inferred.filter(|_| !cancel.is_cancelled());
        (finds, untold) = whole.unwrap_or_else(|| (told.unwrap_or(finds), 0));
    }
    let cancelled = cancel.is_cancelled();
    if cancelled {
        keeper.save(&state);
    }
    if options.state.is_some() {
        // Where it cannot be kept, the next run sees it again.
        let _ = ground::keep(source, &state.ground);
    }
    let (looked_at, gpt_remains) = (state.done.ranges().to_vec(), state.clues.gpt_headers);
    Sweep {
        finds,
        table,
        looked_at,
        bad: state.bad,
        ground: state.ground,
        starts: state.starts,
        cancelled,
        gpt_remains,
        not_kept: keeper.into_problem(),
        untold,
    }
}

/// The most volumes that are told. A drive full of images of drives has some hundreds.
const MOST_TOLD: usize = 1024;

/// Finds from clues: every format infers, nested images are told apart, ids go by start. Where more volumes are inferred than are told
/// the best are, and how many are not is the second answer.
fn infer(source: &SharedSource, table: &TableReading, clues: &Clues) -> (Vec<Find>, usize) {
    let mut tidy = clues.clone();
    tidy.tidy();
    tidy.thin_leads();
    let mut found: Vec<_> = registry::FORMATS.iter().flat_map(|format| (format.infer)(source, &tidy)).collect();
    let untold = found.len().saturating_sub(MOST_TOLD);
    if untold > 0 {
        found.sort_by_cached_key(|volume| std::cmp::Reverse(volume.score()));
        found.truncate(MOST_TOLD);
    }
    let found = keel_format::former::told_apart(source, &tidy, &found);
    (make::make(source, table, found), untold)
}

/// Bytes a second.
fn rate(bytes: u64, since: Instant) -> u64 {
    let ms = u64::try_from(since.elapsed().as_millis()).unwrap_or(u64::MAX).max(1);
    bytes.saturating_mul(1000) / ms
}

#[cfg(test)]
mod tests;
