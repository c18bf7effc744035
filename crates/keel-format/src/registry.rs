//! The formats, one word each.

use keel_source::{ByteOffset, SharedSource, Source};

use crate::clue::Clues;
use crate::{FoundVolume, Geometry, read_bytes};

/// What a format offers to the search.
pub struct Format {
    /// Looks at one sector (and what of the chunk lies behind it) and keeps a clue.
    pub look: fn(&mut Clues, ByteOffset, &[u8]),
    /// Reads the boot sector of a volume that starts at a byte of a drive: the geometry, when every field makes sense.
    pub boot_sector: fn(&dyn Source, ByteOffset) -> Option<Geometry>,
    /// Turns clues into volumes, each verified on the drive.
    pub infer: fn(&SharedSource, &Clues) -> Vec<FoundVolume>,
}

/// Lists the modules of the formats. Each offers `look`, `boot_sector`, `infer`, and `is_marked`: a quick test of the
/// first and the last 64 bytes of a sector, which every sector of a surface goes through.
macro_rules! formats {
    ($($module:ident),+ $(,)?) => {
        /// Every format that is known.
        pub const FORMATS: &[Format] = &[$(Format {
            look: crate::$module::look,
            boot_sector: crate::$module::boot_sector,
            infer: crate::$module::infer,
        }),+];

        /// True when a sector may belong to one of the formats.
        #[inline]
        pub(crate) fn is_marked(sector: &[u8; 512]) -> bool {
            $(crate::$module::is_marked(sector))||+
        }
    };
}

formats!(ntfs, fat, exfat, ext, hfsplus, recognised);

/// Reads the boot sector of a volume that starts at byte `at` as that of any known format.
#[must_use]
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    FORMATS.iter().find_map(|format| (format.boot_sector)(source, at))
}

/// The first 512 bytes at `at`, when they read and end in 55 AA.
pub(crate) fn marked_sector(source: &dyn Source, at: ByteOffset) -> Option<Vec<u8>> {
    read_bytes(source, at, 512, "boot sector").ok().filter(|sector| sector.ends_with(&[0x55, 0xAA]))
}
