//! Blocks of folders: found on ground that no inode holds, told apart by their checksums, written anew.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::ops::Range;

use keel_source::{ByteOffset, ByteRange, RangeSet};

use super::super::checksum::before;
use super::super::directory::{RawName, entries};
use super::super::layout::crc32c;
use super::super::{ExtGeometry, ExtVolume};
use crate::{View, read_lenient};

/// The most bytes of unheld ground that are looked at for folders.
const MOST_GROUND: u64 = 1 << 30;
/// Bytes that are read at once.
const STEP: u64 = 1 << 20;
/// The most folders, and the most further blocks, that are kept.
const MOST_STRAYS: usize = 65_536;
/// Bytes of the checksum that ends a block.
const TAIL: usize = 12;
/// How it begins: an entry of no inode, 12 bytes long, of the type that stands for it.
const TAIL_HEAD: [u8; 8] = [0, 0, 0, 0, 12, 0, 0, 0xDE];
/// Where the hash index of a folder begins in its first block, after the two dots and eight bytes of its own.
const INDEX_AT: usize = 32;

/// A folder whose first block stands on ground that no inode holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Stray {
    /// The inode that `.` names.
    pub(super) own: u32,
    /// The inode that `..` names.
    pub(super) parent: u32,
    /// `i_generation` of its inode, by the checksum of the block; 0 where none is kept.
    pub(super) generation: u32,
    /// Its blocks, as far as they are known to be its own.
    pub(super) blocks: Vec<u64>,
    /// True where the first block holds the index of the others.
    pub(super) is_indexed: bool,
}

/// Folders on the ground of `volume` outside of `held`, by the inode that they name as their own, in the order of their places.
pub(super) fn strays(volume: &ExtVolume, held: &RangeSet) -> BTreeMap<u32, Vec<Stray>> {
    let geometry = volume.geometry();
    let unit = geometry.block_bytes as usize;
    let (mut found, mut further): (Vec<Stray>, Vec<(u64, u32)>) = (Vec::new(), Vec::new());
    let mut left = MOST_GROUND;
    for gap in held.lacking(ByteRange::sized(ByteOffset(0), geometry.volume_bytes())) {
        let mut at = ByteOffset(gap.start.0.next_multiple_of(unit as u64));
        while at < gap.end && left > 0 {
            let len = (gap.end - at).min(STEP.max(unit as u64)).min(left);
            left -= len;
            let len = usize::try_from(len).unwrap_or(0);
            let Ok((bytes, _)) = read_lenient(volume.source().as_ref(), at, len, "directory block") else { break };
            for (index, block) in bytes.chunks_exact(unit).enumerate() {
                let number = (at.0 / unit as u64) + index as u64;
                if let Some(stray) = stray(geometry, number, block) {
                    found.push(stray);
                } else if continues(geometry, block) {
                    further.push((number, state_before(block).unwrap_or(0)));
                }
            }
            at = at + len as u64;
            if found.len() + further.len() > MOST_STRAYS {
                left = 0;
            }
        }
    }
    add_further(geometry, &mut found, &further);
    let mut by_own: BTreeMap<u32, Vec<Stray>> = BTreeMap::new();
    found.into_iter().for_each(|stray| by_own.entry(stray.own).or_default().push(stray));
    by_own
}

/// The folder that begins with `block`, where it does.
fn stray(geometry: &ExtGeometry, number: u64, block: &[u8]) -> Option<Stray> {
    let view = View::new("directory block", ByteOffset(0), block);
    let head = [view.u16(4, "rec_len").ok()?, view.u16(6, "name_len").ok()? & 0xFF];
    let dots: [&[u8]; 2] = [view.slice(8, 1, "name").ok()?, view.slice(20, 2, "name").ok()?];
    if head != [12, 1] || dots != [&b"."[..], b".."] || view.u8(18, "name_len").ok()? != 2 {
        return None;
    }
    let (own, parent) = (view.u32(0, "inode").ok()?, view.u32(12, "inode").ok()?);
    let known = |number: u32| (1..=geometry.inodes).contains(&number);
    let second = usize::from(view.u16(16, "rec_len").ok()?);
    let is_indexed = second + 12 == block.len() && index_of(block).is_some();
    let generation = match geometry.has_checksums() {
        true => generation(geometry, own, block, is_indexed)?,
        false => 0,
    };
    (known(own) && known(parent)).then_some(Stray { own, parent, generation, blocks: vec![number], is_indexed })
}

