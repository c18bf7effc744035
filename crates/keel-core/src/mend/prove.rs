//! Proof by an operating system: the volume mounted read-only by this machine's kernel, and its listing compared.

use std::collections::BTreeMap;
use std::fs;
use std::io::Read;
use std::ops::ControlFlow;
use std::os::fd::AsRawFd;
use std::path::{Path, PathBuf};

use keel_format::{Deleted, NodeKind, read_whole};
use keel_source::{LinkKind, LoopDevice, SharedSource, printable};
use rustix::mount::{UnmountFlags, unmount};
use serde::Serialize;

use super::check::opened;
use crate::CoreError;
use crate::attach::{mount_any, private_folder};
use crate::error::file_error;
use crate::find::Find;

/// The most files that are listed on either side.
const MOST_FILES: usize = 1_000_000;
/// Files whose content is compared.
const SAMPLED: usize = 64;
/// The most of each that is read, in bytes.
const SAMPLED_BYTES: usize = 4 << 20;
/// The most differences that are named.
const MOST_NAMED: usize = 20;

/// What the kernel made of a volume.
#[derive(Debug, Clone, Serialize)]
pub struct Proof {
    /// The find.
    pub volume: String,
    /// True when the kernel (or a driver that it calls) mounted it.
    pub mounted: bool,
    /// The driver that did, or what stood in the way.
    pub how: String,
    /// Files that we list.
    pub files_here: u64,
    /// Files that the kernel lists.
    pub files_there: u64,
    /// Sampled files whose content is the same on both sides.
    pub same: u64,
    /// Sampled files.
    pub sampled: u64,
    /// What differs, control characters made visible.
    pub different: Vec<String>,
}

impl Proof {
    /// True when it mounted, both list the same files, and every sample is the same.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.mounted && self.different.is_empty() && self.same == self.sampled
    }

    fn failed(find: &Find, how: String) -> Self {
        Self {
            volume: find.id.clone(),
            mounted: false,
            how,
            files_here: 0,
            files_there: 0,
            same: 0,
            sampled: 0,
            different: Vec::new(),
        }
    }
}

/// Mounts the volume of `find` read-only through a loop device, lists it, compares listing and samples with ours, and
/// unmounts it. Where that is not possible the proof says plainly why.
///
/// # Errors
/// [`CoreError::Nothing`] for what is no image file or block device; [`CoreError::File`] when no folder can be made to
/// mount at; [`CoreError::Format`] when we cannot read the volume ourselves.
pub fn prove(source: &SharedSource, find: &Find) -> Result<Proof, CoreError> {
    let identity = source.identity();
    let path = identity.path.clone().filter(|_| matches!(identity.link, LinkKind::Image | LinkKind::BlockDevice));
    let Some(path) = path else {
        return Err(CoreError::Nothing("a kernel mounts image files and block devices: save a repaired copy and prove that"));
    };
    if !rustix::process::geteuid().is_root() {
        return Ok(Proof::failed(find, "mounting wants root".into()));
    }
    let folder = private_folder(&std::env::temp_dir(), "ykeel-proof")?;
    let proof = match LoopDevice::over(&path, find.range(), identity.logical_sector) {
        Ok(device) => mounted(source, find, &device.path().to_string_lossy(), &folder),
        Err(why) => Ok(Proof::failed(find, format!("no loop device: {why}"))),
    };
    let _ = fs::remove_dir(&folder);
    proof
}

fn mounted(source: &SharedSource, find: &Find, device: &str, folder: &Path) -> Result<Proof, CoreError> {
    match mount_any(find.kind, device, folder) {
        Ok(driver) => {
            // Only the open folder keeps the mount: nothing of it outlives this process, however that ends.
            let opened = fs::File::open(folder).map_err(file_error("open", folder));
            let _ = unmount(folder, UnmountFlags::DETACH);
            let opened = opened?;
            compare(source, find, driver, &PathBuf::from(format!("/proc/self/fd/{}", opened.as_raw_fd())))
        }
        Err(why) => Ok(Proof::failed(find, why)),
    }
}

fn compare(source: &SharedSource, find: &Find, driver: &str, folder: &Path) -> Result<Proof, CoreError> {
    let mut there = BTreeMap::new();
    list(folder, folder, &mut there);
    let mut proof = Proof::failed(find, format!("mounted read-only by {driver}"));
    proof.mounted = true;
    proof.files_there = there.len() as u64;
    if find.kind.why_closed().is_some() {
        proof.files_here = proof.files_there;
        return Ok(proof);
    }
    let volume = opened(source, find)?;
    let mut here = BTreeMap::new();
    volume.walk(Deleted::Hide, &mut |found| {
        if found.entry.kind == NodeKind::File {
            here.insert(found.path(), (found.entry.id, found.entry.bytes));
        }
        if here.len() < MOST_FILES { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    })?;
    proof.files_here = here.len() as u64;
    let mut differs = |path: &str, what: &str| {
        if proof.different.len() < MOST_NAMED {
            proof.different.push(format!("{} {what}", printable(path)));
        }
    };
    for (path, (_, bytes)) in &here {
        match there.get(path) {
            None => differs(path, "is listed here and not by the kernel"),
            Some((_, other)) if other != bytes => differs(path, &format!("has {bytes} bytes here, {other} by the kernel")),
            Some(_) => {}
        }
    }
    there.keys().filter(|path| !here.contains_key(*path)).for_each(|path| differs(path, "is listed by the kernel and not here"));
    let step = here.len().div_ceil(SAMPLED).max(1);
    for (path, (id, _)) in here.iter().step_by(step) {
        let Some((real, _)) = there.get(path) else { continue };
        proof.sampled += 1;
        let ours = volume.open(*id, "").map(|mut stream| read_whole(stream.as_mut(), SAMPLED_BYTES).0).unwrap_or_default();
        let mut theirs = Vec::new();
        let read = fs::File::open(real).map(|file| file.take(SAMPLED_BYTES as u64).read_to_end(&mut theirs));
        proof.same += u64::from(matches!(read, Ok(Ok(_))) && theirs == ours);
    }
    Ok(proof)
}

/// Every file below `folder`: path below `root`, place, length.
fn list(root: &Path, folder: &Path, files: &mut BTreeMap<String, (PathBuf, u64)>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        let Ok(kind) = entry.file_type() else { continue };
        if kind.is_dir() {
            list(root, &path, files);
        } else if kind.is_file() && files.len() < MOST_FILES {
            let name = path.strip_prefix(root).unwrap_or(&path).to_string_lossy().into_owned();
            files.insert(name, (path, entry.metadata().map_or(0, |metadata| metadata.len())));
        }
    }
}
