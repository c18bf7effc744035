//! Paths of the folders of a volume whose records name their parents alone.

use std::collections::HashMap;
use std::sync::Arc;

use keel_source::{ByteOffset, Source};

use super::layout::ROOT;
use crate::device::step;
use crate::remnant::LOST;

/// The deepest path that is put together; a longer one is a circle of parents.
const DEEPEST: usize = 1024;
/// The longest path that is put together, in bytes: drivers allow 32,767 units.
const LONGEST_PATH: usize = 3 * 32_767;
/// Bytes of paths that are kept at a time.
const MOST_PATH_BYTES: usize = 16 << 20;
/// Bytes of a path that are one step of a budget.
const PATH_STEP: usize = 256;

/// Paths of folders, put together from their records. Some are kept: a tree of a thousand levels has long ones.
pub(super) struct Paths<'a> {
    folders: &'a HashMap<u64, (u64, String)>,
    source: &'a dyn Source,
    kept: HashMap<u64, Arc<str>>,
    kept_bytes: usize,
}

impl<'a> Paths<'a> {
    /// Paths in the tree of `folders`, each with its parent and its name; they take steps of the budget of `source`.
    pub(super) fn new(folders: &'a HashMap<u64, (u64, String)>, source: &'a dyn Source) -> Self {
        Self { folders, source, kept: HashMap::new(), kept_bytes: 0 }
    }

    /// The path of folder `number`: cut where parents lead in a circle.
    pub(super) fn of(&mut self, number: u64) -> Arc<str> {
        if number == ROOT {
            return Arc::from("");
        }
        if let Some(path) = self.kept.get(&number) {
            return Arc::clone(path);
        }
        let path = self.put_together(number);
        // A step for every few bytes of it: what is too much ends the call, and is told there.
        let _ = step(self.source, ByteOffset(0), "folder", 1 + (path.len() / PATH_STEP) as u64);
        if self.kept_bytes > MOST_PATH_BYTES {
            self.kept.clear();
            self.kept_bytes = 0;
        }
        self.kept_bytes += path.len() + size_of::<(u64, Arc<str>)>();
        self.kept.insert(number, Arc::clone(&path));
        path
    }

    fn put_together(&self, number: u64) -> Arc<str> {
        let mut parts: Vec<&str> = Vec::new();
        let mut here = number;
        let mut base: Arc<str> = Arc::from(LOST);
        while let Some((parent, name)) = self.folders.get(&here) {
            parts.push(name);
            if *parent == ROOT {
                base = Arc::from("");
                break;
            }
            if let Some(path) = self.kept.get(parent) {
                base = Arc::clone(path);
                break;
            }
            if parts.len() > DEEPEST || *parent == here {
                break;
            }
            here = *parent;
        }
        let mut path = base.to_string();
        for part in parts.into_iter().rev().take(DEEPEST) {
            if path.len() > LONGEST_PATH {
                break;
            }
            if !path.is_empty() {
                path.push('/');
            }
            path.push_str(part);
        }
        Arc::from(path)
    }
}
