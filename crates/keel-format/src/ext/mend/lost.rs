//! The core of a volume whose first groups were overwritten: what the journal keeps is put back, the root and other folders of which
//! blocks stand get inodes again, names that lead nowhere are taken out, and bitmaps are counted anew.

use std::collections::{BTreeMap, HashSet};
use std::ops::ControlFlow;
use std::ops::Range;
use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, Overlay, SharedSource};
use zerocopy::FromZeros;
use zerocopy::little_endian::U32;

use super::super::directory::RawName;
use super::super::groups::descriptor_points_inside;
use super::super::inode::stored;
use super::super::layout::{
    COMPAT_HAS_JOURNAL, COMPAT_ORPHAN_FILE, COMPAT_RESIZE_INODE, FLAG_EXTENTS, FLAG_INDEX, INCOMPAT_EXTENTS, INCOMPAT_RECOVER,
    RO_COMPAT_ORPHAN_PRESENT, RO_COMPAT_PROJECT, RO_COMPAT_QUOTA, ROOT_INODE, RawInode,
};
use super::super::read::Takes;
use super::super::scan::{FIRST_INODE, each_inode};
use super::super::{ExtGeometry, ExtVolume, Inode, journal};
use super::bitmaps;
use super::census::{Census, NamedFolders, holds_live, parent_of};
use super::features::Features;
use super::folders::{Form, Owner, Stray, fresh, holds, insert, remove, salvaged, strays};
use crate::structure::{Compute, Computed, Structure};
use crate::{FormatError, NodeId, NodeKind, Problem, Volume, read_bytes};

/// The most inodes of a volume that is put together again: a bit for each in memory.
const MOST_INODES: u32 = 1 << 28;
/// The most bytes that are put back.
const LARGEST: usize = 64 << 20;
/// The most files and folders without a name that are given one.
const MOST_UNNAMED: usize = 65_536;
/// The inode that keeps blocks reserved for more descriptors, and the one of the folder for what has no name.
const RESIZE_INODE: u32 = 7;
const LOST_FOUND_INODE: u32 = 11;
/// The most free blocks that are looked at for one of zeros.
const MOST_TRIED: usize = 65_536;
/// The most extents that an inode names without blocks of their own.
const MOST_EXTENTS: usize = 4;
/// The most blocks that the older map names without blocks of its own.
const MOST_DIRECT: usize = 12;

/// What is put back.
pub(super) struct Rebuilt {
    /// Blocks of the core.
    pub(super) structures: Vec<Structure>,
    /// What no superblock may state any more.
    pub(super) without: Features,
    /// The volume with those blocks laid over it.
    pub(super) view: SharedSource,
}

/// A block as it should be.
struct Piece {
    name: String,
    bytes: Vec<u8>,
    /// Where the journal keeps these very bytes.
    kept: Option<ByteOffset>,
    why: &'static str,
}

/// The core while it is put together.
struct Core {
    volume: ExtVolume,
    blocks: BTreeMap<u64, Piece>,
}

/// What has to be put back of the volume in `window`; `None` where its root stands, and where the groups' descriptors do not.
pub(super) fn rebuilt(window: &SharedSource, geometry: &ExtGeometry) -> Option<Rebuilt> {
    let mut volume = ExtVolume::unrooted(SharedSource::clone(window), *geometry, Takes::All);
    let described = |group: u32| volume.best_descriptor(group).is_ok_and(|raw| descriptor_points_inside(&raw, geometry));
    if stands(&volume, window) || geometry.inodes > MOST_INODES || !(0..geometry.groups()).all(described) {
        return None;
    }
    volume.restore();
    let mut core = Core { volume, blocks: BTreeMap::new() };
    core.put_back_kept();
    let journal = core.put_back_journal();
    core.put_back_folders();
    core.put_back_damaged_folders();
    core.name_the_nameless();
    let census = core.take_out_dead_names();
    core.count_anew(&census);
    if core.blocks.values().map(|piece| piece.bytes.len()).sum::<usize>() > LARGEST || census.folders.is_empty() {
        return None;
    }
    let without = core.features_without(&census, journal);
    Some(Rebuilt { structures: core.structures(window), without, view: core.view() })
}

