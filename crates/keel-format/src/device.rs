//! Reading a structure from a source, with a cap on its size.

use keel_source::{ByteOffset, Source};

use crate::{FormatError, Problem};

/// The largest single structure that is ever read into memory, in bytes. The largest legal ones (a GPT array of 1024
/// entries of 4096 bytes, a 64 KiB index block) stay far below.
const LARGEST_STRUCTURE: usize = 8 << 20;

/// Reads `len` bytes of `structure` at byte `at`.
///
/// # Errors
/// [`Problem::Unreadable`] when the source does not deliver all of them, and as [`read_lenient`].
pub fn read_bytes(source: &dyn Source, at: ByteOffset, len: usize, structure: &'static str) -> Result<Vec<u8>, FormatError> {
    let (bytes, missing) = read_lenient(source, at, len, structure)?;
    match missing {
        0 => Ok(bytes),
        bytes => Err(FormatError::new(structure, at, Problem::Unreadable { bytes })),
    }
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
/// [`Problem::Value`] for a length above 8 MiB; [`Problem::Spent`] where nothing was asked of the drive: what is not read then is no
/// zero, and whoever goes on over a stretch ends here.
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
        Err(error) => match source.budget().and_then(keel_source::Budget::spent) {
            Some(spent) => return Err(FormatError::new(structure, at, Problem::Spent(spent))),
            // Near the largest offset there is the ranges are cut: what failed is never nothing.
            None => error.bad.iter().map(|range| range.len()).sum::<u64>().max(1),
        },
    };
    Ok((bytes, missing))
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::{Budgeted, Cancel, MemorySource, SharedSource, Spent};

    use super::*;

    #[test]
    fn what_does_not_read_is_zero_and_what_is_not_asked_for_ends_the_reader() {
        let cancel = Cancel::default();
        let drive: SharedSource = Arc::new(MemorySource::new("d", vec![7; 4096], 512));
        let reader = Budgeted::until(drive, &cancel);
        let lenient = |at| read_lenient(reader.as_ref(), ByteOffset(at), 1024, "FAT");
        assert_eq!(lenient(0).unwrap(), (vec![7; 1024], 0));
        let (bytes, missing) = lenient(3584).unwrap();
        assert_eq!((&bytes[..512], &bytes[512..], missing), (&[7; 512][..], &[0; 512][..], 512));
        let strict = read_bytes(reader.as_ref(), ByteOffset(3584), 1024, "FAT").unwrap_err();
        assert_eq!(strict.problem, Problem::Unreadable { bytes: 512 });
        cancel.cancel();
        assert_eq!(lenient(0).unwrap_err().problem, Problem::Spent(Spent::Stopped));
    }
}
