//! Taking files out, with a manifest that proves what came out.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use keel_format::{Deleted, Entry, NodeKind, Volume};
use serde::Serialize;
use sha2::{Digest, Sha256};

use super::name::{numbered, safe_component};
use super::path::{Resolved, resolve};
use crate::error::{CoreError, file_error};
use crate::job::Desk;

/// Bytes of a file read at once; the cancel flag is tested as often.
const STEP: usize = 1 << 20;
/// Namesakes tried before a file counts as failed.
const MOST_NAMESAKES: u32 = 10_000;
/// Name of the manifest in the target folder.
const MANIFEST: &str = "ykeel-manifest.json";

/// What became of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// Every byte was read and written.
    Whole,
    /// Some places could not be read; they are zeros in the file, the manifest says how many bytes.
    PartlyUnreadable,
    /// It could not be taken out.
    Failed,
}

/// One line of the manifest.
#[derive(Debug, Clone, Serialize)]
pub struct ManifestEntry {
    /// Path in the volume.
    pub path: String,
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
    /// Why it failed.
    pub why: Option<String>,
}

/// Progress of an extraction.
#[derive(Debug, Clone)]
pub struct ExtractProgress {
    /// Files done.
    pub files: u64,
    /// Bytes written.
    pub bytes: u64,
    /// Path of the file in work.
    pub path: String,
}

/// What an extraction did.
#[derive(Debug, Clone, Serialize)]
pub struct Extracted {
    /// Every file asked for.
    pub files: Vec<ManifestEntry>,
    /// Files taken out whole.
    pub whole: u64,
    /// Files with unreadable places.
    pub partly_unreadable: u64,
    /// Files that failed.
    pub failed: u64,
    /// Bytes written.
    pub bytes: u64,
    /// True when, at the end, the count and bytes of the files on this system are those of the manifest.
    pub compared: bool,
    /// True when it was cancelled: the files so far are whole.
    pub cancelled: bool,
    /// Where the manifest is.
    pub manifest: PathBuf,
}

/// Takes `paths` (files, or folders with all below them; none: everything) out of `volume` into folder `to`. Nothing
/// that is there already is overwritten or followed.
///
/// # Errors
/// [`CoreError::Unknown`] for a path that is not there; [`CoreError::File`] when the target folder or the manifest
/// cannot be written. A single file's failure is in the manifest, not an error.
pub fn extract(volume: &dyn Volume, paths: &[String], to: &Path, desk: &Desk<ExtractProgress>) -> Result<Extracted, CoreError> {
    fs::create_dir_all(to).map_err(file_error("create", to))?;
    let wanted = wanted(volume, paths)?;
    let mut run = Run { volume, to, desk, bytes: 0, made: HashSet::new(), files: Vec::new() };
    let mut cancelled = false;
    for item in wanted {
        if desk.cancel().is_cancelled() {
            cancelled = true;
            break;
        }
        cancelled |= run.take(&item).is_break();
    }
    let files = run.files;
    let count = |state| files.iter().filter(|file| file.state == state).count() as u64;
    let compared = compare(to, &files);
    let mut extracted = Extracted {
        whole: count(Outcome::Whole),
        partly_unreadable: count(Outcome::PartlyUnreadable),
        failed: count(Outcome::Failed),
        bytes: run.bytes,
        compared,
        cancelled,
        manifest: PathBuf::new(),
        files,
    };
    extracted.manifest = write_manifest(to, &extracted)?;
    Ok(extracted)
}

fn wanted(volume: &dyn Volume, paths: &[String]) -> Result<Vec<Resolved>, CoreError> {
    let mut wanted: Vec<Resolved> = Vec::new();
    let everything = [String::new()];
    for path in if paths.is_empty() { &everything } else { paths } {
        let found = resolve(volume, path)?;
        if found.entry.kind != NodeKind::Directory {
            wanted.push(found);
            continue;
        }
        let own = match (found.folder.as_str(), found.entry.name.as_str()) {
            (_, "") => String::new(),
            ("", name) => name.to_string(),
            (folder, name) => format!("{folder}/{name}"),
        };
        volume.walk(Deleted::Hide, &mut |below| {
            let inside = own.is_empty()
                || below.folder == own
                || below.folder.strip_prefix(own.as_str()).is_some_and(|rest| rest.starts_with('/'));
            if inside && below.entry.kind == NodeKind::File {
                wanted.push(Resolved { folder: below.folder.to_string(), entry: below.entry.clone() });
            }
            ControlFlow::Continue(())
        })?;
    }
    Ok(wanted)
}

struct Run<'a> {
    volume: &'a dyn Volume,
    to: &'a Path,
    desk: &'a Desk<ExtractProgress>,
    bytes: u64,
    made: HashSet<PathBuf>,
    files: Vec<ManifestEntry>,
}