/// True when root and journal stand in their places, whatever the journal holds of them.
fn stands(volume: &ExtVolume, window: &SharedSource) -> bool {
    let plain = volume.over(SharedSource::clone(window));
    let geometry = plain.geometry();
    let journal = geometry.journal_inode == 0
        || plain.inode(geometry.journal_inode).is_ok_and(|inode| inode.is_plausible() && inode.may_be(geometry));
    plain.has_root() && journal
}

impl Core {
    fn geometry(&self) -> &ExtGeometry {
        self.volume.geometry()
    }

    /// The volume with what was put back so far.
    fn view(&self) -> SharedSource {
        let mut overlay = Overlay::new(SharedSource::clone(self.volume.source()));
        for (block, piece) in &self.blocks {
            self.geometry().block_at(*block).into_iter().for_each(|at| overlay.lay(at, &piece.bytes));
        }
        Arc::new(overlay)
    }

    fn now(&self) -> ExtVolume {
        self.volume.over(self.view())
    }

    fn block(&self, block: u64) -> Option<Vec<u8>> {
        let read = || {
            let at = self.geometry().block_at(block)?;
            read_bytes(self.volume.source().as_ref(), at, self.geometry().block_bytes as usize, "block").ok()
        };
        self.blocks.get(&block).map(|piece| piece.bytes.clone()).or_else(read)
    }

    fn set(&mut self, block: u64, name: impl Into<String>, bytes: Vec<u8>, why: &'static str) {
        self.blocks.insert(block, Piece { name: name.into(), bytes, kept: None, why });
    }

    /// Blocks that the volume is read with from its journal: those whose places were overwritten, and those that were never written
    /// to their places. The journal is left empty: nothing may be written over them again.
    fn put_back_kept(&mut self) {
        const WHY: &str = "something else stands in the place of a block that the journal keeps";
        for (block, at) in self.volume.restored.clone() {
            if let Some(bytes) = self.block(block) {
                self.blocks.insert(block, Piece { name: format!("block {block}"), bytes, kept: Some(at), why: WHY });
            }
        }
        let own: HashSet<u64> = self.stated_blocks();
        for block in self.volume.replayed_blocks().iter().copied().filter(|block| !own.contains(block)).collect::<Vec<u64>>() {
            if let Some(bytes) = self.block(block).filter(|_| !self.blocks.contains_key(&block)) {
                self.set(block, format!("block {block}"), bytes, "the journal holds a newer one");
            }
        }
    }

    /// Blocks of the main superblock and of the descriptors, which are structures of their own.
    fn stated_blocks(&self) -> HashSet<u64> {
        let (geometry, unit) = (self.geometry(), u64::from(self.geometry().block_bytes));
        let descriptors = (0..geometry.groups()).map(|group| geometry.descriptor_at(group).0 / unit);
        descriptors.chain([geometry.superblock_at(0).0 / unit]).collect()
    }

    /// The inode of the journal, where only the superblock keeps it; the journal empty, where it was not. True when one stands.
    fn put_back_journal(&mut self) -> bool {
        let Some(inode) = self.volume.journal_inode() else { return false };
        let Some(at) = self.volume.journal_at(&inode) else { return false };
        if !self.leads_to(&inode) {
            let why = "the journal's inode is gone; a copy of the superblock keeps where it lies";
            self.set_inode(inode.number, &inode.raw, why);
        }
        let block = at.0 / u64::from(self.geometry().block_bytes);
        if self.volume.has_pending_journal()
            && let Some(mut bytes) = self.block(block)
        {
            journal::empty(&mut bytes);
            self.set(block, "journal superblock", bytes, "what it held is put in its place");
        }
        true
    }

    /// True when the inode that stands in the journal's place is the one by which it is read.
    fn leads_to(&self, inode: &Inode) -> bool {
        self.volume.inode(inode.number).is_ok_and(|own| own.raw.i_block == inode.raw.i_block && own.may_be(self.geometry()))
    }

    /// Writes an inode into its place.
    fn set_inode(&mut self, number: u32, raw: &RawInode, why: &'static str) {
        let bytes = stored(self.geometry(), number, raw);
        self.set_slot(number, &bytes, why);
    }

    fn set_slot(&mut self, number: u32, slot: &[u8], why: &'static str) {
        let Ok(at) = self.volume.inode_at(number) else { return };
        let unit = u64::from(self.geometry().block_bytes);
        let Some(mut bytes) = self.block(at.0 / unit) else { return };
        let inside = usize::try_from(at.0 % unit).unwrap_or(usize::MAX);
        if let Some(place) = bytes.get_mut(inside..).and_then(|rest| rest.get_mut(..slot.len())) {
            place.copy_from_slice(slot);
        }
        self.set(at.0 / unit, format!("block {} of the inode table", at.0 / unit), bytes, why);
    }

