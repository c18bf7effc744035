//! Evidence for NTFS volumes: what sectors look like, and the volumes that follow from them.

mod clue;
mod former;
mod infer;
mod verify;

pub use clue::{DirectoryRecord, IndexBlock, NtfsClues, Streak, boot_sector, is_marked, look};
pub(crate) use former::former;
pub use infer::infer;
