//! exFAT. Source: the published exFAT file system specification, revision 1.00; names as used there.

mod check;
mod directory;
mod former;
pub(crate) mod kind;
pub mod layout;
pub mod make;
pub mod mend;
mod read;
mod resize;
mod shape;
mod upcase;
mod witness;

#[cfg(test)]
mod tests;

pub use directory::{ENTRY_BYTES, FileSet, Sets, Step};
pub use former::FormerExFat;
pub(crate) use former::{former, open as open_former, set_aside};
pub use layout::ExFatGeometry;
pub use read::{Core, ExFatVolume};
pub(crate) use shape::SHAPES;
pub use upcase::UpCase;
pub use witness::{ExFatClues, RootClue, boot_sector, infer, is_marked, look};
