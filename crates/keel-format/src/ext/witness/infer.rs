//! From clues to ext volumes: every superblock says which group it stands in, and so where the volume starts. Where none
//! is left the group descriptors lead to the root directory.

use std::collections::{BTreeMap, BTreeSet};

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::clue::DescriptorClue;
use super::descriptors::from_descriptors;
use super::verify::verify;
use crate::clue::Clues;
use crate::ext::ExtGeometry;
use crate::{FoundVolume, Geometry, View, Witness, WitnessKind, read_bytes};

/// The most tables of group descriptors that are tried where no superblock is left.
const MOST_TABLES: usize = 256;

/// Turns clues into verified ext volumes, one for each start.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues) -> Vec<FoundVolume> {
    let mut starts: BTreeMap<ByteOffset, Vec<(u32, ExtGeometry)>> = BTreeMap::new();
    for clue in &clues.ext.supers {
        let Ok(bytes) = read_bytes(drive.as_ref(), clue.at, 1024, "superblock") else { continue };
        let Ok((geometry, group)) = ExtGeometry::parse(View::new("superblock", clue.at, &bytes)) else { continue };
        if let Some(start) = clue.at.0.checked_sub(geometry.superblock_at(group).0) {
            starts.entry(ByteOffset(start)).or_default().push((group, geometry));
        }
    }
    let mut found: Vec<FoundVolume> = Vec::new();
    for (start, mut copies) in starts {
        // A filesystem made anew in the same place leaves copies of the former one: each identity is tried.
        copies.sort_by_key(|(group, _)| *group);
        copies.dedup_by_key(|(_, geometry)| geometry.uuid);
        let volumes = copies.into_iter().filter_map(|(_, geometry)| verify(drive, start, geometry, clues));
        found.extend(volumes.filter(|volume| volume.score() > 0).max_by_key(FoundVolume::score));
    }
    // A table goes on in the sectors behind its first one.
    let tables: BTreeSet<ByteOffset> = clues.ext.descriptors.iter().map(|clue| clue.at).collect();
    let is_first = |clue: &&DescriptorClue| !tables.contains(&ByteOffset(clue.at.0.wrapping_sub(512)));
    let mut left = MOST_TABLES;
    for clue in clues.ext.descriptors.iter().filter(is_first) {
        let known = |volume: &FoundVolume| volume.range().contains(clue.at) && volume.has(WitnessKind::RootDirectory);
        if left == 0 || found.iter().any(known) {
            continue;
        }
        left -= 1;
        let Some((start, geometry, witness)) = from_descriptors(drive, clue, clues) else { continue };
        // A superblock that stands in the volume's own journal states what would have to be computed.
        if let Some(volume) = by_floating(drive, start, &geometry, &found, clues) {
            found.push(volume);
        } else if let Some(mut volume) = verify(drive, start, geometry, clues) {
            volume.witnesses.push(witness);
            found.push(volume);
        }
    }
    drop_floating(found)
}

/// True for what a superblock states that stands where no volume begins: in a journal, or in a file.
fn is_floating(volume: &FoundVolume) -> bool {
    !volume.has(WitnessKind::RootDirectory) && !volume.has(WitnessKind::BackupBootSector)
}

/// The volume at `start` by a superblock that stands elsewhere on its ground and says what its descriptors say.
fn by_floating(
    drive: &SharedSource,
    start: ByteOffset,
    inferred: &ExtGeometry,
    found: &[FoundVolume],
    clues: &Clues,
) -> Option<FoundVolume> {
    let ground = ByteRange::sized(start, inferred.volume_bytes().max(1));
    let inside = found.iter().filter(|volume| is_floating(volume) && ground.contains(volume.start));
    let alike = inside.filter_map(|volume| match volume.geometry {
        Geometry::Ext(stated) => Some((volume.start, stated)).filter(|(_, stated)| {
            (stated.block_bytes, stated.inodes_per_group, stated.descriptor_bytes, stated.inode_bytes)
                == (inferred.block_bytes, inferred.inodes_per_group, inferred.descriptor_bytes, inferred.inode_bytes)
        }),
        _ => None,
    });
    alike
        .filter_map(|(at, stated)| {
            let mut volume = verify(drive, start, stated, clues).filter(|volume| volume.has(WitnessKind::RootDirectory))?;
            let at = at + stated.superblock_at(0).0;
            let says = "a superblock of this volume stands in its journal";
            volume.witnesses.push(Witness::at(WitnessKind::SizeRecord, at, 15, says).start(start).length(volume.bytes));
            Some(volume)
        })
        .max_by_key(FoundVolume::score)
}

/// Leaves out what floating superblocks state where the volume that they belong to was found.
fn drop_floating(found: Vec<FoundVolume>) -> Vec<FoundVolume> {
    let uuid = |volume: &FoundVolume| match volume.geometry {
        Geometry::Ext(ext) => Some(ext.uuid),
        _ => None,
    };
    let known: Vec<_> = found.iter().filter(|volume| !is_floating(volume)).map(|volume| (volume.range(), uuid(volume))).collect();
    let belongs = |volume: &FoundVolume| {
        known.iter().any(|(range, known)| range.contains(volume.start) && range.start != volume.start && *known == uuid(volume))
    };
    found.into_iter().filter(|volume| !is_floating(volume) || !belongs(volume)).collect()
}
