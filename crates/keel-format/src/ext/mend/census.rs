//! What of a volume is in use: inodes, the ground that they hold, and what its folders name.

use std::collections::{HashMap, HashSet};
use std::ops::{ControlFlow, Range};

use keel_source::{ByteOffset, ByteRange, RangeSet};

use super::super::directory::{RawName, entries};
use super::super::groups::metadata;
use super::super::scan::{FIRST_INODE, each_inode};
use super::super::{ExtVolume, Inode};
use super::folders::Stray;
use crate::{NodeKind, read_bytes};

/// Which inodes are in use, and the ground that they and the volume's own structures hold.
pub(super) struct Census {
    used: Vec<u8>,
    /// Numbers of the folders among them.
    pub(super) folders: Vec<u32>,
    /// Bytes of the volume.
    pub(super) held: RangeSet,
}

impl Census {
    /// True when inode `number` is in use, or kept by the system for itself.
    pub(super) fn is_used(&self, number: u64) -> bool {
        let index = number.saturating_sub(1);
        let bit =
            usize::try_from(index / 8).ok().and_then(|byte| self.used.get(byte)).is_some_and(|byte| byte >> (index % 8) & 1 == 1);
        bit || number < u64::from(FIRST_INODE)
    }

    pub(super) fn of(volume: &ExtVolume) -> Self {
        let geometry = volume.geometry();
        let mut used = vec![0u8; (geometry.inodes as usize).div_ceil(8)];
        let (mut folders, mut held): (Vec<u32>, Vec<Range<u64>>) = (Vec::new(), Vec::new());
        each_inode(volume, u64::MAX, &mut |inode| {
            let index = inode.number - 1;
            used.iter_mut().skip(index as usize / 8).take(1).for_each(|byte| *byte |= 1 << (index % 8));
            folders.extend((inode.kind() == Some(NodeKind::Directory)).then_some(inode.number));
            held.extend(volume.held(&inode));
        });
        for group in 0..geometry.groups() {
            held.extend(metadata(volume, group));
        }
        held.sort_by_key(|range| range.start);
        let unit = u64::from(geometry.block_bytes);
        let mut set = RangeSet::default();
        held.iter().for_each(|range| set.add(ByteRange::new(ByteOffset(range.start * unit), ByteOffset(range.end * unit))));
        Self { used, folders, held: set }
    }
}

/// What the folders in use name.
pub(super) struct NamedFolders {
    pub(super) targets: HashSet<u32>,
    /// The folder that names each first.
    pub(super) parents: HashMap<u32, u32>,
}

impl NamedFolders {
    pub(super) fn of(volume: &ExtVolume, census: &Census) -> Self {
        let mut named = Self { targets: HashSet::new(), parents: HashMap::new() };
        for folder in &census.folders {
            let Ok(inode) = volume.inode(*folder) else { continue };
            let _ = volume.names(&inode, &mut |name| {
                named.add(*folder, std::slice::from_ref(&name));
                ControlFlow::Continue(())
            });
        }
        named
    }

    pub(super) fn add(&mut self, folder: u32, names: &[RawName]) {
        for name in names.iter().filter(|name| name.present && name.name != b"." && name.name != b"..") {
            self.targets.insert(name.inode);
            self.parents.entry(name.inode).or_insert(folder);
        }
    }
}

/// The inode that a folder names as its parent.
pub(super) fn parent_of(volume: &ExtVolume, folder: &Inode) -> Option<u32> {
    let mut parent = None;
    let _ = volume.names(folder, &mut |name| {
        parent = parent.or((name.name == b"..").then_some(name.inode));
        if parent.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    parent
}

/// True when at least half of what the folder names is in use, and something is.
pub(super) fn holds_live(volume: &ExtVolume, stray: &Stray, census: &Census) -> bool {
    let geometry = volume.geometry();
    let (mut all, mut live) = (0usize, 0usize);
    for at in stray.blocks.iter().filter_map(|block| geometry.block_at(*block)) {
        let Ok(bytes) = read_bytes(volume.source().as_ref(), at, geometry.block_bytes as usize, "directory block") else {
            continue;
        };
        let (names, _) = entries(&bytes, at, geometry.inodes);
        for name in names.iter().filter(|name| name.present && name.name != b"." && name.name != b"..") {
            all += 1;
            live += usize::from(census.is_used(u64::from(name.inode)));
        }
    }
    live > 0 && live * 2 >= all
}
