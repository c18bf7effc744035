//! The formats, one line each.

use keel_source::{ByteOffset, SharedSource, Source};

use crate::clue::{Clues, keep};
use crate::{FoundVolume, Geometry, fat, ntfs, read_bytes};

/// What a format offers to the search.
pub struct Format {
    /// First bytes of sectors that may belong to it.
    pub first_bytes: &'static [u8],
    /// Looks at one sector (and what of the chunk lies behind it) and keeps a clue.
    pub look: fn(&mut Clues, ByteOffset, &[u8]),
    /// Reads the boot sector at a byte of a drive as this format's: the geometry, when every field makes sense.
    pub boot_sector: fn(&dyn Source, ByteOffset) -> Option<Geometry>,
    /// Turns clues into volumes, each verified on the drive.
    pub infer: fn(&SharedSource, &Clues) -> Vec<FoundVolume>,
}

/// Every format that is known.
pub const FORMATS: &[Format] = &[
    Format { first_bytes: b"FI", look: ntfs::look, boot_sector: ntfs::boot_sector, infer: ntfs::infer },
    Format { first_bytes: fat::FIRST_BYTES, look: fat::look, boot_sector: fat::boot_sector, infer: fat::infer },
    Format { first_bytes: b"E", look: look_for_gpt, boot_sector: |_, _| None, infer: |_, _| Vec::new() },
];

fn look_for_gpt(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    if bytes.starts_with(b"EFI PART") {
        keep(&mut clues.gpt_headers, at);
    }
}

/// Reads the boot sector at byte `at` as that of any known format.
#[must_use]
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    FORMATS.iter().find_map(|format| (format.boot_sector)(source, at))
}

/// The first 512 bytes at `at`, when they read and end in 55 AA.
pub(crate) fn marked_sector(source: &dyn Source, at: ByteOffset) -> Option<Vec<u8>> {
    read_bytes(source, at, 512, "boot sector").ok().filter(|sector| sector.ends_with(&[0x55, 0xAA]))
}
