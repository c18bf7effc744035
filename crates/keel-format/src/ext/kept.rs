//! What the journal still keeps of blocks as they were: names and inodes of before a deletion, and blocks whose places were
//! overwritten.

use std::collections::{BTreeMap, HashSet};
use std::ops::{ControlFlow, Range};
use std::sync::{Arc, PoisonError};

use keel_source::{ByteOffset, SharedSource};
use zerocopy::FromZeros;
use zerocopy::little_endian::U32;

use super::directory::{RawName, entries};
use super::inode::stored;
use super::layout::{FLAG_EXTENTS, RawInode, inode_table};
use super::mend::judge_descriptors;
use super::read::Earlier;
use super::scan::{MOST_SCANNED, each_inode};
use super::{ExtVolume, Inode, journal};
use crate::pages::Pages;
use crate::replay::{Newer, Replayed};
use crate::{Entry, Finding, NodeKind, Severity};

/// `s_jnl_backup_type`: the superblock keeps `i_block` and the size of the journal's inode.
pub(super) const BACKUP_OF_BLOCKS: u8 = 1;
/// `eh_magic`, as stored.
pub(super) const EXTENT_MAGIC: [u8; 2] = [0x0A, 0xF3];
/// The most groups whose inode tables are asked for.
const MOST_GROUPS: u32 = 65_536;
/// The most blocks of one directory of which former states are looked at, and the most states of each.
const MOST_FORMER: usize = 4096;
const MOST_STATES: usize = 64;

/// The inode table of a group.
struct Table {
    blocks: Range<u64>,
    first_inode: u32,
}

/// Inodes of one block.
#[derive(Default)]
struct Counted {
    /// That hold anything.
    written: u32,
    /// That are in use.
    used: u32,
}

impl ExtVolume {
    /// Names that the journal kept of the blocks of directory `inode` and that are in them no more: newer kernels wipe what they
    /// delete.
    pub(super) fn former_names(
        &self,
        inode: &Inode,
        listed: &mut HashSet<(u32, Vec<u8>)>,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) {
        let unit = u64::from(self.geometry.block_bytes);
        let extents = inode.extents(&self.pages, &self.geometry).unwrap_or_default();
        let blocks = extents.iter().filter_map(|extent| Some((extent.volume_at?.0 / unit, extent.bytes / unit)));
        for block in blocks.flat_map(|(first, count)| first..first.saturating_add(count)).take(MOST_FORMER) {
            for (_, kept) in self.earlier().get(&block).into_iter().flatten().take(MOST_STATES) {
                let Ok(bytes) = self.pages.bytes(*kept, self.geometry.block_bytes as usize, "directory block") else { continue };
                let (names, _) = entries(&bytes, *kept, self.geometry.inodes);
                for name in names.into_iter().filter(|name| name.name != b"." && name.name != b"..") {
                    let former = RawName { present: false, ..name };
                    if listed.insert((former.inode, former.name.clone()))
                        && let Some(entry) = self.entry(&former)
                        && each(entry).is_break()
                    {
                        return;
                    }
                }
            }
        }
    }

    /// What the journal keeps of blocks as they were; read once.
    pub(super) fn earlier(&self) -> &Earlier {
        let read = || Some(journal::earlier(&self.pages, &self.geometry, &self.journal_inode()?));
        self.earlier.get_or_init(|| read().unwrap_or_default())
    }

    /// The journal's inode, when it leads to a journal; else as the superblock keeps it (`s_jnl_blocks`).
    pub(super) fn journal_inode(&self) -> Option<Inode> {
        let number = Some(self.geometry.journal_inode).filter(|number| *number != 0)?;
        let leads = |inode: &Inode| self.journal_at(inode).is_some();
        let own = self.inode(number).ok();
        match own.filter(leads) {
            Some(own) => Some(own),
            None => self.stated_journal(number).filter(leads).or_else(|| self.inode(number).ok()),
        }
    }

