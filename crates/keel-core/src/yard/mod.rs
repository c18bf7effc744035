//! The yard: the drives on the bench.

mod arrivals;
mod sight;

use std::fs;
use std::path::{Path, PathBuf};

use keel_format::{registry, table};
use keel_source::{ByteOffset, Identity, LinkKind, OpenOptions, SectorSize, SharedSource, printable};
use serde::Serialize;

pub use arrivals::{changes, device_berths, devices, watch};
pub use sight::{Sight, Work};

use crate::case::{Case, Standing};
pub use crate::device::Device;
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

/// Closes a case. Where the drive was changed under it, the journal gets the layout that it has now, as every stage sees it.
///
/// # Errors
/// As [`Case::write_down`].
pub fn close(case: &mut Case) -> Result<(), CoreError> {
    let drive = case.has_changed_drive().then(|| open(&case.record.source, OpenOptions::default()).ok()).flatten();
    case.close(drive.as_ref().map(Standing::of).as_ref())
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
    /// Whose drive it is, as the case says.
    pub client: Option<String>,
    /// What was seen of it when it was looked at last.
    pub sight: Option<Sight>,
    /// How far the work on it is.
    pub group: Group,
    /// What the system says of a device that was not opened.
    pub device: Option<Device>,
}

impl Berth {
    /// The berth at `path` of which nothing is known yet.
    #[must_use]
    pub fn bare(path: PathBuf) -> Self {
        Self {
            path,
            identity: None,
            problem: None,
            disk_identifier: None,
            same_identifier: Vec::new(),
            symptom: None,
            interrupted: None,
            probe_interrupted: None,
            case: None,
            client: None,
            sight: None,
            group: Group::Waiting,
            device: None,
        }
    }
}

/// How far the work on a drive is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Group {
    /// It was begun, and is not done.
    InWork,
    /// It waits.
    Waiting,
    /// Its case is closed.
    Done,
    /// A device of this machine, which nobody asked for.
    Device,
}

impl Group {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::InWork => "in work",
            Self::Waiting => "waiting",
            Self::Done => "done",
            Self::Device => "devices of this machine",
        }
    }
}

/// Endings of files that are drives.
const ENDINGS: [&str; 5] = [".img", ".raw", ".bin", ".001", ".drive.toml"];
/// The least image that is told by what stands in it, in bytes: smaller files are letters and pictures.
const LEAST_IMAGE: u64 = 1 << 20;
/// The longest note that is read, in bytes.
const LONGEST_NOTE: usize = 2000;

/// Lists the drives in folder `dir`: images and simulated drives, by name. Images that back a simulated drive stand in
/// a folder below and are not listed.
///
/// # Errors
/// [`CoreError::File`] when the folder cannot be read.
pub fn list(dir: &Path) -> Result<Vec<Berth>, CoreError> {
    Ok(berths(paths(dir)?))
}

/// The paths of the drives in folder `dir`, by name; none of them is opened as a drive.
///
/// # Errors
/// [`CoreError::File`] when the folder cannot be read.
pub fn paths(dir: &Path) -> Result<Vec<PathBuf>, CoreError> {
    let entries = fs::read_dir(dir).map_err(file_error("read", dir))?.flatten().map(|entry| entry.path());
    let mut paths: Vec<PathBuf> = entries.filter(|path| path.is_file() && is_drive(path)).collect();
    paths.sort();
    Ok(paths)
}

/// True for a file that may be a drive: by its ending, or by what stands in it. Further parts of a split image belong to the first.
fn is_drive(path: &Path) -> bool {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let part = path.extension().and_then(|end| end.to_str()).filter(|end| end.len() == 3).and_then(|end| end.parse::<u32>().ok());
    match part {
        Some(number @ 0..=1) => number == 0 || !path.with_extension("000").is_file(),
        Some(number) => !path.with_extension(format!("{:03}", number - 1)).is_file() && holds_a_drive(path),
        None => ENDINGS.iter().any(|end| name.ends_with(end)) || (!name.starts_with('.') && holds_a_drive(path)),
    }
}

/// True for a file in which a table or the beginning of a volume stands: an image by any name.
fn holds_a_drive(path: &Path) -> bool {
    let large = fs::metadata(path).is_ok_and(|found| found.len() >= LEAST_IMAGE && found.len() % 512 == 0);
    if !large {
        return false;
    }
    let Ok(source) = keel_source::FileSource::open(path, SectorSize::default()) else { return false };
    let reading = table::read(&source);
    reading.scheme.is_some() || reading.mbr.is_volume || registry::boot_sector(&source, ByteOffset(0)).is_some()
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
    let case = Case::of(&path, identity.as_ref()).ok().flatten().map(|case| case.record);
    let sight = identity.as_ref().and_then(Sight::known);
    let interrupted = source.as_ref().and_then(plan::interrupted);
    let probe_interrupted = source.as_ref().and_then(fathom::interrupted_of);
    let begun = case.as_ref().is_some_and(|case| case.copy.is_some())
        || sight.as_ref().is_some_and(|sight| sight.applied || sight.copy.is_some())
        || interrupted.is_some()
        || probe_interrupted.is_some();
    let group = match &case {
        Some(case) if case.closed.is_some() => Group::Done,
        _ if begun => Group::InWork,
        _ => Group::Waiting,
    };
    Berth {
        disk_identifier: source.as_ref().and_then(|source| table::read(source.as_ref()).disk_identifier()),
        client: case.as_ref().map(|case| case.client.clone()).filter(|client| !client.is_empty()),
        case: case.map(|case| case.name),
        interrupted,
        probe_interrupted,
        sight,
        group,
        problem,
        symptom,
        identity,
        ..Berth::bare(path)
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

/// True for a drive to which a plan may be applied with `--yes`.
#[must_use]
pub fn takes_yes(identity: &Identity) -> bool {
    identity.link != LinkKind::BlockDevice
}
