//! The journal (jbd2), replayed virtually: which blocks of the volume have newer content in it. Big-endian. Field
//! names are those of the kernel's documentation of the format.

use std::collections::{BTreeMap, HashMap};

use keel_source::ByteOffset;

use super::layout::crc32c;
use super::{ExtGeometry, Inode};
use crate::pages::Pages;
use crate::replay::{MOST_UNITS, Newer};
use crate::{Extent, Finding, FormatError, Severity, View};

/// `h_magic`.
const MAGIC: u32 = 0xC03B_3998;
/// `h_blocktype`: descriptor, commit, superblock version 2, revoke.
const DESCRIPTOR: u32 = 1;
const COMMIT: u32 = 2;
const SUPERBLOCK_V1: u32 = 3;
const SUPERBLOCK_V2: u32 = 4;
const REVOKE: u32 = 5;
/// `s_feature_incompat`: block numbers of 64 bits.
const INCOMPAT_64BIT: u32 = 0x2;
/// `s_feature_incompat`: checksums of version 2 and 3.
const INCOMPAT_CSUM_V2: u32 = 0x8;
const INCOMPAT_CSUM_V3: u32 = 0x10;
/// `s_feature_incompat`: fast commits.
const INCOMPAT_FAST_COMMIT: u32 = 0x20;
/// Tag flags: the block's first word was the magic and is kept as zero; same UUID; last tag.
const FLAG_ESCAPE: u32 = 1;
const FLAG_SAME_UUID: u32 = 2;
const FLAG_LAST: u32 = 8;

/// What the journal holds.
#[derive(Debug, Default)]
pub(super) struct Journal {
    /// The newest committed content of each block of the volume.
    pub(super) newer: HashMap<u64, Newer>,
    /// Transactions that were committed and not yet written to their places.
    pub(super) transactions: u64,
    /// True when it is not empty: a recovery has to look at it before anything is written.
    pub(super) pending: bool,
    /// What was wrong.
    pub(super) findings: Vec<Finding>,
}

/// A part of the journal: the header fields that the walk needs.
struct Log<'a> {
    pages: &'a Pages,
    geometry: &'a ExtGeometry,
    extents: Vec<Extent>,
    block_bytes: u64,
    first: u64,
    len: u64,
    incompat: u32,
    seed: u32,
}

/// One transaction: its blocks and what it revokes.
#[derive(Default)]
struct Transaction {
    blocks: Vec<(u64, Newer)>,
    revoked: Vec<u64>,
}

/// Reads the journal of `inode` and collects what a recovery would write. Bounded by the journal's length and by
/// [`MOST_UNITS`] blocks.
///
/// # Errors
/// [`FormatError`] when the journal's superblock cannot be read or does not hold.
pub(super) fn read(pages: &Pages, geometry: &ExtGeometry, inode: &Inode) -> Result<Journal, FormatError> {
    let (log, at, bytes) = log_of(pages, geometry, inode)?;
    let view = View::new("journal superblock", at, &bytes);
    let start = u64::from(big(view, 28, "s_start")?);
    let mut journal = Journal { pending: start != 0, ..Journal::default() };
    if start == 0 {
        return Ok(journal);
    }
    let end = if log.incompat & INCOMPAT_FAST_COMMIT != 0 { log.len.saturating_sub(fast_blocks(view)) } else { log.len };
    log.walk(start, big(view, 24, "s_sequence")?, end, &mut journal);
    Ok(journal)
}

/// True when `inode` leads to a journal.
pub(super) fn stands(pages: &Pages, geometry: &ExtGeometry, inode: &Inode) -> bool {
    log_of(pages, geometry, inode).is_ok()
}

/// Every state of a block that transactions of before left in the log, whether they are finished or not: by block of the
/// volume, the place of its bytes and the number of its transaction. Bounded by the log's length and [`MOST_UNITS`].
pub(super) fn earlier(pages: &Pages, geometry: &ExtGeometry, inode: &Inode) -> BTreeMap<u64, Vec<(u32, ByteOffset)>> {
    let mut states: BTreeMap<u64, Vec<(u32, ByteOffset)>> = BTreeMap::new();
    let Ok((log, ..)) = log_of(pages, geometry, inode) else { return states };
    let (mut block, mut units) = (log.first, 0usize);
    while block < log.len && units < MOST_UNITS {
        let head = log.at(block).and_then(|at| pages.bytes(at, usize::try_from(log.block_bytes).ok()?, "journal block").ok());
        block += 1;
        let Some(bytes) = head else { continue };
        let view = View::new("journal block", ByteOffset(0), &bytes);
        let [magic, kind, sequence] = [0, 4, 8].map(|offset| big(view, offset, "header").unwrap_or(0));
        if magic != MAGIC || kind != DESCRIPTOR || !log.checksum_holds(kind, &bytes) {
            continue;
        }
        for (target, _) in log.tags(view) {
            if let Some(at) = log.at(block) {
                states.entry(target).or_default().push((sequence, at));
            }
            block += 1;
            units += 1;
        }
    }
    // The latest first.
    states.values_mut().for_each(|list| list.sort_by_key(|(sequence, _)| std::cmp::Reverse(*sequence)));
    states
}

