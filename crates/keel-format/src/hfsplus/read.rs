//! The tree and the files of an HFS+ or HFSX volume.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::ops::ControlFlow;
use std::sync::{Arc, OnceLock};

use keel_source::{ByteOffset, SharedSource};

use super::attributes::{self, Attribute, Value};
use super::btree::Tree;
use super::catalog::{LinkTo, Record, against_first_of, parent_of, text_of, units_of};
use super::compress::{ATTRIBUTE, Compression};
use super::forks::{self, ForkKind, Overflow, OverflowKey};
use super::layout::{
    ATTRIBUTE_INCONSISTENT, ATTRIBUTE_JOURNALED, ATTRIBUTE_UNMOUNTED, ATTRIBUTES_FILE_ID, CATALOG_FILE_ID, EXTENTS_FILE_ID, Fork,
    HEADER_AT, ROOT_FOLDER_ID, ROOT_PARENT_ID, RawExtent, RawFile, RawFork,
};
use super::{HfsGeometry, journal};
use crate::device::hold;
use crate::pages::Pages;
use crate::replay::Replayed;
use crate::{
    Allocation, Checked, Deleted, Entry, Existence, Extent, ExtentStream, Finding, FormatError, LeftOpen, MemoryStream, NodeId,
    Problem, Severity, StreamInfo, StreamReader, View, Volume, VolumeSummary, WalkEntry, read_whole, tree,
};

/// Name of the folder that holds the files behind hard links.
const PRIVATE_FILES: &str = "\0\0\0\0HFS+ Private Data";
/// Name of the folder that holds the folders behind hard links.
const PRIVATE_FOLDERS: &str = ".HFS+ Private Directory Data\r";
/// The most files behind hard links that are kept in mind.
const MOST_LINKS: usize = 4 << 20;
/// Bytes that one of them takes in memory.
const LINK_BYTES: u64 = 32;
/// The most bytes of a compression attribute: content that is longer lies in the resource fork.
const LARGEST_HEAD: usize = 1 << 20;
/// Name of the stream that is the resource fork, as other systems show it.
const RESOURCE: &str = "rsrc";

/// An HFS+ or HFSX volume. The root folder has number 0, every other node the place of its catalog record: number of
/// the leaf in the upper 48 bits, of the record in the lower 16. Where the journal holds newer blocks the volume reads
/// as if it had been replayed; nothing is written.
pub struct HfsVolume {
    below: SharedSource,
    pub(super) pages: Pages,
    pub(super) geometry: HfsGeometry,
    pub(super) overflow: Option<Tree>,
    pub(super) catalog: Tree,
    pub(super) attributes: Option<Tree>,
    summary: VolumeSummary,
    replay: Vec<Finding>,
    links: OnceLock<HashMap<LinkKey, NodeId>>,
    /// Overflow records that were read one by one, where the volume has no tree of them.
    loose: Option<HashMap<OverflowKey, [RawExtent; 8]>>,
}

/// What is left of a volume that has no trees any more: its leaves, one behind the other, and what they say.
pub(super) struct Loose {
    /// The catalog's leaves.
    pub(super) leaves: Vec<Extent>,
    /// Bytes of a node.
    pub(super) node_bytes: u16,
    /// The name of the volume.
    pub(super) label: Option<String>,
    /// Where hard links lead.
    pub(super) links: HashMap<LinkKey, NodeId>,
    /// Records of the extents overflow tree.
    pub(super) overflow: HashMap<OverflowKey, [RawExtent; 8]>,
}

/// A file or folder behind hard links.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum LinkKey {
    File(u32),
    Folder(u32),
}

impl LinkKey {
    /// The key of what the private folders call `name`.
    pub(super) fn named(name: &str) -> Option<Self> {
        let number = |prefix| name.strip_prefix(prefix).and_then(|number: &str| number.parse::<u32>().ok());
        number("iNode").map(Self::File).or_else(|| number("dir_").map(Self::Folder))
    }
}

/// True for the folders that hold what stands behind hard links, by their parent's ID and their name.
pub(super) fn is_private(parent: u32, units: &[u16]) -> bool {
    parent == ROOT_FOLDER_ID && matches!(String::from_utf16_lossy(units).as_str(), PRIVATE_FILES | PRIVATE_FOLDERS)
}

