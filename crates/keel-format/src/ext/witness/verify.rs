//! Does an ext volume of this start and geometry stand on the drive? The witnesses say.

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, SharedSource};

use crate::bounded;
use crate::clue::Clues;
use crate::ext::groups::descriptor_points_inside;
use crate::ext::layout::ROOT_INODE;
use crate::ext::mend::is_stated_in;
use crate::ext::read::Takes;
use crate::ext::scan::each_inode;
use crate::ext::{ExtGeometry, ExtVolume};
use crate::{Deleted, FoundVolume, Geometry, NodeKind, Stamp, Volume, Witness, WitnessKind, read_bytes};

/// The most copies of the superblock that are compared.
const MOST_COPIES: usize = 24;
/// The most group descriptors that are looked at.
const MOST_GROUPS: u32 = 256;
/// The most inodes that are counted where no root lists them, and how few of them may be chance.
const MOST_INODES: u64 = 1 << 16;
const FEW: u32 = 8;
/// The most folders of the root that are followed.
const MOST_FOLLOWED: usize = 64;

/// Verifies an ext volume at `start` on the drive and gathers its witnesses. `None` when neither its root directory
/// nor its superblock speaks for it.
pub(super) fn verify(drive: &SharedSource, start: ByteOffset, geometry: ExtGeometry, clues: &Clues) -> Option<FoundVolume> {
    let range = ByteRange::sized(start, geometry.volume_bytes());
    let window = bounded::window(drive, range);
    let mut witnesses = superblock_witnesses(&window, start, &geometry);
    let volume = ExtVolume::open(Arc::clone(&window), geometry).ok();
    // What is left of it counts where its root does not stand.
    let rest = volume.is_none().then(|| ExtVolume::unrooted(Arc::clone(&window), geometry, Takes::All));
    let mut newest = None;
    match &volume {
        Some(volume) => {
            witnesses.push(descriptor_witness(volume, start));
            witnesses.extend(root_witnesses(volume, start, &mut newest));
        }
        None => {
            // Copies that agree state the volume, whatever was written over its first groups.
            let copies = witnesses.iter().any(|witness| witness.kind == WitnessKind::BackupBootSector && witness.weight > 0);
            let says = "no root directory where the group descriptors put it";
            witnesses.push(Witness::at(WitnessKind::CoreMetadata, start, if copies { -5 } else { -25 }, says));
            witnesses.extend(rest.iter().flat_map(|rest| rest_witnesses(rest, start)));
        }
    }
    witnesses.extend(volume.as_ref().or(rest.as_ref()).and_then(|volume| surface_witness(&window, volume, start, clues)));
    let found = FoundVolume {
        kind: geometry.kind,
        start,
        bytes: geometry.volume_bytes(),
        label: volume.as_ref().and_then(|volume| volume.summary().label.clone()),
        witnesses,
        geometry: Geometry::Ext(geometry),
        newest,
    };
    let stated = [WitnessKind::RootDirectory, WitnessKind::BootSector, WitnessKind::BackupBootSector];
    stated.into_iter().any(|kind| found.has(kind)).then_some(found)
}

fn superblock_witnesses(window: &SharedSource, start: ByteOffset, geometry: &ExtGeometry) -> Vec<Witness> {
    let main = start + geometry.superblock_at(0).0;
    let sum = if geometry.has_checksums() { " and its checksum holds" } else { "" };
    let main = match is_stated_in(window, geometry, 0) {
        true => Witness::at(WitnessKind::BootSector, main, 30, format!("superblock stands at the start{sum}"))
            .start(start)
            .length(geometry.volume_bytes()),
        false => Witness::at(WitnessKind::BootSector, main, 0, "no superblock of this volume at the start"),
    };
    let groups: Vec<u32> = geometry.backup_groups().into_iter().take(MOST_COPIES).collect();
    let agree: Vec<u32> = groups.iter().copied().filter(|group| is_stated_in(window, geometry, *group)).collect();
    if groups.is_empty() {
        return vec![main];
    }
    let at = start + geometry.superblock_at(agree.first().copied().unwrap_or(1)).0;
    let says = format!("copies of the superblock stand in their block groups and agree: {} of {}", agree.len(), groups.len());
    let copies = match agree.is_empty() {
        true => Witness::at(WitnessKind::BackupBootSector, at, -5, "no copy of the superblock in the block groups that keep one"),
        false => {
            // Two copies in different groups, each at its place, give start and length beyond chance.
            let sure = if agree.len() > 1 { 45 } else { 20 };
            let weight = sure + i32::try_from(agree.len()).unwrap_or(0).min(10);
            Witness::at(WitnessKind::BackupBootSector, at, weight, says).start(start).length(geometry.volume_bytes())
        }
    };
    vec![main, copies]
}

