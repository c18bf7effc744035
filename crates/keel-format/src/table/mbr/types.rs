//! `OSType`s: what they hide and stand for. Those of each kind of volume are told by its format.

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
