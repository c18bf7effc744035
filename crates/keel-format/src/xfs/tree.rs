//! B+trees: the short ones of a group (free space, inodes, shared blocks) and the long ones of a file's extents. Source: "XFS
//! Algorithms & Data Structures", chapters "Variable Length Record B+trees", "Inode B+trees" and "B+tree Extent List"; big-endian.

use std::ops::ControlFlow;

use keel_source::ByteOffset;

use super::XfsGeometry;
use super::layout::checksum_holds;
use crate::pages::Pages;
use crate::{FormatError, Problem, View};

/// The deepest tree that the format allows.
const DEEPEST: u32 = 12;

/// What tells trees apart.
#[derive(Debug)]
pub(super) struct TreeKind {
    name: &'static str,
    /// `bb_magic` of versions 4 and 5; none where version 4 has no such tree.
    magic: [Option<&'static [u8; 4]>; 2],
    /// Bytes of a record in a leaf.
    pub(super) record: usize,
    /// Bytes of the keys of one child in a node.
    key: usize,
    /// True where neighbours are named by blocks of the whole volume.
    long: bool,
}

/// Free space, by block.
pub(super) static FREE_BY_BLOCK: TreeKind =
    TreeKind { name: "free space tree", magic: [Some(b"ABTB"), Some(b"AB3B")], record: 8, key: 8, long: false };
/// Free space, by length.
pub(super) static FREE_BY_LENGTH: TreeKind =
    TreeKind { name: "free space tree", magic: [Some(b"ABTC"), Some(b"AB3C")], record: 8, key: 8, long: false };
/// Chunks of inodes.
pub(super) static INODES: TreeKind =
    TreeKind { name: "inode tree", magic: [Some(b"IABT"), Some(b"IAB3")], record: 16, key: 4, long: false };
/// Chunks of inodes of which some are free.
pub(super) static FREE_INODES: TreeKind =
    TreeKind { name: "free inode tree", magic: [Some(b"FIBT"), Some(b"FIB3")], record: 16, key: 4, long: false };
/// Who holds which blocks.
pub(super) static OWNERS: TreeKind =
    TreeKind { name: "reverse mapping tree", magic: [None, Some(b"RMB3")], record: 24, key: 40, long: false };
/// Blocks that several files share.
pub(super) static SHARED: TreeKind =
    TreeKind { name: "reference count tree", magic: [None, Some(b"R3FC")], record: 12, key: 4, long: false };
/// Extents of a file.
pub(super) static EXTENTS: TreeKind =
    TreeKind { name: "extent tree", magic: [Some(b"BMAP"), Some(b"BMA3")], record: 16, key: 8, long: true };

impl TreeKind {
    /// Bytes of a block's header.
    pub(super) fn header(&self, geometry: &XfsGeometry) -> usize {
        match (self.long, geometry.has_checksums()) {
            (false, false) => 16,
            (false, true) => 56,
            (true, false) => 24,
            (true, true) => 72,
        }
    }

    fn magic(&self, geometry: &XfsGeometry) -> Option<&'static [u8; 4]> {
        let [four, five] = self.magic;
        if geometry.has_checksums() { five } else { four }
    }

    /// True when a block has the mark of this tree.
    pub(super) fn is_marked(&self, geometry: &XfsGeometry, bytes: &[u8]) -> bool {
        self.magic(geometry).is_some_and(|magic| bytes.starts_with(magic))
    }

    /// Where the checksum of a block stands.
    fn checksum_at(&self) -> usize {
        if self.long { 64 } else { 52 }
    }

    /// Bytes of a pointer.
    fn pointer(&self) -> usize {
        if self.long { 8 } else { 4 }
    }
}

/// What a walk through a tree did.
#[derive(Debug, Default)]
pub(super) struct Walked {
    /// Blocks of the tree, counted from the start of the volume.
    pub(super) blocks: Vec<u64>,
    /// What did not read: what these blocks lead to is missing.
    pub(super) errors: Vec<FormatError>,
    /// Blocks that read and whose checksum does not hold.
    pub(super) doubtful: Vec<ByteOffset>,
}

impl Walked {
    /// True when everything was seen.
    pub(super) fn is_whole(&self) -> bool {
        self.errors.is_empty()
    }
}

/// A walk as it goes.
struct Walk<'a> {
    pages: &'a Pages,
    geometry: &'a XfsGeometry,
    kind: &'static TreeKind,
    /// The group that short pointers count in.
    group: u32,
    /// The most blocks that the tree can have.
    most: usize,
    walked: Walked,
}

