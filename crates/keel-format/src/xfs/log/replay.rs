//! What committed transactions would leave in their places, laid over the volume. Nothing is written. Items that only promise later work
//! (extents to be freed, to be mapped) change nothing that reading asks for.

use std::collections::HashMap;
use std::sync::Arc;

use keel_source::{ByteOffset, Generate, Overlay, Payload, SharedSource, Source};

use super::BASIC;
use super::transaction::{Item, u16_at, u32_at, u64_at};
use crate::read_bytes;
use crate::xfs::XfsGeometry;
use crate::xfs::layout::{DIFLAG2_BIGTIME, DIFLAG2_NREXT64, INODE_V2, INODE_V3, SB_CRC_AT, checksum};

/// Types of items.
const INODE: u16 = 0x123B;
const BUFFER: u16 = 0x123C;
const CREATE: u16 = 0x123F;
/// `blf_flags`: only the list of unlinked inodes of these.
const INODE_BUFFER: u16 = 0x01;
/// `blf_flags`: the buffer is no metadata any more: earlier changes of it do not count.
const CANCEL: u16 = 0x02;
/// Bytes of a buffer that one bit of its map stands for.
const CHUNK: usize = 128;
/// `ilf_fields`: the data fork, and the attribute fork: content, extents, root of a tree.
const DATA_FORK: u32 = 0x0E;
const DATA_ROOT: u32 = 0x08;
const ATTRIBUTE_FORK: u32 = 0x1C0;
const ATTRIBUTE_ROOT: u32 = 0x100;
/// The most bytes of a buffer.
const LARGEST_BUFFER: usize = 128 << 10;
/// The most inodes that one item makes.
const MOST_CREATED: u32 = 1024;

/// Lays what `committed` says over `source`.
pub(super) fn replayed(source: &SharedSource, geometry: &XfsGeometry, committed: &[Vec<Item>]) -> SharedSource {
    let mut cancelled: HashMap<(u64, u16), u32> = HashMap::new();
    for item in committed.iter().flatten() {
        if let Some(buffer) = Buffer::of(item).filter(|buffer| buffer.flags & CANCEL != 0) {
            *cancelled.entry((buffer.block, buffer.blocks)).or_default() += 1;
        }
    }
    let mut replay = Replay { over: Overlay::new(SharedSource::clone(source)), geometry, cancelled };
    for items in committed {
        // Buffers first, and what is cancelled last: so a system replays them.
        items.iter().for_each(|item| replay.buffer_or_chunk(item));
        items.iter().for_each(|item| {
            let _ = replay.inode(item);
        });
        for buffer in items.iter().filter_map(Buffer::of).filter(|buffer| buffer.flags & CANCEL != 0) {
            if let Some(count) = replay.cancelled.get_mut(&(buffer.block, buffer.blocks)) {
                *count = count.saturating_sub(1);
            }
        }
    }
    Arc::new(replay.over)
}

/// A buffer of which parts were changed.
struct Buffer<'a> {
    flags: u16,
    /// Length in basic blocks.
    blocks: u16,
    /// First basic block in the volume.
    block: u64,
    map: &'a [u8],
}

impl<'a> Buffer<'a> {
    fn of(item: &'a Item) -> Option<Self> {
        let head = item.first().filter(|head| u16_at(head, 0) == Some(BUFFER))?;
        let words = u32_at(head, 16)? as usize;
        let map = head.get(20..20usize.checked_add(words.checked_mul(4)?)?)?;
        Some(Self { flags: u16_at(head, 4)?, blocks: u16_at(head, 6)?, block: u64_at(head, 8)?, map })
    }

    /// Runs of set bits: the first, and how many.
    fn runs(&self) -> Vec<(usize, usize)> {
        let is_set = |bit: usize| self.map.get(bit / 8).is_some_and(|byte| byte >> (bit % 8) & 1 == 1);
        let mut runs: Vec<(usize, usize)> = Vec::new();
        for bit in (0..self.map.len() * 8).filter(|bit| is_set(*bit)) {
            match runs.last_mut() {
                Some((first, count)) if *first + *count == bit => *count += 1,
                _ => runs.push((bit, 1)),
            }
        }
        runs
    }
}

