//! The GUID partition table, both copies.

pub mod layout;
pub mod make;
mod read;
mod types;

pub use layout::{BASIC_DATA, EFI_SYSTEM, HIDING_BITS};
pub use read::{Copy, Displaced, GptReading, HeaderFields, compare, displaced, read_copy, read_header};
pub use types::{RECOVERY, holds_no_volume, types_for, word_for};
