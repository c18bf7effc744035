//! What is said of NTFS, and of one of its volumes by its geometry.

use keel_source::{ByteOffset, RangeSet, SharedSource};

use super::{FormerNtfs, NtfsGeometry, NtfsVolume, mend};
use crate::former::FormatFormer;
use crate::geometry::{FormatGeometry, hidden_sectors};
use crate::kind::{Driver, Holds, KeptOfDeleted, KindFacts, MbrTypes, Promise};
use crate::resize::Resizer;
use crate::table::gpt::{BASIC_DATA, RECOVERY};
use crate::{Compute, FormatError, Geometry, Structure, Volume, VolumeKind, registry};

/// NTFS.
pub(crate) const NTFS: KindFacts = KindFacts {
    word: "NTFS",
    letters: "Nt",
    texture: "╱╱",
    // A recovery volume is meant to stay out of sight.
    mbr: MbrTypes::new(0x07, &[0x27]),
    gpt: (BASIC_DATA, &[RECOVERY]),
    apm: &[],
    promised: Promise::Known,
    drivers: &[Driver::kernel("ntfs3", ""), Driver::program("ntfs-3g")],
    alike: &[],
    closed: None,
    deleted: KeptOfDeleted {
        says: Some("a deleted file keeps its record, with name and runs, until the record is used again"),
        empties: false,
        inside: true,
    },
    uncut: "its MFT or the mirror of it lies behind the end: it cannot be cut here",
    holds: Holds::Files,
    make: Some(|_, wanted| super::make::volume(wanted)),
    resize: Some(Resizer { least: super::resize::least, to: super::resize::to }),
};

impl FormatGeometry for NtfsGeometry {
    fn kind(&self) -> VolumeKind {
        VolumeKind::Ntfs
    }

    fn bytes(&self) -> u64 {
        self.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(Box::new(NtfsVolume::open(window, *self)?))
    }

    fn shortened(&self, room: u64) -> Option<Geometry> {
        (*self).shortened(room).map(Geometry::Ntfs)
    }

    fn moving_end(&self) -> u64 {
        // The copy of the boot sector behind the last cluster; the bitmap counts what is no whole cluster as used.
        2 * u64::from(self.cluster_bytes)
    }

    fn set_aside(&self, _window: SharedSource) -> RangeSet {
        RangeSet::default()
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
        Some(self.cluster_at(self.mft_lcn))
    }

    fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool {
        matches!(registry::boot_sector(window.as_ref(), at), Some(Geometry::Ntfs(found)) if self.is_same_volume(&found))
    }

    fn structures(&self, window: &SharedSource, start: ByteOffset, compute: Compute) -> Vec<Structure> {
        mend::structures(window, self, hidden_sectors(start, self.bytes_per_sector), compute)
    }
}

impl FormatFormer for FormerNtfs {
    fn kind(&self) -> VolumeKind {
        VolumeKind::Ntfs
    }

    fn bytes(&self) -> u64 {
        self.geometry.volume_bytes()
    }

    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(Box::new(NtfsVolume::open_former(window, self)?))
    }
}
