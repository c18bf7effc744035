//! Databases, programs, fonts, discs.

pub(crate) mod dex;
pub(crate) mod elf;
pub(crate) mod font;
pub(crate) mod iso;
pub(crate) mod pe;
pub(crate) mod sqlite;
