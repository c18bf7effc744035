//! The GUID partition table, both copies.

pub mod layout;
pub mod make;
mod read;

pub use layout::{BASIC_DATA, EFI_SYSTEM, HFS_PLUS, LINUX_DATA};
pub use read::{Copy, GptReading, HeaderFields, compare, read_copy, read_header};