impl From<LinkTo> for LinkKey {
    fn from(link: LinkTo) -> Self {
        match link {
            LinkTo::File(number) => Self::File(number),
            LinkTo::Folder(number) => Self::Folder(number),
        }
    }
}

impl HfsVolume {
    /// Opens the volume in `source` with `geometry`. The volume header is not read.
    ///
    /// # Errors
    /// [`FormatError`] when the catalog's header node cannot be read or there is no root folder.
    pub fn open(source: SharedSource, geometry: HfsGeometry) -> Result<Self, FormatError> {
        let mut volume = Self::with(source, geometry, |pages, overflow| {
            Tree::open(
                pages,
                forks::extents(pages, &geometry, Overflow::Tree(overflow), CATALOG_FILE_ID, ForkKind::Data, &geometry.catalog)?,
            )
        })?;
        let mut label = None;
        volume.records_of(ROOT_PARENT_ID, &mut |_, units, record| {
            if record.id() == ROOT_FOLDER_ID {
                label = Some(text_of(&units));
            }
            ControlFlow::Continue(())
        })?;
        let at = volume.catalog.node_at(0).unwrap_or_default();
        volume.summary.label =
            Some(label.ok_or_else(|| FormatError::new("catalog", at, Problem::Missing("record of the root folder")))?);
        Ok(volume)
    }

    /// The volume in `source` by what is left of its trees: records are read by the places of their leaves alone.
    pub(super) fn unrooted(source: SharedSource, geometry: HfsGeometry, left: Loose) -> Result<Self, FormatError> {
        let mut volume = Self::with(source, geometry, |_, _| Ok(Tree::assumed(left.leaves, left.node_bytes)))?;
        volume.summary.label = left.label;
        volume.links = OnceLock::from(left.links);
        volume.loose = Some(left.overflow);
        Ok(volume)
    }

