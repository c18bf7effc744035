//! What reads through a volume: the same sampled files, before and after.

use std::collections::BTreeMap;

use keel_format::{Geometry, read_whole};
use keel_source::{SharedSource, printable};

use crate::job::Cancel;
use crate::ladder::samples;

/// The most of each sampled file that is read, in bytes.
const SAMPLED_BYTES: usize = 1 << 20;

/// What a look into a volume found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Look {
    /// True when its tree can be read.
    pub opens: bool,
    /// Sampled files that read whole: path, and hash of the first MiB.
    pub files: BTreeMap<String, String>,
}

/// Opens the volume in `window` and reads a sample of its files.
#[must_use]
pub fn look(window: &SharedSource, geometry: &Geometry) -> Look {
    let Ok(volume) = geometry.open(SharedSource::clone(window)) else { return Look::default() };
    let read = |(path, entry): (String, keel_format::Entry)| {
        let mut stream = volume.open(entry.id, "").ok()?;
        let (bytes, whole) = read_whole(stream.as_mut(), SAMPLED_BYTES);
        whole.then(|| (path, blake3::hash(&bytes).to_hex().to_string()))
    };
    let files = samples(volume.as_ref(), &Cancel::default()).into_iter().filter_map(read).collect();
    Look { opens: true, files }
}

/// The path of a file that reads `now` and does not read the same `then`, control characters made visible.
#[must_use]
pub fn lost(now: &Look, then: &Look) -> Option<String> {
    now.files.iter().find(|(path, hash)| then.files.get(*path) != Some(hash)).map(|(path, _)| printable(path))
}
