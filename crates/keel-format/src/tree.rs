//! Walking a whole tree folder by folder, for formats whose folders are found through their parents.

use std::collections::HashSet;
use std::ops::ControlFlow;

use keel_source::{ByteOffset, Source, printable};

use crate::device::{hold, let_go, step};
use crate::{Deleted, Entry, Existence, Finding, FormatError, NodeId, NodeKind, Severity, Volume, WalkEntry};

/// The deepest tree that is walked.
const DEEPEST: usize = 256;
/// The most findings one walk reports.
const MOST_FINDINGS: usize = 200;

/// Bytes that a folder takes in the set of those that were seen.
const SEEN: u64 = 16;

/// Bytes that a folder of this name takes while it waits.
fn waiting(name: &str) -> u64 {
    (name.len() + size_of::<Entry>()) as u64
}

/// Bytes of a path that are put together in one step.
const PATH_STEP: u64 = 256;

/// The path of the folder that is listed: names are put behind it and taken off again, so that folders that wait need none of
/// their own.
#[derive(Default)]
struct Trail {
    path: String,
    /// Length of the path of the folder at each depth.
    lengths: Vec<usize>,
}

impl Trail {
    /// Goes to the folder `name` at `depth`, whose parent was gone to last at the depth above.
    fn go_to(&mut self, depth: usize, name: &str) {
        self.lengths.truncate(depth);
        self.path.truncate(self.lengths.last().copied().unwrap_or(0));
        if !self.path.is_empty() {
            self.path.push('/');
        }
        self.path.push_str(name);
        self.lengths.push(self.path.len());
    }
}

/// Hands every entry of the tree below the root to `each` until it breaks. `ground` names what a folder's content is (a
/// first cluster, an inode): content that was listed already is not listed again, so that cycles are cut. Every entry is a step of the
/// budget of `source`, every folder that waits is held under it.
///
/// # Errors
/// [`FormatError`] when not even the root can be listed.
pub(crate) fn walk(
    volume: &dyn Volume,
    source: &dyn Source,
    ground: &dyn Fn(&Entry) -> Result<u64, FormatError>,
    deleted: Deleted,
    each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
) -> Result<Vec<Finding>, FormatError> {
    let mut findings = Vec::new();
    let mut seen: HashSet<u64> = HashSet::new();
    let mut trail = Trail::default();
    let mut stack: Vec<(NodeId, String, usize)> = vec![(volume.root(), String::new(), 0)];
    let mut stopped = false;
    while let Some((dir, name, depth)) = stack.pop() {
        trail.go_to(depth, &name);
        if depth > 0 {
            let_go(source, waiting(&name));
        }
        let folder = trail.path.as_str();
        let mut below = Vec::new();
        let listed = volume.list(dir, deleted, &mut |entry| {
            let spent = step(source, ByteOffset(0), "folder", 1 + folder.len() as u64 / PATH_STEP).is_err();
            if spent || each(WalkEntry { folder, entry: &entry }).is_break() {
                stopped = true;
                return ControlFlow::Break(());
            }
            if entry.kind == NodeKind::Directory && entry.existence != Existence::Deleted {
                if hold(source, ByteOffset(0), "folder", waiting(&entry.name) + SEEN).is_err() {
                    stopped = true;
                    return ControlFlow::Break(());
                }
                below.push(entry);
            }
            ControlFlow::Continue(())
        });
        match listed {
            Ok(more) => findings.extend(more),
            Err(error) if depth == 0 => return Err(error),
            Err(error) => {
                let what = format!("folder {} cannot be listed", printable(folder));
                findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
            }
        }
        findings.truncate(MOST_FINDINGS);
        if stopped {
            break;
        }
        for entry in below.into_iter().rev() {
            let key = ground(&entry);
            if depth >= DEEPEST || !key.as_ref().is_ok_and(|key| seen.insert(*key)) {
                let what = format!("folder {} leads back to one already listed: cut here", printable(&entry.name));
                let how = key.map_or_else(|error| error.to_string(), |key| format!("its content is number {key}"));
                findings.push(Finding::of_all(Severity::Doubt, what, how));
                findings.truncate(MOST_FINDINGS);
                let_go(source, waiting(&entry.name));
                continue;
            }
            stack.push((entry.id, entry.name, depth + 1));
        }
    }
    Ok(findings)
}
