//! The tree and the files of an ext volume.

use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex, OnceLock};

use keel_source::{ByteOffset, SharedSource};

use super::directory::{RawName, entries};
use super::layout::{
    BG_INODE_UNINIT, FLAG_INDEX, INCOMPAT_INLINE_DATA, INCOMPAT_RECOVER, ROOT_INODE, RawDescriptor, RawSuperblock, SUPERBLOCK_AT,
    inode_table,
};
use super::{ExtGeometry, Inode, journal};
use crate::pages::Pages;
use crate::replay::Replayed;
use crate::{
    Deleted, Entry, Existence, Finding, FormatError, NodeId, NodeKind, Problem, Severity, Times, View, Volume, VolumeSummary,
};

/// The largest directory that is read, in bytes.
const LARGEST_DIRECTORY: u64 = 1 << 30;
/// The most findings that one listing or examination reports.
const MOST_FINDINGS: usize = 200;
/// Set in the number of a node whose directory entry was deleted.
const DELETED_NODE: u64 = 1 << 63;

/// Blocks of the volume, each with the states that the journal keeps of it, the latest first: number of the transaction, and where
/// its bytes stand.
pub(super) type Earlier = BTreeMap<u64, Vec<(u32, ByteOffset)>>;

/// Which inodes a volume takes for its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Takes {
    /// Whatever its tables hold.
    All,
    /// Those whose checksum holds, where its tables may have been overwritten.
    ByChecksum,
    /// Those that were changed last before this time (seconds since 1970) and that the volume on whose tables they stand counts as
    /// free: what an older one left there.
    Before(u32),
}

/// An ext2, ext3 or ext4 volume. Nodes have the numbers of their inodes. Where the journal holds newer blocks the
/// volume reads as if it had been replayed; nothing is written.
pub struct ExtVolume {
    pub(super) pages: Pages,
    pub(super) geometry: ExtGeometry,
    pub(super) summary: VolumeSummary,
    pub(super) replay: Vec<Finding>,
    pending: bool,
    replayed: Vec<u64>,
    pub(super) takes: Takes,
    /// Blocks whose places were overwritten, and where the journal keeps them.
    pub(super) restored: BTreeMap<u64, ByteOffset>,
    pub(super) earlier: OnceLock<Earlier>,
    /// Descriptors by which inodes are found, by group, as they were chosen.
    pub(super) best: Mutex<HashMap<u32, RawDescriptor>>,
}

impl ExtVolume {
    /// Opens the volume in `source` with `geometry`. The superblock is read for label and journal state only. Where the root does
    /// not stand, blocks that were overwritten are read from the journal as far as it keeps them.
    ///
    /// # Errors
    /// [`FormatError`] when the root directory's inode cannot be read or is none.
    pub fn open(source: SharedSource, geometry: ExtGeometry) -> Result<Self, FormatError> {
        let mut volume = Self::unrooted(source, geometry, Takes::All);
        if !volume.has_root() {
            volume.restore();
        }
        let root = volume.inode(ROOT_INODE)?;
        if root.kind() != Some(NodeKind::Directory) {
            return Err(FormatError::value("root inode", root.at, "i_mode", u64::from(root.raw.i_mode.get()), "a directory"));
        }
        Ok(volume)
    }

    /// The volume in `source`, whether or not it has a root, with the inodes that it `takes` for its own.
    pub(super) fn unrooted(source: SharedSource, geometry: ExtGeometry, takes: Takes) -> Self {
        let plain = Pages::new(Arc::clone(&source));
        let superblock = superblock(&plain, &geometry).filter(|_| !matches!(takes, Takes::Before(_)));
        let label = superblock.as_ref().and_then(|raw| text_of(&raw.s_volume_name));
        let summary = VolumeSummary {
            kind: Some(geometry.kind),
            label,
            serial: Some(uuid::Uuid::from_bytes(geometry.uuid).hyphenated().to_string()),
            bytes: geometry.volume_bytes(),
            cluster_bytes: geometry.cluster_bytes,
        };
        // A superblock that is gone cannot say that the journal is clean.
        let needed = superblock.is_none_or(|raw| raw.s_feature_incompat.get() & INCOMPAT_RECOVER != 0);
        let needed = needed && geometry.journal_inode != 0 && matches!(takes, Takes::All);
        let mut volume = Self {
            pages: plain,
            geometry,
            summary,
            replay: Vec::new(),
            pending: false,
            replayed: Vec::new(),
            restored: BTreeMap::new(),
            takes,
            earlier: OnceLock::new(),
            best: Mutex::default(),
        };
        if geometry.kept_superblock != 0 && takes == Takes::All {
            volume.restore_descriptors();
        }
        if needed {
            volume.replay_from(source);
        }
        volume
    }