    pub(super) fn overflow_records(&self) -> Overflow<'_> {
        let loose = self.loose.as_ref().filter(|records| !records.is_empty());
        loose.map_or_else(|| Overflow::Tree(self.overflow.as_ref()), Overflow::Loose)
    }

    fn with(
        source: SharedSource,
        geometry: HfsGeometry,
        catalog: impl FnOnce(&Pages, Option<&Tree>) -> Result<Tree, FormatError>,
    ) -> Result<Self, FormatError> {
        let below = SharedSource::clone(&source);
        let (pages, replay) = replayed(source, &geometry);
        let tree_of = |overflow: Option<&Tree>, file: u32, fork: &Fork| {
            Tree::open(&pages, forks::extents(&pages, &geometry, Overflow::Tree(overflow), file, ForkKind::Data, fork)?)
        };
        let overflow = tree_of(None, EXTENTS_FILE_ID, &geometry.extents).ok();
        let catalog = catalog(&pages, overflow.as_ref())?;
        let has_attributes = geometry.attributes_file.blocks > 0;
        let attributes =
            has_attributes.then(|| tree_of(overflow.as_ref(), ATTRIBUTES_FILE_ID, &geometry.attributes_file).ok()).flatten();
        let summary = VolumeSummary {
            kind: Some(geometry.kind),
            label: None,
            serial: (geometry.identifier != 0).then(|| format!("{:016X}", geometry.identifier)),
            bytes: geometry.volume_bytes(),
            cluster_bytes: geometry.block_bytes,
        };
        Ok(Self { below, pages, geometry, overflow, catalog, attributes, summary, replay, links: OnceLock::new(), loose: None })
    }

    /// The geometry it is read with.
    #[must_use]
    pub fn geometry(&self) -> &HfsGeometry {
        &self.geometry
    }

    /// What it is read from: with its journal replayed.
    #[must_use]
    pub fn source(&self) -> &SharedSource {
        self.pages.source()
    }

    /// What it was opened on: as it stands.
    #[must_use]
    pub fn below(&self) -> &SharedSource {
        &self.below
    }

    /// Its catalog tree.
    #[must_use]
    pub fn catalog(&self) -> &Tree {
        &self.catalog
    }

    /// Its extents overflow tree, where that can be read.
    #[must_use]
    pub fn overflow(&self) -> Option<&Tree> {
        self.overflow.as_ref()
    }

    /// Hands the folders and files whose parent has the ID `parent` to `each`, in the catalog's order.
    pub(super) fn records_of(
        &self,
        parent: u32,
        each: &mut dyn FnMut(NodeId, Vec<u16>, Record) -> ControlFlow<()>,
    ) -> Result<(), FormatError> {
        self.catalog.from(&self.pages, &|key| against_first_of(parent, key), &mut |found| {
            if parent_of(found.key) != Some(parent) {
                return ControlFlow::Break(());
            }
            match Record::parse(found.data) {
                Some(record) => each(NodeId(u64::from(found.node) << 16 | u64::from(found.index)), units_of(found.key), record),
                None => ControlFlow::Continue(()),
            }
        })
    }

    fn record(&self, node: NodeId) -> Result<Record, FormatError> {
        let number = u32::try_from(node.0 >> 16).unwrap_or(u32::MAX);
        let index = u16::try_from(node.0 & 0xFFFF).unwrap_or(u16::MAX);
        let leaf = self.catalog.node(&self.pages, number)?;
        let at = self.catalog.node_at(number).unwrap_or_default();
        let missing = || FormatError::new("catalog", at, Problem::Missing("record of that number"));
        if index >= leaf.records() {
            return Err(missing());
        }
        let (_, data) = leaf.record(index)?;
        Record::parse(data).ok_or_else(missing)
    }

    /// The record itself, or the one that a hard link leads to.
    fn target(&self, record: Record) -> Result<Record, FormatError> {
        let Some(link) = record.link() else { return Ok(record) };
        let links = self.links.get_or_init(|| self.read_links().unwrap_or_default());
        let missing = || FormatError::new("catalog", ByteOffset(0), Problem::Missing("file that the hard link leads to"));
        self.record(*links.get(&link.into()).ok_or_else(missing)?)
    }

    fn read_links(&self) -> Result<HashMap<LinkKey, NodeId>, FormatError> {
        let mut private = Vec::new();
        self.records_of(ROOT_FOLDER_ID, &mut |_, units, record| {
            if is_private(ROOT_FOLDER_ID, &units) {
                private.push(record.id());
            }
            ControlFlow::Continue(())
        })?;
        let mut links = HashMap::new();
        for folder in private {
            self.records_of(folder, &mut |node, units, _| {
                links.extend(LinkKey::named(&String::from_utf16_lossy(&units)).map(|key| (key, node)));
                let held = hold(self.pages.source().as_ref(), ByteOffset(0), "hard links", LINK_BYTES);
                if links.len() < MOST_LINKS && held.is_ok() { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            })?;
        }
        Ok(links)
    }

    fn folder_id(&self, dir: NodeId) -> Result<u32, FormatError> {
        if dir.0 == 0 {
            return Ok(ROOT_FOLDER_ID);
        }
        match self.target(self.record(dir)?)? {
            Record::Folder(folder) => Ok(folder.folder_id.get()),
            Record::File(_) => Err(FormatError::new("catalog", ByteOffset(0), Problem::Missing("folder of that number"))),
        }
    }

    fn file(&self, node: NodeId) -> Result<RawFile, FormatError> {
        match self.target(self.record(node)?)? {
            Record::File(file) => Ok(file),
            Record::Folder(_) => Err(FormatError::new("catalog", ByteOffset(0), Problem::Missing("file of that number"))),
        }
    }

    pub(super) fn fork_extents(&self, file: u32, kind: ForkKind, raw: &RawFork) -> Result<Vec<Extent>, FormatError> {
        forks::extents(&self.pages, &self.geometry, self.overflow_records(), file, kind, &Fork::from(raw))
    }

    fn fork_stream(&self, file: u32, kind: ForkKind, raw: &RawFork) -> Result<Box<dyn StreamReader>, FormatError> {
        let bytes = raw.logical_size.get();
        if bytes == 0 {
            return Ok(Box::new(MemoryStream(Vec::new())));
        }
        let extents = self.fork_extents(file, kind, raw)?;
        Ok(Box::new(ExtentStream::new(Arc::clone(self.pages.source()), extents, bytes, bytes)))
    }

    /// How the file is compressed, when it is.
    fn compression(&self, file: &RawFile) -> Option<Result<Compression, FormatError>> {
        let record = Record::File(*file);
        if !record.is_compressed() {
            return None;
        }
        let missing = || FormatError::new("attributes", ByteOffset(0), Problem::Missing("attribute com.apple.decmpfs"));
        let found = self.attributes_of(file.file_id.get(), Some(ATTRIBUTE));
        Some(
            found
                .and_then(|mut found| found.pop().ok_or_else(missing))
                .map(|found| read_whole(self.attribute_stream(found.value).as_mut(), LARGEST_HEAD).0)
                .and_then(|value| Compression::parse(View::new("compression attribute", ByteOffset(0), &value))),
        )
    }

    /// The attributes of a file, or the one called `name`.
    fn attributes_of(&self, file: u32, name: Option<&str>) -> Result<Vec<Attribute>, FormatError> {
        let tree = self.attributes.as_ref();
        tree.map_or_else(|| Ok(Vec::new()), |tree| attributes::of(&self.pages, &self.geometry, tree, file, name))
    }

    fn attribute_stream(&self, value: Value) -> Box<dyn StreamReader> {
        match value {
            Value::Inline(bytes) => Box::new(MemoryStream(bytes)),
            Value::Blocks { bytes, extents } => {
                Box::new(ExtentStream::new(Arc::clone(self.pages.source()), extents, bytes, bytes))
            }
        }
    }

    /// Length of the content: that of the data fork, or what a compressed file unpacks to.
    fn content_bytes(&self, file: &RawFile) -> u64 {
        match self.compression(file) {
            Some(Ok(compression)) => compression.bytes,
            _ => file.data_fork.logical_size.get(),
        }
    }

    pub(super) fn entry(&self, id: NodeId, units: &[u16], record: Record) -> Entry {
        let target = self.target(record).unwrap_or(record);
        let bytes = match &target {
            Record::File(file) => self.content_bytes(file),
            Record::Folder(_) => 0,
        };
        Entry { id, name: text_of(units), kind: target.kind(), bytes, times: target.times(), existence: Existence::Present }
    }
}

