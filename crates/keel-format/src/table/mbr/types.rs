//! `OSType`s and the kinds of volume that operating systems look for behind them.

use crate::VolumeKind;

/// The customary type for a kind, and the other ones behind which systems find it too.
#[must_use]
pub fn types_for(kind: VolumeKind) -> (u8, &'static [u8]) {
    match kind {
        // A recovery volume is meant to stay out of sight.
        VolumeKind::Ntfs => (0x07, &[0x27]),
        VolumeKind::ExFat | VolumeKind::Refs | VolumeKind::Fve | VolumeKind::Udf => (0x07, &[]),
        VolumeKind::Fat12 => (0x01, &[0x04, 0x06, 0x0E, 0xEF]),
        VolumeKind::Fat16 => (0x0E, &[0x01, 0x04, 0x06, 0xEF]),
        VolumeKind::Fat32 => (0x0C, &[0x0B, 0xEF]),
        VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4 => (0x83, &[]),
        VolumeKind::Xfs | VolumeKind::Btrfs | VolumeKind::F2fs | VolumeKind::Luks | VolumeKind::ExtJournal => (0x83, &[]),
        VolumeKind::Iso9660 => (0x83, &[0x07, 0x17, 0x00]),
        VolumeKind::HfsPlus | VolumeKind::Hfsx | VolumeKind::Apfs => (0xAF, &[]),
        VolumeKind::Swap => (0x82, &[]),
        VolumeKind::Lvm => (0x8E, &[0x83]),
        VolumeKind::Raid => (0xFD, &[0x83]),
    }
}

/// The type that a hidden type hides: systems that set bit 4 to hide a partition leave the rest as it is.
#[must_use]
pub fn hidden_form(code: u8) -> Option<u8> {
    matches!(code, 0x11 | 0x14 | 0x16 | 0x17 | 0x1B | 0x1C | 0x1E).then_some(code & 0x0F)
}

/// True for types whose ground is used without a file system: a loader's, and the protective entry.
#[must_use]
pub fn holds_no_volume(code: u8) -> bool {
    matches!(code, 0x41 | 0xEE)
}

/// What a type stands for, in words.
#[must_use]
pub fn word_for(code: u8) -> &'static str {
    match code {
        0x00 => "empty",
        0x01 => "FAT12",
        0x04 | 0x06 | 0x0E => "FAT16",
        0x05 | 0x0F | 0x85 => "extended",
        0x07 => "NTFS/exFAT",
        0x0B | 0x0C => "FAT32",
        0x11 | 0x14 | 0x16 | 0x17 | 0x1B | 0x1C | 0x1E => "hidden",
        0x27 => "recovery",
        0x41 => "boot loader",
        0x82 => "Linux swap",
        0x83 => "Linux data",
        0x8E => "Linux LVM",
        0xAF => "HFS+/APFS",
        0xEE => "protective",
        0xEF => "EFI system",
        0xFD => "Linux RAID",
        _ => "other type",
    }
}
