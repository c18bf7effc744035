//! An HFS+ volume of which neither header is left: its B-trees, its files and its allocation bitmap say the rest.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, SharedSource};

use super::clue::TreeClue;
use crate::clue::Clues;
use crate::content::{ContentMatch, matches_type};
use crate::hfsplus::catalog::{parent_of, text_of, units_of};
use crate::hfsplus::layout::{
    ATTRIBUTE_JOURNALED, ATTRIBUTE_UNMOUNTED, ATTRIBUTES_KEY, EXTENTS_KEY, Fork, HEADER_AT, ROOT_FOLDER_ID, RawHeader,
};
use crate::hfsplus::{HfsGeometry, Record, Tree};
use crate::pages::Pages;
use crate::{Extent, VolumeKind, Witness, WitnessKind, read_bytes};

/// `keyCompareType` of names whose case counts: only HFSX has it.
const BINARY_COMPARE: u8 = 0xBC;
/// The most catalog records that are looked at.
const MOST_RECORDS: usize = 20_000;
/// The most files whose ends are looked for.
const MOST_PROBES: usize = 48;
/// The most starts tried block by block before the catalog.
const DENSE_STARTS: u64 = 65_536;
/// The most starts tried on boundaries of 1 MiB before the catalog.
const ALIGNED_STARTS: u64 = 16_384;
/// Fewer files that stand where a start puts them are no evidence.
const LEAST_MET: usize = 3;
/// The largest allocation bitmap that is read, in bytes.
const LARGEST_BITMAP: u64 = 128 << 20;

/// A start, the geometry that follows, and the evidence for it.
pub(super) type Inferred = (ByteOffset, HfsGeometry, Witness);

/// What the catalog tells.
struct Told {
    header: crate::hfsplus::layout::RawTreeHeader,
    created: u32,
    files: Vec<(String, Fork)>,
    journal: Option<Fork>,
    journal_info: Option<Fork>,
}

/// The volume whose catalog begins at `catalog`, when its files say where it starts and a bitmap says how long it is.
/// Bounded by [`MOST_RECORDS`], [`MOST_PROBES`] and the counts of starts.
pub(super) fn from_catalog(drive: &SharedSource, catalog: &TreeClue, clues: &Clues) -> Option<Inferred> {
    let pages = Pages::new(Arc::clone(drive));
    let told = read_catalog(&pages, catalog.at)?;
    let block_bytes = block_bytes(&told.files)?;
    let (start, met, asked) = start_of(drive, catalog.at, u64::from(block_bytes), &told.files)?;
    let places = Places { start, block_bytes };
    let tree = |key: u16| {
        let near = clues.hfsplus.trees.iter().filter(|tree| tree.max_key_length == key && tree.at > start);
        near.min_by_key(|tree| tree.at.0.abs_diff(catalog.at.0)).and_then(|tree| places.tree_fork(&pages, tree.at))
    };
    let catalog_fork = places.tree_fork(&pages, catalog.at)?;
    let (overflow, attributes) = (tree(EXTENTS_KEY)?, tree(ATTRIBUTES_KEY).unwrap_or_default());
    let known = [Some(catalog_fork), Some(overflow), Some(attributes), told.journal, told.journal_info];
    let known: Vec<Fork> = known.into_iter().flatten().filter(|fork| fork.blocks > 0).collect();
    let (allocation, total_blocks) = bitmap(drive, &places, &known, &told.files)?;
    let journaled = told.journal_info.filter(|_| told.journal.is_some()).map_or(0, |info| info.extents[0].0);
    let geometry = HfsGeometry {
        kind: if told.header.key_compare_type == BINARY_COMPARE { VolumeKind::Hfsx } else { VolumeKind::HfsPlus },
        block_bytes,
        total_blocks,
        tail_bytes: 0,
        attributes: ATTRIBUTE_UNMOUNTED | if journaled > 0 { ATTRIBUTE_JOURNALED } else { 0 },
        journal_info_block: journaled,
        create_date: told.created,
        identifier: 0,
        allocation,
        extents: overflow,
        catalog: catalog_fork,
        attributes_file: attributes,
    };
    let says = format!(
        "files of the catalog end where a volume of {block_bytes}-byte blocks with this start puts them: {met} of {asked}; the \
         bitmap ends with block {total_blocks}"
    );
    let weight = if met == asked { 20 } else { 10 };
    let witness = Witness::at(WitnessKind::References, catalog.at, weight, says).start(start).length(geometry.volume_bytes());
    Some((start, geometry, witness))
}

