//! An XFS volume without its root: one that another volume was made over, or whose first group was overwritten. Chunks of inodes that
//! the other groups still name say where content lies, folders among them name it.

use std::collections::HashSet;
use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::Serialize;

use super::directory::RawName;
use super::read::Log;
use super::{Inode, XfsGeometry, XfsVolume, groups, log};
use crate::clue::Clues;
use crate::device::step;
use crate::former::{Former, Host, told};
use crate::remnant::{Forest, Remnant};
use crate::{Entry, Existence, FormatError, FoundVolume, Geometry, NodeId, NodeKind, Problem, View, Volume, read_bytes};

/// The most folders of one volume.
const MOST_FOLDERS: usize = 65_536;
/// The most inodes that are looked at.
const MOST_SCANNED: u64 = 4 << 20;
/// The most copies of superblocks that are looked at.
const MOST_COPIES: usize = 4096;

/// What is left of the volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FormerXfs {
    /// Where its groups stand, by a copy of its superblock.
    pub geometry: XfsGeometry,
}

/// Volumes of an older generation that copies of their superblocks speak for, on ground that no volume of `hosts` uses.
pub(crate) fn former(drive: &SharedSource, clues: &Clues, found: &[FoundVolume], hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    let own = |volume: &FoundVolume| match &volume.geometry {
        Geometry::Xfs(geometry) => Some((volume.start, *geometry)),
        _ => None,
    };
    let known: HashSet<[u8; 16]> = found.iter().filter_map(own).map(|(_, geometry)| geometry.uuid).collect();
    let mut volumes = Vec::new();
    for host in hosts {
        let mut seen = HashSet::new();
        let olds = found.iter().filter(|volume| host.is_over(volume)).filter_map(own);
        // Where the formats tell another volume of the same start, copies may stand all the same.
        let copies = superblocks(drive, clues, host).into_iter().filter(|(_, geometry)| !known.contains(&geometry.uuid));
        for (start, geometry) in olds.chain(copies).filter(|(start, geometry)| seen.insert((*start, geometry.uuid))) {
            let window = crate::bounded::window(drive, ByteRange::sized(start, geometry.volume_bytes()));
            let count = left_groups(&XfsVolume::unrooted(window, geometry, Log::Left)).len();
            let said = format!("{count} of {} groups still name their inodes", geometry.groups);
            let what = Former::Xfs(FormerXfs { geometry });
            volumes.extend(told(drive, (start, ByteOffset(drive.len())), what, (start, count, said)));
        }
    }
    volumes
}

/// Volumes that copies of a superblock on the ground of `host` state.
fn superblocks(drive: &SharedSource, clues: &Clues, host: &Host<'_>) -> Vec<(ByteOffset, XfsGeometry)> {
    let mut volumes = Vec::new();
    for clue in clues.xfs.supers.iter().filter(|clue| host.volume.range().contains(clue.at)).take(MOST_COPIES) {
        let Some((start, geometry, group)) = super::witness::implied(drive.as_ref(), clue.at) else { continue };
        if group > 0 && start <= host.volume.start && !volumes.contains(&(start, geometry)) {
            volumes.push((start, geometry));
        }
    }
    volumes
}

/// Ground of the volume in `source` that its formatter set aside and did not clear: the log.
pub(crate) fn set_aside(source: &SharedSource, geometry: &XfsGeometry) -> RangeSet {
    let mut ground = RangeSet::default();
    let bytes = u64::from(geometry.log_blocks) * u64::from(geometry.block_bytes);
    let at = log::place(geometry);
    if at.0 > 0 && at.0.saturating_add(bytes) <= source.len() {
        ground.add(ByteRange::sized(at, bytes));
    }
    ground
}

/// Opens what is left of the volume in `source`.
pub(crate) fn open_former(source: SharedSource, what: &FormerXfs) -> Remnant<XfsVolume> {
    const WHY: &str = "another volume was made over this one: its first groups are not its own any more";
    remnant(XfsVolume::unrooted(source, what.geometry, Log::Left), WHY).0
}

/// Opens the volume in `source`; one whose root is gone by the folders and files that its groups still name.
///
/// # Errors
/// [`FormatError`] when neither the root nor anything else of it is left.
pub(crate) fn open(source: SharedSource, geometry: XfsGeometry) -> Result<Box<dyn Volume>, FormatError> {
    let error = match XfsVolume::open(SharedSource::clone(&source), geometry) {
        Ok(volume) if volume.has_root() => return Ok(Box::new(volume)),
        Ok(volume) => {
            let at = volume.inode(volume.geometry().root)?.at;
            FormatError::new("root folder", at, Problem::Missing("its entries"))
        }
        Err(error) => error,
    };
    let (remnant, is_empty) = remnant(XfsVolume::unrooted(source, geometry, Log::Replayed), "the root folder is gone");
    if is_empty { Err(error) } else { Ok(Box::new(remnant)) }
}

