//! The rules of XFS: the log, the headers and trees of groups, the inodes of every name; and who holds which ground.

use std::collections::HashSet;
use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange, RangeSet, printable};

use super::log::{self, LogState};
use super::{XfsVolume, groups, tree};
use crate::check::{Allocation, BitOrder, Checked};
use crate::device::hold;
use crate::{Deleted, Extent, Finding, FormatError, NodeId, Severity, Volume};

/// The most findings that one rule reports.
const MOST_FINDINGS: usize = 50;
/// The largest map of blocks that is held, in bytes.
const LARGEST_MAP: u64 = 64 << 20;
/// Bytes that an inode takes in the set of those that were seen.
const SEEN: u64 = 16;

pub(super) fn rules(volume: &XfsVolume) -> Vec<Checked> {
    vec![log_rule(volume), group_rule(volume), tree_rule(volume), inode_rule(volume)]
}

/// The log holds nothing that is not in its place. A system that mounts the volume puts it there.
fn log_rule(volume: &XfsVolume) -> Checked {
    let finding = volume.log.finding(log::place(volume.geometry()));
    Checked::new("log", "everything that the log holds is in its place", finding.into_iter().collect())
}

/// Headers of groups.
fn group_rule(volume: &XfsVolume) -> Checked {
    let mut findings = Vec::new();
    examine_groups(volume, &mut findings);
    Checked::new("groups", "every group has its headers, and their checksums hold", findings)
}

/// Adds what is wrong with the headers of groups.
pub(super) fn examine_groups(volume: &XfsVolume, findings: &mut Vec<Finding>) {
    let geometry = volume.geometry();
    for group in 0..geometry.groups {
        let space = groups::free_space(&volume.pages, geometry, group).map(|(_, holds)| holds);
        let inodes = groups::inodes(&volume.pages, geometry, group).map(|(_, holds)| holds);
        let places = [groups::free_space_at(geometry, group), groups::inodes_at(geometry, group)];
        for ((result, at), name) in [space, inodes].into_iter().zip(places).zip(["free space", "inodes"]) {
            let finding = match result {
                Ok(true) => continue,
                Ok(false) => {
                    let what = format!("the checksum of the header of group {group}'s {name} does not hold");
                    Finding::at(Severity::Doubt, at, what, "CRC-32C over its sector")
                }
                Err(error) if error.is_spent() => return,
                Err(error) => {
                    let what = format!("the header of group {group}'s {name} does not hold");
                    Finding::at(Severity::Broken, error.at, what, error.to_string())
                }
            };
            if findings.len() >= MOST_FINDINGS {
                return;
            }
            findings.push(finding);
        }
    }
}

/// The trees of groups read to their ends; free space is counted as it is.
fn tree_rule(volume: &XfsVolume) -> Checked {
    const RULE: (&str, &str) = ("trees", "the trees of every group read, and free space is counted as it is");
    let mut findings = Vec::new();
    let geometry = volume.geometry();
    // Trees of a volume that was not unmounted may be half way between two states.
    let unmounted = volume.log == LogState::Clean;
    for group in 0..geometry.groups {
        let space = groups::free_space(&volume.pages, geometry, group).ok().map(|(raw, _)| raw);
        let inodes = groups::inodes(&volume.pages, geometry, group).ok().map(|(raw, _)| raw);
        for (kind, place) in groups::trees(geometry, group, space.as_ref(), inodes.as_ref()) {
            let mut free = 0u64;
            let walked = tree::walk_group(&volume.pages, geometry, kind, place, &mut |view| {
                free += u64::from(view.u32_be(4, "ar_blockcount").unwrap_or(0));
                ControlFlow::Continue(())
            });
            let severity = if unmounted { Severity::Broken } else { Severity::Doubt };
            let mut tell = |severity, at, what: String, how: String| {
                if findings.len() < MOST_FINDINGS {
                    findings.push(Finding::at(severity, at, what, how));
                }
            };
            for at in &walked.doubtful {
                tell(
                    Severity::Doubt,
                    *at,
                    format!("the checksum of a tree block of group {group} does not hold"),
                    "CRC-32C".into(),
                );
            }
            for error in &walked.errors {
                tell(severity, error.at, format!("a tree of group {group} does not read"), error.to_string());
            }
            let counted = space.map(|raw| u64::from(raw.agf_freeblks.get())).filter(|_| walked.is_whole() && unmounted);
            let by_space = std::ptr::eq(kind, &tree::FREE_BY_BLOCK) || std::ptr::eq(kind, &tree::FREE_BY_LENGTH);
            if let Some(counted) = counted.filter(|counted| by_space && *counted != free) {
                let at = groups::free_space_at(geometry, group) + 52;
                let what = format!("group {group} counts {counted} free blocks, a tree of them holds {free}");
                tell(Severity::Doubt, at, what, "agf_freeblks against the records of the tree".into());
            }
        }
        if volume.source().budget().is_some_and(|budget| budget.spent().is_some()) {
            break;
        }
    }
    Checked::new(RULE.0, RULE.1, findings)
}

