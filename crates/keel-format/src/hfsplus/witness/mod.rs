//! Evidence for HFS+ volumes: what sectors look like, and the volumes that follow from them.

mod clue;
mod infer;
mod trees;
mod verify;

pub use clue::{HeaderClue, HfsClues, TreeClue, boot_sector, is_marked, look};
pub use infer::infer;
pub(crate) use trees::{block_bytes, met_at};
