//! An ext volume of another length: groups are added or given up, descriptors get the room that they need, and what lies on ground that is
//! given up moves, its maps with it. Inodes of groups that are given up get other numbers, and every folder that names them is changed.

mod folders;
mod groups;
mod maps;
mod reserve;

use std::collections::BTreeMap;
use std::ops::Range;

use keel_source::SharedSource;
use zerocopy::{FromBytes, IntoBytes};

use self::groups::Groups;
use super::layout::{
    COMPAT_ORPHAN_FILE, COMPAT_RESIZE_INODE, COMPAT_SPARSE_SUPER2, INCOMPAT_FLEX_BG, INCOMPAT_INLINE_DATA, INCOMPAT_META_BG,
    INCOMPAT_RECOVER, JOURNAL_INODE, RO_COMPAT_BIGALLOC, RO_COMPAT_ORPHAN_PRESENT, RawSuperblock, SUPERBLOCK_AT, crc32c,
};
use super::{ExtGeometry, ExtVolume, Inode};
use crate::resize::{NotResized, Resized, Sheet, Units};
use crate::{Geometry, Volume};

/// `INCOMPAT_MMP` and `INCOMPAT_EA_INODE`.
const INCOMPAT_MMP: u32 = 0x100;
const INCOMPAT_EA_INODE: u32 = 0x400;
/// Number of the inode that keeps reserved blocks for descriptors.
const RESIZE_INODE: u32 = 7;
/// Number of the inode that keeps blocks which do not work.
const BAD_INODE: u32 = 1;
/// Blocks that a last group has to have beside its own structures.
const LEAST_LEFT: u64 = 50;
/// The most blocks whose ground is held.
const MOST_BLOCKS: u64 = 1 << 33;

fn opened(window: &SharedSource, any: &Geometry) -> Result<(ExtVolume, RawSuperblock), NotResized> {
    let Geometry::Ext(geometry) = any else { return Err(NotResized("it is no ext".into())) };
    let refuse = |why: &str| Err(NotResized(why.into()));
    if geometry.incompat & INCOMPAT_META_BG != 0 {
        return refuse("its descriptors stand in meta groups, which are not followed here");
    }
    if geometry.ro_compat & RO_COMPAT_BIGALLOC != 0 {
        return refuse("it counts its blocks in clusters (bigalloc), which is not followed here");
    }
    if geometry.incompat & INCOMPAT_RECOVER != 0 || geometry.ro_compat & RO_COMPAT_ORPHAN_PRESENT != 0 {
        return refuse("its journal holds what is not in its place yet: it has to be mounted and closed first");
    }
    let volume = ExtVolume::open(SharedSource::clone(window), *geometry).map_err(|why| NotResized(why.to_string()))?;
    let sheet = Sheet::new(window);
    let raw = sheet.read(SUPERBLOCK_AT, size_of::<RawSuperblock>())?;
    let raw = RawSuperblock::read_from_bytes(&raw).map_err(|_| NotResized("its superblock cannot be read".into()))?;
    if raw.s_last_orphan.get() != 0 {
        return refuse("files wait to be deleted on it: it has to be mounted and closed first");
    }
    Ok((volume, raw))
}

/// The fewest bytes that the volume in `window` can be made to take.
pub(super) fn least(window: &SharedSource, any: &Geometry) -> Result<u64, NotResized> {
    let (volume, _) = opened(window, any)?;
    let geometry = volume.geometry();
    let block = u64::from(geometry.block_bytes);
    let groups = Groups::read(&volume, window)?;
    let all = u64::from(geometry.blocks_per_group);
    // Blocks of files alone: what groups hold for themselves comes back with each that stays.
    let (files, inodes) = groups.in_use(geometry);
    let own = groups.own_most(geometry);
    let by_inodes = inodes.div_ceil(u64::from(geometry.inodes_per_group)).max(1);
    let by_blocks = files.div_ceil(all.saturating_sub(own).max(1)).max(1);
    let count = by_inodes.max(by_blocks);
    let last = files.saturating_sub((count - 1) * all.saturating_sub(own)) + own + LEAST_LEFT;
    Ok((u64::from(geometry.first_data_block) + (count - 1) * all + last.min(all)) * block)
}

