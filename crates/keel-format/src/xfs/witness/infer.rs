//! From superblocks to XFS volumes: each says how long its groups are, and the headers behind it which group it stands in.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource, Source};

use super::verify::verify;
use crate::clue::Clues;
use crate::xfs::XfsGeometry;
use crate::xfs::former::geometry_at;
use crate::xfs::layout::NO_INODE;
use crate::{FoundVolume, View, read_bytes};

/// Turns clues into verified XFS volumes, one for each start and shape.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues) -> Vec<FoundVolume> {
    let mut stated: BTreeMap<ByteOffset, Vec<XfsGeometry>> = BTreeMap::new();
    for clue in &clues.xfs.supers {
        let Some((start, geometry, _)) = implied(drive.as_ref(), clue.at) else { continue };
        let known = stated.entry(start).or_default();
        match known.iter_mut().find(|known| known.is_same_volume(&geometry)) {
            // Copies may not know the root.
            Some(known) if known.root == 0 || known.root == NO_INODE => known.root = geometry.root,
            Some(_) => {}
            None => known.push(geometry),
        }
    }
    let volumes = stated.into_iter().filter_map(|(start, geometries)| {
        geometries.into_iter().filter_map(|geometry| verify(drive, start, geometry)).max_by_key(FoundVolume::score)
    });
    volumes.collect()
}

/// The volume that the superblock at byte `at` of a drive implies: its start, its geometry, and the group that it stands in.
pub(in crate::xfs) fn implied(drive: &dyn Source, at: ByteOffset) -> Option<(ByteOffset, XfsGeometry, u32)> {
    let geometry = geometry_at(drive, at).ok()?;
    let sector = u64::from(geometry.sector_bytes);
    let number = |index: u64, magic: &[u8; 4]| {
        let place = at + index * sector;
        let bytes = read_bytes(drive, place, 16, "group header").ok().filter(|bytes| bytes.starts_with(magic))?;
        View::new("group header", place, &bytes).u32_be(8, "seqno").ok().filter(|group| *group < geometry.groups)
    };
    // Where neither header stands it is taken for the first one.
    let group = number(1, b"XAGF").or_else(|| number(2, b"XAGI")).unwrap_or(0);
    let start = at.0.checked_sub(geometry.group_at(group).0)?;
    Some((ByteOffset(start), geometry, group))
}
