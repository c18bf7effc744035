//! The manifest of an extraction: a line for each file, while it is made and when it is whole.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use keel_format::Finding;
use serde::{Deserialize, Serialize};

use super::ground::FileGround;
use super::name::numbered;
use super::sort::Sort;
use crate::error::{CoreError, file_error};

/// Namesakes tried before a file counts as failed.
pub(super) const MOST_NAMESAKES: u32 = 10_000;
/// Name of the manifest in the target folder while the work goes on.
pub(super) const UNFINISHED: &str = "ykeel-manifest.unfinished.jsonl";
/// Name of the manifest in the target folder.
pub(super) const MANIFEST: &str = "ykeel-manifest.json";

/// What became of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// Every byte was read and written.
    Whole,
    /// Some places could not be read; they are zeros in the file, the manifest says how many bytes.
    PartlyUnreadable,
    /// It could not be taken out.
    Failed,
}

/// What a line of the manifest is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Part {
    /// The content of a file.
    File,
    /// A symbolic link or reparse point, made as a symbolic link of this system.
    Link,
    /// An alternate stream, resource fork or extended attribute, kept as a file beside its own.
    Stream,
}

/// One line of the manifest.
#[derive(Debug, Clone, Serialize)]
pub struct ManifestEntry {
    /// What it is about.
    pub part: Part,
    /// Path in the volume; a stream's name follows a colon.
    pub path: String,
    /// Where a link leads.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// Path below the target folder.
    pub saved_as: Option<String>,
    /// Length in bytes.
    pub bytes: u64,
    /// Bytes that could not be read.
    pub unreadable_bytes: u64,
    /// BLAKE3 of what was written.
    pub blake3: Option<String>,
    /// SHA-256 of what was written.
    pub sha256: Option<String>,
    /// Times the volume keeps.
    pub times: keel_format::Times,
    /// What became of it.
    pub state: Outcome,
    /// True where the file was there already, whole and with the same content.
    pub was_there: bool,
    /// What was left of its ground.
    pub ground: FileGround,
    /// Why it failed.
    pub why: Option<String>,
}

/// What became of the files of one sort.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct SortCount {
    /// Files that are whole.
    pub whole: u64,
    /// Files with places that could not be read, or whose ground is not all their own.
    pub damaged: u64,
    /// Files that could not be taken out.
    pub missing: u64,
}

/// What an extraction did.
#[derive(Debug, Clone, Serialize)]
pub struct Extracted {
    /// What tells the volume from others: an extraction into the same folder goes on with what is there of it.
    pub of: String,
    /// Every file asked for.
    pub files: Vec<ManifestEntry>,
    /// Files taken out whole.
    pub whole: u64,
    /// Files with unreadable places.
    pub partly_unreadable: u64,
    /// Files that failed.
    pub failed: u64,
    /// Files that were there already, whole and with the same content.
    pub was_there: u64,
    /// What became of the files of each sort.
    pub sorts: BTreeMap<Sort, SortCount>,
    /// Files of which not all ground was their own: guessed, partly overwritten or gone.
    pub not_their_own: u64,
    /// Bytes written.
    pub bytes: u64,
    /// True when, at the end, the count and bytes of the files on this system are those of the manifest.
    pub compared: bool,
    /// True when it was cancelled: the files so far are whole.
    pub cancelled: bool,
    /// Where the manifest is.
    pub manifest: PathBuf,
    /// What was met while the volume was listed: files may be missing that no folder names any more.
    pub findings: Vec<Finding>,
}

impl Extracted {
    /// What the journal says of it: counts, and the manifest with its hash.
    #[must_use]
    pub fn line(&self) -> serde_json::Value {
        let hash = fs::read(&self.manifest).map(|bytes| blake3::hash(&bytes).to_hex().to_string()).ok();
        serde_json::json!({
            "whole": self.whole, "partly_unreadable": self.partly_unreadable, "failed": self.failed, "bytes": self.bytes, "was_there": self.was_there,
            "compared": self.compared, "cancelled": self.cancelled, "manifest": self.manifest, "blake3": hash,
        })
    }
}

/// What became of the files of each sort; streams and links count with nothing.
pub(super) fn by_sort(files: &[ManifestEntry]) -> BTreeMap<Sort, SortCount> {
    let mut sorts: BTreeMap<Sort, SortCount> = BTreeMap::new();
    for file in files.iter().filter(|file| file.part == Part::File) {
        let count = sorts.entry(Sort::of(&file.path)).or_default();
        match (file.state, file.ground) {
            (Outcome::Failed, _) => count.missing += 1,
            (Outcome::Whole, FileGround::Whole) => count.whole += 1,
            _ => count.damaged += 1,
        }
    }
    sorts
}

/// The manifest while files are taken out: a line for each that is done. It stays where the work was broken off.
pub(super) struct Unfinished {
    file: File,
    path: PathBuf,
}

impl Unfinished {
    pub(super) fn begin(to: &Path, of: &str) -> Result<Self, CoreError> {
        let (mut file, path) = fresh(to, UNFINISHED)?;
        let head = serde_json::json!({ "of": of });
        writeln!(file, "{head}").map_err(file_error("write", &path))?;
        Ok(Self { file, path })
    }

    /// Notes a file. What cannot be noted here is in the manifest at the end.
    pub(super) fn note(&mut self, entry: &ManifestEntry) {
        let mut line = serde_json::to_vec(entry).unwrap_or_default();
        line.push(b'\n');
        let _ = self.file.write_all(&line);
    }

    /// The whole manifest stands.
    pub(super) fn end(self) {
        let _ = fs::remove_file(self.path);
    }
}

/// Counts files and bytes on this system against the manifest.
pub(super) fn compare(to: &Path, files: &[ManifestEntry]) -> bool {
    files.iter().filter_map(|file| Some((file.saved_as.as_ref()?, file))).all(|(saved, file)| {
        let kind = |metadata: &fs::Metadata| if file.part == Part::Link { metadata.is_symlink() } else { metadata.is_file() };
        fs::symlink_metadata(to.join(saved)).is_ok_and(|metadata| kind(&metadata) && metadata.len() == file.bytes)
    })
}

pub(super) fn write_manifest(to: &Path, extracted: &Extracted) -> Result<PathBuf, CoreError> {
    let bytes = serde_json::to_vec_pretty(extracted).unwrap_or_default();
    let (mut file, path) = fresh(to, MANIFEST)?;
    file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(file_error("write", &path))?;
    Ok(path)
}

/// A file that was not there, called `name` or by the first number behind it that nobody has.
fn fresh(to: &Path, name: &str) -> Result<(File, PathBuf), CoreError> {
    for number in 1..MOST_NAMESAKES {
        let path = to.join(if number == 1 { name.to_string() } else { numbered(name, number) });
        match File::create_new(&path) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(file_error("create", &path)(error)),
            Ok(file) => return Ok((file, path)),
        }
    }
    Err(CoreError::Nothing("no name is left for the manifest"))
}
