//! HFS+ and HFSX. Source: Technical Note 1150, "HFS Plus Volume Format"; names as used there.

mod attributes;
mod btree;
mod catalog;
mod check;
mod compress;
mod forks;
mod former;
mod journal;
pub(crate) mod kind;
pub mod layout;
pub mod make;
pub mod mend;
mod read;
mod resize;
mod shape;
mod whole;
mod witness;

#[cfg(test)]
mod tests;

pub use btree::{Node, Tree, header_of};
pub use catalog::{LinkTo, Record};
pub use compress::Compression;
pub use forks::ForkKind;
pub use former::FormerHfs;
pub(crate) use former::{former, open, open_former, set_aside};
pub use layout::HfsGeometry;
pub use read::HfsVolume;
pub(crate) use shape::SHAPES;
pub use witness::{HeaderClue, HfsClues, TreeClue, boot_sector, infer, is_marked, look};