/// Inodes of every name.
fn inode_rule(volume: &XfsVolume) -> Checked {
    let mut findings = Vec::new();
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        let number = found.entry.id.0;
        let (why, at) = match volume.inode(number) {
            Ok(inode) if inode.is_free() => ("its inode is free", inode.at),
            Ok(inode) if !inode.checksum_holds() => ("the checksum of its inode does not hold", inode.at),
            Ok(_) => return ControlFlow::Continue(()),
            Err(error) => ("its inode cannot be read", error.at),
        };
        let what = format!("{}: {why}", printable(&found.path()));
        findings.push(Finding::at(Severity::Doubt, at, what, format!("inode {number}")));
        if findings.len() < MOST_FINDINGS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    Checked::new("inodes", "every name leads to an inode in use whose checksum holds", findings)
}

/// Which blocks are in use: all that the trees of free space do not name. None for a volume that was not unmounted: its trees may be
/// half way between two states.
pub(super) fn allocation(volume: &XfsVolume) -> Option<Allocation> {
    let geometry = volume.geometry();
    if geometry.blocks.div_ceil(8) > LARGEST_MAP || volume.log != LogState::Clean {
        return None;
    }
    let len = usize::try_from(geometry.blocks.div_ceil(8)).ok()?;
    hold(volume.source().as_ref(), ByteOffset(0), "free space", len as u64).ok()?;
    let mut bits = vec![0xFF; len];
    let size = u64::from(geometry.block_bytes);
    for group in 0..geometry.groups {
        for range in groups::free_ground(&volume.pages, geometry, group).ok()? {
            for block in range.start.0 / size..range.end.0 / size {
                let slot = usize::try_from(block / 8).ok().and_then(|index| bits.get_mut(index))?;
                *slot &= !(1 << (block % 8));
            }
        }
    }
    Some(Allocation {
        unit: "block",
        unit_bytes: size,
        first_at: ByteOffset(0),
        first_number: 0,
        units: geometry.blocks,
        bits,
        order: BitOrder::LowFirst,
        places: Vec::new(),
        // Quota files and files that were unlinked while open are not among the claims.
        knows_all: false,
    })
}

