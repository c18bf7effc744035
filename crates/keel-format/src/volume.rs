//! What every readable volume offers: a tree, streams, and what it says of itself.

use std::ops::ControlFlow;

use keel_source::Spent;
use serde::Serialize;

use crate::check::{Allocation, Checked};
use crate::{Extent, Finding, FormatError, Repair, Stamp, StreamReader, VolumeKind};

/// A file or folder inside one volume. The number is the format's own: an MFT reference, a directory entry's place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(transparent)]
pub struct NodeId(pub u64);

/// What a node is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum NodeKind {
    /// A folder.
    Directory,
    /// A file.
    File,
    /// A symbolic link or another reparse point.
    Link,
}

/// Whether the volume still counts the node as there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Existence {
    /// In the tree.
    Present,
    /// Deleted; its content may have been overwritten.
    Deleted,
    /// In the tree by its name alone: what said where its content is does not stand any more.
    Named,
}

/// Whether a listing shall name deleted entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Deleted {
    /// Leave them out.
    Hide,
    /// List them, marked.
    Show,
}

/// The times a volume keeps of a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
pub struct Times {
    /// Created.
    pub created: Option<Stamp>,
    /// Content changed.
    pub modified: Option<Stamp>,
    /// Last read.
    pub accessed: Option<Stamp>,
}

/// One entry of a directory.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Entry {
    /// Its number in this volume.
    pub id: NodeId,
    /// Name as stored, control characters and all; unpaired surrogates are written `\uD800`.
    pub name: String,
    /// File, folder or link.
    pub kind: NodeKind,
    /// Length of the main stream in bytes.
    pub bytes: u64,
    /// Times.
    pub times: Times,
    /// Present or deleted.
    pub existence: Existence,
}

/// One entry of a walk over the whole tree.
#[derive(Debug)]
pub struct WalkEntry<'a> {
    /// Path of the folder it lies in, `/`-separated, empty for the root. Parts as in [`Entry::name`].
    pub folder: &'a str,
    /// The entry.
    pub entry: &'a Entry,
}

impl WalkEntry<'_> {
    /// The path of the entry, `/`-separated.
    #[must_use]
    pub fn path(&self) -> String {
        if self.folder.is_empty() { self.entry.name.clone() } else { format!("{}/{}", self.folder, self.entry.name) }
    }
}

/// A stream of a file: the main one (empty name) or an alternate one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct StreamInfo {
    /// Name; empty for the main stream.
    pub name: String,
    /// Length in bytes.
    pub bytes: u64,
    /// `plain`, `sparse`, `compressed`, `encrypted`, `resident`.
    pub storage: &'static str,
}

/// What a volume says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct VolumeSummary {
    /// Kind; none for a tree that no volume holds.
    pub kind: Option<VolumeKind>,
    /// Label, as stored.
    pub label: Option<String>,
    /// Serial number as the operating system shows it.
    pub serial: Option<String>,
    /// Length in bytes.
    pub bytes: u64,
    /// Cluster size in bytes.
    pub cluster_bytes: u32,
}

/// How a volume was left by the system that used it last, where it did not close it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum LeftOpen {
    /// It is marked as in use.
    Unclean,
    /// Its journal holds what is not in its place yet.
    Journal,
    /// The system noted errors on it.
    Errors,
    /// A system sleeps on it, and goes on from what it remembers when it wakes.
    Asleep,
}

/// A volume that can be looked into. Reading never fails silently: what was wrong on the way comes back as findings
/// whose offsets count from the start of the volume.
pub trait Volume: Send + Sync {
    /// What it says of itself.
    fn summary(&self) -> &VolumeSummary;

    /// The root folder.
    fn root(&self) -> NodeId;

    /// Hands every entry of folder `dir` to `each` until it breaks. Order is the volume's own.
    ///
    /// # Errors
    /// [`FormatError`] when the folder itself cannot be read; damage inside it is returned as findings.
    fn list(
        &self,
        dir: NodeId,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError>;

    /// Hands every entry of the whole tree to `each` until it breaks; every node once, cycles are cut.
    ///
    /// # Errors
    /// [`FormatError`] when not even the root can be read.
    fn walk(&self, deleted: Deleted, each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>)
    -> Result<Vec<Finding>, FormatError>;

    /// The streams of a file, the main one first.
    ///
    /// # Errors
    /// [`FormatError`] when the file's record cannot be read.
    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError>;

    /// Opens a stream for reading; the empty name is the main one.
    ///
    /// # Errors
    /// [`FormatError`] when there is no such stream or its map cannot be read.
    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError>;

    /// What a symbolic link or reparse point leads to, `/`-separated, as stored otherwise; none where it says nothing. By
    /// default the content of its main stream.
    fn link_target(&self, link: NodeId) -> Option<String> {
        const LONGEST: usize = 4096;
        let mut stream = self.open(link, "").ok()?;
        let (bytes, whole) = crate::read_whole(stream.as_mut(), LONGEST);
        let text = String::from_utf8(bytes).ok()?;
        (whole && !text.is_empty()).then_some(text)
    }

    /// Permission bits of a node (`0o7777`), where the format keeps any.
    fn mode(&self, _node: NodeId) -> Option<u32> {
        None
    }

    /// Where the main stream lies, in the volume's own bytes. Empty for what is kept inside a record.
    ///
    /// # Errors
    /// As [`Volume::open`].
    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError>;

    /// True where the ground of `file` is recorded nowhere any more and [`Volume::extents`] are taken as clusters follow one
    /// another.
    fn is_guessed(&self, _file: NodeId) -> bool {
        false
    }

    /// How it was left: what keeps drivers from mounting it, or lets them mount it read-only. Nothing of one that was closed.
    fn left_open(&self) -> Vec<LeftOpen> {
        Vec::new()
    }

    /// Examines the metadata that reading needs (rung 8). Offsets count from the start of the volume.
    fn examine(&self) -> Vec<Finding>;

    /// Which units are in use, by the volume's own count; `None` where that cannot be read.
    fn allocation(&self) -> Option<Allocation> {
        None
    }

    /// Hands the ground of everything that holds some to `each`, with its path.
    ///
    /// # Errors
    /// [`FormatError`] when it did not come to its end, so that what was not handed on may be held as well. Damage of single files on
    /// the way is a finding of other rules.
    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        self.walk(Deleted::Hide, &mut |found| {
            each(&found.path(), &self.extents(found.entry.id).unwrap_or_default());
            ControlFlow::Continue(())
        })
        .map(|_| ())
    }

    /// Takes `steps` steps of the volume's budget, for work that is done with what it handed on.
    ///
    /// # Errors
    /// [`Spent`] when that work is to end here.
    fn spend(&self, _steps: u64) -> Result<(), Spent> {
        Ok(())
    }

    /// What counts `units` as used, or as free.
    fn mark(&self, allocation: &Allocation, units: &[std::ops::Range<u64>], used: bool) -> Vec<Repair> {
        allocation.marked(units, used)
    }

    /// Runs the rules that this format alone has.
    fn rules(&self) -> Vec<Checked> {
        Vec::new()
    }
}