    /// The journal's inode as the superblock keeps it.
    pub(super) fn stated_journal(&self, number: u32) -> Option<Inode> {
        let superblock = self.superblock().filter(|raw| raw.s_jnl_backup_type == BACKUP_OF_BLOCKS)?;
        let (blocks, sizes) = superblock.s_jnl_blocks.split_at_checked(60)?;
        let word = |at: usize| sizes.get(at..at + 4).and_then(<[u8]>::first_chunk::<4>).map(|word| U32::from_bytes(*word));
        let mut raw = RawInode::new_zeroed();
        raw.i_mode.set(0o100_600);
        raw.i_links_count.set(1);
        raw.i_block.copy_from_slice(blocks);
        (raw.i_size_high, raw.i_size_lo) = (word(0)?, word(4)?);
        let blocks = u64::from(raw.i_size_lo.get()).div_ceil(512);
        raw.i_blocks_lo.set(u32::try_from(blocks).ok()?);
        raw.i_flags.set(if raw.i_block.starts_with(&EXTENT_MAGIC) { FLAG_EXTENTS } else { 0 });
        for time in [&mut raw.i_ctime, &mut raw.i_mtime, &mut raw.i_atime] {
            *time = superblock.s_mkfs_time;
        }
        // Where its table is lost its place is not known, and not needed.
        let at = self.inode_at(number).unwrap_or_default();
        Inode::parse(number, at, stored(&self.geometry, number, &raw)).ok()
    }

    /// Reads group descriptors that were overwritten from the journal, where the volume was found by a superblock in it: no group
    /// keeps a copy of them then.
    pub(super) fn restore_descriptors(&mut self) {
        let Some(inode) = self.stated_journal(self.geometry.journal_inode) else { return };
        let states = journal::earlier(&self.pages, &self.geometry, &inode);
        let unit = u64::from(self.geometry.block_bytes);
        let each = (self.geometry.block_bytes / u32::from(self.geometry.descriptor_bytes).max(1)).max(1);
        let mut found = BTreeMap::new();
        for first in (0..self.geometry.groups().min(MOST_GROUPS)).step_by(each as usize) {
            let count = each.min(self.geometry.groups() - first) as usize;
            let place = self.geometry.descriptor_at(first);
            let holds = |at: ByteOffset| {
                let len = count * usize::from(self.geometry.descriptor_bytes);
                let bytes = self.pages.bytes(at, len, "group descriptors");
                bytes.is_ok_and(|bytes| judge_descriptors(&self.geometry, first, at, &bytes).is_ok())
            };
            let kept = states.get(&(place.0 / unit)).into_iter().flatten().map(|(_, at)| *at);
            if !holds(place) {
                found.extend(kept.map(|at| (place.0 / unit, at)).find(|(_, at)| holds(*at + place.0 % unit)));
            }
        }
        self.redirect(found);
    }

    /// Where the journal that `inode` leads to begins in the volume; `None` where none stands there.
    pub(super) fn journal_at(&self, inode: &Inode) -> Option<ByteOffset> {
        let extents = inode.extents(&self.pages, &self.geometry).ok()?;
        journal::stands(&self.pages, &self.geometry, inode).then(|| extents.first()?.volume_at)?
    }

    /// Reads blocks of inodes and folders whose places were overwritten from the journal, where it keeps them. A block counts as
    /// overwritten when what stands there cannot be what belongs there, and what the journal keeps can.
    pub(super) fn restore(&mut self) {
        let tables = self.tables();
        let mut found: BTreeMap<u64, ByteOffset> = BTreeMap::new();
        for (block, states) in self.earlier() {
            let index = tables.partition_point(|table| table.blocks.end <= *block);
            let Some(table) = tables.get(index).filter(|table| table.blocks.contains(block)) else { continue };
            let first = table.first_inode + self.inodes_per_block() * u32::try_from(block - table.blocks.start).unwrap_or(0);
            let read = |at: ByteOffset| self.sound_inodes(first, at);
            // Zeros are right where no inode was ever used; the journal knows of some.
            let stands = self.geometry.block_at(*block).and_then(read).is_some_and(|inodes| inodes.written > 0);
            let kept = states.iter().map(|(_, at)| *at).find(|at| read(*at).is_some_and(|inodes| inodes.used > 0));
            found.extend(kept.filter(|_| !stands).map(|at| (*block, at)));
        }
        self.redirect(found);
        let folders = self.overwritten_folders();
        self.redirect(folders);
        if !self.restored.is_empty() {
            let what =
                format!("{} blocks of inodes and folders were overwritten: they are read from the journal", self.restored.len());
            let first = self.restored.keys().next().and_then(|block| self.geometry.block_at(*block));
            let finding = Finding {
                what,
                at_byte: first,
                how: "the latest state that it keeps of each".into(),
                severity: Severity::Broken,
            };
            self.replay.push(finding);
        }
    }

