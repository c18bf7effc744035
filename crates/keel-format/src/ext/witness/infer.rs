//! From clues to ext volumes: every superblock says which group it stands in, and so where the volume starts.

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource};

use super::verify::verify;
use crate::clue::Clues;
use crate::ext::ExtGeometry;
use crate::{FoundVolume, View, read_bytes};

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
    found
}
