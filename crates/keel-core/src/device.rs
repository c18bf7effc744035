//! The devices of this machine, as the system describes them; none is opened for it.

use std::fs;
use std::path::{Path, PathBuf};

use keel_source::{Attachment, Identity, LinkKind, attachment_at};
use serde::Serialize;

/// Where the system lists whole drives.
const BLOCKS: &str = "/sys/block";
/// The system's own folders.
const OWN_POINTS: [&str; 8] = ["/", "/boot", "/boot/efi", "/efi", "/usr", "/var", "/home", "/nix/store"];
/// What is no drive: memory, what is built on other devices, and devices that only ever belong to the system.
const NO_DRIVES: [&str; 5] = ["ram", "zram", "dm-", "md", "fd"];

/// A device as the system describes it; it is not opened for that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Device {
    /// What the drive calls itself; what is kept of it is found by that.
    #[serde(skip)]
    pub identity: Identity,
    /// Model, where the system knows it.
    pub model: Option<String>,
    /// Serial number, where the system knows it.
    pub serial: Option<String>,
    /// Firmware version, where the system knows it.
    pub firmware: Option<String>,
    /// Length in bytes.
    pub bytes: u64,
    /// Logical and physical sector in bytes.
    pub sectors: (u64, u64),
    /// True for a drive that this very system runs from: it is not offered for anything.
    pub is_of_system: bool,
    /// How it is attached, and what uses it.
    #[serde(flatten)]
    pub attachment: Attachment,
}

impl Device {
    /// What it is called in a list: its model and serial number.
    #[must_use]
    pub fn words(&self) -> String {
        let words: Vec<&str> = [&self.model, &self.serial].into_iter().flatten().map(String::as_str).collect();
        words.join(" ")
    }

    /// Why it is not offered: a device that this system itself uses.
    #[must_use]
    pub fn kept_back(&self) -> Option<String> {
        self.attachment.held.as_ref().map(|held| format!("in use by this system: {held}"))
    }
}

/// True for a drive that one of the system's own folders lies on, through whatever arrays and mappers.
pub(crate) fn runs_the_system(device: &Path) -> bool {
    let own = OWN_POINTS.iter().map(Path::new).filter(|point| point.exists());
    own.into_iter().any(|point| keel_source::own_medium(device, point).is_some())
}

/// The block devices of this system, whole drives by name, with their `/dev` paths.
#[must_use]
pub fn all() -> Vec<(PathBuf, Device)> {
    below(Path::new(BLOCKS), Path::new("/dev"))
}

/// The device of this machine that is kept under `key`, as [`Identity::key`], whatever its name is now.
#[must_use]
pub fn of_key(key: &str) -> Option<PathBuf> {
    let mut devices = all().into_iter();
    devices.find(|(_, device)| device.serial.is_some() && device.identity.key() == key).map(|(path, _)| path)
}

pub(crate) fn below(blocks: &Path, nodes: &Path) -> Vec<(PathBuf, Device)> {
    let names = fs::read_dir(blocks).into_iter().flatten().flatten().map(|entry| entry.file_name());
    let mut names: Vec<String> = names.map(|name| name.to_string_lossy().into_owned()).collect();
    names.retain(|name| !NO_DRIVES.iter().any(|start| name.starts_with(start)));
    names.sort();
    names.into_iter().filter_map(|name| Some((nodes.join(&name), at(&blocks.join(&name), &nodes.join(&name))?))).collect()
}

fn at(folder: &Path, node: &Path) -> Option<Device> {
    let text = |name: &str| fs::read_to_string(folder.join(name)).ok();
    let number = |name: &str| text(name)?.trim().parse::<u64>().ok();
    let numbers = text("dev").map(|text| text.trim().to_string());
    let mut attachment = attachment_at(folder)?;
    // A loop device over nothing is no drive; a reader without a card is one.
    if !attachment.has_medium && attachment.transport == keel_source::Transport::Loop {
        return None;
    }
    attachment.held = numbers.as_deref().and_then(keel_source::use_of_numbers);
    let bytes = number("size").unwrap_or(0).saturating_mul(512);
    let identity = Identity { bytes, path: Some(node.to_path_buf()), ..Identity::of_sysfs(folder, LinkKind::BlockDevice) };
    let logical = number("queue/logical_block_size").unwrap_or(512);
    Some(Device {
        model: identity.model.clone(),
        serial: identity.serial.clone(),
        firmware: identity.firmware.clone(),
        bytes,
        sectors: (logical, number("queue/physical_block_size").unwrap_or(logical)),
        is_of_system: runs_the_system(node) || attachment.held.as_deref() == Some("swap space"),
        attachment,
        identity,
    })
}
