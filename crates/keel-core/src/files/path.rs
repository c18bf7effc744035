//! Finding a file by its path.

use std::ops::ControlFlow;

use keel_format::{Deleted, Entry, Existence, Finding, NodeId, NodeKind, Times, Volume};

use crate::CoreError;

/// What a path leads to.
#[derive(Debug, Clone)]
pub struct Resolved {
    /// Path of the folder that holds it, without leading separator; empty for the root and what lies in it.
    pub folder: String,
    /// The entry. For the root: a folder without a name.
    pub entry: Entry,
}

/// All entries of `dir`, folders first, then by name.
///
/// # Errors
/// [`CoreError::Format`] when the folder cannot be read.
pub fn entries(volume: &dyn Volume, dir: NodeId, deleted: Deleted) -> Result<(Vec<Entry>, Vec<Finding>), CoreError> {
    let mut entries = Vec::new();
    let findings = volume.list(dir, deleted, &mut |entry| {
        entries.push(entry);
        ControlFlow::Continue(())
    })?;
    entries.sort_by(|one, two| {
        let key = |entry: &Entry| (entry.kind != NodeKind::Directory, entry.name.to_lowercase());
        key(one).cmp(&key(two)).then_with(|| one.name.cmp(&two.name))
    });
    Ok((entries, findings))
}

/// Follows `path` (`/`-separated, with or without a leading one) from the root. Letters match in either case when no
/// exact name does.
///
/// # Errors
/// [`CoreError::Unknown`] naming the part that is not there.
pub fn resolve(volume: &dyn Volume, path: &str) -> Result<Resolved, CoreError> {
    let root = Entry {
        id: volume.root(),
        name: String::new(),
        kind: NodeKind::Directory,
        bytes: 0,
        times: Times::default(),
        existence: Existence::Present,
    };
    let mut here = Resolved { folder: String::new(), entry: root };
    for part in path.split('/').filter(|part| !part.is_empty()) {
        let (entries, _) = entries(volume, here.entry.id, Deleted::Show)?;
        let exact = entries.iter().find(|entry| entry.name == part);
        let folded = || entries.iter().find(|entry| entry.name.to_lowercase() == part.to_lowercase());
        let next = exact.or_else(folded).cloned().ok_or_else(|| CoreError::Unknown { what: "path", name: path.into() })?;
        let folder = match (here.folder.as_str(), here.entry.name.as_str()) {
            (_, "") => String::new(),
            ("", name) => name.to_string(),
            (folder, name) => format!("{folder}/{name}"),
        };
        here = Resolved { folder, entry: next };
    }
    Ok(here)
}
