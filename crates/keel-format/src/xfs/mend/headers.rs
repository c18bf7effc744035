//! The headers of groups as their trees say: where they were overwritten, the roots of the trees are found again, and what the headers
//! count is counted in them. The list of spare blocks begins empty: a system fills it anew, and what it held stays in nobody's hands.

use std::ops::ControlFlow;

use keel_source::{ByteOffset, SharedSource};

use super::super::layout::{RO_COMPAT_FINOBT, RO_COMPAT_REFLINK, RO_COMPAT_RMAPBT, checksum, checksum_holds};
use super::super::tree::{self, TreeKind, Walked};
use super::super::{XfsGeometry, groups};
use crate::pages::Pages;
use crate::structure::{Compute, Computed, Field, Form, Structure};
use crate::{FormatError, Problem, View};

/// The most groups whose headers are looked at.
const MOST_GROUPS: u32 = 4096;
/// The most groups whose headers are computed: where more of them are gone the volume is not what is missing them.
pub(super) const MOST_BROKEN: usize = 16;
/// The most blocks of a group that are looked through for roots: trees grow from the front.
const MOST_BLOCKS: u32 = 16_384;
/// The most blocks that may be the root of one tree.
const MOST_ROOTS: usize = 64;
/// No block.
const NONE: u32 = u32::MAX;
/// `sb_features_ro_compat`: headers count the blocks of their inode trees.
const RO_COMPAT_INOBTCNT: u32 = 0x08;

/// Fields of the header of free space.
pub(in crate::xfs) const AGF: [Field; 9] = [
    Field::new("agf_magicnum", 0, 4, Form::Text, "the volume is refused"),
    Field::new("agf_seqno", 8, 4, Form::Big, "the volume is refused"),
    Field::new("agf_length", 12, 4, Form::Big, "the volume is refused"),
    Field::new("agf_bno_root", 16, 4, Form::Big, "nothing can be written"),
    Field::new("agf_cnt_root", 20, 4, Form::Big, "nothing can be written"),
    Field::new("agf_flcount", 48, 4, Form::Big, ""),
    Field::new("agf_freeblks", 52, 4, Form::Big, "the free space is shown wrong"),
    Field::new("agf_longest", 56, 4, Form::Big, ""),
    Field::new("agf_uuid", 64, 16, Form::Bytes, "the volume is refused"),
];
/// Fields of the header of inodes.
pub(in crate::xfs) const AGI: [Field; 6] = [
    Field::new("agi_magicnum", 0, 4, Form::Text, "the volume is refused"),
    Field::new("agi_seqno", 8, 4, Form::Big, "the volume is refused"),
    Field::new("agi_length", 12, 4, Form::Big, "the volume is refused"),
    Field::new("agi_count", 16, 4, Form::Big, ""),
    Field::new("agi_root", 20, 4, Form::Big, "no new file finds an inode"),
    Field::new("agi_freecount", 28, 4, Form::Big, ""),
];
/// Fields of the list of spare blocks.
pub(in crate::xfs) const AGFL: [Field; 2] = [
    Field::new("agfl_magicnum", 0, 4, Form::Text, "nothing can be written"),
    Field::new("agfl_seqno", 4, 4, Form::Big, "nothing can be written"),
];

/// The headers of every group that has one which does not hold.
pub(super) fn structures(window: &SharedSource, geometry: &XfsGeometry, compute: Compute) -> Vec<Structure> {
    let pages = Pages::new(SharedSource::clone(window));
    let broken = |group: &u32| {
        let space = groups::free_space(&pages, geometry, *group).is_ok_and(|(_, holds)| holds);
        let inodes = groups::inodes(&pages, geometry, *group).is_ok_and(|(_, holds)| holds);
        !space || !inodes
    };
    let broken: Vec<u32> = (0..geometry.groups.min(MOST_GROUPS)).filter(broken).take(MOST_BROKEN + 1).collect();
    if broken.len() > MOST_BROKEN {
        return Vec::new();
    }
    broken.into_iter().flat_map(|group| Headers::of(&pages, geometry, group).structures(window, compute)).collect()
}

/// A tree that was found again.
struct Found {
    root: u32,
    levels: u32,
    blocks: u32,
}

/// What the trees of a group say.
struct Headers<'a> {
    pages: &'a Pages,
    geometry: &'a XfsGeometry,
    group: u32,
    sector: usize,
}

