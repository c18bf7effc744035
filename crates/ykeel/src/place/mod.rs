//! Places of the drive in work: the walk along the keel, the bytes that stand there, and the search for others. They lie over any
//! stage that is about a drive.

mod bytes;
mod go;
mod state;
mod walk;

#[cfg(test)]
mod tests;

pub(crate) use bytes::Bytes;
pub(crate) use go::ask_place;
pub(crate) use state::{State, cancel, reports, running, show_bytes};
pub(crate) use walk::Walk;
