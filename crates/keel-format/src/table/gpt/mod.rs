//! The GUID partition table, both copies.

pub mod layout;
pub mod make;
mod read;
mod types;

pub use layout::{BASIC_DATA, EFI_SYSTEM, HIDDEN, HIDING_BITS, LEGACY_BOOTABLE, NO_AUTOMATIC_MOUNT, READ_ONLY, REQUIRED};
pub use read::{Copy, Displaced, GptReading, HeaderFields, compare, displaced, read_copy, read_header};
pub(crate) use types::{APFS, HFS_PLUS, LINUX, LINUX_LUKS, LINUX_LVM, LINUX_RAID, LINUX_SWAP};
pub use types::{RECOVERY, holds_no_volume, word_for};