struct Replay<'a> {
    over: Overlay,
    geometry: &'a XfsGeometry,
    /// Buffers that are given up later on, and how often.
    cancelled: HashMap<(u64, u16), u32>,
}

impl Replay<'_> {
    fn is_given_up(&self, block: u64, blocks: u16) -> bool {
        self.cancelled.get(&(block, blocks)).is_some_and(|count| *count > 0)
    }

    fn read(&self, at: ByteOffset, len: usize) -> Option<Vec<u8>> {
        read_bytes(&self.over as &dyn Source, at, len, "logged block").ok()
    }

    fn buffer_or_chunk(&mut self, item: &Item) {
        if let Some(buffer) = Buffer::of(item) {
            let unlinked_only = buffer.flags & (CANCEL | INODE_BUFFER) != 0;
            if !unlinked_only && !self.is_given_up(buffer.block, buffer.blocks) {
                let _ = self.buffer(&buffer, item);
            }
        } else if item.first().is_some_and(|head| u16_at(head, 0) == Some(CREATE)) {
            let _ = self.created(item);
        }
    }

    fn buffer(&mut self, buffer: &Buffer<'_>, item: &Item) -> Option<()> {
        let len = usize::from(buffer.blocks) * BASIC as usize;
        let at = ByteOffset(buffer.block.checked_mul(BASIC)?);
        if len == 0 || len > LARGEST_BUFFER || at.0 >= self.geometry.volume_bytes() {
            return None;
        }
        let mut bytes = self.read(at, len).unwrap_or_else(|| vec![0; len]);
        let mut regions = item.iter().skip(1);
        for (first, count) in buffer.runs() {
            let (mut bit, end) = (first, first + count);
            // A run may be logged in several regions.
            while bit < end {
                let region = regions.next()?;
                let taken = (region.len() / CHUNK).min(end - bit);
                let changed = region.get(..taken * CHUNK).filter(|_| taken > 0)?;
                put(&mut bytes, bit * CHUNK, changed)?;
                // What is laid is what is logged: no more is held than the log has.
                self.over.lay(at + (bit * CHUNK) as u64, changed);
                bit += taken;
            }
        }
        if let Some((place, sum)) = self.sum(at, &mut bytes) {
            self.over.lay(at + place as u64, &sum);
        }
        Some(())
    }

    /// The checksum of a block of which parts were changed, and where it stands: it is set when the block is written, not in the log.
    fn sum(&self, at: ByteOffset, bytes: &mut [u8]) -> Option<(usize, [u8; 4])> {
        if !self.geometry.has_checksums() {
            return None;
        }
        let place = match bytes.first_chunk::<4>()? {
            b"XFSB" => SB_CRC_AT,
            b"XAGF" => 216,
            b"XAGI" => 312,
            b"AB3B" | b"AB3C" | b"IAB3" | b"FIB3" | b"RMB3" | b"R3FC" => 52,
            b"BMA3" => 64,
            b"XDB3" | b"XDD3" | b"XDF3" => 4,
            _ => return None,
        };
        // A superblock is a sector, whatever its buffer is.
        let counted = if at.0 == 0 { bytes.get(..self.geometry.sector_bytes as usize)? } else { bytes };
        Some((place, checksum(counted, place)?.to_le_bytes()))
    }

    /// Inodes that were made: nothing but their own numbers.
    fn created(&mut self, item: &Item) -> Option<()> {
        let word = |at: usize| item.first()?.get(at..)?.first_chunk().map(|word| u32::from_be_bytes(*word));
        let (group, block, count, generation) = (word(4)?, word(8)?, word(12)?, word(24)?);
        let start = self.geometry.group_block_at(group, block)?;
        // Systems keep inodes in clusters: of 8 KiB for inodes of 256 bytes, with checksums more for larger ones.
        let larger = if self.geometry.has_checksums() { u64::from(self.geometry.inode_bytes) / 256 } else { 1 };
        let cluster = (8192 * larger).max(u64::from(self.geometry.block_bytes));
        if count > MOST_CREATED || word(16)? != self.geometry.inode_bytes {
            return None;
        }
        // Each may have been given up since; of the others the inodes are made when they are read.
        let bytes = u64::from(count) * u64::from(self.geometry.inode_bytes);
        for from in (0..bytes).step_by(usize::try_from(cluster).ok()?) {
            let at = start + from;
            if !self.is_given_up(at.0 / BASIC, u16::try_from(cluster / BASIC).ok()?) {
                let fresh = Fresh { geometry: *self.geometry, at, generation };
                self.over.lay_payload(at, Payload::Run(cluster.min(bytes - from), Arc::new(fresh)));
            }
        }
        Some(())
    }

    fn inode(&mut self, item: &Item) -> Option<()> {
        let head = item.first().filter(|head| u16_at(head, 0) == Some(INODE))?;
        let fields = u32_at(head, 4)?;
        // Laid out for 64 bits, or for 32 without the gap before the number.
        let gap = if head.len() >= 56 { 4 } else { 0 };
        let (number, block, blocks) = (u64_at(head, 12 + gap)?, u64_at(head, 36 + gap)?, u32_at(head, 44 + gap)?);
        if self.is_given_up(block, u16::try_from(blocks).ok()?) {
            return None;
        }
        let at = self.geometry.inode_at(number)?;
        let mut bytes = self.read(at, self.geometry.inode_bytes as usize).filter(|bytes| bytes.starts_with(b"IN"))?;
        let start = self.geometry.inode_fields();
        let core = as_stored(item.get(1)?)?;
        put(&mut bytes, 0, core.get(..start)?)?;
        let mut regions = item.iter().skip(2);
        let second = match bytes.get(82)? {
            0 => bytes.len(),
            units => (start + usize::from(*units) * 8).min(bytes.len()),
        };
        let mut laid = vec![(0, start)];
        for (mask, root, from, to) in
            [(DATA_FORK, DATA_ROOT, start, second), (ATTRIBUTE_FORK, ATTRIBUTE_ROOT, second, bytes.len())]
        {
            if fields & mask == 0 {
                continue;
            }
            let Some(region) = regions.next() else { break };
            let fork = bytes.get_mut(from..to)?;
            let stored = match fields & root {
                0 => region.get(..region.len().min(fork.len()))?.to_vec(),
                _ => root_as_stored(self.geometry, region, fork.len())?,
            };
            put(fork, 0, &stored)?;
            laid.push((from, from + stored.len()));
        }
        if self.geometry.has_checksums() {
            let sum = checksum(&bytes, 100)?;
            put(&mut bytes, 100, &sum.to_le_bytes())?;
        }
        for (from, to) in laid {
            self.over.lay(at + from as u64, bytes.get(from..to)?);
        }
        Some(())
    }
}

