//! The tree and the files of an XFS volume.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::OnceLock;

use keel_source::{ByteOffset, SharedSource};

use super::directory::{RawName, block_entries, short_entries};
use super::groups::{self, Chunk, rooted};
use super::layout::{CHUNK_INODES, DIR_LEAF_OFFSET, LEAST_SECTOR, RawSuperblock};
use super::log::{self, LogState};
use super::map::block_at;
use super::{Inode, XfsGeometry};
use crate::device::hold;
use crate::file_map::FileMap;
use crate::pages::Pages;
use crate::{Entry, Existence, Finding, FormatError, NodeId, NodeKind, Problem, Severity, View, VolumeKind, VolumeSummary};

/// The largest directory that is read, in bytes of its entries.
const LARGEST_DIRECTORY: u64 = 1 << 30;
/// The most findings that one listing or examination reports.
const MOST_FINDINGS: usize = 200;
/// Bytes that a chunk takes in memory.
const CHUNK_BYTES: u64 = 40;
/// Set in the number of a node whose directory entry was deleted.
pub(super) const DELETED_NODE: u64 = 1 << 63;
/// The longest target of a link, in bytes.
const LONGEST_TARGET: u64 = 4096;
/// Bytes before each piece of a target in version 5.
const LINK_HEADER: usize = 56;

/// What is done with a log that holds more than is in its places.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Log {
    /// The volume is read as if that were in its places.
    Replayed,
    /// It is left: a quick look is enough, or another volume has some of the places.
    Left,
}

/// An XFS volume. Nodes have the numbers of their inodes. Where the log holds what is not in its place yet the volume reads as if it were;
/// nothing is written.
pub struct XfsVolume {
    pub(super) pages: Pages,
    pub(super) geometry: XfsGeometry,
    pub(super) summary: VolumeSummary,
    pub(super) log: LogState,
    /// Chunks of inodes of all groups, by the number of their first; asked for by what was deleted.
    chunks: OnceLock<BTreeMap<u64, Chunk>>,
}

impl XfsVolume {
    /// Opens the volume in `source` with `geometry`; where that does not name the root, it is looked for.
    ///
    /// # Errors
    /// [`FormatError`] when the root directory's inode cannot be read or is none.
    pub fn open(source: SharedSource, geometry: XfsGeometry) -> Result<Self, FormatError> {
        let volume = Self::unrooted(source, geometry, Log::Replayed);
        let root = volume.inode(volume.geometry.root)?;
        if root.kind() != Some(NodeKind::Directory) {
            return Err(FormatError::value("root inode", root.at, "di_mode", u64::from(root.raw.di_mode.get()), "a directory"));
        }
        Ok(volume)
    }

    /// The volume in `source`, whether or not it has a root.
    pub(super) fn unrooted(source: SharedSource, geometry: XfsGeometry, reads: Log) -> Self {
        let mut pages = Pages::new(source);
        let (log, newer) = match reads {
            Log::Replayed => log::replayed(&pages, &geometry),
            Log::Left => (log::state(&pages, &geometry), None),
        };
        if let Some(newer) = newer {
            pages = Pages::new(newer);
        }
        let geometry = rooted(&pages, &geometry);
        let summary = VolumeSummary {
            kind: Some(VolumeKind::Xfs),
            label: superblock(&pages, &geometry).and_then(|raw| text_of(&raw.sb_fname)),
            serial: Some(uuid::Uuid::from_bytes(geometry.uuid).hyphenated().to_string()),
            bytes: geometry.volume_bytes(),
            cluster_bytes: geometry.block_bytes,
        };
        Self { pages, geometry, summary, log, chunks: OnceLock::new() }
    }

    /// What it is read from.
    #[must_use]
    pub fn source(&self) -> &SharedSource {
        self.pages.source()
    }

    /// The geometry it is read with.
    #[must_use]
    pub fn geometry(&self) -> &XfsGeometry {
        &self.geometry
    }

    /// The inode with this number.
    ///
    /// # Errors
    /// [`FormatError`] when there is no such inode or it cannot be read.
    pub fn inode(&self, number: u64) -> Result<Inode, FormatError> {
        let outside = || FormatError::value("inode", ByteOffset(0), "number", number, "an inode of the volume");
        let at = self.geometry.inode_at(number).ok_or_else(outside)?;
        let bytes = self.pages.bytes(at, self.geometry.inode_bytes as usize, "inode")?;
        Inode::parse(&self.geometry, number, at, bytes)
    }

    /// True when nothing uses an inode any more: it is free, or its group gave up the ground that it stands on and never wrote it again.
    fn is_gone(&self, inode: &Inode) -> bool {
        inode.is_free() || !self.is_counted(inode.number)
    }