/// The volume in `window` with at most `bytes` bytes.
pub(super) fn to(window: &SharedSource, any: &Geometry, bytes: u64) -> Result<Resized, NotResized> {
    let (volume, raw) = opened(window, any)?;
    let old = *volume.geometry();
    let groups = Groups::read(&volume, window)?;
    let new = fitted(&old, &raw, &groups, bytes)?;
    let is_too_small = |why: NotResized| match least(window, any) {
        Ok(least) if least > bytes => NotResized::too_small(bytes, least),
        _ => why,
    };
    let mut work = Work::new(window, &volume, (old, new), raw, groups)?;
    work.all().map_err(is_too_small)?;
    work.sheet.parts(Geometry::Ext(new))
}

/// The geometry of the volume in `bytes` bytes. A last group that has no room for its own structures is left out.
fn fitted(old: &ExtGeometry, raw: &RawSuperblock, groups: &Groups, bytes: u64) -> Result<ExtGeometry, NotResized> {
    let most = if old.incompat & super::layout::INCOMPAT_64BIT == 0 { u64::from(u32::MAX) } else { MOST_BLOCKS };
    let made = |blocks: u64| {
        let new = ExtGeometry { blocks, ..*old };
        let inodes = u64::from(new.groups()) * u64::from(old.inodes_per_group);
        (u32::try_from(inodes).ok()).map(|inodes| ExtGeometry { inodes, ..new })
    };
    let mut blocks = (bytes / u64::from(old.block_bytes)).min(most);
    // No more inodes than can be counted.
    let most_groups = u64::from(u32::MAX / old.inodes_per_group.max(1));
    blocks = blocks.min(u64::from(old.first_data_block) + most_groups * u64::from(old.blocks_per_group));
    if blocks <= u64::from(old.first_data_block) + 1 {
        return Err(NotResized::too_small(bytes, u64::from(old.block_bytes) * (groups.own_most(old) + LEAST_LEFT)));
    }
    let none = || NotResized(format!("{blocks} blocks are more than its inodes allow"));
    let mut new = made(blocks).ok_or_else(none)?;
    let last = new.groups() - 1;
    let left = new.blocks - new.first_block(last);
    let is_old = last < old.groups()
        && left >= old.blocks.min(old.first_block(last) + u64::from(old.blocks_per_group)) - old.first_block(last);
    if left < groups.own_blocks(&new, raw, last) + LEAST_LEFT && !is_old {
        if last == 0 {
            return Err(NotResized::too_small(bytes, u64::from(old.block_bytes) * (groups.own_most(old) + LEAST_LEFT)));
        }
        new = made(new.first_block(last)).ok_or_else(none)?;
    }
    if old.compat & COMPAT_SPARSE_SUPER2 != 0 && new.groups() != old.groups() {
        return Err(NotResized(
            "it keeps its copies in two groups of its choice (sparse_super2), which is not followed here".into(),
        ));
    }
    Ok(new)
}

/// What is done.
struct Work<'a> {
    old: ExtGeometry,
    new: ExtGeometry,
    raw: RawSuperblock,
    groups: Groups,
    /// Blocks of both lengths, as they become.
    blocks: Units,
    /// Inodes of the groups that stay, by their numbers less one, as they become.
    inodes: Units,
    /// Blocks that have to be left, ascending.
    gone: Vec<Range<u64>>,
    sheet: Sheet<'a>,
    /// Blocks that moved one by one: from, to.
    moved: BTreeMap<u64, u64>,
    /// New numbers of inodes.
    renumbered: BTreeMap<u32, u32>,
}

