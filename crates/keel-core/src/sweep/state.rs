//! The state of a surface scan, kept so that a cancelled sweep goes on where it was.

use std::fs;
use std::path::Path;

use keel_format::clue::Clues;
use keel_source::{ByteOffset, ByteRange, SharedSource};
use serde::{Deserialize, Serialize};

use crate::{CoreError, case};

/// Version of the state file.
const VERSION: u32 = 2;

/// What a scan has seen so far.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SweepState {
    version: u32,
    /// Which drive, and that its first and last bytes are still the same.
    fingerprint: String,
    /// The surface looked at, ascending and joined.
    pub done: Vec<ByteRange>,
    /// Places that could not be read.
    pub bad: Vec<ByteRange>,
    /// Everything seen.
    pub clues: Clues,
}

impl SweepState {
    /// The state of a scan that has not begun.
    #[must_use]
    pub fn new(source: &SharedSource) -> Self {
        Self { version: VERSION, fingerprint: fingerprint(source), done: Vec::new(), bad: Vec::new(), clues: Clues::default() }
    }

    /// The state kept at `path`, when it is of this drive as it is now.
    #[must_use]
    pub fn load(path: &Path, source: &SharedSource) -> Option<Self> {
        let state: Self = serde_json::from_slice(&fs::read(path).ok()?).ok()?;
        (state.version == VERSION && state.fingerprint == fingerprint(source)).then_some(state)
    }

    /// Keeps the state at `path`.
    ///
    /// # Errors
    /// [`CoreError::File`] when it cannot be written.
    pub fn save(&self, path: &Path) -> Result<(), CoreError> {
        let bytes = serde_json::to_vec(self).unwrap_or_default();
        case::write_whole(path, &bytes)
    }

    /// Notes that `range` was looked at.
    pub fn mark(&mut self, range: ByteRange) {
        let from = self.done.partition_point(|done| done.end < range.start);
        let mut joined = range;
        let mut to = from;
        while let Some(done) = self.done.get(to).filter(|done| done.start <= joined.end) {
            joined = ByteRange::new(joined.start.min(done.start), joined.end.max(done.end));
            to += 1;
        }
        self.done.splice(from..to, [joined]);
    }

    /// The parts of `ground` not looked at yet.
    #[must_use]
    pub fn left(&self, ground: &[ByteRange]) -> Vec<ByteRange> {
        let mut left = Vec::new();
        for range in ground {
            let mut at = range.start;
            for done in self.done.iter().filter(|done| done.overlap(*range).is_some()) {
                left.push(ByteRange::new(at, done.start));
                at = at.max(done.end);
            }
            left.push(ByteRange::new(at, range.end));
        }
        left.retain(|range| !range.is_empty());
        left
    }
}

/// Identity, length, a hash of the first and last 64 KiB, and the mark by which the source tells that it changed.
fn fingerprint(source: &SharedSource) -> String {
    const EDGE: u64 = 64 << 10;
    let mut hasher = blake3::Hasher::new();
    hasher.update(source.identity().key().as_bytes());
    hasher.update(&source.sector_size().0.to_le_bytes());
    hasher.update(source.change_mark().unwrap_or_default().as_bytes());
    for at in [0, source.len().saturating_sub(EDGE)] {
        let len = usize::try_from(EDGE.min(source.len())).unwrap_or(0);
        let mut edge = vec![0; len];
        let _ = source.read_at(ByteOffset(at), &mut edge);
        hasher.update(&edge);
    }
    hasher.finalize().to_hex().to_string()
}
