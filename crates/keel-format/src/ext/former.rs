//! An ext volume without its root: one that another volume was made over, or whose first groups were overwritten. Inodes that are
//! left say where content lies, folders that are left name them.

use std::collections::{BTreeMap, HashSet};
use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::Serialize;

use super::directory::entries;
use super::groups::copies_in;
use super::layout::{BG_BLOCK_UNINIT, BG_INODE_UNINIT, ROOT_INODE, RawSuperblock, SUPERBLOCK_AT, inode_table};
use super::read::Takes;
use super::scan::{FIRST_INODE, MOST_SCANNED, each_inode};
use super::{ExtGeometry, ExtVolume, Inode, RawName};
use crate::clue::Clues;
use crate::former::{Former, Host, told};
use crate::remnant::{Forest, Remnant};
use crate::{Entry, Existence, FormatError, FoundVolume, Geometry, NodeId, NodeKind, View, Volume, read_bytes};

/// The most folders of one volume.
const MOST_FOLDERS: usize = 65_536;
/// The most copies of superblocks that are looked at.
const MOST_COPIES: usize = 4096;
/// The most groups whose inode tables are asked for.
const MOST_GROUPS: u32 = 65_536;
/// The most inodes of an older generation that are looked at for files that no folder names.
const MOST_LOOSE: u64 = 1 << 18;

/// A folder that is left: its own inode and the block that it begins with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct LeftFolder {
    /// The inode that `.` names.
    pub own: u32,
    /// Where its first block stands in the volume.
    pub at: ByteOffset,
}

/// What is left of the volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FormerExt {
    /// Where its groups stand: its own, by a copy of its superblock, or those of the volume that was made in its place.
    pub geometry: ExtGeometry,
    /// When the volume was made whose inode tables took the place of this one's, in seconds since 1970; none where the tables are
    /// its own.
    pub before: Option<u32>,
    /// Its folders on ground that nobody took.
    #[serde(skip)]
    pub folders: Vec<LeftFolder>,
}

/// Volumes of an older generation that folders speak for, on ground that no volume of `hosts` uses.
pub(crate) fn former(drive: &SharedSource, clues: &Clues, found: &[FoundVolume], hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    let mut volumes = Vec::new();
    for host in hosts {
        let left = |start: ByteOffset, geometry: &ExtGeometry| -> Vec<LeftFolder> {
            let inside = |at: ByteOffset| at.0.checked_sub(start.0).filter(|byte| *byte < geometry.volume_bytes());
            let directories = clues.ext.directories.iter().filter(|clue| inside(clue.at).is_some() && host.leaves(clue.at));
            let whole = |folder: &LeftFolder| folder.at.0.is_multiple_of(u64::from(geometry.block_bytes));
            let folder = |clue: &super::DirectoryStart| LeftFolder { own: clue.own, at: ByteOffset(clue.at - start) };
            directories.map(folder).filter(whole).take(MOST_FOLDERS).collect()
        };
        let olds = found.iter().filter(|volume| host.is_over(volume)).filter_map(|volume| match &volume.geometry {
            Geometry::Ext(geometry) => {
                Some((volume.start, FormerExt { geometry: *geometry, before: None, folders: left(volume.start, geometry) }))
            }
            _ => None,
        });
        // Of two volumes that begin at the same place the formats tell one; copies of the other one's superblock may stand still.
        let copies = superblocks(drive, clues, found, host);
        let copies = copies
            .into_iter()
            .map(|(start, geometry)| (start, FormerExt { geometry, before: None, folders: left(start, &geometry) }));
        let in_place = match &host.volume.geometry {
            Geometry::Ext(geometry) => in_place(drive, host, geometry, left(host.volume.start, geometry)),
            _ => None,
        };
        for (start, what) in olds.chain(copies).chain(in_place.map(|what| (host.volume.start, what))) {
            let count = what.folders.len();
            let at = what.folders.first().map_or(start, |folder| start + folder.at.0);
            let said = format!("{count} folders on ground that no present volume uses, and the inodes that lead to them");
            volumes.extend(told(drive, (start, ByteOffset(drive.len())), Former::Ext(what), (at, count, said)));
        }
    }
    volumes
}

/// Volumes that copies of a superblock state and that none of `found` is, one for each identifier.
fn superblocks(drive: &SharedSource, clues: &Clues, found: &[FoundVolume], host: &Host<'_>) -> Vec<(ByteOffset, ExtGeometry)> {
    let mut known: HashSet<[u8; 16]> = found
        .iter()
        .filter_map(|volume| match &volume.geometry {
            Geometry::Ext(geometry) => Some(geometry.uuid),
            _ => None,
        })
        .collect();
    let mut volumes = Vec::new();
    for clue in clues.ext.supers.iter().filter(|clue| clue.group > 0 && host.volume.range().contains(clue.at)).take(MOST_COPIES) {
        let Ok(bytes) = read_bytes(drive.as_ref(), clue.at, 1024, "superblock") else { continue };
        let Ok((geometry, group)) = ExtGeometry::parse(View::new("superblock", clue.at, &bytes)) else { continue };
        let start = clue.at.0.checked_sub(geometry.superblock_at(group).0).map(ByteOffset);
        if let Some(start) = start.filter(|start| *start <= host.volume.start)
            && known.insert(geometry.uuid)
        {
            volumes.push((start, geometry));
        }
    }
    volumes
}

