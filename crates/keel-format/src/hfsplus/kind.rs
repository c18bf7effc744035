//! What is said of HFS+ and HFSX, and of one of their volumes by its geometry.

use keel_source::{ByteOffset, RangeSet, SharedSource};

use super::{FormerHfs, HfsGeometry, layout, mend, open, open_former, set_aside};
use crate::former::FormatFormer;
use crate::geometry::FormatGeometry;
use crate::kind::{Driver, Holds, KeptOfDeleted, KindFacts, Maker, MbrTypes, Promise};
use crate::resize::Resizer;
use crate::table::gpt::HFS_PLUS as HFS_PLUS_TYPE;
use crate::{Compute, FormatError, Geometry, Structure, Volume, VolumeKind};

/// HFS+.
pub(crate) const HFS_PLUS: KindFacts = facts("HFS+", &["Apple_HFS"], Some(|_, wanted| super::make::volume(wanted)));
/// HFSX: HFS+ with names that may differ in case alone.
pub(crate) const HFSX: KindFacts = facts("HFSX", &["Apple_HFS", "Apple_HFSX"], None);

const DRIVERS: &[Driver] = &[Driver::kernel("hfsplus", "force")];

const fn facts(word: &'static str, apm: &'static [&'static str], make: Option<Maker>) -> KindFacts {
    KindFacts {
        word,
        letters: "H+",
        texture: "╳╳",
        mbr: MbrTypes::new(0xAF, &[]),
        gpt: (HFS_PLUS_TYPE, &[]),
        apm,
        promised: Promise::Known,
        drivers: DRIVERS,
        alike: &[],
        closed: None,
        deleted: KeptOfDeleted::told(
            "a deleted file is taken out of the catalog, name and all: this format keeps nothing that could be listed",
        ),
        uncut: "HFS+ keeps structures all over its length: it cannot be cut here",
        holds: Holds::Files,
        make,
        resize: Some(Resizer { least: super::resize::least, to: super::resize::to }),
    }
}

impl FormatGeometry for HfsGeometry {
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
        vec![self.alternate_at()]
    }

    fn boot_at(&self) -> ByteOffset {
        ByteOffset(layout::HEADER_AT)
    }

    fn traced_at(&self) -> Option<ByteOffset> {
        None
    }

    fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool {
        mend::is_stated_at(window, self, at)
    }

    fn structures(&self, window: &SharedSource, _start: ByteOffset, compute: Compute) -> Vec<Structure> {
        mend::structures(window, self, compute)
    }
}

impl FormatFormer for FormerHfs {
    fn kind(&self) -> VolumeKind {
        self.geometry.kind
    }

    fn bytes(&self) -> u64 {
        self.geometry.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(Box::new(open_former(window, self)?))
    }
}