    fn redirect(&mut self, found: BTreeMap<u64, ByteOffset>) {
        if !found.is_empty() {
            let newer = found.iter().map(|(block, at)| (*block, Newer { at: *at, head: None })).collect();
            let unit = u64::from(self.geometry.block_bytes);
            self.pages = Pages::new(Arc::new(Replayed::new(SharedSource::clone(self.pages.source()), unit, newer)));
            self.restored.extend(found);
            self.best.lock().unwrap_or_else(PoisonError::into_inner).clear();
        }
    }

    /// Blocks of folders in which no entry stands any more, and where the journal keeps them.
    fn overwritten_folders(&self) -> BTreeMap<u64, ByteOffset> {
        let mut found = BTreeMap::new();
        let names = |at: ByteOffset| {
            let bytes = self.pages.bytes(at, self.geometry.block_bytes as usize, "directory block").ok()?;
            let (names, wrong) = entries(&bytes, at, self.geometry.inodes);
            wrong.is_none().then_some(names.len())
        };
        let unit = u64::from(self.geometry.block_bytes);
        each_inode(self, MOST_SCANNED, &mut |inode| {
            if inode.kind() != Some(NodeKind::Directory) {
                return;
            }
            let extents = inode.extents(&self.pages, &self.geometry).unwrap_or_default();
            let blocks = extents.iter().filter_map(|extent| Some((extent.volume_at?.0 / unit, extent.bytes / unit)));
            for block in blocks.flat_map(|(first, count)| first..first.saturating_add(count)).take(MOST_FORMER) {
                let Some(states) = self.earlier().get(&block) else { continue };
                if self.geometry.block_at(block).and_then(names).is_none() {
                    let kept = states.iter().map(|(_, at)| *at).find(|at| names(*at).is_some_and(|count| count > 0));
                    found.extend(kept.map(|at| (block, at)));
                }
            }
        });
        found
    }

    fn inodes_per_block(&self) -> u32 {
        self.geometry.block_bytes / u32::from(self.geometry.inode_bytes.max(128))
    }

    /// The inode tables of all groups, ascending.
    fn tables(&self) -> Vec<Table> {
        let per_group = self.geometry.inodes_per_group;
        let blocks = u64::from(per_group.div_ceil(self.inodes_per_block().max(1)));
        let groups = 0..self.geometry.groups().min(MOST_GROUPS);
        let table = |group: u32| {
            let start = inode_table(&self.best_descriptor(group).ok()?);
            Some(Table { blocks: start..start.checked_add(blocks)?, first_inode: group.checked_mul(per_group)?.checked_add(1)? })
        };
        let mut tables: Vec<Table> = groups.filter_map(table).collect();
        tables.sort_by_key(|table| table.blocks.start);
        tables
    }

    /// Inodes of the block of an inode table at `at` whose first inode is `first`; `None` when what stands there cannot be inodes of
    /// this volume.
    fn sound_inodes(&self, first: u32, at: ByteOffset) -> Option<Counted> {
        let bytes = self.pages.bytes(at, self.geometry.block_bytes as usize, "inode table").ok()?;
        let mut counted = Counted::default();
        for (number, one) in (first..).zip(bytes.chunks_exact(usize::from(self.geometry.inode_bytes.max(128)))) {
            if one.iter().all(|byte| *byte == 0) {
                continue;
            }
            let inode = Inode::parse(number, at, one.to_vec()).ok()?;
            if !inode.may_be(&self.geometry) {
                return None;
            }
            counted.written += 1;
            counted.used += u32::from(inode.is_plausible());
        }
        Some(counted)
    }

    /// The inode as the journal last kept it before its file was deleted: deleting empties it.
    pub(super) fn before_deletion(&self, number: u32) -> Option<Inode> {
        let states = self.earlier();
        let at = self.inode(number).ok()?.at;
        let unit = u64::from(self.geometry.block_bytes);
        let inside = at.0 % unit;
        states.get(&(at.0 / unit))?.iter().find_map(|(_, kept)| {
            let bytes = self.pages.bytes(*kept + inside, usize::from(self.geometry.inode_bytes), "inode").ok()?;
            // Its place stays the one in the table: what follows from it, like its checksum, counts from there.
            let inode = Inode::parse(number, at, bytes).ok()?;
            (!inode.is_deleted() && inode.kind() == Some(NodeKind::File) && inode.bytes() > 0).then_some(inode)
        })
    }
}
