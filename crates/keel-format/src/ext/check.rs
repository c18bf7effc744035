//! The rules of ext: superblock state, counts, orphans, checksums of inodes, and what the journal holds.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use keel_source::{ByteOffset, printable};
use zerocopy::{FromBytes, IntoBytes};

use super::groups::metadata;
use super::layout::{BG_BLOCK_UNINIT, INCOMPAT_RECOVER, JOURNAL_INODE, ROOT_INODE, RawSuperblock, SUPERBLOCK_AT};
use super::{ExtGeometry, ExtVolume, mend};
use crate::check::{Allocation, BitOrder, Checked, Mending};
use crate::{Extent, Finding, NodeId, Repair, Severity, Volume, read_bytes};

/// The most findings that one rule reports.
const MOST_FINDINGS: usize = 50;
/// The largest map of blocks that is held, in bytes.
const LARGEST_MAP: u64 = 64 << 20;
/// The most bytes that a replay stages.
const LARGEST_REPLAY: usize = 64 << 20;
/// Numbers of the inodes that the system keeps for itself.
const SYSTEM_INODES: std::ops::Range<u32> = 1..11;

pub(super) fn rules(volume: &ExtVolume) -> Vec<Checked> {
    vec![journal(volume), state(volume), counts(volume), orphans(volume), inodes(volume)]
}

fn superblock(volume: &ExtVolume) -> Option<RawSuperblock> {
    let bytes = read_bytes(volume.source().as_ref(), ByteOffset(SUPERBLOCK_AT), 1024, "superblock").ok()?;
    RawSuperblock::read_from_bytes(&bytes).ok().filter(|_| mend::is_stated_in(volume.source(), volume.geometry(), 0))
}

/// The superblock with `change` made, as a repair.
fn changed(raw: &RawSuperblock, reason: &str, change: impl FnOnce(&mut RawSuperblock)) -> Repair {
    let mut raw = *raw;
    change(&mut raw);
    let mut bytes = raw.as_bytes().to_vec();
    mend::seal(&mut bytes);
    Repair::computed("superblock", ByteOffset(SUPERBLOCK_AT), bytes, reason)
}

/// The journal holds nothing that is not in its place. Staged: its blocks at their places, then an empty journal.
fn journal(volume: &ExtVolume) -> Checked {
    const RULE: (&str, &str) = ("journal", "everything that the journal holds is in its place");
    if let Some(checked) = lost_journal(volume, RULE) {
        return checked;
    }
    if !volume.has_pending_journal() {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    }
    let geometry = volume.geometry();
    let unit = u64::from(geometry.block_bytes);
    let replayed = volume.replayed_blocks();
    let what = format!("the journal holds {} blocks that are not in their places", replayed.len());
    let finding = Finding::of_all(Severity::Note, what, "committed transactions behind its start");
    let checked = Checked::new(RULE.0, RULE.1, vec![finding]);
    if replayed.len().saturating_mul(geometry.block_bytes as usize) > LARGEST_REPLAY {
        return checked;
    }
    let mut blocks: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
    let read =
        |block: u64| read_bytes(volume.source().as_ref(), ByteOffset(block * unit), geometry.block_bytes as usize, "block").ok();
    for block in replayed {
        if let Some(bytes) = read(*block) {
            blocks.insert(*block, bytes);
        }
    }
    // The superblock no longer asks for a recovery, and the journal begins empty.
    let holder = SUPERBLOCK_AT / unit;
    let inside = usize::try_from(SUPERBLOCK_AT % unit).unwrap_or(0);
    let mut patch = |block: u64, patch: &mut dyn FnMut(&mut [u8])| {
        if let Some(mut bytes) = blocks.remove(&block).or_else(|| read(block)) {
            patch(&mut bytes);
            blocks.insert(block, bytes);
        }
    };
    patch(holder, &mut |bytes| {
        let Some(bytes) = bytes.get_mut(inside..inside + 1024) else { return };
        if let Ok((raw, _)) = RawSuperblock::mut_from_prefix(bytes) {
            raw.s_feature_incompat.set(raw.s_feature_incompat.get() & !INCOMPAT_RECOVER);
        }
        mend::seal(bytes);
    });
    let journal_at = volume.extents(NodeId(u64::from(geometry.journal_inode))).ok();
    let journal_at = journal_at.and_then(|extents| extents.first()?.volume_at);
    let Some(at) = journal_at.filter(|at| at.0.is_multiple_of(unit)) else { return checked };
    patch(at.0 / unit, &mut |bytes| super::journal::empty(bytes));
    let mut repairs: Vec<Repair> = Vec::new();
    for (block, bytes) in blocks {
        let name = if block == holder { "superblock" } else { "journaled block" };
        repairs.push(Repair::computed(name, ByteOffset(block * unit), bytes, "the journal's block at its place"));
    }
    checked.mended_by(Some(Mending::safe("the journal is replayed and left empty", repairs)))
}