/// Bytes of the index in the first block that are checked, and where its checksum stands.
fn index_of(block: &[u8]) -> Option<(usize, usize)> {
    let view = View::new("directory index", ByteOffset(0), block);
    let (limit, count) = (usize::from(view.u16(INDEX_AT, "limit").ok()?), usize::from(view.u16(INDEX_AT + 2, "count").ok()?));
    let tail = INDEX_AT + limit * 8;
    (count > 0 && count <= limit && tail <= block.len() && view.u8(29, "info_length").ok()? == 8)
        .then_some((INDEX_AT + count * 8, tail))
}

/// `i_generation` of the inode, which the checksum of its first block was made with: the checksum solved for it.
fn generation(geometry: &ExtGeometry, own: u32, block: &[u8], is_indexed: bool) -> Option<u32> {
    let state = match is_indexed {
        true => {
            let (checked, tail) = index_of(block)?;
            let reserved = block.get(tail..tail + 4)?;
            let stored = u32::from_le_bytes(*block.get(tail + 4..)?.first_chunk()?);
            before(before(stored, &[reserved, &[0; 4]].concat()), block.get(..checked)?)
        }
        false => state_before(block)?,
    };
    // Four bytes change a running value alike whether they are counted or laid over it before.
    let seed = crc32c(geometry.checksum_seed, &own.to_le_bytes());
    Some(before(state, &[0; 4]) ^ seed)
}

/// The running value before the bytes of a block that ends with its checksum.
fn state_before(block: &[u8]) -> Option<u32> {
    let (checked, tail) = block.split_at_checked(block.len().checked_sub(TAIL)?)?;
    let stored = u32::from_le_bytes(*tail.last_chunk()?);
    tail.starts_with(&TAIL_HEAD).then(|| before(stored, checked))
}

/// True for a block that can be a further one of a folder: it ends with a checksum where such are kept, else it is nothing but names.
fn continues(geometry: &ExtGeometry, block: &[u8]) -> bool {
    if geometry.has_checksums() {
        return has_tail(block);
    }
    let plausible =
        block.get(4..8).is_some_and(|head| head.get(2).is_some_and(|len| *len > 0) && head.get(3).is_some_and(|kind| *kind < 8));
    let (names, wrong) = if plausible { entries(block, ByteOffset(0), geometry.inodes) } else { return false };
    wrong.is_none() && names.iter().any(|name| name.present)
}

/// True for a block that ends as blocks with a checksum do: with an entry of nothing.
fn has_tail(block: &[u8]) -> bool {
    block.len() > TAIL && block.get(block.len() - TAIL..).is_some_and(|tail| tail.starts_with(&TAIL_HEAD))
}

/// Gives further blocks to their folders: by checksums, which tell inode and generation, else those that follow the first at once.
fn add_further(geometry: &ExtGeometry, found: &mut [Stray], further: &[(u64, u32)]) {
    if geometry.has_checksums() {
        let seed = |stray: &Stray| {
            let own = crc32c(geometry.checksum_seed, &stray.own.to_le_bytes());
            crc32c(own, &stray.generation.to_le_bytes())
        };
        let by_seed: HashMap<u32, usize> = found.iter().enumerate().map(|(index, stray)| (seed(stray), index)).collect();
        for (number, state) in further {
            if let Some(stray) = by_seed.get(state).and_then(|index| found.get_mut(*index)) {
                stray.blocks.push(*number);
            }
        }
        return;
    }
    let further: HashSet<u64> = further.iter().map(|(number, _)| *number).collect();
    for stray in found {
        let mut next = stray.blocks.first().map_or(0, |first| first + 1);
        while further.contains(&next) {
            stray.blocks.push(next);
            next += 1;
        }
    }
}

/// Who a folder is to the checksums of its blocks.
#[derive(Clone, Copy)]
pub(super) struct Owner {
    pub(super) inode: u32,
    pub(super) generation: u32,
}