    /// Inodes for folders whose blocks stand and whose own inodes do not: the root, then what folders name and what names its way
    /// back to the root. What stands in the system's own slots and is no inode is cleared.
    fn put_back_folders(&mut self) {
        let volume = self.now();
        for number in 1..FIRST_INODE {
            let stands = volume.inode(number).is_ok_and(|inode| inode.may_be(self.geometry()));
            if !stands && number != ROOT_INODE {
                let empty = vec![0; usize::from(self.geometry().inode_bytes)];
                self.set_slot(number, &empty, "what stands in a slot that the system keeps for itself is no inode");
            }
        }
        let volume = self.now();
        let census = Census::of(&volume);
        let known = strays(&volume, &census.held);
        // An inode that was freed stands; one that was overwritten does not, and only such a one is made again.
        let is_gone = |number: u32| {
            let found = volume.inode(number).ok();
            let stands = found.is_some_and(|inode| inode.may_be(volume.geometry()) && inode.raw.i_ctime.get() != 0);
            !stands && (number == ROOT_INODE || number >= FIRST_INODE)
        };
        let mut named = NamedFolders::of(&volume, &census);
        let root =
            known.get(&ROOT_INODE).and_then(|all| all.iter().find(|stray| stray.generation == 0 && stray.parent == ROOT_INODE));
        let root_stands = volume.has_root();
        if !root_stands {
            match root {
                Some(stray) => self.set_folder(&volume, stray, &mut named),
                None => self.make_root(&census),
            }
        }
        let mut done: HashSet<u32> = HashSet::new();
        loop {
            let supported = |stray: &&Stray| {
                let by_name = named.targets.contains(&stray.own);
                let below_lost_root =
                    root.is_none() && !root_stands && stray.parent == ROOT_INODE && holds_live(&volume, stray, &census);
                by_name || below_lost_root
            };
            let wanted = |own: &u32| *own != ROOT_INODE && is_gone(*own) && !done.contains(own);
            let next = known.iter().filter(|(own, _)| wanted(own)).find_map(|(_, all)| all.iter().find(supported));
            let Some(stray) = next else { break };
            done.insert(stray.own);
            self.set_folder(&volume, stray, &mut named);
        }
    }

    /// The inode of a folder by its blocks.
    fn set_folder(&mut self, volume: &ExtVolume, stray: &Stray, named: &mut NamedFolders) {
        let geometry = *self.geometry();
        let (mut names, owner) = (Vec::new(), Owner { inode: stray.own, generation: stray.generation });
        for block in &stray.blocks {
            let Some(at) = geometry.block_at(*block) else { continue };
            let Ok(bytes) = read_bytes(volume.source().as_ref(), at, geometry.block_bytes as usize, "directory block") else {
                continue;
            };
            names.extend(super::super::directory::entries(&bytes, at, geometry.inodes).0);
        }
        let below =
            names.iter().filter(|name| name.present && name.file_type == 2 && name.name != b"." && name.name != b"..").count();
        named.add(stray.own, &names);
        let mut blocks = stray.blocks.clone();
        if stray.is_indexed
            && let Some(first) = blocks.first()
        {
            // Its index leads by numbers of the folder's own blocks, which nothing states any more.
            self.set(
                *first,
                format!("folder {}", stray.own),
                fresh(&geometry, owner, stray.parent),
                "its index is gone with its inode",
            );
        }
        let Some(mut raw) = folder_inode(&geometry, &mut blocks) else { return };
        raw.i_generation.set(stray.generation);
        raw.i_links_count.set(u16::try_from(below + 2).unwrap_or(1));
        self.stamp(&mut raw);
        self.set_inode(stray.own, &raw, "the inode of a folder is gone whose blocks stand");
    }

    /// Times of an inode that is made anew: those of the superblock's last write.
    fn stamp(&self, raw: &mut RawInode) {
        let time = self.volume.superblock().map_or(U32::new(1), |raw| raw.s_wtime.max(raw.s_mkfs_time));
        for slot in [&mut raw.i_atime, &mut raw.i_ctime, &mut raw.i_mtime, &mut raw.i_crtime] {
            *slot = time;
        }
    }