/// The volume as its journal would leave it, and what is to be said of that.
fn replayed(source: SharedSource, geometry: &HfsGeometry) -> (Pages, Vec<Finding>) {
    let plain = Pages::new(Arc::clone(&source));
    match journal::read(&plain, geometry) {
        Ok(Some(found)) => {
            let mut findings = found.findings;
            if found.newer.is_empty() {
                return (plain, findings);
            }
            let what = format!(
                "the journal holds {} transactions that are not in their places yet: the volume is read as if they were",
                found.transactions
            );
            findings.push(Finding::of_all(Severity::Note, what, format!("{} sectors replayed virtually", found.newer.len())));
            (Pages::new(Arc::new(Replayed::new(source, found.unit, found.newer))), findings)
        }
        Ok(None) => (plain, Vec::new()),
        Err(error) => {
            let what = "the journal cannot be read: an operating system will refuse the volume or mount it read-only";
            (plain, vec![Finding::at(Severity::Broken, error.at, what, error.to_string())])
        }
    }
}

impl Volume for HfsVolume {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        NodeId(0)
    }

    fn list(
        &self,
        dir: NodeId,
        _deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let folder = self.folder_id(dir)?;
        let mut findings = Vec::new();
        let listed = self.records_of(folder, &mut |id, units, record| {
            // The driver's own folders are no files of the user.
            let own = folder == ROOT_FOLDER_ID && units.first().is_some_and(|first| *first == 0)
                || String::from_utf16_lossy(&units) == PRIVATE_FOLDERS;
            if own { ControlFlow::Continue(()) } else { each(self.entry(id, &units, record)) }
        });
        if let Err(error) = listed {
            let what = "a part of the catalog cannot be read: the folder's other entries are missing";
            findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
        }
        Ok(findings)
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        tree::walk(self, self.pages.source().as_ref(), &|entry| self.folder_id(entry.id).map(u64::from), deleted, each)
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        let raw = self.file(file)?;
        let compressed = self.compression(&raw).is_some();
        let storage = if compressed { "compressed" } else { "plain" };
        let mut streams = vec![StreamInfo { name: String::new(), bytes: self.content_bytes(&raw), storage }];
        let resource = raw.resource_fork.logical_size.get();
        // The resource fork of a compressed file is where its content is kept.
        if resource > 0 && !compressed {
            streams.push(StreamInfo { name: RESOURCE.into(), bytes: resource, storage: "plain" });
        }
        // How a compressed file is packed is no content of its own.
        let own = |found: &Attribute| !(compressed && text_of(&found.units) == ATTRIBUTE);
        for found in self.attributes_of(raw.file_id.get(), None)?.into_iter().filter(own) {
            let storage = if matches!(found.value, Value::Inline(_)) { "resident" } else { "plain" };
            let name = text_of(&found.units);
            if streams.iter().all(|stream| stream.name != name) {
                streams.push(StreamInfo { name, bytes: found.value.bytes(), storage });
            }
        }
        Ok(streams)
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        let raw = self.file(file)?;
        let id = raw.file_id.get();
        match (stream, self.compression(&raw)) {
            ("", None) => self.fork_stream(id, ForkKind::Data, &raw.data_fork),
            ("", Some(compression)) => {
                let compression = compression?;
                let resource = compression.is_in_resource_fork();
                let resource = resource.then(|| self.fork_stream(id, ForkKind::Resource, &raw.resource_fork)).transpose()?;
                compression.open(ByteOffset(0), resource)
            }
            (RESOURCE, _) if raw.resource_fork.logical_size.get() > 0 => {
                self.fork_stream(id, ForkKind::Resource, &raw.resource_fork)
            }
            (name, _) => {
                let named = self.attributes_of(id, None)?.into_iter().find(|found| text_of(&found.units) == name);
                let missing = || FormatError::new("catalog", ByteOffset(0), Problem::Missing("stream of that name"));
                named.map(|found| self.attribute_stream(found.value)).ok_or_else(missing)
            }
        }
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        let raw = self.file(file)?;
        self.fork_extents(raw.file_id.get(), ForkKind::Data, &raw.data_fork)
    }

    fn allocation(&self) -> Option<Allocation> {
        super::check::allocation(self)
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        super::check::claims(self, each);
        Ok(())
    }

    fn rules(&self) -> Vec<Checked> {
        super::check::rules(self)
    }

    fn left_open(&self) -> Vec<LeftOpen> {
        let attributes = self.geometry.attributes;
        let unclean = attributes & (ATTRIBUTE_UNMOUNTED | ATTRIBUTE_JOURNALED) == 0;
        let marks = [
            (unclean, LeftOpen::Unclean),
            // What is told of it is told where it holds something.
            (!self.replay.is_empty(), LeftOpen::Journal),
            (attributes & ATTRIBUTE_INCONSISTENT != 0, LeftOpen::Errors),
        ];
        marks.into_iter().filter(|(is_so, _)| *is_so).map(|(_, left)| left).collect()
    }

    fn examine(&self) -> Vec<Finding> {
        let mut findings = self.replay.clone();
        let attributes = self.geometry.attributes;
        let at = ByteOffset(HEADER_AT + 4);
        if attributes & ATTRIBUTE_INCONSISTENT != 0 {
            let what = "the operating system marked this volume as inconsistent";
            findings.push(Finding::at(Severity::Doubt, at, what, "bit 11 of the header's attributes is set"));
        }
        if self.left_open().contains(&LeftOpen::Unclean) {
            findings.push(Finding::at(Severity::Note, at, "the volume was not cleanly unmounted", "bit 8 of attributes is 0"));
        }
        if self.overflow.is_none() {
            let what = "the extents overflow tree cannot be read: files in more than eight pieces are cut";
            findings.push(Finding::of_all(Severity::Broken, what, "its header node"));
        }
        self.examine_catalog(&mut findings);
        findings
    }
}

