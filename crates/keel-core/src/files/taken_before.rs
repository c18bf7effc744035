//! What an earlier extraction of the same volume left in the folder: it is known from its manifests, and proven by its hashes before it
//! counts.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{BufRead, BufReader, Read};
use std::ops::ControlFlow;
use std::path::{Component, Path, PathBuf};

use keel_format::{Deleted, Volume};
use serde::Deserialize;
use serde_json::Value;

use super::ground::FileGround;
use super::manifest::{MANIFEST, ManifestEntry, Outcome, Part, UNFINISHED};
use super::path::Resolved;
use crate::job::Cancel;

/// Bytes of a file on this system that are hashed at once.
const STEP: usize = 1 << 20;
/// The longest manifest, and the longest line of one, that is read, in bytes.
const LONGEST: u64 = 1 << 30;
const LONGEST_LINE: u64 = 1 << 20;
/// The most entries of the root that the volume's mark is made of.
const MOST_ROOT: usize = 4096;

/// What a manifest says of a file.
#[derive(Debug, Deserialize)]
struct Known {
    part: Part,
    path: String,
    saved_as: Option<PathBuf>,
    bytes: u64,
    blake3: Option<String>,
    sha256: Option<String>,
    times: Value,
    state: Outcome,
}

/// A finished manifest, as far as it matters here.
#[derive(Deserialize)]
struct Whole {
    #[serde(default)]
    of: String,
    files: Vec<Known>,
}

/// The first line of one that is not finished.
#[derive(Deserialize)]
struct Head {
    of: String,
}

/// What earlier extractions of the same volume left in a folder.
#[derive(Debug, Default)]
pub(super) struct Before {
    to: PathBuf,
    files: HashMap<(Part, String), Known>,
    /// Manifests that were not finished: they were broken off.
    unfinished: Vec<PathBuf>,
}

/// What tells a volume from others, by its drive, by what it says of itself, and by its root folder.
pub(super) fn mark_of(drive: &str, volume: &dyn Volume) -> String {
    let mut hasher = blake3::Hasher::new();
    hasher.update(drive.as_bytes());
    hasher.update(&serde_json::to_vec(volume.summary()).unwrap_or_default());
    let mut root = Vec::new();
    let _ = volume.list(volume.root(), Deleted::Hide, &mut |entry| {
        root.push(format!("{} {} {}", entry.name, entry.id.0, entry.bytes));
        if root.len() < MOST_ROOT { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    root.iter().for_each(|line| {
        hasher.update(line.as_bytes());
    });
    hasher.finalize().to_hex()[..32].to_string()
}

impl Before {
    /// Reads the manifests of this volume in folder `to`. What does not read as one is left alone.
    pub(super) fn read(to: &Path, of: &str) -> Self {
        let mut before = Self { to: to.into(), ..Self::default() };
        let names = fs::read_dir(to).into_iter().flatten().flatten().map(|entry| entry.path());
        let ours = |path: &PathBuf, name: &str| {
            let own = path.file_name().and_then(|own| own.to_str()).unwrap_or_default();
            let (stem, ending) = name.split_once('.').unwrap_or((name, ""));
            own.starts_with(stem) && own.ends_with(ending) && path.symlink_metadata().is_ok_and(|about| about.is_file())
        };
        let mut paths: Vec<PathBuf> = names.filter(|path| ours(path, MANIFEST) || ours(path, UNFINISHED)).collect();
        paths.sort();
        for path in paths {
            if ours(&path, UNFINISHED) {
                before.read_unfinished(path, of);
            } else {
                before.read_whole(&path, of);
            }
        }
        before
    }

    fn read_whole(&mut self, path: &Path, of: &str) {
        let file = File::open(path).ok().filter(|file| file.metadata().is_ok_and(|about| about.len() <= LONGEST));
        let whole: Option<Whole> = file.and_then(|file| serde_json::from_reader(BufReader::new(file)).ok());
        whole.filter(|whole| whole.of == of).into_iter().flat_map(|whole| whole.files).for_each(|known| self.add(known));
    }

    /// A line that was cut off ends it.
    fn read_unfinished(&mut self, path: PathBuf, of: &str) {
        let Ok(file) = File::open(&path) else { return };
        let mut lines = BufReader::new(file.take(LONGEST));
        let mut next = || {
            let mut line = Vec::new();
            lines.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut line).ok().filter(|read| *read > 0).map(|_| line)
        };
        let head: Option<Head> = next().and_then(|line| serde_json::from_slice(&line).ok());
        if head.is_none_or(|head| head.of != of) {
            return;
        }
        while let Some(known) = next().and_then(|line| serde_json::from_slice(&line).ok()) {
            self.add(known);
        }
        self.unfinished.push(path);
    }

    fn add(&mut self, known: Known) {
        let below = |path: &PathBuf| path.components().all(|part| matches!(part, Component::Normal(_)));
        if known.state == Outcome::Whole && known.part != Part::Link && known.saved_as.as_ref().is_some_and(below) {
            self.files.insert((known.part, known.path.clone()), known);
        }
    }

    /// True where a file of this path, length and time was taken out whole, and a file of that length is still there.
    pub(super) fn knows(&self, path: &str, item: &Resolved) -> bool {
        self.files.get(&(Part::File, path.to_string())).is_some_and(|known| {
            let saved = known.saved_as.as_ref().map(|saved| self.to.join(saved));
            let there = saved.and_then(|saved| saved.symlink_metadata().ok());
            known.bytes == item.entry.bytes && there.is_some_and(|there| there.is_file() && there.len() == known.bytes)
        })
    }

    /// Fills a line of the new manifest from what is there: whole, of the same length and time, and with the bytes of then. False where
    /// the file is to be taken out.
    pub(super) fn fill(&self, line: &mut ManifestEntry, cancel: &Cancel) -> bool {
        let Some(known) = self.files.get(&(line.part, line.path.clone())) else { return false };
        let (Some(saved), Some(hash)) = (&known.saved_as, &known.blake3) else { return false };
        let times = serde_json::to_value(line.times).ok();
        let same = (line.part == Part::Stream || known.bytes == line.bytes) && times.as_ref() == Some(&known.times);
        if !same || line.ground == FileGround::Gone || !is_same(&self.to.join(saved), known.bytes, hash, cancel) {
            return false;
        }
        line.saved_as = Some(saved.to_string_lossy().into_owned());
        (line.bytes, line.blake3, line.sha256) = (known.bytes, Some(hash.clone()), known.sha256.clone());
        (line.state, line.was_there) = (Outcome::Whole, true);
        true
    }

    /// The manifests that were broken off are done with.
    pub(super) fn end(self) {
        for path in self.unfinished {
            let _ = fs::remove_file(path);
        }
    }
}

/// True where the file at `path`, no link, is so long and has this BLAKE3.
pub(crate) fn is_same(path: &Path, bytes: u64, blake: &str, cancel: &Cancel) -> bool {
    if !path.symlink_metadata().is_ok_and(|about| about.is_file() && about.len() == bytes) {
        return false;
    }
    let Ok(mut file) = File::open(path) else { return false };
    let mut hasher = blake3::Hasher::new();
    let mut buf = vec![0; STEP];
    loop {
        match file.read(&mut buf) {
            Ok(0) => return hasher.finalize().to_hex().as_str() == blake,
            Ok(_) if cancel.is_cancelled() => return false,
            Ok(read) => hasher.update(&buf[..read]),
            Err(_) => return false,
        };
    }
}
