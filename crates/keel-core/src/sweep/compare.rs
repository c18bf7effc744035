//! Two finds that claim the same ground, side by side: whose root directory is better, whose files are newer.

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_format::{Deleted, NodeKind, Stamp};
use keel_source::{ByteRange, SharedSource, Window, printable};

use super::Find;

/// The most names of a root that are kept to be shown.
const MOST_NAMES: usize = 64;
/// The most names of a root that are counted.
const MOST_COUNTED: usize = 100_000;

/// A name of a root directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RootName {
    /// The name, control characters made visible.
    pub name: String,
    /// True for a folder.
    pub folder: bool,
    /// When its content changed.
    pub modified: Option<Stamp>,
}

/// What the root directory of a find holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RootLook {
    /// The find.
    pub find: String,
    /// The first names.
    pub names: Vec<RootName>,
    /// How many there are.
    pub count: usize,
    /// The newest change among them.
    pub newest: Option<Stamp>,
    /// What stood in the way.
    pub problem: Option<String>,
}

/// Looks into the root of `find`.
#[must_use]
pub fn root_look(source: &SharedSource, find: &Find) -> RootLook {
    let mut look = RootLook { find: find.id.clone(), names: Vec::new(), count: 0, newest: None, problem: None };
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), find.range()));
    let listed = find.geometry.open(window).and_then(|volume| {
        volume.list(volume.root(), Deleted::Hide, &mut |entry| {
            look.count += 1;
            look.newest = look.newest.max(entry.times.modified);
            if look.names.len() < MOST_NAMES {
                let folder = entry.kind == NodeKind::Directory;
                look.names.push(RootName { name: printable(&entry.name), folder, modified: entry.times.modified });
            }
            if look.count < MOST_COUNTED { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
        })
    });
    match listed {
        Ok(findings) => look.problem = findings.first().map(|finding| finding.what.clone()),
        Err(error) => look.problem = Some(error.to_string()),
    }
    look
}

/// The find that claims the most of the ground of `find`, one that is no part of it.
#[must_use]
pub fn rival<'a>(finds: &'a [Find], find: &Find) -> Option<&'a Find> {
    let shared = |other: &&Find| other.range().overlap(find.range()).map_or(0, ByteRange::len);
    let others = finds.iter().filter(|other| other.id != find.id && other.inside.as_ref() != Some(&find.id));
    others.filter(|other| find.inside.as_ref() != Some(&other.id)).max_by_key(shared).filter(|other| shared(other) > 0)
}
