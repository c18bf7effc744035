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
    /// XFS; recognised, not read.
    Xfs,
    /// Btrfs; recognised, not read.
    Btrfs,
    /// F2FS; recognised, not read.
    F2fs,
    /// An APFS container; recognised, not read.
    Apfs,
    /// ReFS; recognised, not read.
    Refs,
    /// The journal of an ext volume, on a partition of its own.
    ExtJournal,
    /// Linux swap space.
    Swap,
    /// A volume encrypted by LUKS.
    Luks,
    /// An LVM2 physical volume.
    Lvm,
    /// A member of a Linux RAID.
    Raid,
    /// NTFS under full volume encryption.
    Fve,
    /// UDF; recognised, not read.
    Udf,
    /// ISO 9660; recognised, not read.
    Iso9660,
}

impl VolumeKind {
    /// True for ext2, ext3 and ext4.
    #[must_use]
    pub fn is_ext(self) -> bool {
        matches!(self, Self::Ext2 | Self::Ext3 | Self::Ext4)
    }

    /// True for one and the same kind, and for kinds of ext: which of them a volume is, its features say, and one whose journal is
    /// gone is another one without it.
    #[must_use]
    pub fn is_alike(self, other: Self) -> bool {
        self == other || self.is_ext() && other.is_ext()
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
            Self::Xfs => "XFS",
            Self::Btrfs => "Btrfs",
            Self::F2fs => "F2FS",
            Self::Apfs => "APFS",
            Self::Refs => "ReFS",
            Self::ExtJournal => "ext journal",
            Self::Swap => "swap",
            Self::Luks => "LUKS",
            Self::Lvm => "LVM2",
            Self::Raid => "RAID",
            Self::Fve => "FVE",
            Self::Udf => "UDF",
            Self::Iso9660 => "ISO 9660",
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
            Self::Xfs => "XF",
            Self::Btrfs => "Bt",
            Self::F2fs => "F2",
            Self::Apfs => "AP",
            Self::Refs => "Re",
            Self::ExtJournal => "eJ",
            Self::Swap => "sw",
            Self::Luks => "LU",
            Self::Lvm => "LV",
            Self::Raid => "RA",
            Self::Fve => "FV",
            Self::Udf => "UD",
            Self::Iso9660 => "IS",
        }
    }

    /// True for the three FAT kinds.
    #[must_use]
    pub fn is_fat(self) -> bool {
        matches!(self, Self::Fat12 | Self::Fat16 | Self::Fat32)
    }

    /// What a volume of this kind keeps of a file that was deleted, as a sentence; none for kinds that are not read.
    #[must_use]
    pub fn kept_of_deleted(self) -> Option<&'static str> {
        match self {
            Self::Ntfs => Some("a deleted file keeps its record, with name and runs, until the record is used again"),
            Self::Fat12 | Self::Fat16 | Self::Fat32 => Some(
                "a deleted file keeps its folder entry, with size and first cluster, until that is used again; its chain is gone",
            ),
            Self::ExFat => {
                Some("a deleted file keeps its folder entry until that is used again, and most keep their place with it")
            }
            Self::Ext2 | Self::Ext3 | Self::Ext4 => Some(
                "deleting empties the inode, and newer systems wipe the name too: a deleted file comes back as far as the journal \
                 still holds it as it was",
            ),
            Self::HfsPlus | Self::Hfsx => {
                Some("a deleted file is taken out of the catalog, name and all: this format keeps nothing that could be listed")
            }
            _ => self.why_closed(),
        }
    }

    /// Why a volume of this kind cannot be looked into here; none for the kinds that can.
    #[must_use]
    pub fn why_closed(self) -> Option<&'static str> {
        match self {
            Self::Xfs | Self::Btrfs | Self::F2fs | Self::Apfs | Self::Refs | Self::Udf | Self::Iso9660 => {
                Some("volumes of this kind are recognised, with start and length, and not read yet")
            }
            Self::ExtJournal => Some("the journal of an ext volume that stands elsewhere; it holds no files of its own"),
            Self::Swap => Some("swap space holds no files"),
            Self::Luks | Self::Fve => Some("the volume is encrypted: it opens with its key, once its entry is back"),
            Self::Lvm => Some("a physical volume holds pieces of logical volumes, which its group puts together"),
            Self::Raid => Some("a RAID member holds a part of the volume; the others are needed to put it together"),
            _ => None,
        }
    }

    /// True for kinds whose first 32 KiB are left to the system, which keeps tables there on purpose: boot images that are
    /// volume and partitioned drive at once.
    #[must_use]
    pub fn leaves_room_for_tables(self) -> bool {
        matches!(self, Self::Iso9660 | Self::Udf)
    }

    /// True when other volumes lie inside by design: what is found there needs no entry in the table.
    #[must_use]
    pub fn is_container(self) -> bool {
        matches!(self, Self::Lvm | Self::Raid | Self::Luks | Self::Apfs)
    }
}
