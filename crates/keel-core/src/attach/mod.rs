//! Volumes shown by this system: mounted read-only, wherever they lie on a drive and whether a table names them or not; taken away again;
//! and a drive made ready to be pulled.

mod mounting;
#[cfg(test)]
mod tests;

pub(crate) use mounting::{mount_any, private_folder};

use std::fs;
use std::path::{Path, PathBuf};

use keel_source::{ByteOffset, Identity, LinkKind, LoopDevice, SharedSource, printable};
use rustix::mount::{UnmountFlags, unmount};
use serde::{Deserialize, Serialize};

use crate::error::{CoreError, Refusal, file_error};
use crate::find::Find;
use crate::{case, device};

/// What is kept of a drive's attached volumes, in its folder.
const KEPT: &str = "attached.json";

/// A volume that is shown at a folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attached {
    /// The find, as it was called then.
    pub volume: String,
    /// Its first byte on the drive: finds are counted anew by each sweep.
    pub start_byte: ByteOffset,
    /// Its kind, in words.
    pub kind: String,
    /// Its label.
    pub label: Option<String>,
    /// The folder.
    pub at: PathBuf,
    /// The device between, which is read-only.
    pub device: PathBuf,
    /// The driver.
    pub driver: String,
    /// True when the folder was made for it.
    pub made_folder: bool,
}

impl Attached {
    /// What is shown, and where, in words.
    #[must_use]
    pub fn words(&self) -> String {
        let label = self.label.as_deref().unwrap_or("no label");
        format!("{}  {} ({label})  at {}", self.volume, self.kind, printable(&self.at.display().to_string()))
    }
}

/// A volume that is not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct NotAttached {
    /// The find.
    pub volume: String,
    /// Why.
    pub why: String,
}

impl NotAttached {
    /// What is not shown, and why, in words.
    #[must_use]
    pub fn words(&self) -> String {
        format!("{}  not: {}", self.volume, printable(&self.why))
    }
}

/// What attaching came to.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Attaching {
    /// Volumes that are shown now.
    pub attached: Vec<Attached>,
    /// Those that are not.
    pub not: Vec<NotAttached>,
}

impl Attaching {
    /// A line for each volume.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        self.attached.iter().map(Attached::words).chain(self.not.iter().map(NotAttached::words)).collect()
    }
}

/// The file or device that a kernel can mount from.
fn mountable(source: &SharedSource) -> Result<PathBuf, CoreError> {
    let identity = source.identity();
    let path = identity.path.clone().filter(|_| matches!(identity.link, LinkKind::Image | LinkKind::BlockDevice));
    // The log of a copy names what is missing: a kernel would take that for zeros.
    if !source.missing().is_empty() {
        return Err(CoreError::Nothing(
            "parts of this copy are missing, and a kernel would take them for zeros: take files out instead",
        ));
    }
    path.ok_or(CoreError::Nothing("a kernel mounts image files and block devices: save a repaired copy and attach that"))
}

