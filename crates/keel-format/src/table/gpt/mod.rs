//! The GUID partition table, both copies.

pub mod layout;
pub mod make;
mod read;
mod types;

pub use layout::{BASIC_DATA, EFI_SYSTEM, HIDING_BITS};
pub use read::{Copy, Displaced, GptReading, HeaderFields, compare, displaced, read_copy, read_header};
pub(crate) use types::{APFS, LINUX, LINUX_LUKS};
pub use types::{HFS_PLUS, LINUX_DATA, LINUX_LVM, LINUX_RAID, LINUX_SWAP, RECOVERY, holds_no_volume, word_for};