/// Inodes as they are made: nothing but their own numbers.
#[derive(Debug)]
struct Fresh {
    geometry: XfsGeometry,
    /// Where the first one stands in the volume.
    at: ByteOffset,
    generation: u32,
}

impl Fresh {
    fn one(&self, index: u64) -> Option<Vec<u8>> {
        let size = self.geometry.inode_bytes as usize;
        let five = self.geometry.has_checksums();
        let mut bytes = vec![0; size];
        put(&mut bytes, 0, b"IN")?;
        put(&mut bytes, 4, &[if five { 3 } else { 2 }])?;
        put(&mut bytes, 92, &self.generation.to_be_bytes())?;
        put(&mut bytes, 96, &[0xFF; 4])?;
        if five {
            put(&mut bytes, 152, &self.geometry.inode_of(self.at + index * size as u64)?.to_be_bytes())?;
            put(&mut bytes, 160, &self.geometry.meta_uuid)?;
            let sum = checksum(&bytes, 100)?;
            put(&mut bytes, 100, &sum.to_le_bytes())?;
        }
        Some(bytes)
    }
}

impl Generate for Fresh {
    fn name(&self) -> &'static str {
        "fresh inodes"
    }

    fn fill(&self, at: u64, buf: &mut [u8]) {
        let size = u64::from(self.geometry.inode_bytes);
        let mut done = 0;
        while done < buf.len() {
            let here = at + done as u64;
            let inode = self.one(here / size).unwrap_or_default();
            let rest = inode.get(usize::try_from(here % size).unwrap_or(0)..).filter(|rest| !rest.is_empty());
            let Some((slot, rest)) = buf.get_mut(done..).zip(rest) else { return };
            let count = slot.len().min(rest.len());
            slot.iter_mut().zip(rest).for_each(|(slot, byte)| *slot = *byte);
            done += count;
        }
    }
}

