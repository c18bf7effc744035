//! ext2, ext3 and ext4. Source: the Linux kernel's documentation of the format; names as used there.

mod attributes;
mod check;
mod checksum;
mod directory;
mod former;
mod groups;
mod inode;
mod journal;
mod kept;
pub(crate) mod kind;
pub mod layout;
pub mod make;
mod map;
pub mod mend;
mod read;
mod resize;
mod scan;
mod shape;
mod volume;
mod witness;

#[cfg(test)]
mod tests;

pub use directory::{RawName, entries};
pub use former::FormerExt;
pub(crate) use former::{former, open, open_former, set_aside};
pub use inode::Inode;
pub use layout::ExtGeometry;
pub use read::ExtVolume;
pub(crate) use shape::SHAPES;
pub use witness::{DescriptorClue, DirectoryStart, ExtClues, SuperClue, boot_sector, infer, is_marked, look};
