//! The shelf: files adrift as a tree, in the folders into which they are taken out, so that they are looked at, searched and marked as the
//! files of a volume are.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_format::{
    Deleted, Entry, Existence, Extent, ExtentStream, Finding, FormatError, NodeId, NodeKind, Problem, Stamp, StreamInfo,
    StreamReader, Times, Volume, VolumeSummary, WalkEntry,
};
use keel_source::{ByteOffset, SharedSource};

use super::Adrift;
use super::take_out::folders_of;
use crate::files::Told;

/// Bit of the number of a folder: files have their first byte as their number, which stays when more are found.
const FOLDER: u64 = 1 << 63;

/// A node: its entry, and what lies in it.
struct Node {
    entry: Entry,
    children: Vec<NodeId>,
    /// Place among the files; none for a folder.
    file: Option<usize>,
    /// Files in it and below, itself included, and their bytes.
    below: (usize, u64),
}

impl Node {
    fn folder(id: NodeId, name: &str) -> Self {
        Self { entry: entry(id, name, NodeKind::Directory, 0), children: Vec::new(), file: None, below: (0, 0) }
    }
}

/// Files adrift as a tree.
pub struct Shelf {
    source: SharedSource,
    files: Arc<[Adrift]>,
    nodes: BTreeMap<NodeId, Node>,
    summary: VolumeSummary,
}

fn folder_id(path: &str) -> NodeId {
    let hash = blake3::hash(path.as_bytes());
    let number = hash.as_bytes().first_chunk::<8>().map_or(0, |bytes| u64::from_le_bytes(*bytes));
    NodeId(if path.is_empty() { FOLDER } else { number | FOLDER })
}

fn entry(id: NodeId, name: &str, kind: NodeKind, bytes: u64) -> Entry {
    Entry { id, name: name.to_string(), kind, bytes, times: Times::default(), existence: Existence::Present }
}

impl Shelf {
    /// The shelf of `files`, which lie on `source`.
    #[must_use]
    pub fn new(source: &SharedSource, files: Arc<[Adrift]>) -> Self {
        let root = folder_id("");
        let summary =
            VolumeSummary { kind: None, label: None, serial: None, bytes: source.len(), cluster_bytes: source.sector_size().0 };
        let top = Node::folder(root, "");
        let mut shelf = Self { source: SharedSource::clone(source), files, nodes: BTreeMap::from([(root, top)]), summary };
        let files = Arc::clone(&shelf.files);
        let mut names: BTreeMap<(NodeId, String), u32> = BTreeMap::new();
        for (index, file) in files.iter().enumerate() {
            let (mut parent, mut path, mut above) = (root, String::new(), vec![root]);
            for part in folders_of(file) {
                path = if path.is_empty() { part.to_string() } else { format!("{path}/{part}") };
                parent = shelf.folder(parent, &path, part);
                above.push(parent);
            }
            // What is called alike stands beside the other with its place, which stays when more are found.
            let count = names.entry((parent, file.name.to_lowercase())).and_modify(|count| *count += 1).or_insert(1);
            let name = if *count > 1 { placed(&file.name, file.at_byte) } else { file.name.clone() };
            let id = NodeId(file.at_byte.0);
            let mut own = entry(id, &name, NodeKind::File, file.bytes);
            own.times.modified = file.made.as_deref().and_then(Stamp::from_text);
            shelf.add(parent, Node { entry: own, children: Vec::new(), file: Some(index), below: (1, file.bytes) });
            for id in above {
                shelf
                    .nodes
                    .get_mut(&id)
                    .into_iter()
                    .for_each(|folder| folder.below = (folder.below.0 + 1, folder.below.1 + file.bytes));
            }
        }
        shelf
    }

    /// The folder `path` below `parent`.
    fn folder(&mut self, parent: NodeId, path: &str, name: &str) -> NodeId {
        let id = folder_id(path);
        if !self.nodes.contains_key(&id) {
            self.add(parent, Node::folder(id, name));
        }
        id
    }

    fn add(&mut self, parent: NodeId, node: Node) {
        let id = node.entry.id;
        self.nodes.insert(id, node);
        self.nodes.get_mut(&parent).into_iter().for_each(|folder| folder.children.push(id));
    }

