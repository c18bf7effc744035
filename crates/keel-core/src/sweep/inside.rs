//! Disk images kept as files: a volume whose ground belongs to a file of another one.

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_format::{Deleted, NodeKind};
use keel_source::{ByteOffset, SharedSource, Window, printable};

use super::{Find, Grade};

/// The most files whose maps are looked at for one outer volume.
const MOST_FILES: usize = 2_000_000;

/// The most volumes whose files are looked through for images.
const MOST_HOSTS: usize = 128;

/// Marks every find that lies in a container (a physical volume, a RAID member), and every find whose first byte lies
/// in a present file of another, larger find.
pub(super) fn mark(source: &SharedSource, finds: &mut [Find]) {
    mark_contained(finds);
    // The largest first: what holds images is larger than they are.
    let mut outers: Vec<usize> = (0..finds.len()).collect();
    outers.sort_by_key(|index| std::cmp::Reverse(finds.get(*index).map_or(0, |find| find.bytes)));
    outers.truncate(MOST_HOSTS);
    for outer in outers {
        let Some(host) = finds.get(outer).filter(|host| !host.is_former()).cloned() else { continue };
        let guests: Vec<usize> = finds
            .iter()
            .enumerate()
            .filter(|(index, guest)| {
                *index != outer
                    && !guest.is_former()
                    && guest.bytes < host.bytes
                    && host.range().contains(guest.start_byte)
                    && guest.start_byte != host.start_byte
            })
            .map(|(index, _)| index)
            .collect();
        if guests.is_empty() {
            continue;
        }
        let places: Vec<ByteOffset> = guests
            .iter()
            .filter_map(|index| finds.get(*index))
            .map(|guest| ByteOffset(guest.start_byte - host.start_byte))
            .collect();
        let least = guests.iter().filter_map(|index| finds.get(*index)).map(|guest| guest.bytes).min().unwrap_or(0);
        for (index, file) in guests.into_iter().zip(files_at(source, &host, &places, least)) {
            if let (Some(guest), Some(file)) = (finds.get_mut(index), file)
                && guest.inside.is_none()
            {
                guest.inside = Some(host.id.clone());
                guest.inside_file = Some(printable(&file));
            }
        }
    }
}

/// A container's ground belongs to it: what is found behind its start is a part of what it holds.
fn mark_contained(finds: &mut [Find]) {
    // A boot image holds the volumes that its own table points at.
    let image = |find: &&Find| find.kind.leaves_room_for_tables() && find.grade >= Grade::Strong;
    let containers: Vec<Find> = finds.iter().filter(|find| find.kind.is_container() || image(find)).cloned().collect();
    for container in &containers {
        let guests = finds.iter_mut().filter(|guest| guest.id != container.id && guest.start_byte > container.start_byte);
        for guest in guests.filter(|guest| container.range().covers(guest.range()) && guest.inside.is_none()) {
            guest.inside = Some(container.id.clone());
        }
    }
}

/// For each of `places` (bytes of the host volume) the path of the present file that holds it. Files smaller than an
/// image of `least` bytes could be are passed over.
fn files_at(source: &SharedSource, host: &Find, places: &[ByteOffset], least: u64) -> Vec<Option<String>> {
    let mut paths = vec![None; places.len()];
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), host.range()));
    let Ok(volume) = host.geometry.open(window) else { return paths };
    let mut looked_at = 0;
    let least = least.min(64 << 10);
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        if found.entry.kind != NodeKind::File || found.entry.bytes < least {
            return ControlFlow::Continue(());
        }
        looked_at += 1;
        for extent in volume.extents(found.entry.id).unwrap_or_default() {
            let Some(at) = extent.volume_at else { continue };
            for (place, path) in places.iter().zip(&mut paths) {
                if at <= *place && *place < at + extent.bytes && path.is_none() {
                    *path = Some(format!("{}/{}", found.folder, found.entry.name));
                }
            }
        }
        let all = paths.iter().all(Option::is_some);
        if all || looked_at >= MOST_FILES { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    paths
}