/// The log of a journal with its superblock, and where that stands.
fn log_of<'a>(pages: &'a Pages, geometry: &'a ExtGeometry, inode: &Inode) -> Result<(Log<'a>, ByteOffset, Vec<u8>), FormatError> {
    let extents = inode.extents(pages, geometry)?;
    let at = extents.first().and_then(|extent| extent.volume_at).unwrap_or(inode.at);
    let bytes = pages.bytes(at, 1024, "journal superblock")?;
    let view = View::new("journal superblock", at, &bytes);
    let kind = big(view, 4, "h_blocktype")?;
    if big(view, 0, "h_magic")? != MAGIC || !matches!(kind, SUPERBLOCK_V1 | SUPERBLOCK_V2) {
        return Err(view.wrong(0, "h_magic", u64::from(big(view, 0, "h_magic")?), "0xC03B3998"));
    }
    let block_bytes = u64::from(big(view, 12, "s_blocksize")?);
    if block_bytes != u64::from(geometry.block_bytes) {
        return Err(view.wrong(12, "s_blocksize", block_bytes, "the block size of the volume"));
    }
    let incompat = if kind == SUPERBLOCK_V2 { big(view, 40, "s_feature_incompat")? } else { 0 };
    let log = Log {
        pages,
        geometry,
        extents,
        block_bytes,
        first: u64::from(big(view, 20, "s_first")?).max(1),
        len: u64::from(big(view, 16, "s_maxlen")?).min(inode.bytes() / block_bytes.max(1)),
        incompat,
        seed: crc32c(u32::MAX, view.slice(48, 16, "s_uuid")?),
    };
    Ok((log, at, bytes))
}

/// Makes the journal whose superblock `bytes` begin with empty.
pub(super) fn empty(bytes: &mut [u8]) {
    let Some(superblock) = bytes.get_mut(..1024) else { return };
    let set = |superblock: &mut [u8], at: usize, value: u32| {
        if let Some(slot) = superblock.get_mut(at..at + 4) {
            slot.copy_from_slice(&value.to_be_bytes());
        }
    };
    let view = View::new("journal superblock", ByteOffset(0), superblock);
    let (kind, incompat) = (big(view, 4, "h_blocktype").unwrap_or(0), big(view, 40, "s_feature_incompat").unwrap_or(0));
    let sequence = big(view, 24, "s_sequence").unwrap_or(0);
    // `s_start` 0 is an empty journal; transactions of before must not be taken for new ones.
    set(superblock, 28, 0);
    set(superblock, 24, sequence.wrapping_add(1 << 16));
    if kind == SUPERBLOCK_V2 && incompat & (INCOMPAT_CSUM_V2 | INCOMPAT_CSUM_V3) != 0 {
        set(superblock, 252, 0);
        let sum = crc32c(u32::MAX, superblock);
        set(superblock, 252, sum);
    }
}

/// The superblock of an empty journal of `blocks` blocks, for a volume whose journal's own one is lost.
pub(super) fn fresh(geometry: &ExtGeometry, blocks: u32) -> Vec<u8> {
    let mut bytes = vec![0; 1024];
    let words = [(0, MAGIC), (4, SUPERBLOCK_V2), (12, geometry.block_bytes), (16, blocks), (20, 1), (24, 1), (64, 1)];
    for (at, value) in words {
        if let Some(slot) = bytes.get_mut(at..at + 4) {
            slot.copy_from_slice(&value.to_be_bytes());
        }
    }
    if let Some(slot) = bytes.get_mut(48..64) {
        slot.copy_from_slice(&geometry.uuid);
    }
    bytes
}

/// Blocks at the end that fast commits use.
fn fast_blocks(view: View<'_>) -> u64 {
    match big(view, 84, "s_num_fc_blks") {
        Ok(0) | Err(_) => 256,
        Ok(blocks) => u64::from(blocks),
    }
}

fn big(view: View<'_>, offset: usize, field: &'static str) -> Result<u32, FormatError> {
    view.u32(offset, field).map(u32::swap_bytes)
}

