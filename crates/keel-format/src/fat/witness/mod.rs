//! Evidence for FAT volumes: what sectors look like, and the volumes that follow from them.

mod clue;
mod infer;
mod verify;

pub use clue::{Dot, FIRST_BYTES, FatClues, FatStart, boot_sector, look};
pub use infer::infer;