/// Shows the volumes `finds` of `source`, read-only: each at a folder of its name below `at`, or a single one at `at` itself. Without `at`
/// below a folder of this program's.
///
/// # Errors
/// [`CoreError::Nothing`] for what no kernel mounts from; [`CoreError::File`] when a folder cannot be made or is not empty;
/// [`CoreError::Refused`] without the right to mount.
pub fn attach(source: &SharedSource, finds: &[&Find], at: Option<&Path>) -> Result<Attaching, CoreError> {
    let path = mountable(source)?;
    if !rustix::process::geteuid().is_root() {
        return Err(Refusal::WantsRoot { what: "mounting a volume" }.into());
    }
    let identity = source.identity();
    let mut kept = kept(identity);
    let mut attaching = Attaching::default();
    for find in finds {
        if let Some(there) = kept.iter().find(|kept| kept.start_byte == find.start_byte) {
            attaching.attached.push(there.clone());
            continue;
        }
        let (folder, made_folder) = match at {
            Some(at) if finds.len() == 1 => empty_folder(at)?,
            Some(at) => empty_folder(&at.join(folder_name(find)))?,
            None => empty_folder(&default_folder(identity).join(folder_name(find)))?,
        };
        let shown = LoopDevice::over(&path, find.range(), identity.logical_sector)
            .map_err(|why| format!("no loop device: {why}"))
            .and_then(|device| {
                let node = device.path().to_path_buf();
                mount_any(find.kind, &node.to_string_lossy(), &folder).map(|driver| (node, driver))
            });
        match shown {
            Ok((device, driver)) => {
                let shown = Attached {
                    volume: find.id.clone(),
                    start_byte: find.start_byte,
                    kind: find.kind.word().into(),
                    label: find.label.as_deref().map(printable),
                    at: folder,
                    device,
                    driver: driver.into(),
                    made_folder,
                };
                kept.push(shown.clone());
                keep(identity, &kept)?;
                attaching.attached.push(shown);
            }
            Err(why) => {
                if made_folder {
                    let _ = fs::remove_dir(&folder);
                    let _ = fs::remove_dir(default_folder(identity));
                }
                attaching.not.push(NotAttached { volume: find.id.clone(), why });
            }
        }
    }
    case::note(source.as_ref(), "attach", &serde_json::json!(attaching));
    Ok(attaching)
}

/// Takes the attached volumes of `source` away, or only the one at `at`; those that are in use stay and are named.
///
/// # Errors
/// [`CoreError::Nothing`] when none of it is attached.
pub fn detach(identity: &Identity, only: Option<&str>) -> Result<Attaching, CoreError> {
    let mut kept = kept(identity);
    let is_meant = |shown: &Attached| only.is_none_or(|only| shown.volume == only || shown.at == Path::new(only));
    let mut result = Attaching::default();
    for shown in kept.iter().filter(|shown| is_meant(shown)) {
        match unmount(&shown.at, UnmountFlags::NOFOLLOW) {
            Ok(()) => {
                if shown.made_folder {
                    let _ = fs::remove_dir(&shown.at);
                    // The last one takes the folder of all of them with it.
                    let _ = fs::remove_dir(default_folder(identity));
                }
                result.attached.push(shown.clone());
            }
            Err(error) => {
                let why = format!("{}: {}", shown.at.display(), std::io::Error::from(error));
                result.not.push(NotAttached { volume: shown.volume.clone(), why });
            }
        }
    }
    if result.attached.is_empty() && result.not.is_empty() {
        return Err(CoreError::Nothing("no volume of it is attached"));
    }
    kept.retain(|shown| !result.attached.contains(shown));
    keep(identity, &kept)?;
    Ok(result)
}

/// What is attached of the drive that calls itself so, as far as it is still mounted.
#[must_use]
pub fn kept(identity: &Identity) -> Vec<Attached> {
    let bytes = fs::read(case::drive_folder(identity).join(KEPT)).unwrap_or_default();
    let mut kept: Vec<Attached> = serde_json::from_slice(&bytes).unwrap_or_default();
    kept.retain(|shown| keel_source::mounts_at(&shown.at).contains(&shown.device));
    kept
}

fn keep(identity: &Identity, kept: &[Attached]) -> Result<(), CoreError> {
    let path = case::drive_folder(identity).join(KEPT);
    if kept.is_empty() && !path.exists() {
        return Ok(());
    }
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(file_error("create", folder))?;
    }
    let bytes = serde_json::to_vec_pretty(kept).unwrap_or_default();
    case::write_whole(&path, &bytes)
}

/// A name for the folder of a find: its label where that makes one.
fn folder_name(find: &Find) -> String {
    let label = find.label.as_deref().unwrap_or_default();
    let plain: String = label.chars().filter(|sign| sign.is_alphanumeric() || matches!(sign, '-' | '_' | ' ')).take(40).collect();
    let plain = plain.trim();
    if plain.is_empty() { find.id.clone() } else { format!("{}-{plain}", find.id) }
}

