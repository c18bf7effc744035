//! Does an HFS+ volume of this start and geometry stand on the drive? The witnesses say.

use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, SharedSource};

use crate::bounded;
use crate::clue::Clues;
use crate::hfsplus::layout::HEADER_AT;
use crate::hfsplus::mend::is_stated_at;
use crate::hfsplus::{HfsGeometry, HfsVolume};
use crate::witness::root_witness;
use crate::{FoundVolume, Geometry, Volume, Witness, WitnessKind, read_bytes};

/// Verifies an HFS+ volume at `start` on the drive and gathers its witnesses. `None` when neither its catalog nor a
/// header speaks for it.
pub(super) fn verify(drive: &SharedSource, start: ByteOffset, geometry: HfsGeometry, clues: &Clues) -> Option<FoundVolume> {
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let window = bounded::window(drive, range);
    let mut witnesses = Vec::new();
    for (kind, at, weight, name) in [
        (WitnessKind::BootSector, ByteOffset(HEADER_AT), 30, "volume header"),
        (WitnessKind::BackupBootSector, geometry.alternate_at(), 20, "alternate volume header"),
    ] {
        witnesses.push(match is_stated_at(&window, &geometry, at) {
            true => Witness::at(kind, start + at.0, weight, format!("{name} stands at its place and states this volume"))
                .start(start)
                .length(geometry.volume_bytes()),
            false => Witness::at(kind, start + at.0, 0, format!("no {name} of this volume at its place")),
        });
    }
    witnesses.push(bitmap_witness(&window, start, &geometry));
    let volume = HfsVolume::open(Arc::clone(&window), geometry).ok();
    let mut newest = None;
    match &volume {
        Some(volume) => witnesses.extend(tree_witnesses(volume, start, clues, &mut newest)),
        None => witnesses.push(Witness::at(WitnessKind::CoreMetadata, start, -20, "no catalog where the header puts it")),
    }
    let found = FoundVolume {
        kind: geometry.kind,
        start,
        bytes: geometry.volume_bytes(),
        label: volume.as_ref().and_then(|volume| volume.summary().label.clone()),
        witnesses,
        geometry: Geometry::HfsPlus(geometry),
        newest,
    };
    (found.has(WitnessKind::CoreMetadata) || found.has(WitnessKind::BootSector)).then_some(found)
}

/// The bitmap counts the first block, which holds the header, as used.
fn bitmap_witness(window: &SharedSource, start: ByteOffset, geometry: &HfsGeometry) -> Witness {
    let at = geometry.block_at(geometry.allocation.extents[0].0).unwrap_or_default();
    let used =
        read_bytes(window.as_ref(), at, 1, "allocation file").is_ok_and(|bits| bits.first().is_some_and(|bits| bits & 0x80 != 0));
    let (weight, says) = match used {
        true => (5, format!("allocation file has room for {} blocks and counts the first as used", geometry.total_blocks)),
        false => (-5, "allocation file counts the first block as free".to_string()),
    };
    Witness::at(WitnessKind::SizeRecord, start + at.0, weight, says)
}

fn tree_witnesses(volume: &HfsVolume, start: ByteOffset, clues: &Clues, newest: &mut Option<crate::Stamp>) -> Vec<Witness> {
    let catalog_at = start + volume.catalog().node_at(0).unwrap_or_default().0;
    let header = volume.catalog().header();
    let says =
        format!("catalog stands where the header puts it: {} records in {} nodes", header.leaf_records, header.total_nodes);
    let mut witnesses = vec![Witness::at(WitnessKind::CoreMetadata, catalog_at, 25, says).start(start)];
    if let Some(overflow) = volume.overflow() {
        let at = start + overflow.node_at(0).unwrap_or_default().0;
        let seen = clues.hfsplus.trees.iter().filter(|tree| tree.at == at || tree.at == catalog_at).count();
        let says = format!("extents overflow tree stands where the header puts it; {seen} of 2 trees were seen on the surface");
        witnesses.push(Witness::at(WitnessKind::References, at, 10, says).start(start));
    }
    let (root, seen) = root_witness(volume, catalog_at);
    *newest = seen;
    witnesses.push(root.start(start));
    witnesses
}
