//! Pictures.

pub(crate) mod bmp;
pub(crate) mod gif;
mod huffman;
pub(crate) mod jpeg;
pub(crate) mod png;
pub(crate) mod psd;
mod scan;
pub(crate) mod tiff;
