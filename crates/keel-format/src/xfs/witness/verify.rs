//! Does an XFS volume of this start and geometry stand on the drive? The witnesses say.

use keel_source::{ByteOffset, ByteRange, SharedSource};

use crate::witness::root_witness;
use crate::xfs::read::Log;
use crate::xfs::{XfsGeometry, XfsVolume, groups, mend};
use crate::{FoundVolume, Geometry, Volume, Witness, WitnessKind, bounded};

/// The most groups whose superblocks and headers are looked at.
const MOST_GROUPS: u32 = 64;
/// The most copies of the superblock that are told one by one.
const MOST_TOLD: usize = 3;

/// Verifies an XFS volume at `start` on the drive and gathers its witnesses. `None` when nothing but the superblock that named it speaks
/// for it and that one is not at its start.
pub(super) fn verify(drive: &SharedSource, start: ByteOffset, geometry: XfsGeometry) -> Option<FoundVolume> {
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let window = bounded::window(drive, range);
    let mut witnesses = superblocks(&window, start, &geometry);
    let volume = XfsVolume::unrooted(SharedSource::clone(&window), geometry, Log::Left);
    let geometry = *volume.geometry();
    let label = volume.summary().label.clone();
    witnesses.extend(headers(&volume, start));
    let root_at = start + geometry.inode_at(geometry.root).unwrap_or_default().0;
    let (root, newest) = root_witness(&volume, root_at);
    witnesses.push(root.start(start));
    let geometry = Geometry::Xfs(geometry);
    let found = FoundVolume { kind: geometry.kind(), start, bytes: range.len(), label, witnesses, geometry, newest };
    let speaks = [WitnessKind::BootSector, WitnessKind::BackupBootSector].iter().any(|kind| found.has(*kind));
    (speaks && found.score() > 0).then_some(found)
}

/// The superblock and its copies.
fn superblocks(window: &SharedSource, start: ByteOffset, geometry: &XfsGeometry) -> Vec<Witness> {
    let main = match mend::is_stated_at(window, geometry, 0) {
        true => {
            let sum = if geometry.has_checksums() { ", and its checksum holds" } else { "" };
            Witness::at(WitnessKind::BootSector, start, 30, format!("XFS superblock stands at the start{sum}"))
                .start(start)
                .length(geometry.volume_bytes())
        }
        false => Witness::at(WitnessKind::BootSector, start, 0, "no XFS superblock of this volume at its start"),
    };
    let mut witnesses = vec![main];
    for group in (1..geometry.groups).take(MOST_GROUPS as usize).filter(|group| mend::is_stated_at(window, geometry, *group)) {
        let at = start + geometry.group_at(group).0;
        let says = format!("XFS superblock of allocation group {group} of {} stands at its place", geometry.groups);
        // More copies of the same say no more than a few of them.
        let weight = if witnesses.len() <= MOST_TOLD { 15 } else { 1 };
        witnesses.push(Witness::at(WitnessKind::BackupBootSector, at, weight, says).start(start).length(geometry.volume_bytes()));
    }
    witnesses
}

/// The headers of groups, and the lengths that they state.
fn headers(volume: &XfsVolume, start: ByteOffset) -> Vec<Witness> {
    let geometry = volume.geometry();
    let looked = geometry.groups.min(MOST_GROUPS);
    let stands = |group: &u32| {
        let space = groups::free_space(&volume.pages, geometry, *group).is_ok();
        space && groups::inodes(&volume.pages, geometry, *group).is_ok()
    };
    let there = (0..looked).filter(stands).count();
    let at = start + groups::free_space_at(geometry, 0).0;
    let says = format!("{there} of {looked} groups looked at have their headers of free space and inodes");
    let (core, size) = match there {
        0 => (-20, 0),
        some if some * 2 < looked as usize => (10, 5),
        _ => (25, 10),
    };
    let last = geometry.groups.saturating_sub(1);
    let end = groups::free_space(&volume.pages, geometry, last).is_ok();
    let (size, length) = match end {
        true => (size, format!("the last group states its length of {} blocks: the volume ends there", geometry.blocks_of(last))),
        false => (0, "the header of the last group does not stand".to_string()),
    };
    let length_at = start + groups::free_space_at(geometry, last).0;
    vec![
        Witness::at(WitnessKind::CoreMetadata, at, core, says).start(start),
        Witness::at(WitnessKind::SizeRecord, length_at, size, length).length(geometry.volume_bytes()),
    ]
}
