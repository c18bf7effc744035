//! Verifying a copy: every stretch against the hash that was taken when it was read. What rots is marked as not copied, so
//! that the next run fetches it again.

use std::path::Path;

use keel_source::{ByteOffset, ByteRange, CopyHashes, CopyLog, CopyState, OpenOptions, RangeHash, Source};
use serde::Serialize;

use super::dest::log_of;
use crate::error::CoreError;
use crate::job::Desk;

/// Bytes read at once.
const STEP: u64 = 1 << 20;

/// How far a verification is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct VerifyProgress {
    /// Bytes compared.
    pub done: u64,
    /// Bytes in the copy.
    pub total: u64,
}

/// What a verification says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct CopyVerified {
    /// Bytes that are what was read from the drive.
    pub verified_bytes: u64,
    /// Bytes in the copy of which no hash is known: copied before hashes were kept, or interrupted.
    pub unproven_bytes: u64,
    /// Stretches that are no longer what was read; they are marked as not copied.
    pub rotten: Vec<ByteRange>,
    /// True when it was stopped before its end.
    pub cancelled: bool,
}

/// Compares the copy at `path` with its hashes.
///
/// # Errors
/// [`CoreError::Source`] when the copy or its log does not open.
pub fn verify(path: &Path, log: Option<&Path>, desk: &Desk<VerifyProgress>) -> Result<CopyVerified, CoreError> {
    let log_path = match log {
        Some(log) => log.to_path_buf(),
        None => log_of(path)?,
    };
    let (_, map, hashes) = CopyLog::read_whole(&log_path)?;
    let image = keel_source::open(path, OpenOptions::default())?;
    let total = map.bytes(CopyState::Copied);
    let mut outcome = CopyVerified { verified_bytes: 0, unproven_bytes: 0, rotten: Vec::new(), cancelled: false };
    let mut done = 0;
    let mut proven = 0;
    for (range, hash) in hashes.iter() {
        proven += range.len();
        let Some(same) = compare(image.as_ref(), range, hash, desk, &mut |bytes| {
            done += bytes;
            desk.tell(VerifyProgress { done, total });
        }) else {
            outcome.cancelled = true;
            break;
        };
        if same {
            outcome.verified_bytes += range.len();
        } else {
            outcome.rotten.push(range);
        }
    }
    outcome.unproven_bytes = total.saturating_sub(proven);
    if !outcome.rotten.is_empty() {
        drop(image);
        let (mut log, _, _) = CopyLog::go_on(&log_path)?;
        outcome.rotten.iter().for_each(|range| log.note(*range, CopyState::Untried, None));
        log.flush()?;
    }
    Ok(outcome)
}

/// The most stretches by which a copy on a device is known again, and the largest of them, in bytes.
const ASKED: usize = 6;
const LARGEST_ASKED: u64 = 4 << 20;

/// True when `device` holds none of what a copy put there, as far as a few of its `hashes` tell: it is another one. What was mended on the
/// copy since changes some of it, never all.
pub(super) fn holds_another(device: &dyn Source, hashes: &CopyHashes) -> bool {
    let told = |(range, hash): &(ByteRange, RangeHash)| *hash != RangeHash::Zeros && range.len() <= LARGEST_ASKED;
    let all: Vec<(ByteRange, RangeHash)> = hashes.iter().filter(told).collect();
    let step = all.len().div_ceil(ASKED).max(1);
    let (desk, _nobody) = Desk::new(crate::job::Cancel::default());
    // A place that does not read says nothing.
    let reads = |range: ByteRange| device.read_at(range.start, &mut vec![0; usize::try_from(range.len()).unwrap_or(0)]).is_ok();
    let asked: Vec<_> = all.iter().step_by(step).filter(|(range, _)| reads(*range)).collect();
    !asked.is_empty() && !asked.iter().any(|(range, hash)| compare(device, *range, *hash, &desk, &mut |_| {}) == Some(true))
}

/// Whether `range` is what `hash` says; `None` when cancelled.
fn compare(
    image: &dyn Source,
    range: ByteRange,
    hash: RangeHash,
    desk: &Desk<VerifyProgress>,
    each: &mut dyn FnMut(u64),
) -> Option<bool> {
    let mut hasher = blake3::Hasher::new();
    let (mut at, mut same, mut buf) = (range.start, true, vec![0; STEP as usize]);
    while at < range.end && same {
        if desk.cancel().is_cancelled() {
            return None;
        }
        // A hole of the copy is zeros without being read.
        if hash == RangeHash::Zeros {
            match image.next_data(at).filter(|data| data.start < range.end) {
                None => {
                    each(range.end - at);
                    return Some(true);
                }
                Some(data) => {
                    each(data.start.max(at) - at);
                    at = data.start.max(at);
                }
            }
        }
        let end = range.end.min(ByteOffset((at.0 / STEP + 1) * STEP));
        let piece = buf.get_mut(..usize::try_from(end - at).unwrap_or(0)).unwrap_or_default();
        same = image.read_at(at, piece).is_ok();
        match hash {
            RangeHash::Zeros => same &= piece.iter().all(|byte| *byte == 0),
            RangeHash::Blake3(_) => drop(hasher.update(piece)),
        }
        each(end - at);
        at = end;
    }
    Some(match hash {
        RangeHash::Zeros => same,
        RangeHash::Blake3(wanted) => same && *hasher.finalize().as_bytes() == wanted,
    })
}
