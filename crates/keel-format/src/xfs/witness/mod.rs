//! Evidence for XFS volumes: what sectors look like, and the volumes that follow from them.

mod clue;
mod infer;
mod verify;

pub use clue::{SuperClue, XfsClues, boot_sector, is_marked, look};
pub(super) use infer::implied;
pub use infer::infer;
