//! Volumes of an older generation: what is left under a volume that was made later on the same ground.

use std::sync::Arc;

use keel_source::SharedSource;
use serde::Serialize;

use crate::clue::Clues;
use crate::fat::{FormerFat, FormerFatVolume};
use crate::ntfs::{FormerNtfs, NtfsVolume};
use crate::{FormatError, FoundVolume, Volume, VolumeKind, WitnessKind, fat, ntfs};

/// What is left of a volume that another one was made over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(untagged)]
pub enum Former {
    /// Pieces of an MFT.
    Ntfs(FormerNtfs),
    /// Folders.
    Fat(FormerFat),
}

impl Former {
    /// The kind that it was.
    #[must_use]
    pub fn kind(&self) -> VolumeKind {
        match self {
            Self::Ntfs(_) => VolumeKind::Ntfs,
            Self::Fat(_) => VolumeKind::Fat32,
        }
    }

    /// Length in bytes of the ground that it is looked for on.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        match self {
            Self::Ntfs(ntfs) => ntfs.geometry.volume_bytes(),
            Self::Fat(fat) => fat.geometry.volume_bytes(),
        }
    }

    /// Opens what is left of the volume whose first byte is byte 0 of `window`.
    ///
    /// # Errors
    /// [`FormatError`] when nothing of its metadata can be read any more.
    pub fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        Ok(match self {
            Self::Ntfs(ntfs) => Box::new(NtfsVolume::open_former(window, ntfs)?),
            Self::Fat(fat) => Box::new(FormerFatVolume::open(window, fat)),
        })
    }
}

/// True for a volume that stands: a boot sector states it and its root lists, or (for a kind that is not read) a superblock.
#[must_use]
pub fn is_present(volume: &FoundVolume) -> bool {
    let boot = volume.has(WitnessKind::BootSector) || volume.has(WitnessKind::BackupBootSector);
    let core = volume.has(WitnessKind::CoreMetadata) && volume.has(WitnessKind::RootDirectory);
    boot && (core || volume.kind.why_closed().is_some())
}

/// Volumes of an older generation that what was seen speaks for and that no volume of `present` reaches.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues, present: &[FoundVolume]) -> Vec<FoundVolume> {
    let present: Vec<FoundVolume> = present.iter().filter(|volume| is_present(volume)).cloned().collect();
    let mut found = ntfs::former(drive, clues, &present);
    found.extend(fat::former(drive, clues, &present));
    found
}

/// A former volume as a geometry.
impl From<Former> for crate::Geometry {
    fn from(former: Former) -> Self {
        Self::Former(Arc::new(former))
    }
}