fn remnant(volume: XfsVolume, why: &'static str) -> (Remnant<XfsVolume>, bool) {
    let forest = Gathered::default().groups(&volume).forest;
    let (source, is_empty) = (SharedSource::clone(volume.source()), forest.is_empty());
    (Remnant::new(volume, source, forest, why), is_empty)
}

impl XfsVolume {
    /// True when the root is a folder that names at least something, or is an empty one that is whole.
    fn has_root(&self) -> bool {
        let Ok(root) = self.inode(self.geometry().root) else { return false };
        if root.inline().is_some() {
            return root.checksum_holds();
        }
        let mut names = false;
        let _ = self.names(&root, &mut |_| {
            names = true;
            ControlFlow::Break(())
        });
        names
    }
}

/// Groups whose inodes are still named.
fn left_groups(volume: &XfsVolume) -> Vec<u32> {
    let holds = |group: &u32| groups::inodes(&volume.pages, volume.geometry(), *group).is_ok();
    (0..volume.geometry().groups).filter(holds).collect()
}

/// A tree as it is put together.
#[derive(Default)]
struct Gathered {
    forest: Forest,
    named: HashSet<u64>,
    /// Inodes of folders that are to be looked at.
    below: Vec<u64>,
    seen: HashSet<u64>,
}

impl Gathered {
    /// By the inodes that groups still name: every folder, and every file that none of them names. Folders in groups that name nothing
    /// any more are looked at where another one names them.
    fn groups(mut self, volume: &XfsVolume) -> Self {
        let mut files: Vec<Entry> = Vec::new();
        let mut left = MOST_SCANNED;
        let root = volume.inode(volume.geometry().root).ok().filter(|inode| inode.kind() == Some(NodeKind::Directory));
        let root = root.filter(Inode::checksum_holds).map(|inode| inode.number);
        self.forest = Forest::new(root);
        self.below.extend(root);
        for group in left_groups(volume) {
            let _ = groups::each_chunk(&volume.pages, volume.geometry(), group, &mut |chunk| {
                for (index, used) in chunk.inodes() {
                    left = left.saturating_sub(1);
                    let number = volume.geometry().inode_number(group, u64::from(chunk.first) + index);
                    let at = volume.geometry().inode_at(number).unwrap_or_default();
                    if left == 0 || step(volume.source().as_ref(), at, "inode", 1).is_err() {
                        return ControlFlow::Break(());
                    }
                    let inode = volume.inode(number).ok().filter(|inode| used && inode.is_plausible());
                    inode.into_iter().for_each(|inode| self.take(volume, &inode, &mut files));
                }
                ControlFlow::Continue(())
            });
        }
        while let Some(number) = self.below.pop() {
            if let Ok(inode) = volume.inode(number) {
                self.folder(volume, &inode);
            }
        }
        for file in files {
            if !self.named.contains(&file.id.0) {
                self.forest.add_loose(file);
            }
        }
        self
    }

    fn take(&mut self, volume: &XfsVolume, inode: &Inode, files: &mut Vec<Entry>) {
        match inode.kind() {
            Some(NodeKind::Directory) => self.folder(volume, inode),
            Some(NodeKind::File) if files.len() < MOST_FOLDERS && inode.number > volume.geometry().root.wrapping_add(2) => {
                files.push(Entry {
                    id: NodeId(inode.number),
                    name: format!("inode {}", inode.number),
                    kind: NodeKind::File,
                    bytes: inode.bytes(),
                    times: inode.times(),
                    existence: Existence::Present,
                });
            }
            _ => {}
        }
    }

    fn folder(&mut self, volume: &XfsVolume, inode: &Inode) {
        if self.seen.len() >= MOST_FOLDERS || inode.kind() != Some(NodeKind::Directory) || !self.seen.insert(inode.number) {
            return;
        }
        self.forest.folder(inode.number);
        let _ = volume.names(inode, &mut |name| {
            self.name(volume, inode.number, &name);
            ControlFlow::Continue(())
        });
    }

    fn name(&mut self, volume: &XfsVolume, folder: u64, name: &RawName) {
        if name.is_dot() {
            return;
        }
        if let Some(entry) = volume.entry(name) {
            let own = (entry.kind == NodeKind::Directory).then_some(name.inode);
            if name.present {
                self.named.insert(name.inode);
                self.below.extend(own);
            }
            self.forest.add(folder, entry, own);
        }
    }
}

/// The geometry that a superblock at byte `at` of a drive states.
///
/// # Errors
/// [`FormatError`] when there is none.
pub(super) fn geometry_at(drive: &dyn keel_source::Source, at: ByteOffset) -> Result<XfsGeometry, FormatError> {
    let bytes = read_bytes(drive, at, super::layout::LEAST_SECTOR, "superblock")?;
    XfsGeometry::parse(View::new("superblock", at, &bytes))
}
