//! The master boot record and the chain of extended boot records.

pub mod layout;
pub mod make;
mod read;

pub use read::{MAX_LOGICALS, MbrReading, read};
