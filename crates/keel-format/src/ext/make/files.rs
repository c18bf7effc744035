//! The inodes that a new volume has, and what they lead to: root, `lost+found`, journal.

use keel_source::Payload;
use zerocopy::little_endian::{U16, U32};
use zerocopy::{FromZeros, IntoBytes};

use super::super::layout::{ExtGeometry, FLAG_EXTENTS, INCOMPAT_EXTENTS, JOURNAL_INODE, ROOT_INODE, RawInode, crc32c};
use super::ground::{Ground, table_blocks};
use super::{EXTRA_BYTES, FIRST_INODE, journal};
use crate::make::{Part, Wanted};

/// Bytes of `lost+found`: room for names that a check finds, without taking ground then.
const LOST_BYTES: u64 = 16 << 10;
/// Direct blocks of a map without extents.
const DIRECT: u64 = 12;
/// The most blocks of one extent, and the extents that fit in an inode.
const MOST_IN_EXTENT: u64 = 32_768;
const IN_INODE: usize = 4;
/// Mark of an extent tree's header.
const EXTENT_MAGIC: u16 = 0xF30A;
/// `file_type` of a directory entry: directory; and of the tail that keeps a checksum.
const IS_DIRECTORY: u8 = 2;
const IS_TAIL: u8 = 0xDE;
/// Bytes of that tail.
const TAIL: usize = 12;

/// A file: its blocks, and those of its map.
struct Mapped {
    runs: Vec<(u64, u64)>,
    /// `i_block`.
    map: [u8; 60],
    /// Blocks of the map itself, with their content.
    map_blocks: Vec<(u64, Vec<u8>)>,
    blocks: u64,
}

/// The inodes.
pub(super) struct Inodes {
    root: Mapped,
    lost: Mapped,
    journal: Option<Mapped>,
    block_bytes: u32,
}

impl Inodes {
    /// Takes the ground for them; none where there is not enough.
    pub(super) fn new(geometry: &ExtGeometry, ground: &mut Ground, journal_blocks: u64) -> Option<Self> {
        let block = u64::from(geometry.block_bytes);
        let lost_blocks = LOST_BYTES.div_ceil(block);
        let lost_blocks = if geometry.incompat & INCOMPAT_EXTENTS != 0 { lost_blocks } else { lost_blocks.min(DIRECT) };
        let root = Mapped::new(geometry, ground, 0, 1, ROOT_INODE)?;
        let lost = Mapped::new(geometry, ground, 0, lost_blocks, FIRST_INODE)?;
        // In the middle: no file is far from it.
        let middle = geometry.groups() / 2;
        let journal = match journal_blocks {
            0 => None,
            count => Some(Mapped::new(geometry, ground, middle, count, JOURNAL_INODE)?),
        };
        Some(Self { root, lost, journal, block_bytes: geometry.block_bytes })
    }

    /// The journal's map and size as the superblock keeps them.
    pub(super) fn journal_backup(&self) -> Option<[u8; 68]> {
        let journal = self.journal.as_ref()?;
        let size = journal.blocks * u64::from(self.block_bytes);
        let mut bytes = journal.map.to_vec();
        bytes.extend(((size >> 32) as u32).to_le_bytes());
        bytes.extend(((size & 0xFFFF_FFFF) as u32).to_le_bytes());
        bytes.try_into().ok()
    }

    /// The first blocks of the first inode table, directories, journal.
    pub(super) fn parts(&self, geometry: &ExtGeometry, ground: &Ground, wanted: &Wanted) -> Vec<Part> {
        let block = u64::from(geometry.block_bytes);
        let inode_bytes = usize::from(geometry.inode_bytes);
        let mut table = vec![0; (FIRST_INODE as usize * inode_bytes).next_multiple_of(block as usize)];
        let mut put = |number: u32, mode: u16, links: u16, file: &Mapped| {
            let bytes = inode(geometry, wanted, number, (mode, links), file);
            let at = (number as usize - 1) * inode_bytes;
            table.iter_mut().skip(at).zip(bytes).for_each(|(slot, byte)| *slot = byte);
        };
        // Directory and all rights to its owner, the others look; `lost+found` is the owner's alone.
        put(ROOT_INODE, 0o040_755, 3, &self.root);
        put(FIRST_INODE, 0o040_700, 2, &self.lost);
        if let Some(journal) = &self.journal {
            put(JOURNAL_INODE, 0o100_600, 1, journal);
        }
        let table_at = ground.inode_table(0) * block;
        // Where the kernel writes the rest of a table when it has time, that is left to it.
        let whole = if geometry.counts_unwritten() { 0 } else { table_blocks(geometry) * block };
        let mut parts: Vec<Part> = Part::padded("inode table", table_at, table, whole, geometry.block_bytes).into();
        let names = [(".", ROOT_INODE), ("..", ROOT_INODE), ("lost+found", FIRST_INODE)];
        parts.extend(directory(geometry, "root directory", ROOT_INODE, &self.root, &names));
        let names = [(".", FIRST_INODE), ("..", ROOT_INODE)];
        parts.extend(directory(geometry, "lost+found", FIRST_INODE, &self.lost, &names));
        for file in [&self.root, &self.lost].into_iter().chain(&self.journal) {
            parts.extend(file.map_blocks.iter().map(|(at, bytes)| Part::new("block map", at * block, bytes.clone())));
        }
        if let Some(journal) = &self.journal {
            let mut is_first = true;
            for (at, count) in &journal.runs {
                let (mut at, mut count) = (*at, *count);
                if is_first {
                    let superblock = journal::superblock(journal.blocks, geometry.block_bytes, &geometry.uuid);
                    parts.push(Part::new("journal superblock", at * block, superblock));
                    (at, count, is_first) = (at + 1, count - 1, false);
                }
                // What another volume left there could pass for transactions.
                parts.push(Part::new("journal", at * block, Payload::zeros(count * block)));
            }
        }
        parts
    }
}