/// What a volume of the same shape left in the tables of the present one: formatters clear no tables. Folders that the present
/// volume deleted itself were changed since it was made, and are none of it.
fn in_place(drive: &SharedSource, host: &Host<'_>, geometry: &ExtGeometry, folders: Vec<LeftFolder>) -> Option<FormerExt> {
    let window = host.window(drive);
    let bytes =
        read_bytes(window.as_ref(), ByteOffset(SUPERBLOCK_AT), 1024, "superblock").ok().filter(|_| !folders.is_empty())?;
    let raw: &RawSuperblock = View::new("superblock", ByteOffset(SUPERBLOCK_AT), &bytes).at(0, "superblock").ok()?;
    let time = raw.s_mkfs_time.get();
    let volume = ExtVolume::unrooted(window, *geometry, Takes::Before(time));
    let own = |folder: &LeftFolder| volume.inode(folder.own).is_ok_and(|inode| inode.kind() == Some(NodeKind::Directory));
    let folders: Vec<LeftFolder> = folders.into_iter().filter(own).collect();
    (!folders.is_empty()).then_some(FormerExt { geometry: *geometry, before: Some(time), folders })
}

/// Ground of the volume in `source` that its formatter set aside and did not clear: inode tables and the journal.
pub(crate) fn set_aside(source: SharedSource, geometry: ExtGeometry) -> RangeSet {
    let mut ground = RangeSet::default();
    let volume = ExtVolume::unrooted(source, geometry, Takes::All);
    let table = u64::from(geometry.inodes_per_group) * u64::from(geometry.inode_bytes);
    let unit = u64::from(geometry.block_bytes);
    for group in 0..geometry.groups().min(MOST_GROUPS) {
        let Ok(raw) = volume.descriptor(group) else { continue };
        geometry.block_at(inode_table(&raw)).into_iter().for_each(|at| ground.add(ByteRange::sized(at, table)));
        let bitmaps = [(BG_BLOCK_UNINIT, raw.bg_block_bitmap_lo), (BG_INODE_UNINIT, raw.bg_inode_bitmap_lo)];
        for (_, block) in bitmaps.into_iter().filter(|(flag, _)| raw.bg_flags.get() & flag != 0) {
            geometry.block_at(u64::from(block.get())).into_iter().for_each(|at| ground.add(ByteRange::sized(at, unit)));
        }
        // Blocks that are reserved for more descriptors stand behind those in use.
        if let Some(copies) = copies_in(&volume, group) {
            let (at, end) = (ByteOffset(copies.start * unit), copies.end * unit);
            let written = (u64::from(geometry.groups()) * u64::from(geometry.descriptor_bytes)).div_ceil(unit) * unit + unit;
            ground.add(ByteRange::sized(at + written, end.saturating_sub(at.0 + written)));
        }
    }
    for extent in volume.extents(NodeId(u64::from(geometry.journal_inode))).unwrap_or_default() {
        extent.volume_at.into_iter().for_each(|at| ground.add(ByteRange::sized(at, extent.bytes)));
    }
    ground
}

/// Opens what is left of the volume in `source`.
pub(crate) fn open_former(source: SharedSource, what: &FormerExt) -> Remnant<ExtVolume> {
    const WHY: &str = "another volume was made over this one: its first groups are not its own any more";
    let takes = what.before.map_or(Takes::ByChecksum, Takes::Before);
    let mut volume = ExtVolume::unrooted(source, what.geometry, takes);
    // Its tables may be kept by its journal alone, and its root with them.
    if what.before.is_none() && !volume.has_root() {
        volume.restore();
    }
    let forest = Gathered::default().folders(&volume, &what.folders).forest;
    let source = SharedSource::clone(volume.source());
    Remnant::new(volume, source, forest, WHY)
}

/// Opens the volume in `source`; one whose root is gone by the folders and files that its inode tables still hold.
///
/// # Errors
/// [`FormatError`] when neither the root nor anything else of it is left.
pub(crate) fn open(source: SharedSource, geometry: ExtGeometry) -> Result<Box<dyn Volume>, FormatError> {
    const WHY: &str = "the root folder is gone";
    if !geometry.fits(source.len()) {
        let groups = u64::from(geometry.groups());
        return Err(FormatError::value("superblock", ByteOffset(SUPERBLOCK_AT), "groups", groups, "no more than have room"));
    }
    let opened = ExtVolume::open(SharedSource::clone(&source), geometry);
    let gone = match &opened {
        Ok(volume) if volume.has_root() => None,
        Ok(volume) => Some(FormatError::new("root folder", volume.inode(ROOT_INODE)?.at, crate::Problem::Missing("its entries"))),
        Err(_) => None,
    };
    let error = match (opened, gone) {
        (Ok(volume), None) => return Ok(Box::new(volume)),
        (_, Some(error)) | (Err(error), _) => error,
    };
    let volume = ExtVolume::unrooted(source, geometry, Takes::All);
    let gathered = Gathered::default().tables(&volume);
    let source = SharedSource::clone(volume.source());
    if gathered.forest.is_empty() { Err(error) } else { Ok(Box::new(Remnant::new(volume, source, gathered.forest, WHY))) }
}

