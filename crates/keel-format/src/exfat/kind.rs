//! What is said of exFAT, and of one of its volumes by its geometry.

use keel_source::{ByteOffset, RangeSet, SharedSource};

use super::{ExFatGeometry, ExFatVolume, FormerExFat, mend, open_former, set_aside};
use crate::former::FormatFormer;
use crate::geometry::{FormatGeometry, hidden_sectors};
use crate::kind::{Driver, Holds, KeptOfDeleted, KindFacts, MbrTypes, Promise};
use crate::resize::Resizer;
use crate::table::gpt::BASIC_DATA;
use crate::{Compute, FormatError, Geometry, Structure, Volume, VolumeKind};

/// exFAT.
pub(crate) const EXFAT: KindFacts = KindFacts {
    word: "exFAT",
    letters: "xF",
    texture: "╲╲",
    mbr: MbrTypes::new(0x07, &[]),
    gpt: (BASIC_DATA, &[]),
    apm: &[],
    promised: Promise::Known,
    drivers: &[Driver::kernel("exfat", ""), Driver::program("exfat-fuse")],
    alike: &[],
    closed: None,
    deleted: KeptOfDeleted::told(
        "a deleted file keeps its folder entry until that is used again, and most keep their place with it",
    ),
    uncut: "its root folder lies behind the end: it cannot be cut here",
    holds: Holds::Files,
    make: Some(|_, wanted| super::make::volume(wanted)),
    resize: Some(Resizer { least: super::resize::least, to: super::resize::to }),
};

impl FormatGeometry for ExFatGeometry {
    fn kind(&self) -> VolumeKind {
        VolumeKind::ExFat
    }

    fn bytes(&self) -> u64 {
        self.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(Box::new(ExFatVolume::open(window, *self)?))
    }

    fn shortened(&self, room: u64) -> Option<Geometry> {
        (*self).shortened(room).map(Geometry::ExFat)
    }

    fn moving_end(&self) -> u64 {
        0
    }

    fn set_aside(&self, window: SharedSource) -> RangeSet {
        set_aside(window, *self)
    }

    fn least_sector(&self) -> u32 {
        self.bytes_per_sector
    }

    fn copies(&self) -> Vec<ByteOffset> {
        vec![self.backup_at()]
    }

    fn boot_at(&self) -> ByteOffset {
        ByteOffset(0)
    }

    fn traced_at(&self) -> Option<ByteOffset> {
        None
    }

    fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool {
        mend::region_holds(window, self, at)
    }

    fn structures(&self, window: &SharedSource, start: ByteOffset, compute: Compute) -> Vec<Structure> {
        mend::structures(window, self, u64::from(hidden_sectors(start, self.bytes_per_sector)), compute)
    }
}

impl FormatFormer for FormerExFat {
    fn kind(&self) -> VolumeKind {
        VolumeKind::ExFat
    }

    fn bytes(&self) -> u64 {
        self.geometry.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(Box::new(open_former(window, self)))
    }
}