fn read_catalog(pages: &Pages, at: ByteOffset) -> Option<Told> {
    let header = read_bytes(pages.source().as_ref(), at, 512, "B-tree header node").ok()?;
    let header = crate::hfsplus::header_of(crate::View::new("B-tree header node", at, &header)).ok()?;
    let bytes = u64::from(header.total_nodes.get()) * u64::from(header.node_size.get());
    let tree = Tree::open(pages, vec![Extent { stream_at: 0, volume_at: Some(at), bytes }]).ok()?;
    let mut told = Told { header, created: 0, files: Vec::new(), journal: None, journal_info: None };
    let mut left = MOST_RECORDS;
    // Damage on the way ends the walk; what was read before it counts.
    let _ = tree.from(pages, &|_| Ordering::Greater, &mut |found| {
        let in_root = parent_of(found.key) == Some(ROOT_FOLDER_ID);
        match Record::parse(found.data) {
            Some(Record::Folder(folder)) if folder.folder_id.get() == ROOT_FOLDER_ID => told.created = folder.create_date.get(),
            Some(Record::File(file)) => {
                let fork = Fork::from(&file.data_fork);
                match text_of(&units_of(found.key)).as_str() {
                    ".journal" if in_root => told.journal = Some(fork),
                    ".journal_info_block" if in_root => told.journal_info = Some(fork),
                    name => told.files.push((name.to_string(), fork)),
                }
            }
            _ => {}
        }
        left -= 1;
        if left > 0 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    (told.created != 0).then_some(told)
}

/// How many of how many files end where a volume of `block`-byte blocks that begins at `start` puts them.
pub(crate) fn met_at(drive: &SharedSource, start: ByteOffset, block: u32, files: &[(String, Fork)]) -> (usize, usize) {
    let block = u64::from(block);
    let probes = probes(files, block);
    (probes.iter().filter(|probe| fits(drive, start, block, probe)).count(), probes.len())
}

/// The block size that most forks agree on: each fork has as many blocks as its length needs.
pub(crate) fn block_bytes(files: &[(String, Fork)]) -> Option<u32> {
    let mut votes: BTreeMap<u32, usize> = BTreeMap::new();
    for (_, fork) in files.iter().filter(|(_, fork)| fork.blocks > 0) {
        for size in (9..=20).map(|shift| 1u32 << shift) {
            if fork.bytes.div_ceil(u64::from(size)) == u64::from(fork.blocks) {
                *votes.entry(size).or_default() += 1;
            }
        }
    }
    // Small files alone leave larger sizes open; formatters use 4096.
    votes.into_iter().max_by_key(|(size, count)| (*count, *size == 4096, std::cmp::Reverse(*size))).map(|(size, _)| size)
}

/// The last block of a file that does not fill it: content, then zeros to the end of the block.
struct Probe {
    first_block: u32,
    last_block: u32,
    used: usize,
    name: String,
}

fn probes(files: &[(String, Fork)], block: u64) -> Vec<Probe> {
    let probe = |(name, fork): &(String, Fork)| {
        let used = usize::try_from(fork.bytes % block).ok()?;
        let (first_block, count) = fork.extents[0];
        let whole = u64::from(count) == fork.bytes.div_ceil(block) && count > 0 && used > 0;
        let last_block = first_block.checked_add(count)?.checked_sub(1)?;
        whole.then(|| Probe { first_block, last_block, used, name: name.clone() })
    };
    let all: Vec<Probe> = files.iter().filter_map(probe).collect();
    let step = all.len().div_ceil(MOST_PROBES).max(1);
    all.into_iter().step_by(step).collect()
}

/// True when the file of `probe` stands where `start` puts it.
fn fits(drive: &SharedSource, start: ByteOffset, block: u64, probe: &Probe) -> bool {
    let place = |number: u32| start + u64::from(number) * block;
    let Ok(bytes) = read_bytes(drive.as_ref(), place(probe.last_block), usize::try_from(block).unwrap_or(0), "file") else {
        return false;
    };
    let (content, slack) = bytes.split_at(probe.used.min(bytes.len()));
    let ends = content.last().is_some_and(|byte| *byte != 0) && slack.iter().all(|byte| *byte == 0);
    let head_bytes = if probe.first_block == probe.last_block { probe.used.min(512) } else { 512 };
    let head = || read_bytes(drive.as_ref(), place(probe.first_block), head_bytes, "file").unwrap_or_default();
    ends && matches_type(&probe.name, &head()) != ContentMatch::Mismatch
}

/// The start before the catalog at which most files end where they should; how many of how many do.
fn start_of(
    drive: &SharedSource,
    catalog: ByteOffset,
    block: u64,
    files: &[(String, Fork)],
) -> Option<(ByteOffset, usize, usize)> {
    const ALIGNMENT: u64 = 1 << 20;
    let probes = probes(files, block);
    let dense = (1..=DENSE_STARTS).map_while(|count| catalog.0.checked_sub(count * block));
    let last = catalog.0 / ALIGNMENT;
    let aligned = (0..ALIGNED_STARTS).map_while(|count| Some(last.checked_sub(count)? * ALIGNMENT));
    let aligned = aligned.filter(|start| (catalog.0 - start).is_multiple_of(block));
    let mut best: Option<(usize, ByteOffset)> = None;
    for start in dense.chain(aligned).map(ByteOffset) {
        // A start that fails the first few is not tried on the rest.
        let (first, rest) = probes.split_at(probes.len().min(4));
        let early = first.iter().filter(|probe| fits(drive, start, block, probe)).count();
        if early == 0 {
            continue;
        }
        let met = early + rest.iter().filter(|probe| fits(drive, start, block, probe)).count();
        if best.is_none_or(|(most, _)| met > most) {
            best = Some((met, start));
        }
        if met == probes.len() && met > MOST_PROBES / 2 {
            break;
        }
    }
    best.filter(|(met, _)| *met >= LEAST_MET && *met * 2 > probes.len()).map(|(met, start)| (start, met, probes.len()))
}

/// Start and block size: what turns places on the drive into blocks.
struct Places {
    start: ByteOffset,
    block_bytes: u32,
}

impl Places {
    fn at(&self, block: u32) -> ByteOffset {
        self.start + u64::from(block) * u64::from(self.block_bytes)
    }

    /// The fork of a tree whose header node stands at `at`, taken as one piece.
    fn tree_fork(&self, pages: &Pages, at: ByteOffset) -> Option<Fork> {
        let size = u64::from(self.block_bytes);
        let first = at.0.checked_sub(self.start.0).filter(|distance| distance.is_multiple_of(size))? / size;
        let header = read_bytes(pages.source().as_ref(), at, 512, "B-tree header node").ok()?;
        let header = crate::hfsplus::header_of(crate::View::new("B-tree header node", at, &header)).ok()?;
        let bytes = u64::from(header.total_nodes.get()) * u64::from(header.node_size.get());
        one_piece(u32::try_from(first).ok()?, bytes, size)
    }
}

fn one_piece(first: u32, bytes: u64, block: u64) -> Option<Fork> {
    let blocks = u32::try_from(bytes.div_ceil(block)).ok()?;
    let mut extents = [(0, 0); 8];
    extents[0] = (first, blocks);
    Some(Fork { bytes, blocks, extents })
}

/// The allocation file and the count of blocks: behind the header or behind another system file, the first place whose
/// bits count every known block as used. The last used bit is that of the alternate header.
fn bitmap(drive: &SharedSource, places: &Places, known: &[Fork], files: &[(String, Fork)]) -> Option<(Fork, u32)> {
    let size = u64::from(places.block_bytes);
    let head = u32::try_from((HEADER_AT + size_of::<RawHeader>() as u64).div_ceil(size)).ok()?;
    let ends = known.iter().filter_map(|fork| fork.extents[0].0.checked_add(fork.extents[0].1));
    let extents = || known.iter().chain(files.iter().map(|(_, fork)| fork)).flat_map(|fork| fork.extents);
    let room = (drive.len() - places.start.0) / size;
    for first in std::iter::once(head).chain(ends) {
        let next = extents().filter(|(start, count)| *count > 0 && *start > first).map(|(start, _)| start).min();
        let most = room.div_ceil(8).min(LARGEST_BITMAP);
        let bytes = next.map_or(most, |next| (u64::from(next - first) * size).min(most));
        let Some(bits) = read_long(drive, places.at(first), bytes) else { continue };
        let is_used = |block: u32| bits.get(block as usize / 8).is_some_and(|byte| byte & (0x80 >> (block % 8)) != 0);
        let whole = |(start, count): (u32, u32)| count == 0 || (is_used(start) && is_used(start.saturating_add(count) - 1));
        if !is_used(0) || !is_used(first) || !extents().all(whole) {
            continue;
        }
        let last = bits.iter().rposition(|byte| *byte != 0)?;
        let within = 7 - bits.get(last)?.trailing_zeros();
        let total = u32::try_from(last * 8).ok()?.checked_add(within + 1)?;
        if u64::from(total) > room {
            continue;
        }
        let blocks = u64::from(total).div_ceil(8).div_ceil(size);
        return Some((one_piece(first, blocks * size, size)?, total));
    }
    None
}

/// `len` bytes at `at`, read in pieces; at most [`LARGEST_BITMAP`].
fn read_long(drive: &SharedSource, at: ByteOffset, len: u64) -> Option<Vec<u8>> {
    const PIECE: u64 = 4 << 20;
    let mut bytes = Vec::new();
    for from in (0..len.min(LARGEST_BITMAP)).step_by(usize::try_from(PIECE).ok()?) {
        let piece = usize::try_from((len - from).min(PIECE)).ok()?;
        bytes.extend(read_bytes(drive.as_ref(), at + from, piece, "allocation file").ok()?);
    }
    Some(bytes)
}
