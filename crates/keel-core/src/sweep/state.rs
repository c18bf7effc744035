//! The state of a surface scan, kept so that a cancelled sweep goes on where it was.

use std::fs;
use std::path::Path;

use keel_adrift::Starts;
use keel_format::clue::Clues;
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::{Deserialize, Serialize};

use crate::error::chain;
use crate::ground::GroundMap;
use crate::whose::{self, Print};
use crate::{CoreError, case};

/// Version of the state file.
const VERSION: u32 = 7;

/// What a scan has seen so far.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct SweepState {
    version: u32,
    /// Which drive, and that its first and last bytes are still the same.
    fingerprint: String,
    /// The surface looked at, ascending and joined.
    pub done: RangeSet,
    /// Places that could not be read.
    pub bad: Vec<ByteRange>,
    /// Everything seen.
    pub clues: Clues,
    /// Where files may begin.
    pub starts: Starts,
    /// What the surface holds.
    pub ground: GroundMap,
}

impl SweepState {
    /// The state of a scan that has not begun.
    #[must_use]
    pub fn new(source: &SharedSource) -> Self {
        Self {
            version: VERSION,
            fingerprint: fingerprint(source),
            done: RangeSet::default(),
            bad: Vec::new(),
            clues: Clues::default(),
            starts: Starts::default(),
            ground: GroundMap::new(source.len()),
        }
    }

    /// The state kept at `path`, when it is of this drive as it is now.
    #[must_use]
    pub fn load(path: &Path, source: &SharedSource) -> Option<Self> {
        let state: Self = serde_json::from_slice(&fs::read(path).ok()?).ok()?;
        (state.version == VERSION && state.fingerprint == fingerprint(source)).then_some(state)
    }

    /// True when the state kept at `path` is of this drive as it is now.
    #[must_use]
    pub fn is_of(path: &Path, source: &SharedSource) -> bool {
        #[derive(Deserialize)]
        struct Head {
            version: u32,
            fingerprint: String,
        }
        let head: Option<Head> = fs::read(path).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
        head.is_some_and(|head| head.version == VERSION && head.fingerprint == fingerprint(source))
    }

    /// Keeps the state at `path`.
    ///
    /// # Errors
    /// [`CoreError::File`] when it cannot be written.
    pub fn save(&self, path: &Path) -> Result<(), CoreError> {
        let bytes = serde_json::to_vec(self).unwrap_or_default();
        case::write_whole(path, &bytes)
    }

    /// The parts of `ground` not looked at yet.
    #[must_use]
    pub fn left(&self, ground: &[ByteRange]) -> Vec<ByteRange> {
        ground.iter().flat_map(|range| self.done.lacking(*range)).collect()
    }
}

/// Keeps the state of a scan where that is asked for. What cannot be kept is remembered with its reason and not tried again: the scan
/// itself needs nothing of it.
pub(super) struct Keeper<'a> {
    path: Option<&'a Path>,
    problem: Option<String>,
}

impl<'a> Keeper<'a> {
    /// A keeper of the state of `source` at `path`; of none where that is on the drive itself.
    pub(super) fn new(source: &SharedSource, path: Option<&'a Path>) -> Self {
        let refused = path.and_then(|path| whose::not_on_its_own_medium(source.as_ref(), path).err());
        let problem = refused.map(|error| chain(&error));
        Self { path: path.filter(|_| problem.is_none()), problem }
    }

    /// True while the state is kept.
    pub(super) fn keeps(&self) -> bool {
        self.path.is_some()
    }

    pub(super) fn save(&mut self, state: &SweepState) {
        if let Some(error) = self.path.and_then(|path| state.save(path).err()) {
            self.problem = Some(chain(&error));
            self.path = None;
        }
    }

    /// What was kept of a scan that came to its end is not needed any more.
    pub(super) fn forget(&self) {
        if let Some(path) = self.path {
            // One that cannot be removed is of a drive that changed: it is not taken again.
            let _ = fs::remove_file(path);
        }
    }

    /// Why nothing is kept, as a sentence.
    pub(super) fn into_problem(self) -> Option<String> {
        self.problem
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
    // Another card in the same reader may have the same edges.
    for sample in Print::as_it_lies(source).0 {
        hasher.update(&sample.at.to_le_bytes());
        hasher.update(&sample.hash.to_le_bytes());
    }
    hasher.finalize().to_hex().to_string()
}
