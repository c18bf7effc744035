//! What is left of a volume whose folders do not all stand any more: the entries that are left, in a tree of their own, and
//! the format's own reader for their content.

use std::collections::{HashMap, HashSet};
use std::ops::ControlFlow;

use keel_source::{ByteOffset, SharedSource};

use crate::{
    Allocation, Deleted, Entry, Existence, Extent, Finding, FormatError, NodeId, NodeKind, Problem, Severity, StreamInfo,
    StreamReader, Times, Volume, VolumeSummary, WalkEntry, tree,
};

/// Name of the folder under which stands what no folder names any more.
pub(crate) const LOST: &str = "\u{2039}no parent\u{203a}";
/// True for the path of what no folder names any more: from the root on, with or without a slash before it.
#[must_use]
pub fn is_nameless(path: &str) -> bool {
    path.trim_start_matches('/').split('/').next() == Some(LOST)
}

/// The number of [`LOST`].
pub(crate) const LOST_NODE: u64 = 1 << 61;
/// Set in the number of a folder that no entry names: the rest is its ground.
pub(crate) const FOLDER: u64 = 1 << 62;
/// The most entries that are kept in memory.
const MOST_ENTRIES: usize = 500_000;

/// A folder of the tree's own: [`LOST`], or one whose name is gone.
pub(crate) fn plain_folder(id: u64, name: String) -> Entry {
    let (kind, existence) = (NodeKind::Directory, Existence::Present);
    Entry { id: NodeId(id), name, kind, bytes: 0, times: Times::default(), existence }
}

/// The folders that are left and what they name. A folder is known by its *ground*: a number of the format's own (a first
/// cluster, an inode, a catalog node ID) below [`LOST_NODE`].
#[derive(Default)]
pub(crate) struct Forest {
    below: HashMap<u64, Vec<Named>>,
    /// Ground of the folders, by the number of their entry.
    grounds: HashMap<u64, u64>,
    root: Option<u64>,
    tops: Vec<u64>,
    loose: Vec<Entry>,
    entries: usize,
}

struct Named {
    entry: Entry,
    own: Option<u64>,
}

impl Forest {
    /// A tree with the root folder of `ground`, where one is left.
    pub(crate) fn new(root: Option<u64>) -> Self {
        Self { root, ..Self::default() }
    }

    /// Notes that a folder of `ground` is left, whether or not it names anything.
    pub(crate) fn folder(&mut self, ground: u64) {
        self.below.entry(ground).or_default();
    }

    /// Adds what the folder of ground `folder` names; `own` is the ground of an entry that is a folder itself. False when no
    /// more are kept.
    pub(crate) fn add(&mut self, folder: u64, entry: Entry, own: Option<u64>) -> bool {
        if self.entries >= MOST_ENTRIES {
            return false;
        }
        self.entries += 1;
        self.below.entry(folder).or_default().push(Named { entry, own });
        true
    }

    /// Adds a file that no folder names.
    pub(crate) fn add_loose(&mut self, entry: Entry) -> bool {
        let kept = self.entries < MOST_ENTRIES;
        if kept {
            self.entries += 1;
            self.loose.push(entry);
        }
        kept
    }

    /// True when nothing is left.
    pub(crate) fn is_empty(&self) -> bool {
        self.entries == 0
    }

    /// Entries, folders too.
    pub(crate) fn len(&self) -> usize {
        self.entries
    }

    /// Finds the folders that nothing leads to. Every folder is reached from a top or from the root then, circles too.
    pub(crate) fn grown(mut self) -> Self {
        let present = |named: &&Named| named.entry.existence != Existence::Deleted;
        let named: HashSet<u64> = self.below.values().flatten().filter(present).filter_map(|named| named.own).collect();
        let mut all: Vec<u64> = self.below.keys().copied().collect();
        all.sort_unstable();
        let mut reached: HashSet<u64> = HashSet::new();
        let grow = |from: u64, reached: &mut HashSet<u64>| {
            let mut stack = vec![from];
            while let Some(ground) = stack.pop() {
                if reached.insert(ground) {
                    stack.extend(self.below.get(&ground).into_iter().flatten().filter_map(|named| named.own));
                }
            }
        };
        self.root.into_iter().for_each(|root| grow(root, &mut reached));
        let mut tops = Vec::new();
        for unnamed_only in [true, false] {
            for ground in all.iter().filter(|ground| !unnamed_only || !named.contains(ground)) {
                if !reached.contains(ground) {
                    tops.push(*ground);
                    grow(*ground, &mut reached);
                }
            }
        }
        // A folder that holds nothing and that nothing names says nothing.
        tops.retain(|ground| self.below.get(ground).is_some_and(|below| !below.is_empty()));
        self.tops = tops;
        let folders = self.below.values().flatten().filter_map(|named| Some((named.entry.id.0, named.own?)));
        self.grounds = folders.collect();
        self
    }

