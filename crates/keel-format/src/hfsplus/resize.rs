//! An HFS+ volume of another length. Extents behind the end move, and the records that name them are changed in their place; the
//! allocation file counts the blocks that there are, and both headers say so.

use keel_source::{ByteOffset, SharedSource};
use zerocopy::big_endian::{U32, U64};
use zerocopy::{FromBytes, IntoBytes};

use super::btree::header_of;
use super::layout::{
    ATTRIBUTE_JOURNALED, ATTRIBUTES_FILE_ID, CATALOG_FILE_ID, HEADER_AT, NODE_LEAF, RECORD_FILE, RawExtent, RawFile, RawFork,
    RawHeader, RawNode,
};
use super::{HfsGeometry, open};
use crate::resize::{NotResized, Resized, Sheet, Units};
use crate::{Allocation, Geometry, View};

/// Offsets of the records of the attributes tree that name extents: `kHFSPlusAttrForkData` and `kHFSPlusAttrExtents`.
const FORK_DATA: (u32, usize) = (0x20, 8 + 16);
const MORE_EXTENTS: (u32, usize) = (0x30, 8);
/// Offset of the extents in a fork.
const IN_FORK: usize = 16;
/// File ID of the first file that is no structure of the volume.
const FIRST_FILE: u32 = 16;
/// The most blocks whose ground is held.
const MOST_BLOCKS: u64 = u32::MAX as u64;

fn opened(window: &SharedSource, any: &Geometry) -> Result<(HfsGeometry, Allocation), NotResized> {
    let Geometry::HfsPlus(geometry) = any else { return Err(NotResized("it is no HFS+".into())) };
    let volume = open(SharedSource::clone(window), *geometry).map_err(|why| NotResized(why.to_string()))?;
    let allocation = volume.allocation().ok_or_else(|| NotResized("its allocation file cannot be read".into()))?;
    Ok((*geometry, allocation))
}

/// The first block that holds a part of the alternate header of a volume of `bytes` bytes, or lies behind it.
fn first_of_end(bytes: u64, block: u64) -> u64 {
    (bytes - HEADER_AT) / block
}

/// The fewest bytes that the volume in `window` can be made to take.
pub(super) fn least(window: &SharedSource, any: &Geometry) -> Result<u64, NotResized> {
    let (geometry, allocation) = opened(window, any)?;
    let (block, end) = (u64::from(geometry.block_bytes), first_of_end(geometry.volume_bytes(), u64::from(geometry.block_bytes)));
    let used: u64 = allocation.used().iter().map(|units| units.end.min(end).saturating_sub(units.start)).sum();
    Ok((used.max(4) * block + HEADER_AT).next_multiple_of(block))
}

/// The volume in `window` with at most `bytes` bytes.
pub(super) fn to(window: &SharedSource, any: &Geometry, bytes: u64) -> Result<Resized, NotResized> {
    let (old, allocation) = opened(window, any)?;
    let sector = window.sector_size().bytes().max(512);
    let (bytes, block) = (bytes / sector * sector, u64::from(old.block_bytes));
    let total = (bytes / block).min(MOST_BLOCKS);
    let bytes = bytes.min(total * block + bytes % block);
    if total < 8 || bytes < 4 * HEADER_AT {
        return Err(NotResized::too_small(bytes, least(window, any)?));
    }
    let limit = first_of_end(bytes, block).min(total);
    let mut ground = Units::new(limit);
    let former_end = first_of_end(old.volume_bytes(), block);
    allocation.used().iter().for_each(|units| ground.take(units.start.min(former_end)..units.end.min(former_end).min(limit)));
    let sheet = Sheet::new(window);
    let head = sheet.read(HEADER_AT, size_of::<RawHeader>())?;
    let head = RawHeader::read_from_bytes(&head).map_err(|_| NotResized("its header cannot be read".into()))?;
    let mut work = Work { old, block, limit, total, bytes, ground, sheet, head, moves: Vec::new() };
    let done = work.all();
    done.map_err(|why| match least(window, any) {
        Ok(least) if least > bytes => NotResized::too_small(bytes, least),
        _ => why,
    })?;
    let geometry = work.headers()?;
    work.sheet.parts(Geometry::HfsPlus(geometry))
}

/// What is done with a record of a leaf: the work, the node, and the offsets of key and data in it.
type EachRecord<'a, W> = &'a mut dyn FnMut(&mut W, &mut [u8], usize, usize) -> Result<(), NotResized>;
/// First block and count.
type Piece = (u32, u32);

struct Work<'a> {
    old: HfsGeometry,
    /// Bytes of a block.
    block: u64,
    /// The first block that files may not have.
    limit: u64,
    total: u64,
    bytes: u64,
    ground: Units,
    sheet: Sheet<'a>,
    head: RawHeader,
    /// Blocks that moved: from, to, count.
    moves: Vec<(u32, u32, u32)>,
}