impl<'a> Work<'a> {
    fn new(
        window: &'a SharedSource,
        volume: &ExtVolume,
        (old, new): (ExtGeometry, ExtGeometry),
        raw: RawSuperblock,
        groups: Groups,
    ) -> Result<Self, NotResized> {
        let allocation = volume.allocation().ok_or_else(|| NotResized("its block bitmaps cannot be read".into()))?;
        let mut blocks = Units::new(new.blocks);
        blocks.take(0..u64::from(old.first_data_block));
        for units in allocation.used() {
            let first = allocation.first_number;
            blocks.take((units.start + first).min(old.blocks)..(units.end + first).min(old.blocks).min(new.blocks));
        }
        let inodes = groups.inodes(&new.groups().min(old.groups()), &old);
        Ok(Self {
            old,
            new,
            raw,
            groups,
            blocks,
            inodes,
            gone: Vec::new(),
            sheet: Sheet::new(window),
            moved: BTreeMap::new(),
            renumbered: BTreeMap::new(),
        })
    }

    fn all(&mut self) -> Result<(), NotResized> {
        let (before, after) = (self.old.groups(), self.new.groups());
        if after < before {
            self.give_up_groups()?;
        }
        let head = self.new_head();
        for group in before..after {
            self.groups.add(&self.new, (group, head), &mut self.blocks, &mut self.sheet);
        }
        self.make_room_for_descriptors();
        if self.new.blocks < self.old.blocks {
            if self.old.incompat & INCOMPAT_MMP != 0 {
                return Err(NotResized("it guards itself against being mounted twice (mmp), which is not followed here".into()));
            }
            self.gone.push(self.new.blocks..self.old.blocks);
        }
        self.groups.is_touched.insert(before.min(after) - 1);
        self.groups.leave(&self.gone.clone(), &mut self.blocks, (&self.old, &self.new), &mut self.sheet)?;
        if !self.gone.is_empty() || !self.renumbered.is_empty() {
            self.inodes_in_use()?;
        }
        if self.old.compat & COMPAT_RESIZE_INODE != 0 {
            self.reserve()?;
        }
        self.groups.bitmaps((&self.old, &self.new), &self.blocks, &self.inodes, &mut self.sheet)?;
        self.superblocks()
    }

    /// Groups behind the last one that stays: what they hold for themselves is free, and their inodes go to others.
    fn give_up_groups(&mut self) -> Result<(), NotResized> {
        let after = self.new.groups();
        for group in after..self.old.groups() {
            for range in self.groups.structures(&self.old, group) {
                if range.start < self.new.blocks {
                    self.touch(range.clone());
                    self.blocks.free(range.start..range.end.min(self.new.blocks));
                }
            }
        }
        let limit = after * self.old.inodes_per_group;
        for number in self.groups.used_inodes(&self.old, after..self.old.groups()) {
            let free = self
                .inodes
                .take_run(1)
                .ok_or_else(|| NotResized(format!("the groups that stay have too few inodes: {limit} for those of all files")))?;
            self.renumbered.insert(number, u32::try_from(free + 1).unwrap_or(u32::MAX));
        }
        let unmoved = [self.raw.s_usr_quota_inum.get(), self.raw.s_grp_quota_inum.get(), self.raw.s_prj_quota_inum.get()];
        let orphan = if self.old.compat & COMPAT_ORPHAN_FILE != 0 { self.raw.s_orphan_file_inum.get() } else { 0 };
        let is_named =
            unmoved.into_iter().chain([orphan, self.raw.s_journal_inum.get()]).any(|inode| self.renumbered.contains_key(&inode));
        if !self.renumbered.is_empty() && (is_named || self.old.incompat & (INCOMPAT_INLINE_DATA | INCOMPAT_EA_INODE) != 0) {
            return Err(NotResized("inodes would get other numbers that its superblock, other inodes or attributes name".into()));
        }
        Ok(())
    }