impl HfsVolume {
    /// The leaves hold as many records as the header says, in ascending order of their parents.
    fn examine_catalog(&self, findings: &mut Vec<Finding>) {
        let (mut records, mut last, mut disorder) = (0u64, 0u32, None);
        let walked = self.catalog.from(&self.pages, &|_| Ordering::Greater, &mut |found| {
            records += 1;
            let parent = parent_of(found.key).unwrap_or(0);
            if parent < last {
                disorder.get_or_insert(found.node);
            }
            last = parent;
            ControlFlow::Continue(())
        });
        let at = self.catalog.node_at(0).unwrap_or_default();
        if let Err(error) = walked {
            findings.push(Finding::at(Severity::Broken, error.at, "the catalog cannot be read to its end", error.to_string()));
        } else if records != u64::from(self.catalog.header().leaf_records.get()) {
            let what =
                format!("the catalog's leaves hold {records} records, its header says {}", self.catalog.header().leaf_records);
            findings.push(Finding::at(Severity::Doubt, at + 20, what, "every leaf was walked"));
        }
        if let Some(node) = disorder {
            let at = self.catalog.node_at(node).unwrap_or_default();
            findings.push(Finding::at(Severity::Broken, at, "records of the catalog are out of order", format!("leaf {node}")));
        }
    }
}
