//! The yard: the drives on the bench.

use std::fs;
use std::path::{Path, PathBuf};

use keel_source::{Identity, LinkKind, OpenOptions, printable};
use serde::Serialize;

use crate::error::{CoreError, chain, file_error};
use crate::plan;

/// One drive of the yard.
#[derive(Debug, Clone, Serialize)]
pub struct Berth {
    /// The path to open.
    pub path: PathBuf,
    /// Identity, when it opens.
    pub identity: Option<Identity>,
    /// Why it does not open.
    pub problem: Option<String>,
    /// What the client tells, from a note beside the drive (`NAME.note.txt`).
    pub symptom: Option<String>,
    /// The undo bundle of an interrupted apply.
    pub interrupted: Option<PathBuf>,
}

/// Endings of files that are drives.
const ENDINGS: [&str; 5] = [".img", ".raw", ".bin", ".001", ".drive.toml"];
/// The longest note that is read, in bytes.
const LONGEST_NOTE: usize = 2000;

/// Lists the drives in folder `dir`: images and simulated drives, by name. Images that back a simulated drive stand in
/// a folder below and are not listed.
///
/// # Errors
/// [`CoreError::File`] when the folder cannot be read.
pub fn list(dir: &Path) -> Result<Vec<Berth>, CoreError> {
    let mut paths: Vec<PathBuf> = fs::read_dir(dir)
        .map_err(file_error("read", dir))?
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.is_file() && ENDINGS.iter().any(|end| path.to_string_lossy().ends_with(end)))
        .collect();
    paths.sort();
    Ok(paths.into_iter().map(berth).collect())
}

/// Asks one drive.
#[must_use]
pub fn berth(path: PathBuf) -> Berth {
    let symptom = note(&path);
    match keel_source::open(&path, OpenOptions::default()) {
        Ok(source) => {
            let (identity, interrupted) = (Some(source.identity().clone()), plan::interrupted(&source));
            Berth { path, identity, problem: None, symptom, interrupted }
        }
        Err(error) => Berth { path, identity: None, problem: Some(chain(&error)), symptom, interrupted: None },
    }
}

fn note(path: &Path) -> Option<String> {
    let name = path.file_name()?.to_string_lossy().into_owned();
    let stem = ENDINGS.iter().find_map(|end| name.strip_suffix(end))?;
    let text = fs::read(path.with_file_name(format!("{stem}.note.txt"))).ok()?;
    let text = String::from_utf8_lossy(text.get(..text.len().min(LONGEST_NOTE))?).trim().to_string();
    let lines: Vec<String> = text.lines().map(printable).collect();
    (!text.is_empty()).then(|| lines.join(" "))
}

/// The block devices of this system, whole drives by name, as `/dev` paths. They are not opened here.
#[must_use]
pub fn devices() -> Vec<PathBuf> {
    let blocks = Path::new("/sys/block");
    let names = fs::read_dir(blocks).into_iter().flatten().flatten().map(|entry| entry.file_name());
    let mut paths: Vec<PathBuf> = names
        .filter(|name| !["ram", "zram", "dm-"].iter().any(|start| name.to_string_lossy().starts_with(start)))
        .filter(|name| fs::read_to_string(blocks.join(name).join("size")).is_ok_and(|size| size.trim() != "0"))
        .map(|name| Path::new("/dev").join(name))
        .collect();
    paths.sort();
    paths
}

/// True for a drive to which a plan may be applied with `--yes`.
#[must_use]
pub fn takes_yes(identity: &Identity) -> bool {
    identity.link != LinkKind::BlockDevice
}
