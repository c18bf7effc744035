//! What is said of FAT12, FAT16 and FAT32, and of one of their volumes by its geometry.

use keel_source::{ByteOffset, RangeSet, SharedSource};

use super::{FatGeometry, FormerFat, mend, open, open_former};
use crate::former::FormatFormer;
use crate::geometry::{FormatGeometry, hidden_sectors};
use crate::kind::{Driver, Holds, KeptOfDeleted, KindFacts, MbrTypes, Promise};
use crate::resize::Resizer;
use crate::table::gpt::{BASIC_DATA, EFI_SYSTEM};
use crate::{Compute, FormatError, Geometry, Structure, Volume, VolumeKind, registry};

/// FAT with 12-bit entries.
pub(crate) const FAT12: KindFacts = facts("FAT12", MbrTypes::new(0x01, &[0x04, 0x06, 0x0E, 0xEF]), &[]);
/// FAT with 16-bit entries. Below 32 MiB it has a type of its own.
pub(crate) const FAT16: KindFacts =
    facts("FAT16", MbrTypes { usual: 0x0E, small: Some((32 << 20, 0x04)), also: &[0x01, 0x04, 0x06, 0xEF] }, &[]);
/// FAT with 32-bit entries.
pub(crate) const FAT32: KindFacts = facts("FAT32", MbrTypes::new(0x0C, &[0x0B, 0xEF]), &["DOS_FAT_32"]);

const DRIVERS: &[Driver] = &[Driver::kernel("vfat", "utf8")];

const fn facts(word: &'static str, mbr: MbrTypes, apm: &'static [&'static str]) -> KindFacts {
    KindFacts {
        word,
        letters: "Fa",
        texture: "∙∙",
        mbr,
        gpt: (BASIC_DATA, &[EFI_SYSTEM]),
        apm,
        promised: Promise::Known,
        drivers: DRIVERS,
        alike: &[],
        closed: None,
        deleted: KeptOfDeleted::told(
            "a deleted file keeps its folder entry, with size and first cluster, until that is used again; its chain is gone",
        ),
        uncut: "so few clusters would be left that it were another kind of FAT",
        holds: Holds::Files,
        make: Some(super::make::volume),
        resize: Some(Resizer { least: super::resize::least, to: super::resize::to }),
    }
}

impl FormatGeometry for FatGeometry {
    fn kind(&self) -> VolumeKind {
        self.kind
    }

    fn bytes(&self) -> u64 {
        self.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        open(window, *self)
    }

    fn shortened(&self, room: u64) -> Option<Geometry> {
        (*self).shortened(room).map(Geometry::Fat)
    }

    fn moving_end(&self) -> u64 {
        0
    }

    fn set_aside(&self, _window: SharedSource) -> RangeSet {
        RangeSet::default()
    }

    fn least_sector(&self) -> u32 {
        self.bytes_per_sector
    }

    fn copies(&self) -> Vec<ByteOffset> {
        let backup = ByteOffset(u64::from(self.backup) * u64::from(self.bytes_per_sector));
        Some(backup).filter(|_| self.backup > 0).into_iter().collect()
    }

    fn boot_at(&self) -> ByteOffset {
        ByteOffset(0)
    }

    fn traced_at(&self) -> Option<ByteOffset> {
        self.cluster_at(2)
    }

    fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool {
        matches!(registry::boot_sector(window.as_ref(), at), Some(Geometry::Fat(found)) if self.is_same_volume(&found))
    }

    fn structures(&self, window: &SharedSource, start: ByteOffset, compute: Compute) -> Vec<Structure> {
        mend::structures(window, self, hidden_sectors(start, self.bytes_per_sector), compute)
    }
}

impl FormatFormer for FormerFat {
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