    fn list(&self, dir: NodeId, deleted: Deleted, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<(), FormatError> {
        if dir.0 == LOST_NODE {
            for ground in &self.tops {
                if each(plain_folder(FOLDER | ground, format!("folder {ground}"))).is_break() {
                    return Ok(());
                }
            }
            let _ = self.loose.iter().try_for_each(|entry| each(entry.clone()));
            return Ok(());
        }
        let ground = match dir.0 {
            0 => {
                let lost = !self.tops.is_empty() || !self.loose.is_empty();
                if lost && each(plain_folder(LOST_NODE, LOST.into())).is_break() {
                    return Ok(());
                }
                let Some(root) = self.root else { return Ok(()) };
                root
            }
            number if number & FOLDER != 0 => number & !FOLDER,
            number => {
                let missing = || FormatError::new("folder", ByteOffset(0), Problem::Missing("folder of that number"));
                self.grounds.get(&number).copied().ok_or_else(missing)?
            }
        };
        for named in self.below.get(&ground).into_iter().flatten() {
            // A folder whose ground was taken since leads nowhere.
            let leads = named.entry.kind != NodeKind::Directory || named.own.is_some_and(|own| self.below.contains_key(&own));
            let shown = named.entry.existence != Existence::Deleted || deleted == Deleted::Show;
            if leads && shown && each(named.entry.clone()).is_break() {
                break;
            }
        }
        Ok(())
    }

    fn ground_of(&self, entry: &Entry) -> Result<u64, FormatError> {
        Ok(match entry.id.0 {
            LOST_NODE => LOST_NODE,
            number if number & FOLDER != 0 => number & !FOLDER,
            number => self.grounds.get(&number).copied().unwrap_or(number),
        })
    }
}

/// A volume read by what is left of its folders; content comes from the format's own reader `V`, whose numbers the entries
/// have. The root folder has number 0.
pub(crate) struct Remnant<V> {
    volume: V,
    source: SharedSource,
    forest: Forest,
    why: &'static str,
}

impl<V: Volume> Remnant<V> {
    /// The volume in `source` with the folders of `forest`; `why` says what is wrong with its own, as a sentence.
    pub(crate) fn new(volume: V, source: SharedSource, forest: Forest, why: &'static str) -> Self {
        Self { volume, source, forest: forest.grown(), why }
    }
}

impl<V: Volume> Volume for Remnant<V> {
    fn summary(&self) -> &VolumeSummary {
        self.volume.summary()
    }

    fn root(&self) -> NodeId {
        NodeId(0)
    }

    fn list(
        &self,
        dir: NodeId,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        self.forest.list(dir, deleted, each).map(|()| Vec::new())
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        tree::walk(self, self.source.as_ref(), &|entry| self.forest.ground_of(entry), deleted, each)
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        self.volume.streams(file)
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        self.volume.open(file, stream)
    }

    fn link_target(&self, link: NodeId) -> Option<String> {
        self.volume.link_target(link)
    }

    fn mode(&self, node: NodeId) -> Option<u32> {
        (node.0 & (FOLDER | LOST_NODE) == 0 && node.0 != 0).then(|| self.volume.mode(node)).flatten()
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        self.volume.extents(file)
    }

    fn is_guessed(&self, file: NodeId) -> bool {
        self.volume.is_guessed(file)
    }

    fn examine(&self) -> Vec<Finding> {
        let how = format!("{} entries of other folders and records are listed instead", self.forest.len());
        vec![Finding::of_all(Severity::Broken, self.why, how)]
    }

    fn allocation(&self) -> Option<Allocation> {
        // What nothing holds may belong to what is gone.
        self.volume.allocation().map(|allocation| Allocation { knows_all: false, ..allocation })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(id: u64, name: &str, kind: NodeKind) -> Entry {
        Entry { kind, ..plain_folder(id, name.into()) }
    }

    fn names(forest: &Forest, dir: u64) -> Vec<String> {
        let mut names = Vec::new();
        let _ = forest.list(NodeId(dir), Deleted::Hide, &mut |entry| {
            names.push(entry.name);
            ControlFlow::Continue(())
        });
        names
    }

    #[test]
    fn folders_that_nothing_names_stand_under_no_parent_and_circles_are_cut_open() {
        let mut forest = Forest::new(Some(5));
        assert!(forest.add(5, entry(100, "quay", NodeKind::Directory), Some(6)));
        assert!(forest.add(6, entry(101, "rope.txt", NodeKind::File), None));
        assert!(forest.add(7, entry(102, "lost.txt", NodeKind::File), None));
        // Two folders that name each other and that nothing else names.
        assert!(forest.add(8, entry(103, "one", NodeKind::Directory), Some(9)));
        assert!(forest.add(9, entry(104, "other", NodeKind::Directory), Some(8)));
        // A folder that is named and of which nothing is left.
        assert!(forest.add(5, entry(105, "gone", NodeKind::Directory), Some(77)));
        let forest = forest.grown();
        assert_eq!(names(&forest, 0), [LOST, "quay"]);
        assert_eq!(names(&forest, 100), ["rope.txt"]);
        assert_eq!(names(&forest, LOST_NODE), ["folder 7", "folder 8"]);
        assert_eq!(names(&forest, FOLDER | 8), ["one"]);
        assert_eq!(names(&forest, 103), ["other"]);
    }

    #[test]
    fn a_volume_of_which_the_root_alone_is_left_lists_it_plainly() {
        let mut forest = Forest::new(Some(2));
        assert!(forest.add(2, entry(11, "rope.txt", NodeKind::File), None));
        assert_eq!(names(&forest.grown(), 0), ["rope.txt"]);
    }
}
