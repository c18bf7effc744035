//! The master boot record and the chain of extended boot records.

pub mod layout;
pub mod make;
mod read;
mod types;

pub use read::{MAX_LOGICALS, MbrReading, ebr_at, read};
pub use types::{hidden_form, holds_no_volume, word_for};
