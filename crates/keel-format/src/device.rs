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
        let spent = source.budget().and_then(keel_source::Budget::spent);
        let problem = spent.map_or(Problem::Unreadable { bytes: missing }, Problem::Spent);
        return Err(FormatError::new(structure, at, problem));
    }
    Ok(bytes)
}

/// Takes `steps` steps of the budget that `source` is read under, at `structure`, which stands at `at`.
///
/// # Errors
/// [`Problem::Spent`] when the call is to end here.
pub(crate) fn step(source: &dyn Source, at: ByteOffset, structure: &'static str, steps: u64) -> Result<(), FormatError> {
    let taken = source.budget().map_or(Ok(()), |budget| budget.step(steps));
    taken.map_err(|spent| FormatError::new(structure, at, Problem::Spent(spent)))
}

/// Holds `bytes` bytes of memory more under the budget that `source` is read under.
///
/// # Errors
/// [`Problem::Spent`] when the call is to end here.
pub(crate) fn hold(source: &dyn Source, at: ByteOffset, structure: &'static str, bytes: u64) -> Result<(), FormatError> {
    let held = source.budget().map_or(Ok(()), |budget| budget.hold(bytes));
    held.map_err(|spent| FormatError::new(structure, at, Problem::Spent(spent)))
}

/// Lets go of `bytes` bytes that were held under the budget that `source` is read under.
pub(crate) fn let_go(source: &dyn Source, bytes: u64) {
    source.budget().into_iter().for_each(|budget| budget.let_go(bytes));
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
        // Near the largest offset there is the ranges are cut: what failed is never nothing.
        Err(error) => error.bad.iter().map(|range| range.len()).sum::<u64>().max(1),
    };
    Ok((bytes, missing))
}
