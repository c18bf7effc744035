//! Texts, tables, letters.

pub(crate) mod compound;
pub(crate) mod pdf;
pub(crate) mod rtf;
pub(crate) mod text;