impl<'a> Headers<'a> {
    fn of(pages: &'a Pages, geometry: &'a XfsGeometry, group: u32) -> Self {
        Self { pages, geometry, group, sector: geometry.sector_bytes as usize }
    }

    fn structures(&self, window: &SharedSource, compute: Compute) -> Vec<Structure> {
        let places = [1, 2, 3].map(|index| self.geometry.group_at(self.group) + index * self.sector as u64);
        let [space_at, inodes_at, list_at] = places;
        let one = |name: &str, at: ByteOffset, fields: &[Field], seal: fn(&mut [u8]), judge: &dyn Fn(&[u8]) -> bool| {
            let judge = |at: ByteOffset, bytes: &[u8]| {
                let view = View::new("group header", at, bytes);
                let wrong: FormatError =
                    view.error(0, Problem::Coding("it is no header of this group, or its checksum does not hold"));
                if judge(bytes) { Ok(()) } else { Err(wrong) }
            };
            let read =
                Structure::read(window, format!("{name} of group {}", self.group), self.sector, (at, &[]), &judge, &|bytes| {
                    bytes
                });
            let seal = if self.geometry.has_checksums() { seal } else { |_: &mut [u8]| {} };
            Structure { fields: fields.to_vec(), seal, ..read }
        };
        let space = one("AGF", space_at, &AGF, seal_space, &|_| {
            groups::free_space(self.pages, self.geometry, self.group).is_ok_and(|(_, holds)| holds)
        });
        let inodes = one("AGI", inodes_at, &AGI, seal_inodes, &|_| {
            groups::inodes(self.pages, self.geometry, self.group).is_ok_and(|(_, holds)| holds)
        });
        let mut all = vec![space.with_computed(compute, || self.space()), inodes.with_computed(compute, || self.inodes())];
        // In version 4 the list is nothing but numbers, and any bytes are one.
        if self.geometry.has_checksums() {
            let list = one("AGFL", list_at, &AGFL, seal_list, &|bytes| self.is_list(bytes));
            all.push(list.with_computed(compute, || self.list()));
        }
        all
    }

