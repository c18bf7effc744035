//! Several files in one, and packed ones.

pub(crate) mod bzip2;
pub(crate) mod cab;
pub(crate) mod gzip;
mod inflate;
pub(crate) mod rar;
pub(crate) mod seven;
pub(crate) mod tar;
pub(crate) mod xz;
pub(crate) mod zip;
pub(crate) mod zstd;

pub(crate) use inflate::inflate;
