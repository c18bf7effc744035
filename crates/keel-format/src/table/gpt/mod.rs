//! The GUID partition table, both copies.

pub mod layout;
pub mod make;
mod read;
mod types;

pub use layout::{BASIC_DATA, EFI_SYSTEM, HIDING_BITS};
pub use read::{Copy, GptReading, HeaderFields, compare, read_copy, read_header};
pub use types::{types_for, word_for};
