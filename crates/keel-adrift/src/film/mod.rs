//! Moving pictures, and sound in the same containers.

pub(crate) mod asf;
pub(crate) mod boxes;
pub(crate) mod ebml;
pub(crate) mod flv;
pub(crate) mod program;
pub(crate) mod riff;
mod samples;
pub(crate) mod transport;

pub use samples::{Outline, Sample, outline};