/// A journal whose own superblock is lost: what it held cannot be known; a fresh one lets the volume mount.
fn lost_journal(volume: &ExtVolume, (rule, asks): (&'static str, &'static str)) -> Option<Checked> {
    let geometry = volume.geometry();
    let inode = volume.inode(geometry.journal_inode).ok().filter(|_| geometry.journal_inode != 0)?;
    let at = volume.extents(NodeId(u64::from(geometry.journal_inode))).ok()?.first()?.volume_at?;
    let magic = read_bytes(volume.source().as_ref(), at, 4, "journal superblock").ok()?;
    if magic == [0xC0, 0x3B, 0x39, 0x98] {
        return None;
    }
    let how = format!("h_magic is {magic:02x?}");
    let finding = Finding::at(Severity::Broken, at, "the journal does not hold: a system refuses to mount the volume", how);
    let blocks = u32::try_from(inode.bytes() / u64::from(geometry.block_bytes)).ok()?;
    let fresh = super::journal::fresh(geometry, blocks);
    let mut repairs = vec![Repair::computed("journal superblock", at, fresh, "a fresh, empty journal in the same place")];
    if let Some(raw) = superblock(volume) {
        let cleared = |raw: &mut RawSuperblock| raw.s_feature_incompat.set(raw.s_feature_incompat.get() & !INCOMPAT_RECOVER);
        repairs.push(changed(&raw, "no recovery is asked for", cleared));
    }
    let loses = "changes of the last seconds that only the old journal holds";
    let mending = Mending::costly("a fresh, empty journal is written in its place", loses, repairs);
    Some(Checked::new(rule, asks, vec![finding]).mended_by(Some(mending)))
}

/// `s_state`: cleanly unmounted, no errors noted.
fn state(volume: &ExtVolume) -> Checked {
    const RULE: (&str, &str) = ("state", "no system noted errors on the volume");
    let Some(raw) = superblock(volume).filter(|raw| raw.s_state.get() & 2 != 0) else {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    };
    let how = format!("s_state is {}", raw.s_state);
    let finding =
        Finding::at(Severity::Doubt, ByteOffset(SUPERBLOCK_AT + 58), "errors were noted: a system may mount it read-only", how);
    let repair = changed(&raw, "the note of errors is cleared", |raw| raw.s_state.set(1));
    let mending = Mending::costly("the note is cleared", "the note that a full check is due", vec![repair]);
    Checked::new(RULE.0, RULE.1, vec![finding]).mended_by(Some(mending))
}