impl Log<'_> {
    fn at(&self, block: u64) -> Option<ByteOffset> {
        let byte = block.checked_mul(self.block_bytes)?;
        let index = self.extents.partition_point(|extent| extent.stream_at + extent.bytes <= byte);
        let extent = self.extents.get(index).filter(|extent| extent.stream_at <= byte)?;
        Some(extent.volume_at? + (byte - extent.stream_at))
    }

    fn walk(&self, start: u64, first_sequence: u32, end: u64, journal: &mut Journal) {
        if self.first >= end || !(self.first..end).contains(&start) {
            return;
        }
        let next = |block: u64| if block + 1 >= end { self.first } else { block + 1 };
        let mut sequence = first_sequence;
        let mut open = Transaction::default();
        // Sequence number of the last transaction that revokes a block, and of the one that wrote it.
        let mut written: Vec<(u32, Transaction)> = Vec::new();
        let (mut block, mut steps, mut units) = (start, 0, 0usize);
        while steps <= end - self.first {
            let Some(at) = self.at(block) else { break };
            let Ok(bytes) = self.pages.bytes(at, usize::try_from(self.block_bytes).unwrap_or(0), "journal block") else {
                let what = "a block of the journal cannot be read: what it holds from here on is not replayed";
                journal.findings.push(Finding::at(Severity::Doubt, at, what, format!("journal block {block}")));
                break;
            };
            let view = View::new("journal block", at, &bytes);
            let head = [0, 4, 8].map(|offset| big(view, offset, "header").unwrap_or(0));
            // The end of the log: an older transaction, or one that was cut off before its commit.
            if head[0] != MAGIC || head[2] != sequence || !self.checksum_holds(head[1], &bytes) {
                break;
            }
            match head[1] {
                DESCRIPTOR => {
                    let tags = self.tags(view);
                    for (target, escaped) in tags {
                        block = next(block);
                        steps += 1;
                        let Some(at) = self.at(block) else { continue };
                        let head = escaped.then(|| MAGIC.to_be_bytes());
                        units += 1;
                        open.blocks.push((target, Newer { at, head }));
                    }
                }
                REVOKE => open.revoked.extend(self.revoked(view)),
                COMMIT => {
                    written.push((sequence, std::mem::take(&mut open)));
                    journal.transactions += 1;
                    sequence = sequence.wrapping_add(1);
                }
                _ => break,
            }
            if units > MOST_UNITS {
                let what = "the journal holds more blocks than are replayed here";
                journal.findings.push(Finding::at(Severity::Doubt, at, what, format!("{units} blocks")));
                break;
            }
            block = next(block);
            steps += 1;
        }
        self.apply(written, journal);
    }

    /// True when the block's own checksum holds; also where none is kept.
    fn checksum_holds(&self, kind: u32, bytes: &[u8]) -> bool {
        if self.incompat & (INCOMPAT_CSUM_V2 | INCOMPAT_CSUM_V3) == 0 {
            return true;
        }
        // A commit keeps it behind its header, descriptors and revokes in their last four bytes.
        let place = if kind == COMMIT { 16 } else { bytes.len().saturating_sub(4) };
        let mut without = bytes.to_vec();
        let mut stored = [0; 4];
        let Some(field) = without.get_mut(place..place + 4) else { return false };
        stored.copy_from_slice(field);
        field.fill(0);
        crc32c(self.seed, &without) == u32::from_be_bytes(stored)
    }

    /// A block counts unless its own or a later transaction revokes it.
    fn apply(&self, written: Vec<(u32, Transaction)>, journal: &mut Journal) {
        let mut revoked: HashMap<u64, usize> = HashMap::new();
        for (index, (_, transaction)) in written.iter().enumerate() {
            for block in &transaction.revoked {
                revoked.insert(*block, index);
            }
        }
        for (index, (_, transaction)) in written.into_iter().enumerate() {
            for (block, newer) in transaction.blocks {
                let lives = revoked.get(&block).is_none_or(|by| *by < index);
                if lives && block < self.geometry.blocks {
                    journal.newer.insert(block, newer);
                }
            }
        }
    }

    /// The tags of a descriptor block: block number of the volume, and whether the first word was escaped.
    fn tags(&self, view: View<'_>) -> Vec<(u64, bool)> {
        let wide = self.incompat & INCOMPAT_64BIT != 0;
        let v3 = self.incompat & INCOMPAT_CSUM_V3 != 0;
        let tail = if self.incompat & (INCOMPAT_CSUM_V2 | INCOMPAT_CSUM_V3) != 0 { 4 } else { 0 };
        let tag_bytes = match (v3, wide) {
            (true, _) => 16,
            (false, true) => 12,
            (false, false) => 8,
        };
        let mut tags = Vec::new();
        let mut offset = 12;
        while offset + tag_bytes + tail <= view.bytes().len() {
            let Ok(low) = big(view, offset, "t_blocknr") else { break };
            let flags = match v3 {
                true => big(view, offset + 4, "t_flags").unwrap_or(FLAG_LAST),
                false => view.u16(offset + 6, "t_flags").map_or(FLAG_LAST, |flags| u32::from(flags.swap_bytes())),
            };
            let high = if wide { big(view, offset + 8, "t_blocknr_high").unwrap_or(0) } else { 0 };
            tags.push((u64::from(low) | u64::from(high) << 32, flags & FLAG_ESCAPE != 0));
            offset += tag_bytes + if flags & FLAG_SAME_UUID == 0 { 16 } else { 0 };
            if flags & FLAG_LAST != 0 {
                break;
            }
        }
        tags
    }

    fn revoked(&self, view: View<'_>) -> Vec<u64> {
        let size = if self.incompat & INCOMPAT_64BIT != 0 { 8 } else { 4 };
        let used = big(view, 12, "r_count").map_or(0, |count| count as usize).min(view.bytes().len());
        let mut blocks = Vec::new();
        let mut offset = 16;
        while offset + size <= used {
            let word = |at| big(view, at, "revoked block").map_or(0, u64::from);
            blocks.push(if size == 8 { word(offset) << 32 | word(offset + 4) } else { word(offset) });
            offset += size;
        }
        blocks
    }
}
