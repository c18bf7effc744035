//! Ranges of versions 1 and 2: unpacked, each with the hashes of both sides.

use keel_source::{ByteOffset, PIECE};

use super::filed::{Reader, Spot};
use super::{BundleRange, Kept};
use crate::error::CoreError;

/// Bytes of a hash.
const HASH: u64 = 32;

/// A range; what it holds stays in the file.
pub(super) fn range(reader: &mut Reader<'_>) -> Result<BundleRange, CoreError> {
    let (at, bytes) = (ByteOffset(reader.u64()?), reader.u64()?);
    reader.skip(2 * HASH)?;
    let mut side = || {
        let first = reader.at();
        reader.skip(bytes)?;
        let pieces = (0..bytes).step_by(PIECE);
        let stored = |at: u64| u32::try_from((bytes - at).min(PIECE as u64)).unwrap_or(0);
        Ok::<_, CoreError>(Kept::Filed(reader.filed(), pieces.map(|at| Spot::plain(first + at, stored(at))).collect()))
    };
    let (former, new) = (side()?, side()?);
    Ok(BundleRange { at, bytes, order: None, former, new })
}
