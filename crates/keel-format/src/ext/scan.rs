//! Every inode that the tables of all groups hold.

use super::layout::inode_table;
use super::{ExtVolume, Inode};
use crate::device::step;

/// The most inodes that are looked at for folders: tables of 1 GiB with inodes of 256 bytes.
pub(super) const MOST_SCANNED: u64 = 4 << 20;
/// Bytes of an inode table that are read at once.
const STEP: u64 = 256 << 10;
/// Inodes below this one are the file system's own.
pub(super) const FIRST_INODE: u32 = 11;

/// Hands every inode among the first `most` that is in use and the volume's own to `each`.
pub(super) fn each_inode(volume: &ExtVolume, most: u64, each: &mut dyn FnMut(Inode)) {
    let geometry = volume.geometry();
    let size = u64::from(geometry.inode_bytes.max(128));
    let mut left = most;
    for group in 0..geometry.groups() {
        if step(volume.source().as_ref(), geometry.descriptor_at(group), "group descriptor", 1).is_err() {
            break;
        }
        let table = volume.best_descriptor(group).ok().and_then(|raw| geometry.block_at(inode_table(&raw)));
        let Some(at) = table else { continue };
        let count = u64::from(geometry.inodes_per_group).min(left);
        left -= count;
        for first in (0..count).step_by((STEP / size).max(1) as usize) {
            let taken = (STEP / size).max(1).min(count - first);
            let len = usize::try_from(taken * size).unwrap_or(0);
            let place = at + first * size;
            let Ok((bytes, _)) = crate::read_lenient(volume.source().as_ref(), place, len, "inode table") else { continue };
            for (index, one) in bytes.chunks_exact(size as usize).enumerate().filter(|(_, one)| one.iter().any(|byte| *byte != 0))
            {
                let number = u64::from(group) * u64::from(geometry.inodes_per_group) + first + index as u64 + 1;
                let Ok(number) = u32::try_from(number) else { continue };
                let inode = Inode::parse(number, place + index as u64 * size, one.to_vec()).ok();
                inode.filter(|inode| volume.owns(inode)).into_iter().for_each(&mut *each);
            }
        }
        if left == 0 {
            break;
        }
    }
}