    /// A root that names nothing, on the first block of zeros that nothing holds.
    fn make_root(&mut self, census: &Census) {
        let geometry = *self.geometry();
        let unit = u64::from(geometry.block_bytes);
        let gaps = census.held.lacking(ByteRange::sized(ByteOffset(0), geometry.volume_bytes()));
        // A cluster of its own, where blocks are given out in clusters.
        let cluster = u64::from(geometry.cluster_bytes.max(geometry.block_bytes)) / unit;
        let first = |gap: &ByteRange| gap.start.0.div_ceil(unit).next_multiple_of(cluster)..gap.end.0 / unit;
        let inside = u64::from(geometry.first_data_block).max(1);
        let blocks = gaps.iter().flat_map(first).filter(|block| block % cluster == 0 && *block >= inside).take(MOST_TRIED);
        let mut zeros = blocks.filter(|block| self.block(*block).is_some_and(|bytes| bytes.iter().all(|byte| *byte == 0)));
        let Some(block) = zeros.next() else { return };
        let owner = Owner { inode: ROOT_INODE, generation: 0 };
        let bytes = fresh(&geometry, owner, ROOT_INODE);
        self.set(block, "root folder", bytes, "no block of the root folder is left");
        if let Some(mut raw) = folder_inode(&geometry, &mut vec![block]) {
            raw.i_links_count.set(2);
            self.stamp(&mut raw);
            self.set_inode(ROOT_INODE, &raw, "the root folder's inode is gone");
        }
    }

    /// Names for what is in use and has none, by its number: in the root what names it as its parent, else in the folder for such.
    fn name_the_nameless(&mut self) {
        let volume = self.now();
        let census = Census::of(&volume);
        let named = NamedFolders::of(&volume, &census).targets;
        // Inodes of the system's own that no folder names.
        let own = volume.superblock().map(|raw| [raw.s_orphan_file_inum.get(), raw.s_prj_quota_inum.get()]).unwrap_or_default();
        let mut nameless: Vec<Inode> = Vec::new();
        each_inode(&volume, u64::MAX, &mut |inode| {
            if inode.number >= FIRST_INODE
                && inode.number != LOST_FOUND_INODE
                && !named.contains(&inode.number)
                && !own.contains(&inode.number)
                && nameless.len() < MOST_UNNAMED
            {
                nameless.push(inode);
            }
        });
        let is_folder = |number: u32| {
            volume.inode(number).is_ok_and(|inode| inode.kind() == Some(NodeKind::Directory) && inode.is_plausible())
        };
        let other = if is_folder(LOST_FOUND_INODE) { LOST_FOUND_INODE } else { ROOT_INODE };
        if other == LOST_FOUND_INODE && !named.contains(&LOST_FOUND_INODE) {
            self.name_in(
                &volume,
                ROOT_INODE,
                &RawName { inode: LOST_FOUND_INODE, name: b"lost+found".to_vec(), file_type: 2, present: true },
            );
        }
        for inode in nameless {
            let kind = inode.kind();
            let below_root = kind == Some(NodeKind::Directory) && parent_of(&volume, &inode) == Some(ROOT_INODE);
            let word = if kind == Some(NodeKind::Directory) { "folder" } else { "inode" };
            let name = RawName {
                inode: inode.number,
                name: format!("{word} {}", inode.number).into_bytes(),
                file_type: type_of(&inode),
                present: true,
            };
            self.name_in(&volume, if below_root { ROOT_INODE } else { other }, &name);
        }
    }

    /// Puts a name into a folder, where one of its blocks has room. A folder with an index would not find it.
    fn name_in(&mut self, volume: &ExtVolume, folder: u32, name: &RawName) {
        let geometry = *self.geometry();
        let Ok(inode) = volume.inode(folder) else { return };
        if inode.has_flag(FLAG_INDEX) {
            return;
        }
        let owner = Owner { inode: folder, generation: inode.raw.i_generation.get() };
        for block in blocks_of(volume, folder) {
            let Some(mut bytes) = self.block(block) else { continue };
            if insert(&geometry, owner, &mut bytes, name) {
                self.set(block, format!("folder {folder}"), bytes, "files and folders that are in use are named nowhere");
                break;
            }
        }
    }