/// The blocks of headers, trees, the log, chunks of inodes, and of every file with its map and its attributes. Ground that files share
/// is held once.
pub(super) fn claims(volume: &XfsVolume, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
    let geometry = volume.geometry();
    let size = u64::from(geometry.block_bytes);
    let run = |at: ByteOffset, bytes: u64| Extent { stream_at: 0, volume_at: Some(at), bytes };
    for group in 0..geometry.groups {
        let at = geometry.group_at(group);
        each("the headers of a group", &[run(at, groups::header_blocks(geometry) * size)]);
        let space = groups::free_space(&volume.pages, geometry, group)?.0;
        let inodes = groups::inodes(&volume.pages, geometry, group)?.0;
        for (kind, place) in groups::trees(geometry, group, Some(&space), Some(&inodes)) {
            let walked = tree::walk_group(&volume.pages, geometry, kind, place, &mut |_| ControlFlow::Continue(()));
            let blocks: Vec<Extent> = walked.blocks.iter().map(|block| run(ByteOffset(block * size), size)).collect();
            each("a tree of a group", &blocks);
        }
        let mut chunks = Vec::new();
        groups::each_chunk(&volume.pages, geometry, group, &mut |chunk| {
            let (bytes, first) = (u64::from(geometry.inode_bytes), geometry.inode_number(group, u64::from(chunk.first)));
            let start = geometry.inode_at(first);
            // Sixteen pieces of four inodes each, where they are larger than a block; else as they are.
            let pieces = (0..16u64).filter(|piece| chunk.holes >> piece & 1 == 0);
            if let Some(at) = start {
                chunks.extend(pieces.map(|piece| run(at + piece * 4 * bytes, 4 * bytes)));
            }
            ControlFlow::Continue(())
        })?;
        each("inodes", &whole_blocks(&chunks, size));
    }
    if volume.log != LogState::Elsewhere {
        each("the log", &[run(log::place(geometry), u64::from(geometry.log_blocks) * size)]);
    }
    let shared = groups::shared_ground(&volume.pages, geometry)?;
    let ranges: Vec<Extent> = shared.ranges().iter().map(|range| run(range.start, range.len())).collect();
    each("content that several files share", &ranges);
    files(volume, &shared, each)
}

/// `pieces`, of which several may lie in one block, as whole blocks, each once.
fn whole_blocks(pieces: &[Extent], size: u64) -> Vec<Extent> {
    let mut ground = RangeSet::default();
    for piece in pieces {
        let Some(at) = piece.volume_at else { continue };
        let (first, end) = (at.0 / size * size, (at.0 + piece.bytes).next_multiple_of(size));
        ground.add(ByteRange::new(ByteOffset(first), ByteOffset(end)));
    }
    ground.ranges().iter().map(|range| Extent { stream_at: 0, volume_at: Some(range.start), bytes: range.len() }).collect()
}

fn files(volume: &XfsVolume, shared: &RangeSet, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
    let size = u64::from(volume.geometry().block_bytes);
    let own = |blocks: Vec<std::ops::Range<u64>>| -> Vec<Extent> {
        let ranges = blocks.into_iter().map(|run| ByteRange::new(ByteOffset(run.start * size), ByteOffset(run.end * size)));
        let left = ranges.flat_map(|range| shared.lacking(range));
        left.map(|range| Extent { stream_at: 0, volume_at: Some(range.start), bytes: range.len() }).collect()
    };
    each("the root folder", &own(held(volume, volume.root())));
    // A file with many names holds its ground once.
    let mut seen: HashSet<u64> = HashSet::new();
    let mut spent = None;
    volume.walk(Deleted::Hide, &mut |found| {
        let number = found.entry.id.0;
        let many = volume.inode(number).is_ok_and(|inode| inode.links() > 1);
        if many && !seen.insert(number) {
            return ControlFlow::Continue(());
        }
        if many && let Err(error) = hold(volume.source().as_ref(), ByteOffset(0), "inodes", SEEN) {
            spent = Some(error);
            return ControlFlow::Break(());
        }
        each(&found.path(), &own(held(volume, found.entry.id)));
        ControlFlow::Continue(())
    })?;
    spent.map_or(Ok(()), Err)
}

/// Blocks of a node's content and attributes, with those of their maps; none where they do not read.
fn held(volume: &XfsVolume, node: NodeId) -> Vec<std::ops::Range<u64>> {
    let Ok(inode) = volume.inode(node.0) else { return Vec::new() };
    let (pages, geometry) = (&volume.pages, volume.geometry());
    let mut blocks = inode.map(pages, geometry).map(|map| map.held).unwrap_or_default();
    let attributes = inode.attributes().and_then(|fork| super::map::fork_map(pages, geometry, &fork, 0).ok());
    blocks.extend(attributes.map(|map| map.held).unwrap_or_default());
    blocks
}