/// Sets the checksum of a block that ends with one.
pub(super) fn seal(geometry: &ExtGeometry, owner: Owner, block: &mut [u8]) {
    if !geometry.has_checksums() || !has_tail(block) {
        return;
    }
    let seed = crc32c(geometry.checksum_seed, &owner.inode.to_le_bytes());
    let seed = crc32c(seed, &owner.generation.to_le_bytes());
    if let Some((checked, tail)) = block.split_at_mut_checked(block.len() - TAIL) {
        let sum = crc32c(seed, checked);
        tail.iter_mut().skip(8).zip(sum.to_le_bytes()).for_each(|(slot, byte)| *slot = byte);
    }
}

/// The first block of a folder that names itself and its parent, and nothing else.
pub(super) fn fresh(geometry: &ExtGeometry, owner: Owner, parent: u32) -> Vec<u8> {
    let mut block = vec![0; geometry.block_bytes as usize];
    let tail = if geometry.has_checksums() { TAIL } else { 0 };
    put(geometry, &mut block, 0..12, &RawName { inode: owner.inode, name: b".".to_vec(), file_type: 2, present: true });
    let rest = 12..block.len() - tail;
    put(geometry, &mut block, rest, &RawName { inode: parent, name: b"..".to_vec(), file_type: 2, present: true });
    end_with_tail(geometry, owner, &mut block);
    block
}

/// What a block of a folder holds by its place in it.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    /// The dots, and names behind them.
    First,
    /// The dots, and the index of the others.
    Index,
    /// Names.
    Names,
    /// Names, or a further part of the index.
    Either,
}

impl Form {
    /// By the number of the block in its folder.
    pub(super) fn of(block: usize, is_indexed: bool) -> Self {
        match (block, is_indexed) {
            (0, true) => Self::Index,
            (0, false) => Self::First,
            (_, true) => Self::Either,
            (_, false) => Self::Names,
        }
    }
}

/// True when a block of the folder holds: its entries fill it, the first ones are its dots, and its checksum is its own.
pub(super) fn holds(geometry: &ExtGeometry, owner: Owner, block: &[u8], form: Form) -> bool {
    let own = || block.starts_with(&owner.inode.to_le_bytes()) && block.get(8) == Some(&b'.');
    let names = || entries(block, ByteOffset(0), geometry.inodes).1.is_none();
    let sealed = || {
        let mut fresh = block.to_vec();
        seal(geometry, owner, &mut fresh);
        !geometry.has_checksums() || has_tail(block) && fresh == block
    };
    match form {
        Form::First => own() && names() && sealed(),
        Form::Index => own() && index_of(block).is_some(),
        Form::Names => names() && sealed(),
        // A part of the index is an entry of nothing that takes the whole block, with the index inside.
        Form::Either => names() && (sealed() || block.starts_with(&[0; 4])),
    }
}

/// A block of the folder written anew with the names that still read; with a `parent` the first one.
pub(super) fn salvaged(geometry: &ExtGeometry, owner: Owner, block: &[u8], parent: Option<u32>) -> Vec<u8> {
    let mut anew = match parent {
        Some(parent) => fresh(geometry, owner, parent),
        None => empty(geometry, owner),
    };
    let own = parent.is_none() || block.starts_with(&owner.inode.to_le_bytes());
    let names = entries(block, ByteOffset(0), geometry.inodes).0;
    let plain = |name: &&RawName| {
        name.present && name.name != b"." && name.name != b".." && !name.name.contains(&b'/') && !name.name.contains(&0)
    };
    for name in names.iter().filter(plain).filter(|_| own) {
        insert(geometry, owner, &mut anew, name);
    }
    anew
}

/// A block that names nothing.
fn empty(geometry: &ExtGeometry, owner: Owner) -> Vec<u8> {
    let mut block = vec![0; geometry.block_bytes as usize];
    let tail = if geometry.has_checksums() { TAIL } else { 0 };
    let length = length_stored(block.len() - tail, block.len()).to_le_bytes();
    block.iter_mut().skip(4).zip(length).for_each(|(slot, byte)| *slot = byte);
    end_with_tail(geometry, owner, &mut block);
    block
}

/// Ends a block with its checksum, where the volume keeps such.
fn end_with_tail(geometry: &ExtGeometry, owner: Owner, block: &mut [u8]) {
    let at = block.len().saturating_sub(TAIL);
    if geometry.has_checksums()
        && let Some(slot) = block.get_mut(at..at + TAIL_HEAD.len())
    {
        slot.copy_from_slice(&TAIL_HEAD);
    }
    seal(geometry, owner, block);
}