impl Mapped {
    fn new(geometry: &ExtGeometry, ground: &mut Ground, group: u32, count: u64, number: u32) -> Option<Self> {
        let runs = ground.take(group, count)?;
        let mut file = Self { runs, map: [0; 60], map_blocks: Vec::new(), blocks: count };
        let map = match geometry.incompat & INCOMPAT_EXTENTS != 0 {
            true => file.extents(geometry, ground, group, number)?,
            false => file.pointers(geometry, ground, group)?,
        };
        file.map.iter_mut().zip(map).for_each(|(slot, byte)| *slot = byte);
        Some(file)
    }

    /// An extent tree: in the inode, or in one block below it.
    fn extents(&mut self, geometry: &ExtGeometry, ground: &mut Ground, group: u32, number: u32) -> Option<Vec<u8>> {
        let mut extents: Vec<(u64, u64, u64)> = Vec::new();
        let mut logical = 0;
        for (at, count) in &self.runs {
            let (mut at, mut left) = (*at, *count);
            while left > 0 {
                let here = left.min(MOST_IN_EXTENT);
                extents.push((logical, at, here));
                (logical, at, left) = (logical + here, at + here, left - here);
            }
        }
        let entry = |(logical, at, count): &(u64, u64, u64)| {
            let mut bytes = (*logical as u32).to_le_bytes().to_vec();
            bytes.extend((*count as u16).to_le_bytes());
            bytes.extend(((at >> 32) as u16).to_le_bytes());
            bytes.extend(((at & 0xFFFF_FFFF) as u32).to_le_bytes());
            bytes
        };
        let header = |entries: usize, most: usize, depth: u16| {
            let words = [EXTENT_MAGIC, entries as u16, most as u16, depth, 0, 0];
            words.iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<u8>>()
        };
        if extents.len() <= IN_INODE {
            let body: Vec<u8> = extents.iter().flat_map(entry).collect();
            return Some([header(extents.len(), IN_INODE, 0), body].concat());
        }
        // Header and tail of twelve and four bytes, entries of twelve.
        let room = (geometry.block_bytes as usize - 12) / 12;
        if extents.len() > room {
            return None;
        }
        let block = ground.take(group, 1)?.first()?.0;
        let mut leaf = header(extents.len(), room, 0);
        leaf.extend(extents.iter().flat_map(entry));
        let tail = 12 + room * 12;
        leaf.resize(tail, 0);
        if geometry.has_checksums() {
            leaf.extend(crc32c(inode_seed(geometry, number), &leaf).to_le_bytes());
        }
        leaf.resize(geometry.block_bytes as usize, 0);
        self.map_blocks.push((block, leaf));
        let mut root = header(1, IN_INODE, 1);
        root.extend(0u32.to_le_bytes());
        root.extend(((block & 0xFFFF_FFFF) as u32).to_le_bytes());
        root.extend(((block >> 32) as u16).to_le_bytes());
        root.extend([0; 2]);
        Some(root)
    }

    /// Twelve blocks by their numbers, then blocks of numbers, once, twice and three times over.
    fn pointers(&mut self, geometry: &ExtGeometry, ground: &mut Ground, group: u32) -> Option<Vec<u8>> {
        let blocks: Vec<u32> =
            self.runs.iter().flat_map(|(at, count)| *at..*at + *count).map(|block| u32::try_from(block).unwrap_or(0)).collect();
        let (direct, mut rest) = blocks.split_at(blocks.len().min(DIRECT as usize));
        let mut map = direct.to_vec();
        map.resize(DIRECT as usize, 0);
        let per_block = geometry.block_bytes as usize / 4;
        for depth in 1..=3u32 {
            let here = rest.len().min(per_block.pow(depth));
            let (own, behind) = rest.split_at(here);
            rest = behind;
            map.push(if own.is_empty() { 0 } else { self.numbers(geometry, ground, group, own, depth)? });
        }
        rest.is_empty().then(|| map.iter().flat_map(|block| block.to_le_bytes()).collect())
    }

