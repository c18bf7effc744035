//! Databases, stores of mail, programs, fonts, models, discs.

pub(crate) mod dex;
pub(crate) mod elf;
pub(crate) mod font;
pub(crate) mod gltf;
pub(crate) mod iso;
pub(crate) mod macho;
pub(crate) mod pe;
pub(crate) mod sqlite;
pub(crate) mod store;
pub(crate) mod woff;
