//! Ground that a volume counts as used and no file holds, kept as files.

use std::fs::{self, File};
use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use keel_format::check;
use keel_source::{ByteOffset, SharedSource, Window};
use serde::Serialize;

use crate::error::{CoreError, file_error};
use crate::find::Find;

/// Bytes read at once.
const STEP: u64 = 1 << 20;
/// The most stretches that are kept.
const MOST_STRETCHES: usize = 100_000;

/// One stretch kept as a file.
#[derive(Debug, Clone, Serialize)]
pub struct Lost {
    /// Number of its first unit, in the format's own counting.
    pub number: u64,
    /// First byte on the drive.
    pub at_byte: ByteOffset,
    /// Length in bytes.
    pub bytes: u64,
    /// Name below the target folder.
    pub saved_as: String,
    /// Bytes that could not be read; they are zeros in the file.
    pub unreadable_bytes: u64,
    /// BLAKE3 of what was written.
    pub blake3: String,
}

/// Keeps every stretch of `find` that is counted as used and held by no file as a file in `to`. Nothing that is there
/// already is overwritten.
///
/// # Errors
/// [`CoreError::Nothing`] for a kind whose ground cannot be cross-checked whole; [`CoreError::File`] when a file cannot
/// be written; [`CoreError::Format`] when the volume does not open.
pub fn take_lost(source: &SharedSource, find: &Find, to: &Path) -> Result<Vec<Lost>, CoreError> {
    let volume = super::open(source, find)?;
    let allocation = volume.allocation().filter(|allocation| allocation.knows_all);
    let allocation = allocation.ok_or(CoreError::Nothing("not everything that holds ground is known on this kind of volume"))?;
    let ground = check::ground(volume.as_ref(), &allocation)
        .map_err(|_| CoreError::Nothing("the ground of all files could not be seen"))?;
    fs::create_dir_all(to).map_err(file_error("create", to))?;
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), find.range()));
    let mut kept = Vec::new();
    for units in ground.unclaimed.iter().take(MOST_STRETCHES) {
        let range = allocation.range(units);
        let number = units.start + allocation.first_number;
        let saved_as = format!("lost-{number}.bin");
        let path = to.join(&saved_as);
        let mut file = File::create_new(&path).map_err(file_error("create", &path))?;
        let (mut hasher, mut unreadable) = (blake3::Hasher::new(), 0);
        let mut at = range.start;
        while at < range.end {
            let mut piece = vec![0; usize::try_from(STEP.min(range.end - at)).unwrap_or(0)];
            if let Err(error) = window.read_at(at, &mut piece) {
                unreadable += error.bad.iter().map(|bad| bad.len()).sum::<u64>();
            }
            hasher.update(&piece);
            file.write_all(&piece).map_err(file_error("write", &path))?;
            at = at + piece.len() as u64;
        }
        kept.push(Lost {
            number,
            at_byte: find.start_byte + range.start.0,
            bytes: range.len(),
            saved_as,
            unreadable_bytes: unreadable,
            blake3: hasher.finalize().to_hex().to_string(),
        });
    }
    Ok(kept)
}
