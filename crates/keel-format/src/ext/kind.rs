//! What is said of ext2, ext3 and ext4, and of one of their volumes by its geometry.

use keel_source::{ByteOffset, RangeSet, SharedSource};

use super::{ExtGeometry, FormerExt, mend, open, open_former, set_aside};
use crate::former::FormatFormer;
use crate::geometry::FormatGeometry;
use crate::kind::{Driver, Holds, KeptOfDeleted, KindFacts, MbrTypes, Promise};
use crate::resize::Resizer;
use crate::table::gpt::LINUX;
use crate::{Compute, FormatError, Geometry, Structure, Volume, VolumeKind};

/// ext2: no journal.
pub(crate) const EXT2: KindFacts = facts("ext2");
/// ext3: ext2 with a journal.
pub(crate) const EXT3: KindFacts = facts("ext3");
/// ext4.
pub(crate) const EXT4: KindFacts = facts("ext4");

const DRIVERS: &[Driver] = &[Driver::kernel("ext4", "noload")];

const fn facts(word: &'static str) -> KindFacts {
    KindFacts {
        word,
        letters: "ex",
        texture: "┈┈",
        mbr: MbrTypes::new(0x83, &[]),
        gpt: LINUX,
        apm: &["Apple_UNIX_SVR2"],
        promised: Promise::Any,
        drivers: DRIVERS,
        alike: &[VolumeKind::Ext2, VolumeKind::Ext3, VolumeKind::Ext4],
        closed: None,
        deleted: KeptOfDeleted {
            says: Some(
                "deleting empties the inode, and newer systems wipe the name too: a deleted file comes back as far as the journal \
                 still holds it as it was",
            ),
            empties: true,
            inside: false,
        },
        uncut: "ext keeps structures all over its length: it cannot be cut here",
        holds: Holds::Files,
        make: Some(super::make::volume),
        resize: Some(Resizer { least: super::resize::least, to: super::resize::to }),
    }
}

impl FormatGeometry for ExtGeometry {
    fn kind(&self) -> VolumeKind {
        self.kind
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
        set_aside(window, *self)
    }

    fn least_sector(&self) -> u32 {
        self.block_bytes
    }

    fn copies(&self) -> Vec<ByteOffset> {
        self.backup_groups().into_iter().map(|group| self.superblock_at(group)).collect()
    }

    fn boot_at(&self) -> ByteOffset {
        self.superblock_at(0)
    }

    fn traced_at(&self) -> Option<ByteOffset> {
        None
    }

    fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool {
        let groups = std::iter::once(0).chain(self.backup_groups());
        groups.into_iter().any(|group| self.superblock_at(group) == at && mend::is_stated_in(window, self, group))
    }

    fn structures(&self, window: &SharedSource, _start: ByteOffset, compute: Compute) -> Vec<Structure> {
        if self.fits(window.len()) { mend::structures(window, self, compute) } else { Vec::new() }
    }
}

impl FormatFormer for FormerExt {
    fn kind(&self) -> VolumeKind {
        self.geometry.kind
    }

    fn bytes(&self) -> u64 {
        self.geometry.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(Box::new(open_former(window, self)))
    }
}