impl Run<'_> {
    fn take(&mut self, item: &Resolved) -> ControlFlow<()> {
        let path = if item.folder.is_empty() { item.entry.name.clone() } else { format!("{}/{}", item.folder, item.entry.name) };
        self.desk.tell(ExtractProgress { files: self.files.len() as u64, bytes: self.bytes, path: path.clone() });
        let mut line = ManifestEntry {
            path,
            saved_as: None,
            bytes: item.entry.bytes,
            unreadable_bytes: 0,
            blake3: None,
            sha256: None,
            times: item.entry.times,
            state: Outcome::Failed,
            why: None,
        };
        match self.save(item, &mut line) {
            Ok(flow) => {
                self.files.push(line);
                flow
            }
            Err(why) => {
                line.why = Some(why);
                self.files.push(line);
                ControlFlow::Continue(())
            }
        }
    }

    fn save(&mut self, item: &Resolved, line: &mut ManifestEntry) -> Result<ControlFlow<()>, String> {
        let mut stream = self.volume.open(item.entry.id, "").map_err(|error| error.to_string())?;
        line.bytes = stream.bytes();
        let folder = self.folder(&item.folder)?;
        let (mut file, relative) = self.create(&folder, &item.entry).map_err(|error| error.to_string())?;
        let (mut blake, mut sha) = (blake3::Hasher::new(), Sha256::new());
        let mut buf = vec![0; STEP];
        let mut at = 0;
        while at < line.bytes {
            if self.desk.cancel().is_cancelled() {
                // A half-written file is worse than none.
                drop(file);
                let _ = fs::remove_file(self.to.join(&relative));
                line.why = Some("cancelled".into());
                return Ok(ControlFlow::Break(()));
            }
            let len = usize::try_from(line.bytes - at).unwrap_or(STEP).min(STEP);
            let piece = &mut buf[..len];
            line.unreadable_bytes += stream.read(at, piece).iter().map(|range| range.len()).sum::<u64>();
            file.write_all(piece).map_err(|error| error.to_string())?;
            blake.update(piece);
            sha.update(&*piece);
            at += len as u64;
            self.bytes += len as u64;
        }
        file.sync_all().map_err(|error| error.to_string())?;
        set_time(&file, &item.entry);
        line.blake3 = Some(blake.finalize().to_hex().to_string());
        line.sha256 = Some(sha.finalize().iter().map(|byte| format!("{byte:02x}")).collect());
        line.saved_as = Some(relative.to_string_lossy().into_owned());
        line.state = if line.unreadable_bytes == 0 { Outcome::Whole } else { Outcome::PartlyUnreadable };
        Ok(ControlFlow::Continue(()))
    }

    /// Makes the folder below the target, component by component; a link or file in the way is not followed.
    fn folder(&mut self, folder: &str) -> Result<PathBuf, String> {
        let mut relative = PathBuf::new();
        for part in folder.split('/').filter(|part| !part.is_empty()) {
            relative.push(safe_component(part));
            if self.made.contains(&relative) {
                continue;
            }
            let full = self.to.join(&relative);
            match fs::create_dir(&full) {
                Ok(()) => {}
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                    let real = fs::symlink_metadata(&full).is_ok_and(|metadata| metadata.is_dir());
                    if !real {
                        return Err(format!("{} is in the way", full.display()));
                    }
                }
                Err(error) => return Err(error.to_string()),
            }
            self.made.insert(relative.clone());
        }
        Ok(relative)
    }

    /// Creates a file that was not there.
    fn create(&self, folder: &Path, entry: &Entry) -> io::Result<(File, PathBuf)> {
        let name = safe_component(&entry.name);
        for number in 1..MOST_NAMESAKES {
            let relative = folder.join(if number == 1 { name.clone() } else { numbered(&name, number) });
            match File::create_new(self.to.join(&relative)) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                result => return result.map(|file| (file, relative)),
            }
        }
        Err(io::ErrorKind::AlreadyExists.into())
    }
}

/// Gives the file the time its content was changed.
fn set_time(file: &File, entry: &Entry) {
    let modified = entry.times.modified.and_then(|stamp| stamp.civil().to_zoned(jiff::tz::TimeZone::UTC).ok());
    if let Some(modified) = modified {
        let _ = file.set_modified(modified.timestamp().into());
    }
}

/// Counts files and bytes on this system against the manifest.
fn compare(to: &Path, files: &[ManifestEntry]) -> bool {
    files.iter().filter_map(|file| Some((file.saved_as.as_ref()?, file.bytes))).all(|(saved, bytes)| {
        fs::symlink_metadata(to.join(saved)).is_ok_and(|metadata| metadata.is_file() && metadata.len() == bytes)
    })
}

fn write_manifest(to: &Path, extracted: &Extracted) -> Result<PathBuf, CoreError> {
    let bytes = serde_json::to_vec_pretty(extracted).unwrap_or_default();
    for number in 1..MOST_NAMESAKES {
        let path = to.join(if number == 1 { MANIFEST.to_string() } else { numbered(MANIFEST, number) });
        match File::create_new(&path) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(file_error("create", &path)(error)),
            Ok(mut file) => {
                file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(file_error("write", &path))?;
                return Ok(path);
            }
        }
    }
    Err(CoreError::Nothing("no name is left for the manifest"))
}