/// Free blocks and inodes of each group against its bitmaps.
fn counts(volume: &ExtVolume) -> Checked {
    const RULE: (&str, &str) = ("counts", "the free counts and checksums of the groups are those of their bitmaps");
    let mut findings = Vec::new();
    let mut repairs = Vec::new();
    if volume.has_pending_journal() {
        return Checked::new(RULE.0, RULE.1, findings);
    }
    for (first, stored, fresh) in mend::counted(volume.source(), volume.geometry()) {
        let size = usize::from(volume.geometry().descriptor_bytes);
        let pairs = stored.chunks(size).zip(fresh.chunks(size)).zip(first..);
        for ((_, fresh), group) in pairs.filter(|((stored, fresh), _)| stored != fresh) {
            let at = volume.geometry().descriptor_at(group);
            if findings.len() < MOST_FINDINGS {
                let what = format!("group {group} counts its free blocks or inodes wrong");
                findings.push(Finding::at(Severity::Doubt, at, what, "clear bits of both bitmaps"));
            }
            repairs.push(Repair::computed(format!("descriptor of group {group}"), at, fresh.to_vec(), "counted in its bitmaps"));
        }
    }
    Checked::new(RULE.0, RULE.1, findings).mended_by(Some(Mending::safe("the counts are set to what the bitmaps say", repairs)))
}

/// Files that were deleted while they were open.
fn orphans(volume: &ExtVolume) -> Checked {
    const RULE: (&str, &str) = ("orphans", "no deletion was broken off");
    const MOST: usize = 1 << 16;
    let mut number = superblock(volume).map_or(0, |raw| raw.s_last_orphan.get());
    let mut found = 0usize;
    while number != 0 && found < MOST {
        found += 1;
        // An orphan keeps the number of the next one where a deleted inode keeps its time.
        number = volume.inode(number).map_or(0, |inode| inode.raw.i_dtime.get());
    }
    let finding = (found > 0).then(|| {
        let what = format!("{found} files were deleted or cut while they were open: a system finishes that when it mounts");
        Finding::at(Severity::Note, ByteOffset(SUPERBLOCK_AT + 232), what, "the list that begins at s_last_orphan")
    });
    Checked::new(RULE.0, RULE.1, finding.into_iter().collect())
}