    /// Writes blocks of folders anew that do not hold: what still reads of them stays. A folder whose index does not hold is searched
    /// from front to back from now on.
    fn put_back_damaged_folders(&mut self) {
        let volume = self.now();
        let census = Census::of(&volume);
        let named = NamedFolders::of(&volume, &census);
        let geometry = *self.geometry();
        for folder in &census.folders {
            let Ok(inode) = volume.inode(*folder) else { continue };
            let owner = Owner { inode: *folder, generation: inode.raw.i_generation.get() };
            let parent = named.parents.get(folder).copied().unwrap_or(ROOT_INODE);
            let mut is_indexed = inode.has_flag(FLAG_INDEX);
            for (index, block) in blocks_of(&volume, *folder).into_iter().enumerate() {
                let Some(bytes) = self.block(block) else { continue };
                let form = Form::of(index, is_indexed);
                if holds(&geometry, owner, &bytes, form) {
                    continue;
                }
                if form == Form::Index {
                    is_indexed = false;
                    let mut raw = inode.raw;
                    raw.i_flags.set(raw.i_flags.get() & !FLAG_INDEX);
                    self.set_raw(&inode, &raw);
                }
                let fresh = salvaged(&geometry, owner, &bytes, (index == 0).then_some(parent));
                self.set(
                    block,
                    format!("folder {folder}"),
                    fresh,
                    "a block of the folder does not hold; what still reads of it stays",
                );
            }
        }
    }

    /// Writes other fields of an inode into its place; what stands behind them stays.
    fn set_raw(&mut self, inode: &Inode, raw: &RawInode) {
        let slot = inode.with(self.geometry(), raw);
        self.set_slot(inode.number, &slot, "the index of the folder is gone");
    }

    /// Takes names out whose inodes are gone: a driver notes an error of the volume at each. Answers with what is in use then.
    fn take_out_dead_names(&mut self) -> Census {
        let volume = self.now();
        let census = Census::of(&volume);
        let geometry = *self.geometry();
        for folder in &census.folders {
            let Ok(inode) = volume.inode(*folder) else { continue };
            let mut dead: HashSet<u32> = HashSet::new();
            let _ = volume.names(&inode, &mut |name| {
                dead.extend((name.present && !census.is_used(u64::from(name.inode))).then_some(name.inode));
                ControlFlow::Continue(())
            });
            let owner = Owner { inode: *folder, generation: inode.raw.i_generation.get() };
            for block in blocks_of(&volume, *folder).into_iter().filter(|_| !dead.is_empty()) {
                let Some(mut bytes) = self.block(block) else { continue };
                if remove(&geometry, owner, &mut bytes, &dead) > 0 {
                    self.set(block, format!("folder {folder}"), bytes, "it names inodes that are gone");
                }
            }
        }
        census
    }

    /// Bitmaps that cannot be those of their groups.
    fn count_anew(&mut self, census: &Census) {
        let volume = self.now();
        for group in 0..self.geometry().groups() {
            for (block, name, bytes) in bitmaps::lost(&volume, group, census) {
                self.set(block, name, bytes, "it does not count what is in use");
            }
        }
    }

    fn features_without(&self, census: &Census, journal: bool) -> Features {
        let volume = self.now();
        let gone = |number: u32| !volume.inode(number).is_ok_and(|inode| inode.is_plausible() && inode.may_be(self.geometry()));
        let raw = self.volume.superblock();
        let quotas = raw.as_ref().map(|raw| [raw.s_usr_quota_inum.get(), raw.s_grp_quota_inum.get()]).unwrap_or_default();
        let quotas = quotas.into_iter().any(|number| number != 0 && gone(number));
        let projects = raw.as_ref().is_some_and(|raw| raw.s_prj_quota_inum.get() != 0 && gone(raw.s_prj_quota_inum.get()));
        let orphan_file = raw.as_ref().map_or(0, |raw| raw.s_orphan_file_inum.get());
        let orphans = orphan_file != 0 && !census.is_used(u64::from(orphan_file));
        let when = |gone: bool, feature: u32| if gone { feature } else { 0 };
        Features {
            // What the journal held is in its place then. One that is a partition of its own is another thing.
            incompat: when(self.geometry().journal_inode != 0, INCOMPAT_RECOVER),
            compat: when(!journal && self.geometry().journal_inode != 0, COMPAT_HAS_JOURNAL)
                | when(gone(RESIZE_INODE), COMPAT_RESIZE_INODE)
                | when(orphans, COMPAT_ORPHAN_FILE),
            ro_compat: when(quotas, RO_COMPAT_QUOTA)
                | when(projects, RO_COMPAT_PROJECT)
                | when(orphans, RO_COMPAT_ORPHAN_PRESENT),
        }
    }