    /// Blocks of descriptors as they become stand behind each superblock; what stands there otherwise leaves.
    fn make_room_for_descriptors(&mut self) {
        let (was, becomes) = (self.old_head(), self.new_head());
        let stay = self.old.groups().min(self.new.groups());
        let old = self.old;
        for group in (0..stay).filter(|group| old.has_superblock(*group)) {
            let first = old.first_block(group) + 1;
            self.touch(first + was.min(becomes)..first + was.max(becomes).max(was.min(becomes) + 1));
            if becomes > was {
                self.gone.push(first + was..first + becomes);
            } else {
                self.blocks.free(first + becomes..(first + was).min(self.new.blocks));
            }
        }
        self.gone.sort_by_key(|range| range.start);
        // What leaves finds no place where it has to leave.
        for range in self.gone.clone() {
            self.blocks.take(range);
        }
    }

    /// Blocks behind each superblock: descriptors, and those that are reserved for more.
    fn old_head(&self) -> u64 {
        descriptor_blocks(&self.old) + u64::from(self.raw.s_reserved_gdt_blocks.get())
    }

    fn new_head(&self) -> u64 {
        descriptor_blocks(&self.new) + self.reserved()
    }

    /// Blocks that are reserved for more descriptors: as many as are left of those that there were.
    fn reserved(&self) -> u64 {
        let has = descriptor_blocks(&self.old) + u64::from(self.raw.s_reserved_gdt_blocks.get());
        let by_inode = self.old.compat & COMPAT_RESIZE_INODE != 0;
        let most = u64::from(self.old.block_bytes / 4);
        if by_inode { has.saturating_sub(descriptor_blocks(&self.new)).min(most) } else { 0 }
    }

    fn touch(&mut self, range: Range<u64>) {
        let of = |block: u64| {
            let inside = block.saturating_sub(u64::from(self.old.first_data_block));
            u32::try_from(inside / u64::from(self.old.blocks_per_group)).unwrap_or(0)
        };
        self.groups.is_touched.extend(of(range.start)..=of(range.end.saturating_sub(1).max(range.start)));
    }

    /// True when any block of `range` has to be left.
    fn has_to_go(&self, range: &Range<u64>) -> bool {
        self.gone.iter().any(|gone| gone.start < range.end && range.start < gone.end)
    }

    fn place(&self, block: u64) -> u64 {
        block * u64::from(self.old.block_bytes)
    }

    /// `count` free blocks in one piece, or in several.
    fn take(&mut self, count: u64) -> Result<Vec<Range<u64>>, NotResized> {
        let taken = self.blocks.take_pieces(count).ok_or_else(no_room)?;
        taken.iter().for_each(|range| self.touch(range.clone()));
        Ok(taken)
    }

    fn free(&mut self, range: Range<u64>) {
        if range.start < self.new.blocks && !self.has_to_go(&range) {
            self.touch(range.clone());
            self.blocks.free(range.start..range.end.min(self.new.blocks));
        }
    }

    /// Every inode in use: its blocks leave where they have to, and it gets its number.
    fn inodes_in_use(&mut self) -> Result<(), NotResized> {
        let all = self.groups.used_inodes(&self.old, 0..self.old.groups());
        let size = usize::from(self.old.inode_bytes);
        for number in all {
            if matches!(number, RESIZE_INODE | BAD_INODE) {
                continue;
            }
            let at = self.groups.inode_at(&self.old, number);
            let bytes = self.sheet.read(at, size)?;
            let inode = Inode::parse(number, keel_source::ByteOffset(at), bytes).map_err(|why| NotResized(why.to_string()))?;
            let becomes = self.renumbered.get(&number).copied().unwrap_or(number);
            let changed = self.inode(&inode, becomes)?;
            if becomes == number && changed.is_none() {
                continue;
            }
            let raw = changed.unwrap_or(inode.raw);
            let moved = Inode::parse(becomes, keel_source::ByteOffset(at), inode.with(&self.old, &raw))
                .map_err(|why| NotResized(why.to_string()))?;
            let bytes = moved.with(&self.old, &raw);
            if number == JOURNAL_INODE && self.raw.s_jnl_backup_type == 1 {
                self.raw.s_jnl_blocks.iter_mut().zip(raw.i_block).for_each(|(slot, byte)| *slot = byte);
            }
            self.sheet.write("inode", self.groups.inode_at(&self.old, becomes), &bytes)?;
            if becomes != number {
                let is_folder = inode.kind() == Some(crate::NodeKind::Directory);
                self.groups.note_inode(&self.old, becomes, is_folder);
            }
        }
        Ok(())
    }

