//! What is said of XFS, and of one of its volumes by its geometry.

use keel_source::{ByteOffset, RangeSet, SharedSource};

use super::{FormerXfs, XfsGeometry, mend, open, open_former, set_aside};
use crate::former::FormatFormer;
use crate::geometry::FormatGeometry;
use crate::kind::{Driver, Holds, KeptOfDeleted, KindFacts, MbrTypes, Promise};
use crate::table::gpt::LINUX;
use crate::{Compute, FormatError, Geometry, Structure, Volume, VolumeKind};

/// XFS.
pub(crate) const XFS: KindFacts = KindFacts {
    word: "XFS",
    letters: "XF",
    texture: "╌╌",
    mbr: MbrTypes::new(0x83, &[]),
    gpt: LINUX,
    apm: &[],
    promised: Promise::Any,
    drivers: &[Driver::kernel("xfs", "norecovery,nouuid")],
    alike: &[],
    closed: None,
    deleted: KeptOfDeleted {
        says: Some(
            "deleting frees the inode and keeps its map of extents as long as nobody takes it again: the name is left where nothing \
             was written over it, the exact length is lost",
        ),
        empties: true,
        inside: false,
    },
    uncut: "XFS keeps structures all over its length: it cannot be cut here",
    holds: Holds::Files,
    make: None,
    resize: None,
};

impl FormatGeometry for XfsGeometry {
    fn kind(&self) -> VolumeKind {
        VolumeKind::Xfs
    }

    fn bytes(&self) -> u64 {
        self.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        open(window, *self)
    }

    fn shortened(&self, _room: u64) -> Option<Geometry> {
        None
    }

    fn moving_end(&self) -> u64 {
        0
    }

    fn set_aside(&self, window: SharedSource) -> RangeSet {
        set_aside(&window, self)
    }

    fn least_sector(&self) -> u32 {
        self.sector_bytes
    }

    fn copies(&self) -> Vec<ByteOffset> {
        mend::copies(self)
    }

    fn boot_at(&self) -> ByteOffset {
        ByteOffset(0)
    }

    fn traced_at(&self) -> Option<ByteOffset> {
        None
    }

    fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool {
        let group = u32::try_from(at.0 / self.group_bytes().max(1)).ok();
        group.is_some_and(|group| self.group_at(group) == at && mend::is_stated_at(window, self, group))
    }

    fn structures(&self, window: &SharedSource, _start: ByteOffset, compute: Compute) -> Vec<Structure> {
        mend::structures(window, self, compute)
    }
}

impl FormatFormer for FormerXfs {
    fn kind(&self) -> VolumeKind {
        VolumeKind::Xfs
    }

    fn bytes(&self) -> u64 {
        self.geometry.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(Box::new(open_former(window, self)))
    }
}
