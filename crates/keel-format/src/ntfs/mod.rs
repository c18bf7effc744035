//! NTFS. Source: the structures as the operating systems' own drivers document and write them; names as used there.

mod attribute;
mod check;
mod index;
mod interix;
pub(crate) mod kind;
pub mod layout;
mod lznt1;
pub mod make;
pub mod mend;
mod mft;
mod names;
mod paths;
mod read;
mod record;
mod reparse;
mod resize;
mod runs;
mod shape;
mod stream;
mod volume;
mod witness;
mod wof;

#[cfg(test)]
mod tests;

pub use attribute::{Attribute, Body};
pub use layout::NtfsGeometry;
pub use mft::{FormerNtfs, LooseBlock, MftMap, MftPiece};
pub use read::NtfsVolume;
pub use record::Record;
pub use runs::Run;
pub(crate) use shape::SHAPES;
pub(crate) use witness::former;
pub use witness::{DirectoryRecord, IndexBlock, NtfsClues, Streak, boot_sector, infer, is_marked, look};

/// UTF-16 units as text; unpaired surrogates are written out as `\uD800`, so that no two names become one.
pub(crate) fn utf16_text(units: impl Iterator<Item = u16>) -> String {
    crate::spelling::spelled(
        char::decode_utf16(units).map(|sign| sign.map_err(|error| format!("\\u{:04X}", error.unpaired_surrogate()))),
    )
}