    /// True when the inode of this number is in a chunk of its group that counts it as used. Where a group's tree does not read all are.
    fn is_counted(&self, number: u64) -> bool {
        let chunks = self.chunks.get_or_init(|| self.read_chunks());
        let chunk = chunks.range(..=number).next_back().filter(|(first, _)| number - **first < CHUNK_INODES);
        let in_use = |(first, chunk): (&u64, &Chunk)| chunk.inodes().any(|(index, used)| used && first + index == number);
        chunks.is_empty() || chunk.is_some_and(in_use)
    }

    fn read_chunks(&self) -> BTreeMap<u64, Chunk> {
        let mut chunks = BTreeMap::new();
        for group in 0..self.geometry.groups {
            let walked = groups::each_chunk(&self.pages, &self.geometry, group, &mut |chunk| {
                let fits = hold(self.pages.source().as_ref(), ByteOffset(0), "inode tree", CHUNK_BYTES).is_ok();
                chunks.insert(self.geometry.inode_number(group, u64::from(chunk.first)), chunk);
                if fits { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            });
            // What is not counted where not all was read says nothing.
            if !walked.is_ok_and(|walked| walked.is_whole()) {
                return BTreeMap::new();
            }
        }
        chunks
    }

    /// The inode of a node. That of a deleted name has to be gone: otherwise something else uses it now.
    pub(super) fn node_inode(&self, node: NodeId) -> Result<Inode, FormatError> {
        let inode = self.inode(node.0 & !DELETED_NODE)?;
        if node.0 & DELETED_NODE != 0 && !self.is_gone(&inode) {
            let problem = Problem::Missing("content of the deleted name: another file uses its inode now");
            return Err(FormatError::new("inode", inode.at, problem));
        }
        Ok(inode)
    }

    /// Where the content of an inode lies, and its length in bytes. One that was freed keeps no length: its map says it in blocks.
    pub(super) fn content(&self, inode: &Inode) -> Result<(FileMap, u64), FormatError> {
        if !inode.is_free() {
            return Ok((inode.map(&self.pages, &self.geometry)?, inode.bytes()));
        }
        let map = inode.left_behind(&self.geometry);
        let bytes = map.extents.last().map_or(0, |extent| extent.stream_at + extent.bytes);
        Ok((map, bytes))
    }

    /// Hands every name of the directory `inode` to `each`.
    ///
    /// # Errors
    /// [`FormatError`] when the map of the directory does not read.
    pub(super) fn names(
        &self,
        inode: &Inode,
        each: &mut dyn FnMut(RawName) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        if let Some(inline) = inode.inline() {
            let (names, finding) = short_entries(&self.geometry, inline, inode.data().at);
            let _ = names.into_iter().try_for_each(each);
            return Ok(finding.into_iter().collect());
        }
        let mut findings = Vec::new();
        let map = inode.map(&self.pages, &self.geometry)?;
        let size = self.geometry.directory_bytes() as u64;
        let limit = inode.bytes().min(LARGEST_DIRECTORY).min(DIR_LEAF_OFFSET).next_multiple_of(size);
        for extent in &map.extents {
            if extent.volume_at.is_none() {
                continue;
            }
            // Blocks of a directory begin at multiples of its own block size, and may lie in pieces.
            let first = extent.stream_at.div_ceil(size) * size;
            let end = extent.stream_at.saturating_add(extent.bytes).min(limit);
            let mut at = first;
            while at < end {
                let (names, more) = match self.directory_block(&map, at) {
                    Ok((place, bytes)) => block_entries(&self.geometry, &bytes, place),
                    Err(error) if error.is_spent() => return Err(error),
                    Err(error) => {
                        let what = "a directory block cannot be read: its entries are missing";
                        (Vec::new(), vec![Finding::at(Severity::Broken, error.at, what, error.to_string())])
                    }
                };
                findings.extend(more);
                findings.truncate(MOST_FINDINGS);
                if names.into_iter().try_for_each(&mut *each).is_break() {
                    return Ok(findings);
                }
                at += size;
            }
        }
        Ok(findings)
    }

    /// The directory block at byte `at` of its directory, and where it begins in the volume.
    fn directory_block(&self, map: &FileMap, at: u64) -> Result<(ByteOffset, Vec<u8>), FormatError> {
        let unit = u64::from(self.geometry.block_bytes);
        let missing = || FormatError::new("directory block", ByteOffset(0), Problem::Missing("place of a part of it"));
        let (mut bytes, mut place) = (Vec::new(), None);
        for part in 0..1u64 << self.geometry.directory_log {
            let here = block_at(map, &self.geometry, at / unit + part).ok_or_else(missing)?;
            place = place.or(Some(here));
            bytes.extend(self.pages.bytes(here, self.geometry.block_bytes as usize, "directory block")?);
        }
        Ok((place.unwrap_or_default(), bytes))
    }

    /// What a name stands for. None for names that a deletion left and whose inode lives on: they were moved, or it was used again.
    pub(super) fn entry(&self, name: &RawName) -> Option<Entry> {
        let inode = self.inode(name.inode).ok();
        let by_type = match name.file_type {
            1 => Some(NodeKind::File),
            2 => Some(NodeKind::Directory),
            7 => Some(NodeKind::Link),
            _ => None,
        };
        if !name.present {
            let inode = inode.filter(|inode| self.is_gone(inode))?;
            // Without types nothing says what a freed one was.
            let kind = by_type.or(inode.kind()).unwrap_or(NodeKind::File);
            return Some(Entry {
                id: NodeId(name.inode | DELETED_NODE),
                name: name.text(),
                kind,
                bytes: if kind == NodeKind::Directory { 0 } else { self.content(&inode).map_or(0, |(_, bytes)| bytes) },
                times: inode.times(),
                existence: Existence::Deleted,
            });
        }
        // Devices, pipes and sockets hold nothing.
        if matches!(name.file_type, 3..=6) || by_type.is_none() && inode.as_ref().is_some_and(Inode::is_special) {
            return None;
        }
        // An inode that is not one any more leaves the name.
        let inode = inode.filter(|inode| inode.kind().is_some());
        let existence = if inode.is_some() { Existence::Present } else { Existence::Named };
        let kind = inode.as_ref().map_or(by_type, Inode::kind).unwrap_or(NodeKind::File);
        Some(Entry {
            id: NodeId(name.inode),
            name: name.text(),
            kind,
            bytes: inode.as_ref().filter(|_| kind != NodeKind::Directory).map_or(0, Inode::bytes),
            times: inode.map(|inode| inode.times()).unwrap_or_default(),
            existence,
        })
    }

    /// The target of a symbolic link.
    pub(super) fn target(&self, inode: &Inode) -> Result<Vec<u8>, FormatError> {
        if let Some(inline) = inode.inline() {
            return Ok(inline.to_vec());
        }
        let len = usize::try_from(inode.bytes().min(LONGEST_TARGET)).unwrap_or(0);
        let unit = u64::from(self.geometry.block_bytes);
        let mut target = Vec::new();
        for extent in inode.extents(&self.pages, &self.geometry)? {
            let (Some(start), mut done) = (extent.volume_at, 0) else { break };
            while done < extent.bytes && target.len() < len {
                let most = usize::try_from(extent.bytes - done).unwrap_or(usize::MAX).min(len - target.len() + LINK_HEADER);
                let bytes = self.pages.bytes(start + done, most, "symbolic link")?;
                let view = View::new("symbolic link", start + done, &bytes);
                // In version 5 each piece has a header that says how long it is.
                let content = match self.geometry.has_checksums() {
                    true if bytes.starts_with(b"XSLM") => {
                        let rest = bytes.get(LINK_HEADER..).unwrap_or_default();
                        rest.get(..(view.u32_be(8, "sl_bytes")? as usize).min(rest.len())).unwrap_or_default()
                    }
                    true => return Err(view.wrong(0, "sl_magic", u64::from(view.u32_be(0, "sl_magic")?), "XSLM")),
                    false => bytes.as_slice(),
                };
                target.extend(content.iter().take(len - target.len()));
                done = (done + (content.len() + LINK_HEADER) as u64).next_multiple_of(unit);
            }
        }
        Ok(target)
    }
}

/// The main superblock, or a copy of it in one of the first groups.
pub(super) fn superblock(pages: &Pages, geometry: &XfsGeometry) -> Option<RawSuperblock> {
    (0..geometry.groups.min(8)).map(|group| geometry.group_at(group)).find_map(|at| {
        let bytes = pages.bytes(at, LEAST_SECTOR, "superblock").ok()?;
        let view = View::new("superblock", at, &bytes);
        let same = XfsGeometry::parse(view).is_ok_and(|found| found.is_same_volume(geometry));
        view.at::<RawSuperblock>(0, "superblock").ok().copied().filter(|_| same)
    })
}

/// Text up to the first zero; none when nothing is left.
pub(super) fn text_of(field: &[u8]) -> Option<String> {
    let end = field.iter().position(|byte| *byte == 0).unwrap_or(field.len());
    let text = String::from_utf8_lossy(field.get(..end).unwrap_or_default()).into_owned();
    Some(text).filter(|text| !text.is_empty())
}
