//! Reading a structure from a source, with a cap on its size.

use keel_source::{ByteOffset, Source};

use crate::{FormatError, Problem};

/// The largest single structure that is ever read into memory, in bytes. The largest legal ones (a GPT array of 1024
/// entries of 4096 bytes, a 64 KiB index block) stay far below.
const LARGEST_STRUCTURE: usize = 8 << 20;

/// Reads `len` bytes of `structure` at byte `at`.
///
/// # Errors
/// [`Problem::Unreadable`] when the source does not deliver all of them; [`Problem::Value`] for a length above 8 MiB.
pub fn read_bytes(source: &dyn Source, at: ByteOffset, len: usize, structure: &'static str) -> Result<Vec<u8>, FormatError> {
    let (bytes, missing) = read_lenient(source, at, len, structure)?;
    if missing > 0 {
        return Err(FormatError::new(structure, at, Problem::Unreadable { bytes: missing }));
    }
    Ok(bytes)
}

/// Reads `len` bytes; what cannot be read is zero. Answers with the bytes and how many of them are missing.
///
/// # Errors
/// [`Problem::Value`] for a length above 8 MiB.
pub fn read_lenient(
    source: &dyn Source,
    at: ByteOffset,
    len: usize,
    structure: &'static str,
) -> Result<(Vec<u8>, u64), FormatError> {
    if len > LARGEST_STRUCTURE {
        return Err(FormatError::value(structure, at, "length", len as u64, "at most 8 MiB"));
    }
    let mut bytes = vec![0; len];
    let missing = match source.read_at(at, &mut bytes) {
        Ok(()) => 0,
        Err(error) => error.bad.iter().map(|range| range.len()).sum(),
    };
    Ok((bytes, missing))
}
