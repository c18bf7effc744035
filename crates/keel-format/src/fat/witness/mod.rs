//! Evidence for FAT volumes: what sectors look like, and the volumes that follow from them.

mod clue;
mod extent;
mod infer;
mod lost;
mod surface;
mod verify;

pub(in crate::fat) use clue::dot;
pub use clue::{Dot, FatClues, FatStart, boot_sector, is_marked, look};
pub use infer::infer;
pub(super) use surface::data_areas;