/// In this program's own folder for the drive: nobody else puts anything there.
fn default_folder(identity: &Identity) -> PathBuf {
    case::drive_folder(identity).join("attached")
}

/// The folder at `path`, made where it is not there; true when it was.
fn empty_folder(path: &Path) -> Result<(PathBuf, bool), CoreError> {
    let made = !path.exists();
    if made {
        fs::create_dir_all(path).map_err(file_error("create", path))?;
    }
    let about = fs::symlink_metadata(path).map_err(file_error("open", path))?;
    let is_empty = about.is_dir() && fs::read_dir(path).map_err(file_error("read", path))?.next().is_none();
    match is_empty {
        true => Ok((path.canonicalize().map_err(file_error("open", path))?, made)),
        false => Err(Refusal::FolderNotEmpty { path: path.into() }.into()),
    }
}

/// What making a drive ready to be pulled came to.
#[derive(Debug, Clone, Serialize)]
pub struct Released {
    /// The drive.
    pub device: PathBuf,
    /// Folders at which something of it was mounted, and is not any more.
    pub unmounted: Vec<PathBuf>,
    /// What was done, in words, in order.
    pub done: Vec<String>,
    /// Why it must not be pulled yet.
    pub not_yet: Vec<String>,
}

impl Released {
    /// True when it can be pulled.
    #[must_use]
    pub fn can_be_pulled(&self) -> bool {
        self.not_yet.is_empty()
    }
}

/// Makes a device ready to be pulled: what is mounted of it is unmounted, what the system still holds is written, and the drive is stopped.
///
/// # Errors
/// [`CoreError::Refused`] for a drive that this system runs from, and without the right; [`CoreError::Nothing`] for what is no device.
pub fn release(source: &SharedSource) -> Result<Released, CoreError> {
    let identity = source.identity().clone();
    let Some(device) = identity.path.clone().filter(|_| identity.link == LinkKind::BlockDevice) else {
        // An image has nothing to stop, and mostly nothing to take away.
        let detached = detach(&identity, None).unwrap_or_default();
        let unmounted = detached.attached.into_iter().map(|shown| shown.at).collect();
        let not_yet: Vec<String> = detached.not.into_iter().map(|not| not.why).collect();
        let mut done = vec!["no volume of it is attached".to_string()];
        // A simulated drive has power that can be cut.
        if identity.link == LinkKind::Simulated && not_yet.is_empty() {
            done.extend(source.stop().unwrap_or_default());
        }
        return Ok(Released { device: identity.path.unwrap_or_default(), unmounted, done, not_yet });
    };
    let mut released = Released { device: device.clone(), unmounted: Vec::new(), done: Vec::new(), not_yet: Vec::new() };
    let points = keel_source::mount_points_of(&device);
    if device::runs_the_system(&device) {
        return Err(Refusal::RunsFromIt { name: identity.name }.into());
    }
    if let Ok(detached) = detach(&identity, None) {
        released.unmounted.extend(detached.attached.into_iter().map(|shown| shown.at));
        released.not_yet.extend(detached.not.into_iter().map(|not| not.why));
    }
    // The inner ones first.
    for point in points.into_iter().rev() {
        match unmount(&point, UnmountFlags::NOFOLLOW) {
            Ok(()) => released.unmounted.push(point),
            Err(error) => released.not_yet.push(format!("{}: {}", point.display(), std::io::Error::from(error))),
        }
    }
    if let Some(held) = source.attachment().and_then(|found| found.held).filter(|_| released.not_yet.is_empty()) {
        released.not_yet.push(held);
    }
    if released.not_yet.is_empty() {
        match source.stop() {
            Ok(done) => released.done = done,
            Err(error) => released.not_yet.push(error.to_string()),
        }
    }
    case::note(source.as_ref(), "release", &serde_json::json!(released));
    Ok(released)
}
