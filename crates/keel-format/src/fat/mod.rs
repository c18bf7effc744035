//! FAT12, FAT16 and FAT32. Source: FAT file system specification, version 1.03 (2000), and ECMA-107.

mod check;
mod directory;
mod former;
pub(crate) mod kind;
pub mod layout;
mod lost;
pub mod make;
pub mod mend;
mod oem;
mod read;
mod resize;
mod shape;
mod table;
mod witness;

#[cfg(test)]
mod tests;

pub use directory::{RawSlot, Slots};
pub use former::FormerFat;
pub(crate) use former::{former, open as open_former, open_any as open};
pub use layout::FatGeometry;
pub use read::FatVolume;
pub(crate) use shape::SHAPES;
pub use table::FatTable;
pub use witness::{Dot, FatClues, FatStart, boot_sector, infer, is_marked, look};