/// Hands every record of the tree whose root is block `root` of `group`, at `levels` levels, to `each`, ascending as stored. What does
/// not read is told and left out; no block is looked at twice.
pub(super) fn walk_group(
    pages: &Pages,
    geometry: &XfsGeometry,
    kind: &'static TreeKind,
    (group, root, levels): (u32, u32, u32),
    each: &mut dyn FnMut(View<'_>) -> ControlFlow<()>,
) -> Walked {
    let most = usize::try_from(geometry.blocks_of(group)).unwrap_or(usize::MAX);
    let mut walk = Walk { pages, geometry, kind, group, most, walked: Walked::default() };
    match levels.checked_sub(1).filter(|level| *level < DEEPEST) {
        Some(level) => {
            let _ = walk.block(u64::from(root), level, each);
        }
        None => {
            let at = geometry.group_at(group);
            walk.walked.errors.push(FormatError::value(kind.name, at, "levels", u64::from(levels), "from 1 to 12"));
        }
    }
    walk.walked
}

/// As [`walk_group`], for the tree whose root is the fork `bytes` of an inode, which stands at byte `at` of the volume.
pub(super) fn walk_fork(
    pages: &Pages,
    geometry: &XfsGeometry,
    (at, bytes): (ByteOffset, &[u8]),
    each: &mut dyn FnMut(View<'_>) -> ControlFlow<()>,
) -> Walked {
    let most = usize::try_from(geometry.blocks).unwrap_or(usize::MAX);
    let mut walk = Walk { pages, geometry, kind: &EXTENTS, group: 0, most, walked: Walked::default() };
    let view = View::new("extent tree root", at, bytes);
    let head = view.u16_be(0, "bb_level").and_then(|level| Ok((level, usize::from(view.u16_be(2, "bb_numrecs")?))));
    // Keys first; pointers behind room for as many keys as the fork holds.
    let most = bytes.len().saturating_sub(4) / 16;
    match head {
        Ok((level, records)) if level > 0 && u32::from(level) <= DEEPEST && records <= most => {
            for index in 0..records {
                let Ok(block) = view.u64_be(4 + most * 8 + index * 8, "pointer") else { break };
                if walk.block(block, u32::from(level) - 1, each).is_break() {
                    break;
                }
            }
        }
        Ok((level, _)) => {
            let error = view.wrong(0, "bb_level", u64::from(level), "from 1 to 12, with as many records as have room");
            walk.walked.errors.push(error);
        }
        Err(error) => walk.walked.errors.push(error),
    }
    walk.walked
}

impl Walk<'_> {
    /// The place of a block that a pointer names, and its number from the start of the volume.
    fn place(&self, pointer: u64) -> Option<(ByteOffset, u64)> {
        let (group, block) = match self.kind.long {
            true => self.geometry.split(pointer),
            false => (self.group, u32::try_from(pointer).ok()?),
        };
        Some((self.geometry.group_block_at(group, block)?, self.geometry.linear(group, block)?))
    }

    fn block(&mut self, pointer: u64, level: u32, each: &mut dyn FnMut(View<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        let result = self.read(pointer, level, each);
        result.unwrap_or_else(|error| {
            let spent = error.is_spent();
            self.walked.errors.push(error);
            if spent { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })
    }

    fn read(
        &mut self,
        pointer: u64,
        level: u32,
        each: &mut dyn FnMut(View<'_>) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, FormatError> {
        let name = self.kind.name;
        let outside = || FormatError::value(name, ByteOffset(0), "block", pointer, "a block of the volume");
        let (at, number) = self.place(pointer).ok_or_else(outside)?;
        if self.walked.blocks.len() >= self.most {
            return Err(FormatError::new(name, at, Problem::Endless { field: "blocks", limit: self.most as u64 }));
        }
        crate::device::hold(self.pages.source().as_ref(), at, name, 8)?;
        self.walked.blocks.push(number);
        let bytes = self.pages.bytes(at, self.geometry.block_bytes as usize, name)?;
        let view = View::new(name, at, &bytes);
        let magic = self.kind.magic(self.geometry);
        if magic.is_none_or(|magic| !bytes.starts_with(magic)) {
            return Err(view.wrong(0, "bb_magic", u64::from(view.u32_be(0, "bb_magic")?), "the mark of this tree"));
        }
        let (found, records) = (u32::from(view.u16_be(4, "bb_level")?), usize::from(view.u16_be(6, "bb_numrecs")?));
        if found != level {
            return Err(view.wrong(4, "bb_level", u64::from(found), "one less than the node above"));
        }
        if self.geometry.has_checksums() && !checksum_holds(&bytes, self.kind.checksum_at()) {
            self.walked.doubtful.push(at);
        }
        let (header, pointers) = (self.kind.header(self.geometry), self.kind.pointer());
        let room = bytes.len().saturating_sub(header);
        let most = if level == 0 { room / self.kind.record } else { room / (self.kind.key + pointers) };
        if records > most {
            return Err(view.wrong(6, "bb_numrecs", records as u64, "as many records as have room"));
        }
        for index in 0..records {
            let flow = if level == 0 {
                each(view.part(header + index * self.kind.record, self.kind.record, "tree record")?)
            } else {
                let from = header + most * self.kind.key + index * pointers;
                let below = if self.kind.long { view.u64_be(from, "pointer")? } else { u64::from(view.u32_be(from, "pointer")?) };
                self.block(below, level - 1, each)
            };
            if flow.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        Ok(ControlFlow::Continue(()))
    }
}