    /// The superblock and the descriptors, in every place.
    fn superblocks(&mut self) -> Result<(), NotResized> {
        let (old, new) = (self.old, self.new);
        let descriptors = self.groups.sealed(&new);
        let reserved = self.reserved();
        let (free_blocks, free_inodes) = self.groups.free(&new);
        let raw = &mut self.raw;
        let low = |value: u64| ((value & 0xFFFF_FFFF) as u32, (value >> 32) as u32);
        let wide = new.incompat & super::layout::INCOMPAT_64BIT != 0;
        let kept =
            u64::from(raw.s_r_blocks_count_lo.get()) | if wide { u64::from(raw.s_r_blocks_count_hi.get()) << 32 } else { 0 };
        let kept = u64::try_from(u128::from(kept) * u128::from(new.blocks) / u128::from(old.blocks.max(1))).unwrap_or(0);
        let numbers = [
            (new.blocks, &mut raw.s_blocks_count_lo, &mut raw.s_blocks_count_hi),
            (kept, &mut raw.s_r_blocks_count_lo, &mut raw.s_r_blocks_count_hi),
            (free_blocks, &mut raw.s_free_blocks_count_lo, &mut raw.s_free_blocks_count_hi),
        ];
        for (value, half, high) in numbers {
            half.set(low(value).0);
            if wide {
                high.set(low(value).1);
            }
        }
        raw.s_inodes_count.set(new.inodes);
        raw.s_free_inodes_count.set(free_inodes);
        raw.s_reserved_gdt_blocks.set(u16::try_from(reserved).unwrap_or(0));
        // Drivers count it anew.
        raw.s_overhead_clusters.set(0);
        for group in (0..new.groups()).rev().filter(|group| new.has_superblock(*group)) {
            let at = new.superblock_at(group).0;
            raw.s_block_group_nr.set(u16::try_from(group).unwrap_or(u16::MAX));
            raw.s_checksum.set(0);
            if new.has_checksums() {
                let sum = crc32c(u32::MAX, raw.as_bytes().get(..1020).unwrap_or_default());
                raw.s_checksum.set(sum);
            }
            let block = u64::from(new.block_bytes);
            let head = if group == 0 { SUPERBLOCK_AT / block + 1 } else { new.first_block(group) + 1 };
            self.sheet.write("group descriptors", head * block, &descriptors)?;
            let written = raw.as_bytes().to_vec();
            self.sheet.write("superblock", at, &written)?;
        }
        Ok(())
    }
}

/// Blocks of the descriptors of all groups.
fn descriptor_blocks(geometry: &ExtGeometry) -> u64 {
    (u64::from(geometry.groups()) * u64::from(geometry.descriptor_bytes)).div_ceil(u64::from(geometry.block_bytes))
}

fn no_room() -> NotResized {
    NotResized("what would have to move finds no room: too little of the volume is free".into())
}

/// True where structures of a group may stand in another one.
fn may_stand_anywhere(geometry: &ExtGeometry) -> bool {
    geometry.incompat & INCOMPAT_FLEX_BG != 0
}
