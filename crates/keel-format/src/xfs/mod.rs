//! XFS, versions 4 and 5. Source: "XFS Algorithms & Data Structures", third edition; names as used there.

mod attributes;
mod check;
mod directory;
mod former;
mod groups;
mod inode;
pub(crate) mod kind;
pub mod layout;
mod log;
mod map;
mod mend;
mod read;
mod shape;
mod tree;
mod volume;
mod witness;

#[cfg(test)]
mod tests;

pub use directory::{RawName, block_entries, short_entries};
pub use former::FormerXfs;
pub(crate) use former::{former, open, open_former, set_aside};
pub use inode::Inode;
pub use layout::XfsGeometry;
pub use map::Fork;
pub use read::XfsVolume;
pub(crate) use shape::SHAPES;
pub use witness::{SuperClue, XfsClues, boot_sector, infer, is_marked, look};
