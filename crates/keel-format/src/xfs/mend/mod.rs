//! The superblock beside its copies in the other groups, and the headers of groups as their trees say.

pub(super) mod headers;

use keel_source::{ByteOffset, SharedSource};

use super::XfsGeometry;
use super::groups::first_inode;
use super::layout::{NO_INODE, SB_CRC_AT, checksum_holds, seal_superblock};
use crate::pages::Pages;
use crate::structure::{Compute, Field, Form, Structure};
use crate::{FormatError, Problem, View, read_bytes};

/// The most groups whose copies are compared.
const MOST_COPIES: u32 = 8;
/// The most groups whose counts are summed.
const MOST_GROUPS: u32 = 1 << 16;

/// Fields of a superblock.
pub(super) const FIELDS: [Field; 15] = [
    Field::new("sb_magicnum", 0, 4, Form::Text, "nothing recognises the volume as XFS"),
    Field::new("sb_blocksize", 4, 4, Form::Big, "every place in the volume is taken wrong"),
    Field::new("sb_dblocks", 8, 8, Form::Big, "the end of the volume"),
    Field::new("sb_uuid", 32, 16, Form::Bytes, "no structure is believed"),
    Field::new("sb_logstart", 48, 8, Form::Big, "the log is not found"),
    Field::new("sb_rootino", 56, 8, Form::Big, "no file is found"),
    Field::new("sb_agblocks", 84, 4, Form::Big, "every place in the volume is taken wrong"),
    Field::new("sb_agcount", 88, 4, Form::Big, "the end of the volume"),
    Field::new("sb_versionnum", 100, 2, Form::Big, "the volume is refused"),
    Field::new("sb_sectsize", 102, 2, Form::Big, "the headers of groups are not found"),
    Field::new("sb_inodesize", 104, 2, Form::Big, "no inode reads"),
    Field::new("sb_fname", 108, 12, Form::Name, ""),
    Field::new("sb_icount", 128, 8, Form::Big, ""),
    Field::new("sb_fdblocks", 144, 8, Form::Big, "the free space is shown wrong"),
    Field::new("sb_crc", 224, 4, Form::Little, "the volume is refused"),
];

/// Groups whose superblocks are compared with the first one.
pub(super) fn copies(geometry: &XfsGeometry) -> Vec<ByteOffset> {
    (1..geometry.groups).take(MOST_COPIES as usize).map(|group| geometry.group_at(group)).collect()
}

/// True when the superblock of `group` states the volume in `window`.
pub(super) fn is_stated_at(window: &SharedSource, geometry: &XfsGeometry, group: u32) -> bool {
    let at = geometry.group_at(group);
    let bytes = read_bytes(window.as_ref(), at, geometry.sector_bytes as usize, "superblock");
    bytes.is_ok_and(|bytes| judge(geometry, at, &bytes).is_ok())
}

fn judge(geometry: &XfsGeometry, at: ByteOffset, bytes: &[u8]) -> Result<(), FormatError> {
    let view = View::new("XFS superblock", at, bytes);
    let found = XfsGeometry::parse(view)?;
    if !found.is_same_volume(geometry) {
        return Err(view.error(0, Problem::Coding("it is no superblock of this volume")));
    }
    if found.has_checksums() && !checksum_holds(bytes, SB_CRC_AT) {
        return Err(view.error(SB_CRC_AT, Problem::Coding("its checksum does not hold")));
    }
    // Without a root nothing mounts: copies may not know it, the first one has to.
    let rootless = found.root == 0 || found.root == NO_INODE;
    if at.0 == 0 && rootless { Err(view.wrong(56, "sb_rootino", found.root, "an inode of the volume")) } else { Ok(()) }
}

/// The structures of the XFS volume in `window` that stand in more than one place or can be computed.
pub(super) fn structures(window: &SharedSource, geometry: &XfsGeometry, compute: Compute) -> Vec<Structure> {
    let judge = |at: ByteOffset, bytes: &[u8]| judge(geometry, at, bytes);
    let adapt = |bytes: Vec<u8>| as_first(window, geometry, bytes);
    let places = copies(geometry);
    let len = geometry.sector_bytes as usize;
    let read = Structure::read_sparingly(window, "XFS superblock", len, (ByteOffset(0), &places), &judge, &adapt);
    let mut all = vec![Structure { fields: FIELDS.to_vec(), seal: seal_superblock, ..read }];
    all.extend(headers::structures(window, geometry, compute));
    all
}

/// A copy as the first superblock: the counts, which only that one keeps, from the headers of all groups, and the first inodes, which
/// copies of a volume that grew or was made in one go do not know.
fn as_first(window: &SharedSource, geometry: &XfsGeometry, mut bytes: Vec<u8>) -> Vec<u8> {
    let pages = Pages::new(SharedSource::clone(window));
    let (mut all, mut free_inodes, mut free_blocks) = (0u64, 0u64, 0u64);
    let mut left = headers::MOST_BROKEN;
    for group in 0..geometry.groups.min(MOST_GROUPS) {
        let (blocks, inodes, free) = headers::counted(&pages, geometry, group, &mut left);
        free_blocks += blocks;
        all += inodes;
        free_inodes += free;
    }
    let known = View::new("XFS superblock", ByteOffset(0), &bytes).u64_be(56, "sb_rootino").unwrap_or(NO_INODE);
    let root = if known == NO_INODE || known == 0 { first_inode(&pages, geometry) } else { None };
    let mut set = |offset: usize, value: &[u8]| {
        if let Some(slot) = bytes.get_mut(offset..offset + value.len()) {
            slot.copy_from_slice(value);
        }
    };
    // `sb_inprogress` is set in copies of a volume whose making was not finished.
    set(126, &[0]);
    set(128, &all.to_be_bytes());
    set(136, &free_inodes.to_be_bytes());
    set(144, &free_blocks.to_be_bytes());
    if let Some(root) = root {
        set(56, &root.to_be_bytes());
        set(64, &(root + 1).to_be_bytes());
        set(72, &(root + 2).to_be_bytes());
    }
    seal_superblock(&mut bytes);
    bytes
}