impl Work<'_> {
    fn all(&mut self) -> Result<(), NotResized> {
        let [mut overflow, mut catalog, mut attributes, mut startup, mut allocation] = [
            self.head.extents_file,
            self.head.catalog_file,
            self.head.attributes_file,
            self.head.startup_file,
            self.head.allocation_file,
        ];
        // The tree of further extents first: what it names of the other trees decides where those lie.
        for fork in [&mut overflow, &mut catalog, &mut attributes, &mut startup] {
            self.place_all(&mut fork.extents, true)?;
        }
        self.place_all(&mut allocation.extents, true)?;
        let mut more: [Vec<(u32, Vec<Piece>)>; 2] = [Vec::new(), Vec::new()];
        self.leaves(&pieces(&overflow.extents), &mut |work, node, key, data| {
            let (file, first) = (number(node, key + 2) as u32, number(node, key + 6) as u32);
            let is_structure = file < FIRST_FILE;
            let becomes = work.extents_at(node, data, is_structure)?;
            for (tree, id) in more.iter_mut().zip([CATALOG_FILE_ID, ATTRIBUTES_FILE_ID]) {
                if file == id {
                    tree.push((first, becomes.clone()));
                }
            }
            Ok(())
        })?;
        let whole = |fork: &RawFork, mut more: Vec<(u32, Vec<Piece>)>| {
            more.sort_by_key(|(first, _)| *first);
            [pieces(&fork.extents), more.into_iter().flat_map(|(_, pieces)| pieces).collect()].concat()
        };
        let [of_catalog, of_attributes] = more;
        let (of_catalog, of_attributes) = (whole(&catalog, of_catalog), whole(&attributes, of_attributes));
        self.leaves(&of_catalog, &mut |work, node, _, data| {
            if number(node, data) >> 16 == u64::from(RECORD_FILE) {
                let forks = [std::mem::offset_of!(RawFile, data_fork), std::mem::offset_of!(RawFile, resource_fork)];
                for fork in forks {
                    work.extents_at(node, data + fork + IN_FORK, false)?;
                }
            }
            Ok(())
        })?;
        self.leaves(&of_attributes, &mut |work, node, _, data| {
            let kind = number(node, data) as u32;
            let at = [FORK_DATA, MORE_EXTENTS].into_iter().find(|(of, _)| *of == kind).map(|(_, at)| at);
            at.map_or(Ok(()), |at| work.extents_at(node, data + at, false).map(|_| ()))
        })?;
        self.journal()?;
        self.allocation(&mut allocation)?;
        self.head.extents_file = overflow;
        self.head.catalog_file = catalog;
        self.head.attributes_file = attributes;
        self.head.startup_file = startup;
        self.head.allocation_file = allocation;
        Ok(())
    }

    /// Gives the extents that stand at byte `at` of a node places, and changes them there; how they become comes back.
    fn extents_at(&mut self, node: &mut [u8], at: usize, is_structure: bool) -> Result<Vec<Piece>, NotResized> {
        let none = || NotResized("a record of a tree is too short for its extents".into());
        let len = size_of::<[RawExtent; 8]>();
        let held = node.get(at..at + len).ok_or_else(none)?;
        let mut extents = <[RawExtent; 8]>::read_from_bytes(held).map_err(|_| none())?;
        if self.place_all(&mut extents, is_structure)? {
            node.get_mut(at..at + len).ok_or_else(none)?.copy_from_slice(extents.as_bytes());
        }
        Ok(pieces(&extents))
    }

    /// Gives what lies behind the limit places; true when anything changes. There is room for as many more pieces as are empty.
    fn place_all(&mut self, extents: &mut [RawExtent; 8], is_structure: bool) -> Result<bool, NotResized> {
        let own = pieces(extents);
        let mut spare = extents.len() - own.len();
        let mut becomes: Vec<Piece> = Vec::new();
        let mut changed = false;
        for (first, count) in own {
            let behind = u64::from(first) + u64::from(count) > self.limit;
            if !behind {
                becomes.push((first, count));
                continue;
            }
            changed = true;
            let stays = u32::try_from(self.limit.saturating_sub(u64::from(first))).unwrap_or(0);
            let placed = self.placed((first, count), stays, spare)?;
            spare -= placed.len() - 1;
            becomes.extend(placed.iter().copied());
            let mut from = first;
            for (to, blocks) in placed {
                if to != from {
                    self.carry(from, to, blocks, is_structure)?;
                }
                from += blocks;
            }
        }
        if changed {
            let all = becomes
                .into_iter()
                .map(|(first, count)| RawExtent { start_block: U32::new(first), block_count: U32::new(count) });
            *extents = [RawExtent::default(); 8];
            extents.iter_mut().zip(all).for_each(|(slot, extent)| *slot = extent);
        }
        Ok(changed)
    }

    /// Where an extent goes, of which `stays` blocks need not, in at most `spare` more pieces than one.
    fn placed(&mut self, (first, count): Piece, stays: u32, spare: usize) -> Result<Vec<Piece>, NotResized> {
        let goes = u64::from(count - stays);
        let narrow = |unit: u64| u32::try_from(unit).unwrap_or(u32::MAX);
        let room = if stays > 0 { spare } else { spare + 1 };
        if room > 0
            && let Some(found) = self.ground.take_pieces(goes)
        {
            if found.len() <= room {
                let kept = (stays > 0).then_some((first, stays));
                return Ok(kept
                    .into_iter()
                    .chain(found.iter().map(|piece| (narrow(piece.start), narrow(piece.end - piece.start))))
                    .collect());
            }
            found.into_iter().for_each(|piece| self.ground.free(piece));
        }
        let whole = self.ground.take_run(u64::from(count)).ok_or_else(|| {
            NotResized(format!("no {count} blocks in one piece are free for what has to move: a smaller step may do"))
        })?;
        self.ground.free(u64::from(first)..u64::from(first) + u64::from(stays));
        Ok(vec![(narrow(whole), count)])
    }

    fn carry(&mut self, from: u32, to: u32, count: u32, is_structure: bool) -> Result<(), NotResized> {
        let place = |block: u32| u64::from(block) * self.block;
        let holds_info =
            (from..from + count).contains(&self.old.journal_info_block) && self.old.attributes & ATTRIBUTE_JOURNALED != 0;
        let (at, goes, len) = (place(from), place(to), u64::from(count) * self.block);
        self.moves.push((from, to, count));
        match is_structure || holds_info {
            true => self.sheet.copy("tree or structure that moves", at, goes, len),
            false => self.sheet.carry(at, goes, len),
        }
    }

    /// Where a block went.
    fn moved(&self, block: u32) -> u32 {
        let moved = self.moves.iter().find(|(from, _, count)| (*from..from + count).contains(&block));
        moved.map_or(block, |(from, to, _)| to + (block - from))
    }

    /// Hands the records of every leaf of the tree in `places` to `each`: the node, and the offsets of key and data in it.
    fn leaves(&mut self, places: &[Piece], each: EachRecord<'_, Self>) -> Result<(), NotResized> {
        if places.is_empty() {
            return Ok(());
        }
        let first = self.through(places, 0, 512)?;
        let header =
            header_of(View::new("B-tree header node", ByteOffset(0), &first)).map_err(|why| NotResized(why.to_string()))?;
        let size = usize::from(header.node_size.get());
        let mut next = header.first_leaf_node.get();
        let mut left = header.total_nodes.get();
        while next != 0 {
            left = left.checked_sub(1).ok_or_else(|| NotResized("the leaves of a tree lead back to themselves".into()))?;
            let at = u64::from(next) * size as u64;
            let mut node = self.through(places, at, size)?;
            let before = node.clone();
            let bad = || NotResized("a leaf of a tree is none".into());
            let (descriptor, _) = RawNode::read_from_prefix(&node).map_err(|_| bad())?;
            if descriptor.kind != NODE_LEAF {
                return Err(bad());
            }
            for index in 0..usize::from(descriptor.num_records.get()) {
                let slot = size.checked_sub(2 * (index + 1)).ok_or_else(bad)?;
                let key = usize::from(short(&node, slot).ok_or_else(bad)?);
                let data = key + 2 + usize::from(short(&node, key).ok_or_else(bad)?);
                each(self, &mut node, key, data.next_multiple_of(2))?;
            }
            if node != before {
                self.write_through("B-tree leaf", places, at, &node)?;
            }
            next = descriptor.f_link.get();
        }
        Ok(())
    }

    /// The stretches of a file's bytes `at` to `at + len`, in bytes of the volume.
    fn stretches(&self, places: &[Piece], at: u64, len: usize) -> Result<Vec<(u64, usize)>, NotResized> {
        let (mut found, mut before, mut next, end) = (Vec::new(), 0u64, at, at + len as u64);
        for (first, count) in places {
            let bytes = u64::from(*count) * self.block;
            if next < end && next < before + bytes {
                let run = (before + bytes).min(end) - next;
                found.push((u64::from(*first) * self.block + (next - before), usize::try_from(run).unwrap_or(0)));
                next += run;
            }
            before += bytes;
        }
        if next < end { Err(NotResized("a structure ends before its last byte".into())) } else { Ok(found) }
    }

    fn through(&self, places: &[Piece], at: u64, len: usize) -> Result<Vec<u8>, NotResized> {
        let mut bytes = Vec::with_capacity(len);
        for (place, run) in self.stretches(places, at, len)? {
            bytes.extend(self.sheet.read(place, run)?);
        }
        Ok(bytes)
    }

    fn write_through(&mut self, what: &'static str, places: &[Piece], at: u64, bytes: &[u8]) -> Result<(), NotResized> {
        let mut done = 0;
        for (place, run) in self.stretches(places, at, bytes.len())? {
            self.sheet.write(what, place, bytes.get(done..done + run).unwrap_or_default())?;
            done += run;
        }
        Ok(())
    }

    /// The info block names the journal by its byte.
    fn journal(&mut self) -> Result<(), NotResized> {
        if self.old.attributes & ATTRIBUTE_JOURNALED == 0 {
            return Ok(());
        }
        let info = self.moved(self.old.journal_info_block);
        let at = u64::from(info) * self.block;
        let held = self.sheet.read(at, 52)?;
        let ring = number(&held, 36) << 32 | number(&held, 40);
        let in_volume = number(&held, 0) & 1 == 1;
        if in_volume {
            let block = u32::try_from(ring / self.block).map_err(|_| NotResized("its journal lies nowhere".into()))?;
            let becomes = u64::from(self.moved(block)) * self.block + ring % self.block;
            self.sheet.write("journal info block", at + 36, &becomes.to_be_bytes())?;
        }
        self.head.journal_info_block = U32::new(info);
        Ok(())
    }

    /// The allocation file as it becomes: long enough, and counting what is taken.
    fn allocation(&mut self, fork: &mut RawFork) -> Result<(), NotResized> {
        let has: u64 = pieces(&fork.extents).iter().map(|(_, count)| u64::from(*count)).sum();
        let wanted = self.total.div_ceil(8).div_ceil(self.block);
        if let Some(more) = wanted.checked_sub(has).filter(|more| *more > 0) {
            let own = pieces(&fork.extents);
            let at = self.ground.take_run(more);
            let slot = fork.extents.get_mut(own.len());
            let (at, slot) = at.zip(slot).ok_or_else(|| NotResized("its allocation file finds no room to grow".into()))?;
            *slot = RawExtent {
                start_block: U32::new(u32::try_from(at).unwrap_or(0)),
                block_count: U32::new(u32::try_from(more).unwrap_or(0)),
            };
            fork.total_blocks = U32::new(u32::try_from(has + more).unwrap_or(u32::MAX));
            fork.logical_size = U64::new((has + more) * self.block);
        }
        let places = pieces(&fork.extents);
        let blocks: u64 = places.iter().map(|(_, count)| u64::from(*count)).sum();
        let mut bits = vec![0u8; usize::try_from(blocks * self.block).unwrap_or(0)];
        for block in (0..self.total).filter(|block| *block >= self.limit || self.ground.is_taken(*block)) {
            bits.get_mut((block / 8) as usize).into_iter().for_each(|byte| *byte |= 0x80 >> (block % 8));
        }
        self.write_through("allocation file", &places, 0, &bits)
    }

    /// Both headers; the former alternate is one no more.
    fn headers(&mut self) -> Result<HfsGeometry, NotResized> {
        let narrow = |value: u64| U32::new(u32::try_from(value).unwrap_or(u32::MAX));
        self.head.total_blocks = narrow(self.total);
        self.head.free_blocks = narrow(self.limit - self.ground.taken());
        if u64::from(self.head.next_allocation.get()) >= self.limit {
            self.head.next_allocation = U32::new(0);
        }
        let (former, now) = (self.old.alternate_at().0, self.bytes - HEADER_AT);
        let is_free = former / self.block >= self.limit || !self.ground.is_taken(former / self.block);
        if former != now && former + 512 <= self.bytes && is_free {
            self.sheet.write("former alternate volume header", former, &[0; 512])?;
        }
        let bytes = self.head.as_bytes().to_vec();
        self.sheet.write("alternate volume header", now, &bytes)?;
        self.sheet.write("volume header", HEADER_AT, &bytes)?;
        let parsed = HfsGeometry::parse(View::new("volume header", ByteOffset(HEADER_AT), &bytes))
            .map_err(|why| NotResized(why.to_string()))?;
        Ok(HfsGeometry { tail_bytes: u32::try_from(self.bytes - self.total * self.block).unwrap_or(0), ..parsed })
    }
}

/// The extents that hold blocks.
fn pieces(extents: &[RawExtent; 8]) -> Vec<Piece> {
    let all = extents.iter().map(|extent| (extent.start_block.get(), extent.block_count.get()));
    all.take_while(|(_, count)| *count > 0).collect()
}

fn short(bytes: &[u8], at: usize) -> Option<u16> {
    bytes.get(at..at + 2).and_then(<[u8]>::first_chunk).map(|word| u16::from_be_bytes(*word))
}

fn number(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..at + 4).and_then(<[u8]>::first_chunk).map_or(0, |word| u64::from(u32::from_be_bytes(*word)))
}