    /// The tree of `kind` whose blocks stand in the group: of the roots that lead through a whole tree the latest.
    fn find(&self, kind: &'static TreeKind, sum: &dyn Fn(View<'_>) -> u64) -> Vec<(Found, u64)> {
        let mut roots: Vec<(u16, u64, u32)> = Vec::new();
        for block in 0..self.geometry.blocks_of(self.group).min(MOST_BLOCKS) {
            let Some(at) = self.geometry.group_block_at(self.group, block) else { break };
            let Ok(bytes) = self.pages.bytes(at, self.geometry.block_bytes as usize, "tree block") else { continue };
            if let Some((level, lsn)) = self.may_be_root(kind, at, &bytes) {
                roots.push((level, lsn, block));
            }
        }
        roots.sort_unstable_by_key(|(level, lsn, _)| std::cmp::Reverse((*level, *lsn)));
        let mut found = Vec::new();
        for (level, _, root) in roots.into_iter().take(MOST_ROOTS) {
            let (levels, mut total) = (u32::from(level) + 1, 0u64);
            let walked: Walked = tree::walk_group(self.pages, self.geometry, kind, (self.group, root, levels), &mut |view| {
                total += sum(view);
                ControlFlow::Continue(())
            });
            if walked.is_whole() && walked.doubtful.is_empty() {
                found.push((Found { root, levels, blocks: u32::try_from(walked.blocks.len()).unwrap_or(0) }, total));
            }
        }
        found
    }

    /// Level and last change of a block that has no neighbours and is this group's own.
    fn may_be_root(&self, kind: &'static TreeKind, at: ByteOffset, bytes: &[u8]) -> Option<(u16, u64)> {
        let view = View::new("tree block", at, bytes);
        let alone = view.u32_be(8, "bb_leftsib").ok()? == NONE && view.u32_be(12, "bb_rightsib").ok()? == NONE;
        if !kind.is_marked(self.geometry, bytes) || !alone {
            return None;
        }
        let level = view.u16_be(4, "bb_level").ok()?;
        if !self.geometry.has_checksums() {
            return Some((level, 0));
        }
        let own = view.u64_be(16, "bb_blkno").ok()?.checked_mul(512) == Some(at.0)
            && view.slice(32, 16, "bb_uuid").ok()? == self.geometry.meta_uuid.as_slice()
            && view.u32_be(48, "bb_owner").ok()? == self.group
            && checksum_holds(bytes, 52);
        own.then_some((level, view.u64_be(24, "bb_lsn").ok()?))
    }

    fn best(&self, kind: &'static TreeKind, sum: &dyn Fn(View<'_>) -> u64) -> Option<(Found, u64)> {
        self.find(kind, sum).into_iter().next()
    }

    /// `AGF`, by the two trees of free space, which have to hold as many blocks.
    fn space(&self) -> Option<Computed> {
        let count = |view: View<'_>| u64::from(view.u32_be(4, "ar_blockcount").unwrap_or(0));
        let by_block = self.find(&tree::FREE_BY_BLOCK, &count);
        let by_length = self.find(&tree::FREE_BY_LENGTH, &count);
        let pair = by_block.iter().find_map(|one| Some((one, by_length.iter().find(|other| other.1 == one.1)?)));
        let ((by_block, free), (by_length, _)) = pair?;
        let mut longest = 0;
        let place = (self.group, by_block.root, by_block.levels);
        tree::walk_group(self.pages, self.geometry, &tree::FREE_BY_BLOCK, place, &mut |view| {
            longest = longest.max(view.u32_be(4, "ar_blockcount").unwrap_or(0));
            ControlFlow::Continue(())
        });
        let one = |_: View<'_>| 1;
        let owners = self.with(self.has(RO_COMPAT_RMAPBT), &tree::OWNERS, &one)?;
        let shared = self.with(self.has(RO_COMPAT_REFLINK), &tree::SHARED, &one)?;
        let empty = Found { root: 0, levels: 0, blocks: 0 };
        let (owners, shared) = (owners.as_ref().unwrap_or(&empty), shared.as_ref().unwrap_or(&empty));
        let beside_roots = by_block.blocks + by_length.blocks + owners.blocks.max(1) - 3;
        let mut words = vec![0x5841_4746, 1, self.group, self.geometry.blocks_of(self.group)];
        words.extend([by_block.root, by_length.root, owners.root, by_block.levels, by_length.levels, owners.levels]);
        words.extend([1, 0, 0, u32::try_from(*free).ok()?, longest, beside_roots]);
        let mut bytes = self.sector_of(&words);
        if self.geometry.has_checksums() {
            put(&mut bytes, 64, &self.geometry.meta_uuid)?;
        }
        put(&mut bytes, 80, &words_of(&[owners.blocks, shared.blocks, shared.root, shared.levels]))?;
        self.sealed(&mut bytes, seal_space);
        let says = format!("both trees of free space hold {free} blocks");
        Some(Computed {
            bytes,
            witnesses: vec![("agf_freeblks", says.clone()), ("agf_bno_root", says.clone()), ("agf_cnt_root", says)],
        })
    }

    /// The tree of a feature: none where the volume does not have it; nothing at all where it has and it is not found.
    #[allow(clippy::option_option, reason = "not wanted, or wanted and found; the outer one is wanted and not found")]
    fn with(&self, has: bool, kind: &'static TreeKind, sum: &dyn Fn(View<'_>) -> u64) -> Option<Option<Found>> {
        if has { self.best(kind, sum).map(|(found, _)| Some(found)) } else { Some(None) }
    }

    /// `AGI`, by the tree of inodes.
    fn inodes(&self) -> Option<Computed> {
        let (found, _) = self.best(&tree::INODES, &|_| 1)?;
        let (mut all, mut free) = (0u32, 0u32);
        let place = (self.group, found.root, found.levels);
        tree::walk_group(self.pages, self.geometry, &tree::INODES, place, &mut |view| {
            if let Ok(chunk) = groups::Chunk::parse(self.geometry, view) {
                chunk.inodes().for_each(|(_, used)| {
                    all += 1;
                    free += u32::from(!used);
                });
            }
            ControlFlow::Continue(())
        });
        let spare = self.with(self.has(RO_COMPAT_FINOBT), &tree::FREE_INODES, &|_| 1)?;
        let mut words =
            vec![0x5841_4749, 1, self.group, self.geometry.blocks_of(self.group), all, found.root, found.levels, free];
        words.extend([NONE; 66]);
        let mut bytes = self.sector_of(&words);
        if self.geometry.has_checksums() {
            put(&mut bytes, 296, &self.geometry.meta_uuid)?;
        }
        let (root, levels, blocks) = spare.as_ref().map_or((0, 0, 0), |spare| (spare.root, spare.levels, spare.blocks));
        let counts = if self.has(RO_COMPAT_INOBTCNT) { [found.blocks, blocks] } else { [0, 0] };
        put(&mut bytes, 328, &words_of(&[root, levels, counts[0], counts[1]]))?;
        self.sealed(&mut bytes, seal_inodes);
        let says = format!("the tree of inodes holds {all}, of which {free} are free");
        Some(Computed {
            bytes,
            witnesses: vec![("agi_count", says.clone()), ("agi_freecount", says.clone()), ("agi_root", says)],
        })
    }

    fn is_list(&self, bytes: &[u8]) -> bool {
        let view = View::new("AGFL", ByteOffset(0), bytes);
        let own = view.u32_be(4, "agfl_seqno") == Ok(self.group)
            && view.slice(8, 16, "agfl_uuid") == Ok(self.geometry.meta_uuid.as_slice());
        bytes.starts_with(b"XAFL") && own && checksum_holds(bytes, 32)
    }

    /// `AGFL`, with nothing on it.
    fn list(&self) -> Option<Computed> {
        let mut bytes = vec![0xFF; self.sector];
        put(&mut bytes, 0, b"XAFL")?;
        put(&mut bytes, 4, &self.group.to_be_bytes())?;
        put(&mut bytes, 8, &self.geometry.meta_uuid)?;
        put(&mut bytes, 24, &[0; 12])?;
        seal_list(&mut bytes);
        Some(Computed { bytes, witnesses: Vec::new() })
    }

    fn has(&self, feature: u32) -> bool {
        self.geometry.ro_compat & feature != 0
    }

    fn sealed(&self, bytes: &mut [u8], seal: fn(&mut [u8])) {
        if self.geometry.has_checksums() {
            seal(bytes);
        }
    }

    fn sector_of(&self, words: &[u32]) -> Vec<u8> {
        let mut bytes = words_of(words);
        bytes.resize(self.sector, 0);
        bytes
    }
}