    fn replay_from(&mut self, source: SharedSource) {
        let missing =
            || FormatError::new("journal", ByteOffset(0), Problem::Missing("its inode, and the superblock's copy of it"));
        let inode = self.journal_inode().ok_or_else(missing);
        match inode.and_then(|inode| journal::read(&self.pages, &self.geometry, &inode)) {
            Ok(found) => {
                self.replay = found.findings;
                self.pending = found.pending;
                if !found.newer.is_empty() {
                    let what = format!(
                        "the journal holds {} transactions that are not in their places yet: the volume is read as if they were",
                        found.transactions
                    );
                    let how = format!("{} blocks replayed virtually", found.newer.len());
                    self.replay.push(Finding::of_all(Severity::Note, what, how));
                    let unit = u64::from(self.geometry.block_bytes);
                    self.replayed = found.newer.keys().copied().collect();
                    self.pages = Pages::new(Arc::new(Replayed::new(source, unit, found.newer)));
                    self.best = Mutex::default();
                }
            }
            Err(error) => {
                let what = "the journal cannot be read: what it holds is not replayed";
                self.replay.push(Finding::at(Severity::Doubt, error.at, what, error.to_string()));
            }
        }
    }

    /// True when the journal holds what a recovery has to look at.
    #[must_use]
    pub fn has_pending_journal(&self) -> bool {
        self.pending
    }

    /// The blocks that are read from the journal.
    #[must_use]
    pub fn replayed_blocks(&self) -> &[u64] {
        &self.replayed
    }

    /// True when the root is a folder that names at least itself.
    pub(super) fn has_root(&self) -> bool {
        let root = self.inode(ROOT_INODE).ok().filter(|root| root.kind() == Some(NodeKind::Directory));
        let Some(root) = root else { return false };
        // Where nothing says otherwise any bytes may be a folder that is kept inside its inode.
        let inline = self.geometry.incompat & INCOMPAT_INLINE_DATA != 0 && root.checksum_holds(&self.geometry);
        let mut names = inline && root.inline().is_some();
        if root.inline().is_some() {
            return names;
        }
        let _ = self.names(&root, &mut |_| {
            names = true;
            ControlFlow::Break(())
        });
        names
    }

    /// Every block that an inode holds; none where its map does not read.
    pub(super) fn held(&self, inode: &Inode) -> Vec<std::ops::Range<u64>> {
        inode.held(&self.pages, &self.geometry).unwrap_or_default()
    }

    /// The main superblock, or a copy of it.
    pub(super) fn superblock(&self) -> Option<RawSuperblock> {
        superblock(&self.pages, &self.geometry)
    }

    /// The same volume read from `source`, as it stands there: no journal is replayed.
    pub(super) fn over(&self, source: SharedSource) -> Self {
        Self {
            pages: Pages::new(source),
            summary: self.summary.clone(),
            replay: Vec::new(),
            pending: false,
            replayed: Vec::new(),
            restored: BTreeMap::new(),
            earlier: OnceLock::new(),
            best: Mutex::default(),
            ..*self
        }
    }

    /// What it is read from: with its journal replayed.
    #[must_use]
    pub fn source(&self) -> &SharedSource {
        self.pages.source()
    }

    /// The geometry it is read with.
    #[must_use]
    pub fn geometry(&self) -> &ExtGeometry {
        &self.geometry
    }

    /// The inode with this number.
    ///
    /// # Errors
    /// [`FormatError`] when there is no such inode or it cannot be read.
    pub fn inode(&self, number: u32) -> Result<Inode, FormatError> {
        let at = self.inode_at(number)?;
        let inode = Inode::parse(number, at, self.pages.bytes(at, usize::from(self.geometry.inode_bytes), "inode")?)?;
        let own = self.takes == Takes::All || self.owns(&inode);
        let missing = Problem::Missing("inode of this volume: another one's stands there");
        own.then_some(inode).ok_or_else(|| FormatError::new("inode", at, missing))
    }

