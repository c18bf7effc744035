//! Evidence for ext volumes: what sectors look like, and the volumes that follow from them.

mod clue;
mod descriptors;
mod infer;
mod verify;

pub use clue::{DescriptorClue, DirectoryStart, ExtClues, SuperClue, boot_sector, is_marked, look};
pub use infer::infer;
