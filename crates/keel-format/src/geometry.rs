//! What is needed to look into a volume, whether a boot sector said it or the surface did.

use keel_source::SharedSource;
use serde::Serialize;

use crate::fat::{FatGeometry, FatVolume};
use crate::ntfs::{NtfsGeometry, NtfsVolume};
use crate::{FormatError, Volume, VolumeKind};

/// The geometry of a volume of any kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(untagged)]
pub enum Geometry {
    /// NTFS.
    Ntfs(NtfsGeometry),
    /// FAT12, FAT16 or FAT32.
    Fat(FatGeometry),
}

impl Geometry {
    /// The kind of volume.
    #[must_use]
    pub fn kind(&self) -> VolumeKind {
        match self {
            Self::Ntfs(_) => VolumeKind::Ntfs,
            Self::Fat(fat) => fat.kind,
        }
    }

    /// Length of the volume in bytes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        match self {
            Self::Ntfs(ntfs) => ntfs.volume_bytes(),
            Self::Fat(fat) => fat.volume_bytes(),
        }
    }

    /// Opens the volume whose first byte is byte 0 of `window`. No boot sector is read.
    ///
    /// # Errors
    /// [`FormatError`] when the core metadata cannot be read.
    pub fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(match self {
            Self::Ntfs(ntfs) => Box::new(NtfsVolume::open(window, *ntfs)?),
            Self::Fat(fat) => Box::new(FatVolume::open(window, *fat)?),
        })
    }
}
