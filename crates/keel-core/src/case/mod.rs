//! What outlives a run: where it is kept, and reading and writing it without half-written files.

mod deeds;
mod journal;
mod record;
mod standing;

pub(crate) use deeds::changed;
pub use deeds::deed;
pub use journal::{JournalLine, Seal, Verified, lines, now, stamp, verify};
pub use record::{CASE_VERSION, Case, CaseRecord, CheckMade, Mark, Told};
pub use standing::{Standing, StandingEntry};

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use keel_source::own::{self, Over};
use keel_source::{Identity, Source};

use crate::CoreError;
use crate::error::file_error;

/// Where state is kept instead of the usual folder, for the whole process.
static ELSEWHERE: OnceLock<PathBuf> = OnceLock::new();

/// Keeps everything that outlives this run in `folder`; the first call of a process counts.
pub fn keep_state_in(folder: &Path) {
    let _ = ELSEWHERE.set(folder.to_path_buf());
}

/// The folder for everything that outlives a run: what [`keep_state_in`] says, `$YKEEL_STATE`, or the user's state folder.
#[must_use]
pub fn state_folder() -> PathBuf {
    if let Some(folder) = ELSEWHERE.get() {
        return folder.clone();
    }
    if let Some(folder) = std::env::var_os("YKEEL_STATE").filter(|folder| !folder.is_empty()) {
        return PathBuf::from(folder);
    }
    let dirs = directories::ProjectDirs::from("", "", "ykeel");
    let folder = dirs.as_ref().map(|dirs| dirs.state_dir().unwrap_or_else(|| dirs.data_local_dir()).to_path_buf());
    folder.unwrap_or_else(|| PathBuf::from(".ykeel"))
}

/// The folder of one drive below [`state_folder`], named by [`Identity::key`]; of a drive that shows another length than it once did, the
/// one that it had then ([`same_drive`]).
#[must_use]
pub fn drive_folder(identity: &Identity) -> PathBuf {
    let own = state_folder().join(identity.key());
    let former = fs::read_to_string(own.join(SAME)).ok();
    let is_key = |key: &String| key.len() == 32 && key.bytes().all(|digit| digit.is_ascii_hexdigit());
    former.filter(is_key).map_or(own, |key| state_folder().join(key))
}

/// The file that names the folder of a drive which called itself otherwise before.
const SAME: &str = "same-as";

/// Notes that `now` is the drive that `before` is: what is kept of it goes on.
///
/// # Errors
/// [`CoreError::File`] when that cannot be noted.
pub(crate) fn same_drive(before: &Identity, now: &Identity) -> Result<(), CoreError> {
    let folder = drive_folder(before);
    let own = state_folder().join(now.key());
    match folder.file_name().and_then(|name| name.to_str()).filter(|_| folder != own) {
        Some(key) => write_whole(&own.join(SAME), key.as_bytes()),
        None => Ok(()),
    }
}

/// Writes `bytes` to `path`, in a folder of our own, so that a crash leaves the former file or the new one, never half of one. No
/// other file is touched ([`own`]).
///
/// # Errors
/// [`CoreError::File`] with what failed.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), CoreError> {
    write_over(path, bytes, Over::OwnFolder)
}

/// As [`write_whole`], to a place that somebody named: nothing that stands there is replaced.
///
/// # Errors
/// [`CoreError::File`] with what failed; also where anything stands there.
pub fn write_new(path: &Path, bytes: &[u8]) -> Result<(), CoreError> {
    write_over(path, bytes, Over::Nothing)
}

fn write_over(path: &Path, bytes: &[u8], over: Over<'_>) -> Result<(), CoreError> {
    let folder = path.parent().unwrap_or_else(|| Path::new("."));
    fs::create_dir_all(folder).map_err(file_error("create", folder))?;
    own::write(path, bytes, over).map_err(file_error("write", path))
}

/// Notes in the journal of the case of `source`, where one is open, what was done to the drive and what came of it. What is done stays
/// done where that cannot be noted.
pub(crate) fn note(source: &dyn Source, event: &str, detail: &serde_json::Value) {
    let identity = source.identity();
    let case = identity.path.as_ref().and_then(|path| Case::of(path, Some(identity)).ok().flatten());
    if let Some(mut case) = case {
        let mut detail = detail.clone();
        if let Some(detail) = detail.as_object_mut() {
            detail.insert(
                "drive".into(),
                serde_json::json!({ "key": identity.key(), "path": identity.path, "bytes": identity.bytes }),
            );
        }
        let _ = case.write_down(event, &detail);
    }
}

/// The undo bundles of a drive, oldest first: those in its folder, and those that lie where somebody named.
#[must_use]
pub fn bundles(identity: &Identity) -> Vec<PathBuf> {
    let entries = fs::read_dir(drive_folder(identity)).into_iter().flatten().flatten();
    let mut kept: Vec<PathBuf> = entries.map(|entry| entry.path()).collect();
    kept.sort();
    let ends = |path: &Path, with: &str| path.extension().is_some_and(|end| end == with);
    let place = |path: PathBuf| match () {
        () if ends(&path, "ykundo") => Some(path),
        () if ends(&path, BUNDLE_PLACE) => fs::read_to_string(&path).ok().map(|text| PathBuf::from(text.trim_end())),
        () => None,
    };
    kept.into_iter().filter_map(place).collect()
}

/// Ending of the files that say where a bundle lies that somebody gave a place of its own.
const BUNDLE_PLACE: &str = "ykplace";

/// Notes where the bundle of an apply lies, when that is not the folder of the drive: an interrupted apply is found by it.
///
/// # Errors
/// [`CoreError::File`] when it cannot be noted; nothing may be written to the drive then.
pub fn note_bundle(identity: &Identity, bundle: &Path, stamp: &str) -> Result<(), CoreError> {
    let folder = drive_folder(identity);
    if std::path::absolute(&folder).is_ok_and(|folder| bundle.starts_with(folder)) {
        return Ok(());
    }
    write_whole(&folder.join(format!("undo-{stamp}.{BUNDLE_PLACE}")), bundle.to_string_lossy().as_bytes())
}

#[cfg(test)]
mod tests;
