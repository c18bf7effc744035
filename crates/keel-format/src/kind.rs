//! The kinds of volume that are known.

use serde::{Deserialize, Serialize};

/// A kind of volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum VolumeKind {
    /// NTFS.
    Ntfs,
    /// FAT with 12-bit entries.
    Fat12,
    /// FAT with 16-bit entries.
    Fat16,
    /// FAT with 32-bit entries.
    Fat32,
    /// exFAT.
    ExFat,
    /// ext2: no journal.
    Ext2,
    /// ext3: ext2 with a journal.
    Ext3,
    /// ext4.
    Ext4,
    /// HFS+.
    HfsPlus,
    /// HFSX: HFS+ with names that may differ in case alone.
    Hfsx,
}

impl VolumeKind {
    /// True for ext2, ext3 and ext4.
    #[must_use]
    pub fn is_ext(self) -> bool {
        matches!(self, Self::Ext2 | Self::Ext3 | Self::Ext4)
    }

    /// True for HFS+ and HFSX.
    #[must_use]
    pub fn is_hfs(self) -> bool {
        matches!(self, Self::HfsPlus | Self::Hfsx)
    }
}

impl VolumeKind {
    /// The trade's name of the kind.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Ntfs => "NTFS",
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::ExFat => "exFAT",
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
            Self::HfsPlus => "HFS+",
            Self::Hfsx => "HFSX",
        }
    }

    /// Two letters for the keel's blocks.
    #[must_use]
    pub fn letters(self) -> &'static str {
        match self {
            Self::Ntfs => "Nt",
            Self::Fat12 | Self::Fat16 | Self::Fat32 => "Fa",
            Self::ExFat => "xF",
            Self::Ext2 | Self::Ext3 | Self::Ext4 => "ex",
            Self::HfsPlus | Self::Hfsx => "H+",
        }
    }

    /// True for the three FAT kinds.
    #[must_use]
    pub fn is_fat(self) -> bool {
        matches!(self, Self::Fat12 | Self::Fat16 | Self::Fat32)
    }
}
