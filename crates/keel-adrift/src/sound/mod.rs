//! Music and speech.

pub(crate) mod aiff;
pub(crate) mod flac;
pub(crate) mod midi;
pub(crate) mod mpeg;
pub(crate) mod ogg;