    /// The blocks beside what stands in their places; those that stand as they should are left out.
    fn structures(&self, window: &SharedSource) -> Vec<Structure> {
        let size = self.geometry().block_bytes as usize;
        let structure = |(block, piece): (&u64, &Piece)| {
            let at = self.geometry().block_at(*block)?;
            let judge = |place: ByteOffset, bytes: &[u8]| match bytes == piece.bytes {
                true => Ok(()),
                false => Err(FormatError::new("block", place, Problem::Coding(piece.why))),
            };
            let copies: Vec<ByteOffset> = piece.kept.into_iter().collect();
            let read = Structure::read(window, piece.name.clone(), size, (at, &copies), &judge, &|bytes| bytes);
            let computed = || Some(Computed { bytes: piece.bytes.clone(), witnesses: Vec::new() });
            Some(read.with_computed(Compute::WhereNeeded, computed)).filter(|read| !read.main.holds())
        };
        self.blocks.iter().filter_map(structure).collect()
    }
}

/// An inode of a folder with these blocks; those that it cannot name by itself are taken off.
fn folder_inode(geometry: &ExtGeometry, blocks: &mut Vec<u64>) -> Option<RawInode> {
    let mut raw = RawInode::new_zeroed();
    raw.i_mode.set(0o040_755);
    if geometry.incompat & INCOMPAT_EXTENTS != 0 {
        let mut runs: Vec<Range<u64>> = Vec::new();
        for block in blocks.iter() {
            match runs.last_mut() {
                Some(last) if last.end == *block => last.end += 1,
                _ => runs.push(*block..*block + 1),
            }
        }
        runs.truncate(MOST_EXTENTS);
        blocks.truncate(usize::try_from(runs.iter().map(|run| run.end - run.start).sum::<u64>()).ok()?);
        raw.i_flags.set(FLAG_EXTENTS);
        let mut map = vec![0x0A, 0xF3, u8::try_from(runs.len()).ok()?, 0, 4, 0, 0, 0, 0, 0, 0, 0];
        let mut inside = 0u64;
        for run in &runs {
            map.extend(u32::try_from(inside).ok()?.to_le_bytes());
            map.extend(u16::try_from(run.end - run.start).ok()?.to_le_bytes());
            map.extend(u16::try_from(run.start >> 32).ok()?.to_le_bytes());
            map.extend(u32::try_from(run.start & 0xFFFF_FFFF).ok()?.to_le_bytes());
            inside += run.end - run.start;
        }
        raw.i_block.iter_mut().zip(map).for_each(|(slot, byte)| *slot = byte);
    } else {
        blocks.truncate(MOST_DIRECT);
        let words = blocks.iter().map(|block| u32::try_from(*block).map(u32::to_le_bytes)).collect::<Result<Vec<_>, _>>().ok()?;
        raw.i_block.iter_mut().zip(words.concat()).for_each(|(slot, byte)| *slot = byte);
    }
    let bytes = blocks.len() as u64 * u64::from(geometry.block_bytes);
    raw.i_size_lo.set(u32::try_from(bytes).ok()?);
    // Sectors of 512 bytes; with clusters a whole one is held for each.
    let held = bytes.next_multiple_of(u64::from(geometry.cluster_bytes.max(geometry.block_bytes)));
    raw.i_blocks_lo.set(u32::try_from(held / 512).ok()?);
    Some(raw)
}

/// The blocks of a folder in the order of its content.
fn blocks_of(volume: &ExtVolume, folder: u32) -> Vec<u64> {
    let unit = u64::from(volume.geometry().block_bytes);
    let extents = volume.extents(NodeId(u64::from(folder))).unwrap_or_default();
    let runs = extents.iter().filter_map(|extent| Some((extent.volume_at?.0 / unit, extent.bytes / unit)));
    runs.flat_map(|(first, count)| first..first.saturating_add(count)).collect()
}

/// `file_type` of an entry for the inode.
fn type_of(inode: &Inode) -> u8 {
    match inode.raw.i_mode.get() >> 12 {
        8 => 1,
        4 => 2,
        2 => 3,
        6 => 4,
        1 => 5,
        12 => 6,
        10 => 7,
        _ => 0,
    }
}