fn descriptor_witness(volume: &ExtVolume, start: ByteOffset) -> Witness {
    let geometry = volume.geometry();
    let groups = geometry.groups().min(MOST_GROUPS);
    let met =
        (0..groups).filter(|group| volume.descriptor(*group).is_ok_and(|raw| descriptor_points_inside(&raw, geometry))).count();
    let at = start + geometry.descriptor_at(0).0;
    let says = format!("group descriptors point at bitmaps and inode tables inside the volume: {met} of {groups}");
    Witness::at(WitnessKind::CoreMetadata, at, if met == groups as usize { 20 } else { 0 }, says).start(start)
}

fn root_witnesses(volume: &ExtVolume, start: ByteOffset, newest: &mut Option<Stamp>) -> Vec<Witness> {
    let (mut names, mut asked, mut met) = (0u32, 0usize, 0usize);
    let listed = volume.list(volume.root(), Deleted::Hide, &mut |entry| {
        names += 1;
        *newest = (*newest).max(entry.times.modified);
        if entry.kind == NodeKind::Directory && asked < MOST_FOLLOWED {
            asked += 1;
            let sound = u32::try_from(entry.id.0).ok().and_then(|number| volume.inode(number).ok());
            met += usize::from(sound.is_some_and(|inode| inode.checksum_holds(volume.geometry())));
        }
        if names < 4096 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    let at = volume.inode(ROOT_INODE).map_or(start, |inode| start + inode.at.0);
    let (weight, says) = match listed {
        Ok(findings) if findings.is_empty() => (20, format!("root directory lists {names} names")),
        Ok(findings) => (5, format!("root directory lists {names} names, with {} places damaged", findings.len())),
        Err(_) => (-10, "root directory cannot be read".to_string()),
    };
    let mut witnesses = vec![Witness::at(WitnessKind::RootDirectory, at, weight, says).start(start)];
    if asked > 0 {
        let says = format!("folders of the root have inodes that hold: {met} of {asked}");
        witnesses.push(Witness::at(WitnessKind::References, start, if met == asked { 10 } else { 0 }, says));
    }
    witnesses
}

/// What speaks for a volume without a root: inodes in its tables, and a journal where a copy of the superblock puts it.
fn rest_witnesses(volume: &ExtVolume, start: ByteOffset) -> Vec<Witness> {
    let (mut used, mut first) = (0u32, None);
    each_inode(volume, MOST_INODES, &mut |inode| {
        used += 1;
        first.get_or_insert(inode.at);
    });
    let mut witnesses = Vec::new();
    // Where no checksum is kept, a few may be anything.
    if used >= if volume.geometry().has_checksums() { 1 } else { FEW } {
        let says = format!("inodes in use stand where the group descriptors put the tables: {used} of the first {MOST_INODES}");
        let at = start + first.unwrap_or_default().0;
        witnesses.push(Witness::at(WitnessKind::References, at, 20, says).start(start));
    }
    let journal = volume.stated_journal(volume.geometry().journal_inode);
    if let Some(at) = journal.and_then(|inode| volume.journal_at(&inode)) {
        let says = "the journal stands where a copy of the superblock puts it";
        witnesses.push(Witness::at(WitnessKind::References, start + at.0, 15, says).start(start));
    }
    witnesses
}

/// Directories seen on the surface inside the volume whose inode leads back to where they stand.
fn surface_witness(window: &SharedSource, volume: &ExtVolume, start: ByteOffset, clues: &Clues) -> Option<Witness> {
    let range = ByteRange::sized(start, volume.geometry().volume_bytes());
    let inside: Vec<_> =
        clues.ext.directories.iter().filter(|directory| range.contains(directory.at)).take(MOST_FOLLOWED).collect();
    if inside.is_empty() {
        return None;
    }
    let leads_here = |own: u32, at: ByteOffset| {
        let inode = volume.inode(own).ok()?;
        let first = volume.extents(crate::NodeId(u64::from(own))).ok()?.first()?.volume_at?;
        let block = read_bytes(window.as_ref(), first, 4, "directory block").ok()?;
        (inode.kind() == Some(NodeKind::Directory) && start + first.0 == at && block == own.to_le_bytes()).then_some(())
    };
    let met = inside.iter().filter(|directory| leads_here(directory.own, directory.at).is_some()).count();
    let says = format!("directories on the surface stand where their inodes put them: {met} of {}", inside.len());
    let weight = if met * 2 >= inside.len() { 10 } else { 0 };
    Some(Witness { kind: WitnessKind::References, at_byte: None, says, weight, start_byte: Some(start), bytes: None })
}