    /// Where the inode with this number stands in the volume.
    pub(super) fn inode_at(&self, number: u32) -> Result<ByteOffset, FormatError> {
        let geometry = &self.geometry;
        let index = number.checked_sub(1).filter(|_| number <= geometry.inodes);
        let Some(index) = index else {
            return Err(FormatError::value("inode", ByteOffset(0), "number", u64::from(number), "an inode of the volume"));
        };
        let (group, inside) = (index / geometry.inodes_per_group, index % geometry.inodes_per_group);
        let table = inode_table(&self.best_descriptor(group)?);
        let outside = || {
            FormatError::value(
                "group descriptor",
                geometry.descriptor_at(group),
                "bg_inode_table",
                table,
                "a block of the volume",
            )
        };
        Ok(geometry.block_at(table).ok_or_else(outside)? + u64::from(inside) * u64::from(geometry.inode_bytes))
    }

    /// True when some folder is indexed by hashes of its names.
    #[must_use]
    pub fn has_indexed_folders(&self) -> bool {
        let indexed = |node: NodeId| self.live_inode(node).is_ok_and(|inode| inode.has_flag(FLAG_INDEX));
        let mut found = indexed(self.root());
        let _ = self.walk(Deleted::Hide, &mut |item| {
            found |= item.entry.kind == NodeKind::Directory && indexed(item.entry.id);
            if found { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        found
    }

    /// The identifier that the journal keeps of the volume it belongs to.
    #[must_use]
    pub fn journal_uuid(&self) -> Option<[u8; 16]> {
        let inode = self.inode(self.geometry.journal_inode).ok()?;
        let at = inode.extents(&self.pages, &self.geometry).ok()?.first()?.volume_at?;
        let bytes = self.pages.bytes(at + 48, 16, "journal superblock").ok()?;
        <[u8; 16]>::try_from(bytes).ok().filter(|uuid| *uuid != [0; 16])
    }

    /// True for an inode in use whose fields make sense and that is this volume's own.
    pub(super) fn owns(&self, inode: &Inode) -> bool {
        let index = inode.number.saturating_sub(1);
        let (group, inside) = (index / self.geometry.inodes_per_group, index % self.geometry.inodes_per_group);
        let free = || self.best_descriptor(group).is_ok_and(|raw| !self.counts_used(&raw, inside));
        inode.is_plausible()
            && match self.takes {
                Takes::All | Takes::ByChecksum => inode.checksum_holds(&self.geometry),
                Takes::Before(time) => inode.is_before(time) && free(),
            }
    }

    /// True when the inode bitmap of a group counts inode `inside` as used, or cannot be read.
    fn counts_used(&self, descriptor: &RawDescriptor, inside: u32) -> bool {
        let block = u64::from(descriptor.bg_inode_bitmap_lo.get()) | u64::from(descriptor.bg_inode_bitmap_hi.get()) << 32;
        if descriptor.bg_flags.get() & BG_INODE_UNINIT != 0 {
            return false;
        }
        let byte = self.geometry.block_at(block).map(|at| at + u64::from(inside / 8));
        let byte = byte.and_then(|at| self.pages.bytes(at, 1, "inode bitmap").ok()?.first().copied());
        byte.is_none_or(|byte| byte >> (inside % 8) & 1 == 1)
    }

    pub(super) fn live_inode(&self, node: NodeId) -> Result<Inode, FormatError> {
        let number = u32::try_from(node.0 & !DELETED_NODE)
            .map_err(|_| FormatError::value("inode", ByteOffset(0), "number", node.0, "a number of 32 bits"))?;
        let inode = self.inode(number)?;
        if node.0 & DELETED_NODE != 0 && !inode.is_deleted() {
            let problem = Problem::Missing("content of the deleted name: another file uses its inode now");
            return Err(FormatError::new("inode", inode.at, problem));
        }
        let keeps_nothing = node.0 & DELETED_NODE != 0 && inode.kind() != Some(NodeKind::Directory) && inode.bytes() == 0;
        Ok(if keeps_nothing { self.before_deletion(number).unwrap_or(inode) } else { inode })
    }

    /// Hands every name of the directory `inode` to `each`.
    pub(super) fn names(
        &self,
        inode: &Inode,
        each: &mut dyn FnMut(RawName) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        if let Some(inline) = inode.inline() {
            // The first word is the parent's number; the entries follow, in two pieces.
            let mut findings = Vec::new();
            let (head, rest) = inline.split_at(inline.len().min(60));
            for (piece, skip) in [(head, 4), (rest, 0)] {
                let (names, finding) = entries(piece.get(skip..).unwrap_or_default(), inode.at, self.geometry.inodes);
                findings.extend(finding);
                if names.into_iter().any(|name| each(name).is_break()) {
                    break;
                }
            }
            return Ok(findings);
        }
        let mut findings = Vec::new();
        let size = u64::from(self.geometry.block_bytes);
        let bytes = inode.bytes().min(LARGEST_DIRECTORY).min(self.pages.source().len());
        for extent in inode.extents(&self.pages, &self.geometry)? {
            let Some(start) = extent.volume_at else { continue };
            let blocks = extent.bytes.min(bytes.saturating_sub(extent.stream_at)) / size;
            for block in 0..blocks {
                let at = start + block * size;
                let read = self.pages.bytes(at, self.geometry.block_bytes as usize, "directory block");
                let (names, finding) = match read {
                    Ok(bytes) => entries(&bytes, at, self.geometry.inodes),
                    Err(error) if error.is_spent() => return Err(error),
                    Err(error) => {
                        let what = "a directory block cannot be read: its entries are missing";
                        (Vec::new(), Some(Finding::at(Severity::Broken, at, what, error.to_string())))
                    }
                };
                findings.extend(finding.filter(|_| findings.len() < MOST_FINDINGS));
                if names.into_iter().any(|name| each(name).is_break()) {
                    return Ok(findings);
                }
            }
        }
        Ok(findings)
    }

    pub(super) fn entry(&self, name: &RawName) -> Option<Entry> {
        let inode = self.inode(name.inode).ok();
        let by_type = match name.file_type {
            2 => Some(NodeKind::Directory),
            1 => Some(NodeKind::File),
            7 => Some(NodeKind::Link),
            _ => None,
        };
        if !name.present {
            // An entry whose inode lives on was moved when its block was split, not deleted.
            let own = inode.filter(Inode::is_deleted)?;
            let emptied = own.bytes() == 0 && by_type == Some(NodeKind::File);
            let own = Some(if emptied { self.before_deletion(name.inode).unwrap_or(own) } else { own });
            return Some(Entry {
                id: NodeId(u64::from(name.inode) | DELETED_NODE),
                name: name.text(),
                kind: by_type?,
                bytes: own.as_ref().map_or(0, Inode::bytes),
                times: own.map_or_else(Times::default, |inode| inode.times()),
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
            id: NodeId(u64::from(name.inode)),
            name: name.text(),
            kind,
            bytes: inode.as_ref().filter(|_| kind != NodeKind::Directory).map_or(0, Inode::bytes),
            times: inode.map_or_else(Times::default, |inode| inode.times()),
            existence,
        })
    }
}

pub(super) fn superblock(pages: &Pages, geometry: &ExtGeometry) -> Option<RawSuperblock> {
    let places = std::iter::once(0).chain(geometry.backup_groups().into_iter().take(8));
    let kept = Some(ByteOffset(geometry.kept_superblock)).filter(|at| at.0 != 0);
    places.map(|group| geometry.superblock_at(group)).chain(kept).find_map(|at| {
        let bytes = pages.bytes(at, 1024, "superblock").ok()?;
        let view = View::new("superblock", at, &bytes);
        let same = ExtGeometry::parse(view).is_ok_and(|(found, _)| found.uuid == geometry.uuid);
        // A copy knows the label, and nothing of the journal's state now.
        let raw = view.at::<RawSuperblock>(0, "superblock").ok().copied().filter(|_| same)?;
        Some(match at.0 {
            SUPERBLOCK_AT => raw,
            _ => RawSuperblock { s_feature_incompat: (raw.s_feature_incompat.get() | INCOMPAT_RECOVER).into(), ..raw },
        })
    })
}

fn text_of(field: &[u8]) -> Option<String> {
    let end = field.iter().position(|byte| *byte == 0).unwrap_or(field.len());
    let text = String::from_utf8_lossy(field.get(..end).unwrap_or_default()).into_owned();
    Some(text).filter(|text| !text.is_empty())
}