/// Checksums of the inodes of every name.
fn inodes(volume: &ExtVolume) -> Checked {
    let mut findings = Vec::new();
    let _ = volume.walk(crate::Deleted::Hide, &mut |found| {
        let number = u32::try_from(found.entry.id.0).unwrap_or(0);
        let (why, at) = match volume.inode(number) {
            Ok(inode) if inode.checksum_holds(volume.geometry()) && !inode.is_deleted() => return ControlFlow::Continue(()),
            Ok(inode) if inode.is_deleted() => ("its inode is free", inode.at),
            Ok(inode) => ("the checksum of its inode does not hold", inode.at),
            Err(error) => ("its inode cannot be read", error.at),
        };
        let what = format!("{}: {why}", printable(&found.path()));
        findings.push(Finding::at(Severity::Doubt, at, what, format!("inode {number}")));
        if findings.len() < MOST_FINDINGS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    Checked::new("inodes", "every name leads to an inode in use whose checksum holds", findings)
}

/// The block bitmaps of all groups, one behind the other.
pub(super) fn allocation(volume: &ExtVolume) -> Option<Allocation> {
    let geometry = volume.geometry();
    let per_cluster = (geometry.cluster_bytes / geometry.block_bytes).max(1);
    let group_bytes = usize::try_from(geometry.blocks_per_group / per_cluster / 8).ok()?;
    if u64::from(geometry.groups()).saturating_mul(group_bytes as u64) > LARGEST_MAP {
        return None;
    }
    let (mut bits, mut places) = (Vec::new(), Vec::new());
    for group in 0..geometry.groups() {
        let raw = volume.descriptor(group).ok()?;
        let block = u64::from(raw.bg_block_bitmap_lo.get()) | u64::from(raw.bg_block_bitmap_hi.get()) << 32;
        let at = geometry.block_at(block)?;
        let never = raw.bg_flags.get() & BG_BLOCK_UNINIT != 0 && geometry.counts_unwritten();
        let read = if never {
            vec![0; group_bytes]
        } else {
            read_bytes(volume.source().as_ref(), at, group_bytes, "block bitmap").ok()?
        };
        places.push(Extent { stream_at: bits.len() as u64, volume_at: Some(at), bytes: group_bytes as u64 });
        bits.extend(read);
    }
    for range in unwritten_metadata(volume) {
        let first = u64::from(geometry.first_data_block);
        for block in range {
            let unit = block.saturating_sub(first) / u64::from(per_cluster);
            let byte = usize::try_from(unit / 8).ok().and_then(|index| bits.get_mut(index));
            byte.into_iter().for_each(|byte| *byte |= 1 << (unit % 8));
        }
    }
    Some(Allocation {
        unit: if per_cluster > 1 { "cluster" } else { "block" },
        unit_bytes: u64::from(geometry.cluster_bytes),
        first_at: ByteOffset(u64::from(geometry.first_data_block) * u64::from(geometry.block_bytes)),
        first_number: u64::from(geometry.first_data_block),
        units: u64::from(u32::try_from(bits.len() * 8).ok()?),
        bits,
        order: BitOrder::LowFirst,
        places,
        // Blocks of extent trees, attributes and reserved descriptors are not among the claims.
        knows_all: false,
    })
}

/// Blocks of metadata in groups whose bitmap was never written: copies of superblock and descriptors, bitmaps, inode tables. A
/// driver counts them when it writes the bitmap.
fn unwritten_metadata(volume: &ExtVolume) -> Vec<std::ops::Range<u64>> {
    let geometry = volume.geometry();
    if !geometry.counts_unwritten() {
        return Vec::new();
    }
    let unwritten = |group: u32| volume.descriptor(group).is_ok_and(|raw| raw.bg_flags.get() & BG_BLOCK_UNINIT != 0);
    let group_of = |block: u64| u32::try_from(block / u64::from(geometry.blocks_per_group.max(1))).unwrap_or(u32::MAX);
    let all = (0..geometry.groups()).flat_map(|group| metadata(volume, group));
    all.filter(|range| unwritten(group_of(range.start))).collect()
}

pub(super) fn claims(volume: &ExtVolume, each: &mut dyn FnMut(&str, &[Extent])) {
    for number in SYSTEM_INODES.filter(|number| matches!(*number, ROOT_INODE | JOURNAL_INODE)) {
        each(&format!("inode {number}"), &volume.extents(NodeId(u64::from(number))).unwrap_or_default());
    }
    let mut linked: std::collections::HashSet<u64> = std::collections::HashSet::new();
    let _ = volume.walk(crate::Deleted::Hide, &mut |found| {
        // A file with many names holds its ground once.
        let hard = u32::try_from(found.entry.id.0).ok().and_then(|number| volume.inode(number).ok());
        let hard = hard.is_some_and(|inode| inode.raw.i_links_count.get() > 1 && inode.kind() == Some(crate::NodeKind::File));
        if !hard || linked.insert(found.entry.id.0) {
            each(&found.path(), &volume.extents(found.entry.id).unwrap_or_default());
        }
        ControlFlow::Continue(())
    });
}

/// The bitmaps with `units` set, and the descriptors that count them.
pub(super) fn marked(volume: &ExtVolume, allocation: &Allocation, units: &[std::ops::Range<u64>], used: bool) -> Vec<Repair> {
    let mut repairs = allocation.marked(units, used);
    let mut overlay = keel_source::Overlay::new(keel_source::SharedSource::clone(volume.source()));
    repairs.iter().for_each(|repair| overlay.lay(repair.at, &repair.bytes));
    let view: keel_source::SharedSource = std::sync::Arc::new(overlay);
    let geometry: &ExtGeometry = volume.geometry();
    for (first, stored, fresh) in mend::counted(&view, geometry) {
        let size = usize::from(geometry.descriptor_bytes);
        for ((_, fresh), group) in
            stored.chunks(size).zip(fresh.chunks(size)).zip(first..).filter(|((stored, fresh), _)| stored != fresh)
        {
            let at = geometry.descriptor_at(group);
            repairs.push(Repair::computed(format!("descriptor of group {group}"), at, fresh.to_vec(), "counted in its bitmaps"));
        }
    }
    repairs
}