/// A tree as it is put together.
#[derive(Default)]
struct Gathered {
    forest: Forest,
    named: HashSet<u32>,
    /// Inodes of folders that are to be looked at.
    below: Vec<u32>,
}

impl Gathered {
    /// By folders whose places are known, by the root, and by what these name: where the inode of a folder is gone, its first block
    /// still names files. Then by files in the tables that no folder names, as far as [`MOST_LOOSE`] inodes.
    fn folders(mut self, volume: &ExtVolume, folders: &[LeftFolder]) -> Self {
        let inode_of = |own: u32| volume.inode(own).ok().filter(|inode| inode.kind() == Some(NodeKind::Directory));
        let mut by_inode: BTreeMap<u32, Vec<ByteOffset>> = BTreeMap::new();
        folders.iter().for_each(|folder| by_inode.entry(folder.own).or_default().push(folder.at));
        let has_root = by_inode.contains_key(&ROOT_INODE) || inode_of(ROOT_INODE).is_some();
        self.forest = Forest::new(has_root.then_some(u64::from(ROOT_INODE)));
        self.below = by_inode.keys().rev().copied().chain(has_root.then_some(ROOT_INODE)).collect();
        let mut seen: HashSet<u32> = HashSet::new();
        while let Some(own) = self.below.pop() {
            if seen.len() >= MOST_FOLDERS || !seen.insert(own) {
                continue;
            }
            let places = by_inode.get(&own).map(Vec::as_slice).unwrap_or_default();
            let first = |inode: &Inode| volume.extents(NodeId(u64::from(inode.number))).ok()?.first()?.volume_at;
            // Of a folder that was seen the inode has to lead to where it was.
            let inode = inode_of(own).filter(|inode| places.is_empty() || first(inode).is_some_and(|at| places.contains(&at)));
            match (inode, places.first()) {
                (Some(inode), _) => self.folder(volume, &inode),
                (None, Some(at)) => {
                    let size = volume.geometry().block_bytes as usize;
                    let Ok(block) = read_bytes(volume.source().as_ref(), *at, size, "directory block") else { continue };
                    let (names, _) = entries(&block, *at, volume.geometry().inodes);
                    self.forest.folder(u64::from(own));
                    names.iter().for_each(|name| self.name(volume, own, name));
                }
                (None, None) => {}
            }
        }
        self.loose(volume, MOST_LOOSE, false)
    }

    /// By the inodes that the tables hold: every folder, and every file that none of them names.
    fn tables(self, volume: &ExtVolume) -> Self {
        self.loose(volume, MOST_SCANNED, true)
    }

    /// Adds the files of the first `most` inodes that no folder names, and with `folders` what every folder among them names.
    fn loose(mut self, volume: &ExtVolume, most: u64, folders: bool) -> Self {
        let mut files: Vec<Entry> = Vec::new();
        each_inode(volume, most, &mut |inode| match inode.kind() {
            Some(NodeKind::Directory) if folders => self.folder(volume, &inode),
            Some(NodeKind::File) if inode.number >= FIRST_INODE && files.len() < MOST_FOLDERS => files.push(Entry {
                id: NodeId(u64::from(inode.number)),
                name: format!("inode {}", inode.number),
                kind: NodeKind::File,
                bytes: inode.bytes(),
                times: inode.times(),
                existence: Existence::Present,
            }),
            _ => {}
        });
        for file in files {
            if !u32::try_from(file.id.0).is_ok_and(|number| self.named.contains(&number)) {
                self.forest.add_loose(file);
            }
        }
        self
    }

    fn folder(&mut self, volume: &ExtVolume, inode: &Inode) {
        self.forest.folder(u64::from(inode.number));
        let _ = volume.names(inode, &mut |name| {
            self.name(volume, inode.number, &name);
            ControlFlow::Continue(())
        });
    }

    fn name(&mut self, volume: &ExtVolume, folder: u32, name: &RawName) {
        if name.name == b"." || name.name == b".." {
            return;
        }
        if let Some(entry) = volume.entry(name) {
            if name.present {
                self.named.insert(name.inode);
            }
            let own = (entry.kind == NodeKind::Directory).then_some(name.inode);
            self.below.extend(own.filter(|_| name.present));
            self.forest.add(u64::from(folder), entry, own.map(u64::from));
        }
    }
}