fn put(bytes: &mut [u8], at: usize, what: &[u8]) -> Option<()> {
    bytes.get_mut(at..at.checked_add(what.len())?)?.copy_from_slice(what);
    Some(())
}

fn seal(bytes: &mut [u8], at: usize) {
    if let Some(sum) = checksum(bytes, at) {
        let _ = put(bytes, at, &sum.to_le_bytes());
    }
}

fn words_of(words: &[u32]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_be_bytes()).collect()
}

fn seal_space(bytes: &mut [u8]) {
    seal(bytes, 216);
}

fn seal_inodes(bytes: &mut [u8]) {
    seal(bytes, 312);
}

fn seal_list(bytes: &mut [u8]) {
    seal(bytes, 32);
}

/// Free blocks, inodes and free inodes of a group: by its headers, or as they are computed where these do not hold and `left` says that
/// so many may be computed still.
pub(super) fn counted(pages: &Pages, geometry: &XfsGeometry, group: u32, left: &mut usize) -> (u64, u64, u64) {
    let space = groups::free_space(pages, geometry, group);
    let inodes = groups::inodes(pages, geometry, group);
    if space.is_err() || inodes.is_err() {
        if *left == 0 {
            return (0, 0, 0);
        }
        *left -= 1;
    }
    let word = |bytes: &[u8], at: usize| View::new("group header", ByteOffset(0), bytes).u32_be(at, "count").map_or(0, u64::from);
    let headers = Headers::of(pages, geometry, group);
    let blocks = match space {
        Ok((raw, _)) => [raw.agf_flcount, raw.agf_freeblks, raw.agf_btreeblks].map(|count| u64::from(count.get())).iter().sum(),
        Err(_) => headers.space().map_or(0, |computed| word(&computed.bytes, 52) + word(&computed.bytes, 60)),
    };
    match inodes {
        Ok((raw, _)) => (blocks, u64::from(raw.agi_count.get()), u64::from(raw.agi_freecount.get())),
        Err(_) => {
            let computed = headers.inodes().map(|computed| (word(&computed.bytes, 16), word(&computed.bytes, 28)));
            let (all, free) = computed.unwrap_or_default();
            (blocks, all, free)
        }
    }
}