fn put(bytes: &mut [u8], at: usize, what: &[u8]) -> Option<()> {
    bytes.get_mut(at..at.checked_add(what.len())?)?.copy_from_slice(what);
    Some(())
}

/// Lengths of an inode's fields, in their order; what is one byte long, an identifier or a checksum stays as it is.
const FIELDS: [(usize, usize); 23] = [
    (0, 2),
    (2, 2),
    (6, 2),
    (8, 4),
    (12, 4),
    (16, 4),
    (20, 2),
    (22, 2),
    (56, 8),
    (64, 8),
    (72, 4),
    (76, 4),
    (80, 2),
    (84, 4),
    (88, 2),
    (90, 2),
    (92, 4),
    (96, 4),
    (104, 8),
    (112, 8),
    (120, 8),
    (128, 4),
    (152, 8),
];

/// The fields of an inode as stored: big-endian.
fn as_stored(logged: &[u8]) -> Option<Vec<u8>> {
    let mut bytes = logged.get(..logged.len().min(INODE_V3))?.to_vec();
    if bytes.len() < INODE_V2 {
        return None;
    }
    bytes.resize(INODE_V3, 0);
    let flags2 = if bytes.get(4) == Some(&3) { u64_at(&bytes, 120)? } else { 0 };
    let (big, wide) = (flags2 & DIFLAG2_BIGTIME != 0, flags2 & DIFLAG2_NREXT64 != 0);
    let mut fields = FIELDS.to_vec();
    // A wide count of extents stands where older inodes count their flushes.
    fields.push(if wide { (24, 8) } else { (30, 2) });
    for time in [32, 40, 48, 144] {
        if big {
            fields.push((time, 8));
        } else {
            fields.extend([(time, 4), (time + 4, 4)]);
        }
    }
    for (at, len) in fields {
        bytes.get_mut(at..at + len)?.reverse();
    }
    Some(bytes)
}

