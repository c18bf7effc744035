//! A search over a whole volume, and what marked files and folders come to.

use std::collections::{BTreeMap, HashSet};
use std::ops::ControlFlow;

use keel_format::{Deleted, Entry, Existence, Finding, NodeKind, Volume};
use serde::Serialize;

use super::query::{Query, Tells};
use super::sort::Sort;
use crate::CoreError;
use crate::job::{Cancel, Desk};

/// The most entries that are kept of a search.
const MOST_HITS: usize = 100_000;
/// Entries between two reports.
const REPORT: u64 = 4096;

/// One entry that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Hit {
    /// Path of the folder it lies in, `/`-separated, empty for the root.
    pub folder: String,
    /// The entry.
    #[serde(flatten)]
    pub entry: Entry,
}

impl Hit {
    /// Its path, `/`-separated.
    #[must_use]
    pub fn path(&self) -> String {
        if self.folder.is_empty() { self.entry.name.clone() } else { format!("{}/{}", self.folder, self.entry.name) }
    }
}

/// What a search found.
#[derive(Debug, Clone, Default)]
pub struct Hits {
    /// The entries, in the volume's order.
    pub hits: Vec<Hit>,
    /// Entries that meet the query and are not kept: they are too many.
    pub untold: u64,
    /// Entries that were looked at.
    pub looked_at: u64,
    /// True when it was stopped before its end.
    pub stopped: bool,
    /// What was met on the way.
    pub findings: Vec<Finding>,
}

/// Looks for entries of the whole volume that meet `query`; deleted ones too, where `deleted` says so or the query asks for them. The
/// desk is told how many entries were looked at. `told` says what is known of an entry beside what the volume tells.
///
/// # Errors
/// [`CoreError::Format`] when not even the root can be read.
pub fn search<'a>(
    volume: &dyn Volume,
    (query, told): (&Query, Tells<'a, '_>),
    deleted: Deleted,
    desk: &Desk<u64>,
) -> Result<Hits, CoreError> {
    let deleted = if query.wants_deleted() { Deleted::Show } else { deleted };
    let mut found = Hits::default();
    let findings = volume.walk(deleted, &mut |below| {
        found.looked_at += 1;
        if found.looked_at.is_multiple_of(REPORT) {
            desk.tell(found.looked_at);
        }
        if query.meets_told(below.entry, told(below.entry)) {
            match found.hits.len() < MOST_HITS {
                true => found.hits.push(Hit { folder: below.folder.to_string(), entry: below.entry.clone() }),
                false => found.untold += 1,
            }
        }
        found.stopped = desk.cancel().is_cancelled();
        if found.stopped { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    Ok(Hits { findings, ..found })
}

/// What marked files and folders come to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Weight {
    /// Files and links.
    pub files: u64,
    /// Folders, those that are marked among them.
    pub folders: u64,
    /// Bytes of the files.
    pub bytes: u64,
    /// Files and bytes of each sort.
    pub sorts: BTreeMap<Sort, (u64, u64)>,
}

impl Weight {
    /// What entries come to by themselves: a folder counts without what is below it.
    #[must_use]
    pub fn of<'a>(entries: impl IntoIterator<Item = &'a Entry>) -> Self {
        let mut weight = Self::default();
        entries.into_iter().for_each(|entry| weight.add(entry));
        weight
    }

    fn add(&mut self, entry: &Entry) {
        if entry.kind == NodeKind::Directory {
            self.folders += 1;
            return;
        }
        let sort = self.sorts.entry(Sort::of(&entry.name)).or_default();
        (self.files, sort.0) = (self.files + 1, sort.0 + 1);
        if entry.kind == NodeKind::File {
            (self.bytes, sort.1) = (self.bytes.saturating_add(entry.bytes), sort.1.saturating_add(entry.bytes));
        }
    }
}

/// True where a path is one of `marked`, or lies below one of them.
fn is_among(marked: &HashSet<&str>, path: &str) -> bool {
    let above = path.match_indices('/').map(|(at, _)| &path[..at]);
    marked.contains("") || marked.contains(path) || above.into_iter().any(|folder| marked.contains(folder))
}

/// Counts what `paths` come to, folders with all that is below them; a deleted entry only where it is named itself, as it is taken out.
/// None where it was stopped.
///
/// # Errors
/// [`CoreError::Format`] when not even the root can be read.
pub fn weigh(volume: &dyn Volume, paths: &[String], cancel: &Cancel) -> Result<Option<Weight>, CoreError> {
    let mut weight = Weight::default();
    let marked: HashSet<&str> = paths.iter().map(|path| path.trim_matches('/')).collect();
    volume.walk(Deleted::Show, &mut |below| {
        let path = below.path();
        let named = below.entry.existence != Existence::Deleted || marked.contains(path.as_str());
        if named && is_among(&marked, &path) {
            weight.add(below.entry);
        }
        if cancel.is_cancelled() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    Ok((!cancel.is_cancelled()).then_some(weight))
}
