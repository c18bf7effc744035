//! Walking a whole tree folder by folder, for formats whose folders are found through their parents.

use std::collections::HashSet;
use std::ops::ControlFlow;

use keel_source::printable;

use crate::{Deleted, Entry, Existence, Finding, FormatError, NodeId, NodeKind, Severity, Volume, WalkEntry};

/// The deepest tree that is walked.
const DEEPEST: usize = 256;
/// The most findings one walk reports.
const MOST_FINDINGS: usize = 200;

/// Hands every entry of the tree below the root to `each` until it breaks. `ground` names what a folder's content is (a
/// first cluster, an inode): content that was listed already is not listed again, so that cycles are cut.
///
/// # Errors
/// [`FormatError`] when not even the root can be listed.
pub(crate) fn walk(
    volume: &dyn Volume,
    ground: &dyn Fn(&Entry) -> Result<u64, FormatError>,
    deleted: Deleted,
    each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
) -> Result<Vec<Finding>, FormatError> {
    let mut findings = Vec::new();
    let mut seen: HashSet<u64> = HashSet::new();
    let mut stack: Vec<(NodeId, String, usize)> = vec![(volume.root(), String::new(), 0)];
    let mut stopped = false;
    while let Some((dir, folder, depth)) = stack.pop() {
        let mut below = Vec::new();
        let listed = volume.list(dir, deleted, &mut |entry| {
            if each(WalkEntry { folder: &folder, entry: &entry }).is_break() {
                stopped = true;
                return ControlFlow::Break(());
            }
            if entry.kind == NodeKind::Directory && entry.existence == Existence::Present {
                below.push(entry);
            }
            ControlFlow::Continue(())
        });
        match listed {
            Ok(more) => findings.extend(more),
            Err(error) if depth == 0 => return Err(error),
            Err(error) => {
                let what = format!("folder {} cannot be listed", printable(&folder));
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
                continue;
            }
            let path = if folder.is_empty() { entry.name } else { format!("{folder}/{}", entry.name) };
            stack.push((entry.id, path, depth + 1));
        }
    }
    Ok(findings)
}