/// Writes an entry that takes `place`.
fn put(geometry: &ExtGeometry, block: &mut [u8], place: Range<usize>, name: &RawName) {
    use super::super::layout::INCOMPAT_FILETYPE;
    let typed = geometry.incompat & INCOMPAT_FILETYPE != 0;
    let length = length_stored(place.len(), block.len());
    let head = [
        &name.inode.to_le_bytes()[..],
        &length.to_le_bytes(),
        &[u8::try_from(name.name.len()).unwrap_or(0), if typed { name.file_type } else { 0 }],
        &name.name,
    ]
    .concat();
    block.iter_mut().skip(place.start).zip(&head).for_each(|(slot, byte)| *slot = *byte);
}

/// `rec_len` as stored: with blocks of 64 KiB the whole block does not fit.
fn length_stored(length: usize, block: usize) -> u16 {
    u16::try_from(length).unwrap_or(if length == block { u16::MAX } else { 0 })
}

/// An entry's place in its block.
struct Placed {
    at: usize,
    length: usize,
    needed: usize,
    inode: u32,
    is_tail: bool,
}

fn placed(block: &[u8]) -> Vec<Placed> {
    let view = View::new("directory block", ByteOffset(0), block);
    let (mut found, mut at) = (Vec::new(), 0);
    while at + 8 <= block.len() {
        let Ok(stored) = view.u16(at + 4, "rec_len") else { break };
        let length = match usize::from(stored) {
            0xFFFF | 0 if block.len() >= 0x1_0000 => block.len() - at,
            length => length,
        };
        let (Ok(inode), Ok(len), Ok(kind)) = (view.u32(at, "inode"), view.u8(at + 6, "name_len"), view.u8(at + 7, "file_type"))
        else {
            break;
        };
        if length < 12 || at + length > block.len() {
            break;
        }
        let needed = if inode == 0 { 0 } else { (8 + usize::from(len)).next_multiple_of(4) };
        found.push(Placed { at, length, needed, inode, is_tail: kind == 0xDE });
        at += length;
    }
    found
}

/// Puts `name` into the block where there is room. False where there is none.
pub(super) fn insert(geometry: &ExtGeometry, owner: Owner, block: &mut [u8], name: &RawName) -> bool {
    let wanted = (8 + name.name.len()).next_multiple_of(4).max(12);
    let room = placed(block).into_iter().find(|place| !place.is_tail && place.length >= place.needed + wanted);
    let Some(place) = room else { return false };
    if place.needed > 0 {
        let length = length_stored(place.needed, block.len()).to_le_bytes();
        block.iter_mut().skip(place.at + 4).zip(length).for_each(|(slot, byte)| *slot = byte);
    }
    put(geometry, block, place.at + place.needed..place.at + place.length, name);
    seal(geometry, owner, block);
    true
}

/// Takes the entries out of the block that name one of `gone`. How many those were.
pub(super) fn remove(geometry: &ExtGeometry, owner: Owner, block: &mut [u8], gone: &HashSet<u32>) -> usize {
    let mut count = 0;
    let mut previous: Option<(usize, usize)> = None;
    for place in placed(block) {
        let dots = block.get(place.at + 8..place.at + 8 + place.needed.saturating_sub(8)).is_some_and(|name| {
            let name = name.split(|byte| *byte == 0).next().unwrap_or_default();
            name == b"." || name == b".."
        });
        if place.is_tail || dots || place.inode == 0 || !gone.contains(&place.inode) {
            previous = (!place.is_tail).then_some((place.at, place.length));
            continue;
        }
        count += 1;
        match previous {
            Some((at, length)) => {
                let joined = length + place.length;
                let stored = length_stored(joined, block.len()).to_le_bytes();
                block.iter_mut().skip(at + 4).zip(stored).for_each(|(slot, byte)| *slot = byte);
                previous = Some((at, joined));
            }
            None => {
                block.iter_mut().skip(place.at).take(4).for_each(|slot| *slot = 0);
                previous = Some((place.at, place.length));
            }
        }
    }
    if count > 0 {
        seal(geometry, owner, block);
    }
    count
}
