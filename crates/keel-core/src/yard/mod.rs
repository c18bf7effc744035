//! The yard: the drives on the bench.

use std::fs;
use std::path::{Path, PathBuf};

use keel_format::table;
use keel_source::{Identity, LinkKind, OpenOptions, SharedSource, printable};
use serde::Serialize;

use crate::case::Case;
use crate::error::{CoreError, chain, file_error};
use crate::{copy, fathom, plan};

/// Opens a drive as every stage but Fathom works on it: one that was shown to claim more than it stores, as far as it stores;
/// a device that a copy was written to, without what is missing of it.
///
/// # Errors
/// [`CoreError::Source`] as [`keel_source::open`], and when the log of a copy cannot be read.
pub fn open(path: &Path, options: OpenOptions) -> Result<SharedSource, CoreError> {
    as_seen(keel_source::open(path, options)?)
}

/// `source`, opened as it claims to be, as every stage but Fathom works on it.
///
/// # Errors
/// As [`open`].
pub fn as_seen(source: SharedSource) -> Result<SharedSource, CoreError> {
    copy::as_copy(fathom::as_stored(source))
}

/// One drive of the yard.
#[derive(Debug, Clone, Serialize)]
pub struct Berth {
    /// The path to open.
    pub path: PathBuf,
    /// Identity, when it opens.
    pub identity: Option<Identity>,
    /// Why it does not open.
    pub problem: Option<String>,
    /// What its table calls the drive: `DiskGUID` or MBR signature.
    pub disk_identifier: Option<String>,
    /// Other drives of the yard that their tables call the same: an operating system shows only one of them.
    pub same_identifier: Vec<PathBuf>,
    /// What the client tells, from a note beside the drive (`NAME.note.txt`).
    pub symptom: Option<String>,
    /// The undo bundle of an interrupted apply.
    pub interrupted: Option<PathBuf>,
    /// What an interrupted probe touched.
    pub probe_interrupted: Option<PathBuf>,
    /// Its case, where one is open.
    pub case: Option<String>,
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
    Ok(berths(paths))
}

/// Asks every drive, and finds those that call themselves alike.
#[must_use]
pub fn berths(paths: Vec<PathBuf>) -> Vec<Berth> {
    let mut berths: Vec<Berth> = paths.into_iter().map(berth).collect();
    let named: Vec<(PathBuf, String)> =
        berths.iter().filter_map(|berth| Some((berth.path.clone(), berth.disk_identifier.clone()?))).collect();
    for berth in &mut berths {
        let own = berth.disk_identifier.as_ref();
        let alike = named.iter().filter(|(path, name)| *path != berth.path && Some(name) == own);
        berth.same_identifier = alike.map(|(path, _)| path.clone()).collect();
    }
    berths
}

/// Asks one drive.
#[must_use]
pub fn berth(path: PathBuf) -> Berth {
    let symptom = note(&path);
    let opened = open(&path, OpenOptions::default());
    let problem = opened.as_ref().err().map(|error| chain(error));
    let source = opened.ok();
    let identity = source.as_ref().map(|source| source.identity().clone());
    let case = Case::of(&path, identity.as_ref()).ok().flatten();
    Berth {
        disk_identifier: source.as_ref().and_then(|source| table::read(source.as_ref()).disk_identifier()),
        interrupted: source.as_ref().and_then(plan::interrupted),
        probe_interrupted: source.as_ref().and_then(fathom::interrupted_of),
        case: case.map(|case| case.record.name),
        same_identifier: Vec::new(),
        problem,
        symptom,
        identity,
        path,
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