    /// A block of numbers for `blocks`, `depth` levels above them: its own number.
    fn numbers(&mut self, geometry: &ExtGeometry, ground: &mut Ground, group: u32, blocks: &[u32], depth: u32) -> Option<u32> {
        let own = ground.take(group, 1)?.first()?.0;
        let per_block = geometry.block_bytes as usize / 4;
        let below = match depth {
            1 => blocks.to_vec(),
            _ => {
                let pieces = blocks.chunks(per_block.pow(depth - 1));
                pieces.map(|piece| self.numbers(geometry, ground, group, piece, depth - 1)).collect::<Option<Vec<u32>>>()?
            }
        };
        let mut bytes: Vec<u8> = below.iter().flat_map(|block| block.to_le_bytes()).collect();
        bytes.resize(geometry.block_bytes as usize, 0);
        self.map_blocks.push((own, bytes));
        u32::try_from(own).ok()
    }
}

fn inode_seed(geometry: &ExtGeometry, number: u32) -> u32 {
    crc32c(crc32c(geometry.checksum_seed, &number.to_le_bytes()), &0u32.to_le_bytes())
}

/// An inode of `inode_bytes`.
fn inode(geometry: &ExtGeometry, wanted: &Wanted, number: u32, (mode, links): (u16, u16), file: &Mapped) -> Vec<u8> {
    let block = u64::from(geometry.block_bytes);
    let mut raw = RawInode::new_zeroed();
    let now = U32::new(wanted.made_at);
    let size = file.blocks * block;
    raw.i_mode = U16::new(mode);
    raw.i_size_lo = U32::new((size & 0xFFFF_FFFF) as u32);
    raw.i_size_high = U32::new((size >> 32) as u32);
    (raw.i_atime, raw.i_ctime, raw.i_mtime) = (now, now, now);
    raw.i_links_count = U16::new(links);
    // In units of 512 bytes, the map's own blocks with them.
    let all = (file.blocks + file.map_blocks.len() as u64) * block / 512;
    raw.i_blocks_lo = U32::new(u32::try_from(all).unwrap_or(u32::MAX));
    if geometry.incompat & INCOMPAT_EXTENTS != 0 {
        raw.i_flags = U32::new(FLAG_EXTENTS);
    }
    raw.i_block = file.map;
    raw.i_extra_isize = U16::new(EXTRA_BYTES);
    raw.i_crtime = now;
    let mut bytes = raw.as_bytes().to_vec();
    bytes.resize(usize::from(geometry.inode_bytes), 0);
    if geometry.has_checksums() {
        let sum = crc32c(inode_seed(geometry, number), &bytes).to_le_bytes();
        // Its lower half in osd2, its upper one behind i_extra_isize.
        for (at, byte) in [(124, sum[0]), (125, sum[1]), (130, sum[2]), (131, sum[3])] {
            bytes.iter_mut().skip(at).take(1).for_each(|slot| *slot = byte);
        }
    }
    bytes
}

/// The blocks of a directory with `names`; those behind the first are empty.
fn directory(geometry: &ExtGeometry, what: &'static str, number: u32, file: &Mapped, names: &[(&str, u32)]) -> Vec<Part> {
    let block = geometry.block_bytes as usize;
    let room = block - if geometry.has_checksums() { TAIL } else { 0 };
    let blocks = file.runs.iter().flat_map(|(at, count)| *at..*at + *count);
    let made = |index: usize| {
        let names = if index == 0 { names } else { &[] };
        let mut bytes = Vec::with_capacity(block);
        for (place, (name, inode)) in names.iter().enumerate() {
            let short = (8 + name.len()).next_multiple_of(4);
            let length = if place + 1 == names.len() { room - bytes.len() } else { short };
            let end = bytes.len() + length;
            bytes.extend(inode.to_le_bytes());
            bytes.extend((length as u16).to_le_bytes());
            bytes.extend([name.len() as u8, IS_DIRECTORY]);
            bytes.extend(name.as_bytes());
            bytes.resize(end, 0);
        }
        if names.is_empty() {
            bytes.extend(0u32.to_le_bytes());
            bytes.extend((room as u16).to_le_bytes());
            bytes.resize(room, 0);
        }
        if geometry.has_checksums() {
            let sum = crc32c(inode_seed(geometry, number), &bytes);
            bytes.extend(0u32.to_le_bytes());
            bytes.extend((TAIL as u16).to_le_bytes());
            bytes.extend([0, IS_TAIL]);
            bytes.extend(sum.to_le_bytes());
        }
        bytes
    };
    blocks.enumerate().map(|(index, at)| Part::new(what, at * block as u64, made(index))).collect()
}