/// The root of a tree of extents as it stands in a fork of `room` bytes: in memory it is a whole block, with a header.
fn root_as_stored(geometry: &XfsGeometry, logged: &[u8], room: usize) -> Option<Vec<u8>> {
    let header = if geometry.has_checksums() { 72 } else { 24 };
    let count = usize::from(u16::from_be_bytes(*logged.get(6..)?.first_chunk()?));
    let (most, fits) = (logged.len().checked_sub(header)? / 16, room.checked_sub(4)? / 16);
    if count > most || count > fits {
        return None;
    }
    let mut stored = vec![0; room];
    put(&mut stored, 0, logged.get(4..8)?)?;
    put(&mut stored, 4, logged.get(header..header + count * 8)?)?;
    put(&mut stored, 4 + fits * 8, logged.get(header + most * 8..header + most * 8 + count * 8)?)?;
    Some(stored)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_map_of_a_buffer_is_read_in_runs_and_one_that_is_too_short_is_none() {
        let mut head = vec![0; 28];
        head[0..2].copy_from_slice(&BUFFER.to_le_bytes());
        head[6..8].copy_from_slice(&8u16.to_le_bytes());
        head[8..16].copy_from_slice(&77u64.to_le_bytes());
        head[16..20].copy_from_slice(&2u32.to_le_bytes());
        head[20..28].copy_from_slice(&0x1_8000_0007u64.to_le_bytes());
        let item = vec![head.clone()];
        let buffer = Buffer::of(&item).unwrap();
        assert_eq!((buffer.block, buffer.blocks, buffer.runs()), (77, 8, vec![(0, 3), (31, 2)]));
        for cut in 0..head.len() {
            assert!(Buffer::of(&vec![head[..cut].to_vec()]).is_none(), "{cut}");
        }
        assert!(Buffer::of(&Vec::new()).is_none());
        head[16..20].copy_from_slice(&u32::MAX.to_le_bytes());
        assert!(Buffer::of(&vec![head]).is_none());
    }

    #[test]
    fn the_fields_of_an_inode_are_turned_round_and_bytes_are_not() {
        let mut logged = vec![0; INODE_V3];
        logged[..2].copy_from_slice(&0x494Eu16.to_le_bytes());
        logged[4] = 3;
        logged[24..32].copy_from_slice(&9u64.to_le_bytes());
        logged[40..48].copy_from_slice(&0x1122_3344_5566_7788u64.to_le_bytes());
        logged[56..64].copy_from_slice(&5000u64.to_le_bytes());
        logged[160..176].copy_from_slice(b"0123456789abcdef");
        let flags = |flags: u64| {
            let mut logged = logged.clone();
            logged[120..128].copy_from_slice(&flags.to_le_bytes());
            as_stored(&logged).unwrap()
        };
        let (plain, new) = (flags(0), flags(DIFLAG2_BIGTIME | DIFLAG2_NREXT64));
        for stored in [&plain, &new] {
            assert!(stored.starts_with(b"IN") && stored.ends_with(b"0123456789abcdef"));
            assert_eq!(stored[56..64], 5000u64.to_be_bytes());
        }
        assert_eq!(new[40..48], 0x1122_3344_5566_7788u64.to_be_bytes());
        assert_eq!(plain[40..44], 0x5566_7788u32.to_be_bytes(), "seconds, then nanoseconds");
        assert_eq!((new[24..32].to_vec(), plain[24]), (9u64.to_be_bytes().to_vec(), 9));
        assert!(as_stored(&logged[..INODE_V2 - 1]).is_none());
        assert!(as_stored(&logged[..INODE_V2]).is_some());
    }

    #[test]
    fn the_root_of_a_tree_loses_its_header_and_one_that_does_not_fit_is_none() {
        let geometry = crate::xfs::tests::geometry(5);
        let mut logged = vec![0; 72 + 4 * 16];
        logged[4..6].copy_from_slice(&1u16.to_be_bytes());
        logged[6..8].copy_from_slice(&2u16.to_be_bytes());
        for (index, (key, pointer)) in [(0u64, 500u64), (300, 600)].into_iter().enumerate() {
            logged[72 + index * 8..80 + index * 8].copy_from_slice(&key.to_be_bytes());
            logged[72 + 32 + index * 8..80 + 32 + index * 8].copy_from_slice(&pointer.to_be_bytes());
        }
        let stored = root_as_stored(&geometry, &logged, 4 + 10 * 16).unwrap();
        assert_eq!((&stored[..4], &stored[12..20]), (&[0, 1, 0, 2][..], &300u64.to_be_bytes()[..]));
        assert_eq!((&stored[84..92], &stored[92..100]), (&500u64.to_be_bytes()[..], &600u64.to_be_bytes()[..]));
        assert!(root_as_stored(&geometry, &logged, 4 + 16).is_none(), "a fork with room for one");
        assert!(root_as_stored(&geometry, &logged[..90], 500).is_none(), "fewer than it says");
        assert!(root_as_stored(&geometry, &[], 500).is_none());
    }
}