    /// The files, by their start.
    #[must_use]
    pub fn files(&self) -> &Arc<[Adrift]> {
        &self.files
    }

    /// The file with this number.
    #[must_use]
    pub fn file(&self, id: NodeId) -> Option<&Adrift> {
        self.nodes.get(&id).and_then(|node| node.file).and_then(|index| self.files.get(index))
    }

    /// What a query may ask of an entry beside what a volume tells.
    #[must_use]
    pub fn told(&self, entry: &Entry) -> Option<Told<'_>> {
        let file = self.file(entry.id)?;
        Some(Told { state: file.state.word(), pixels: file.pixels, volume: file.volume.as_deref(), at: file.at_byte.0 })
    }

    /// How many files are in a node and below it, and what they come to in bytes.
    #[must_use]
    pub fn below(&self, id: NodeId) -> (usize, u64) {
        self.nodes.get(&id).map(|node| node.below).unwrap_or_default()
    }

    /// The files that `paths` name, with all that is below the folders among them.
    #[must_use]
    pub fn chosen(&self, paths: &[String]) -> Vec<&Adrift> {
        let mut chosen: Vec<&Adrift> = Vec::new();
        let _ = self.walk(Deleted::Hide, &mut |found| {
            let path = found.path();
            let is_meant =
                |wanted: &String| path == *wanted || path.strip_prefix(wanted.as_str()).is_some_and(|rest| rest.starts_with('/'));
            if paths.iter().any(is_meant) {
                chosen.extend(self.file(found.entry.id));
            }
            ControlFlow::Continue(())
        });
        chosen.sort_by_key(|file| file.at_byte);
        chosen
    }

    fn node(&self, id: NodeId) -> Result<&Node, FormatError> {
        self.nodes.get(&id).ok_or_else(|| FormatError::new("file adrift", ByteOffset(id.0 & !FOLDER), Problem::Missing("file")))
    }

    fn found(&self, id: NodeId) -> Result<&Adrift, FormatError> {
        self.node(id)?;
        self.file(id).ok_or_else(|| FormatError::new("file adrift", ByteOffset(0), Problem::Missing("content of a folder")))
    }
}

/// A name with its place before its suffix.
fn placed(name: &str, at: ByteOffset) -> String {
    match name.rsplit_once('.') {
        Some((stem, suffix)) => format!("{stem} (byte {}).{suffix}", at.0),
        None => format!("{name} (byte {})", at.0),
    }
}

impl Volume for Shelf {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        folder_id("")
    }

    fn list(
        &self,
        dir: NodeId,
        _deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        for node in self.node(dir)?.children.iter().filter_map(|id| self.nodes.get(id)) {
            if each(node.entry.clone()).is_break() {
                break;
            }
        }
        Ok(Vec::new())
    }

    fn walk(
        &self,
        _deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let mut open = vec![(String::new(), self.root())];
        while let Some((path, dir)) = open.pop() {
            for node in self.node(dir)?.children.iter().filter_map(|id| self.nodes.get(id)) {
                let found = WalkEntry { folder: &path, entry: &node.entry };
                if node.file.is_none() {
                    open.push((found.path(), node.entry.id));
                }
                if each(found).is_break() {
                    return Ok(Vec::new());
                }
            }
        }
        Ok(Vec::new())
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        Ok(vec![StreamInfo { name: String::new(), bytes: self.found(file)?.bytes, storage: "plain" }])
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        if !stream.is_empty() {
            return Err(FormatError::new("file adrift", ByteOffset(file.0), Problem::Missing("stream of that name")));
        }
        let bytes = self.found(file)?.bytes;
        Ok(Box::new(ExtentStream::new(SharedSource::clone(&self.source), self.extents(file)?, bytes, bytes)))
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        let mut stream_at = 0;
        let extent = |(at, bytes): &(ByteOffset, u64)| {
            let own = Extent { stream_at, volume_at: Some(*at), bytes: *bytes };
            stream_at += bytes;
            own
        };
        Ok(self.found(file)?.extents.iter().map(extent).collect())
    }

    fn examine(&self) -> Vec<Finding> {
        Vec::new()
    }
}
