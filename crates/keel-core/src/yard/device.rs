//! The devices of this machine, as the system describes them, and as they come and go.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use keel_source::{Attachment, DeviceEvents, Identity, LinkKind, attachment_at, printable};
use serde::Serialize;

use super::{Berth, Group, Sight};
use crate::job::Desk;

/// Where the system lists whole drives.
const BLOCKS: &str = "/sys/block";
/// How often the list is read anew where the kernel tells nothing, and how soon a listener is let go of.
const ANEW: Duration = Duration::from_millis(500);
/// Where the system's own volumes are mounted.
const OWN_POINTS: [&str; 8] = ["/", "/boot", "/boot/efi", "/efi", "/usr", "/var", "/home", "/nix/store"];
/// What is no drive: memory, what is built on other devices, and devices that only ever belong to the system.
const NO_DRIVES: [&str; 5] = ["ram", "zram", "dm-", "md", "fd"];

/// A device as the system describes it; it is not opened for that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Device {
    /// What the drive is kept under, as [`Identity::key`].
    pub key: String,
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

impl Device {
    /// True for a drive that this very system runs from: it is not offered for anything.
    #[must_use]
    pub fn is_of_system(&self) -> bool {
        let held = self.attachment.held.as_deref().unwrap_or_default();
        let point = held.strip_prefix("mounted at ");
        held == "swap space" || point.is_some_and(|point| is_own_point(Path::new(point)))
    }
}

/// True for a folder at which the system's own volumes are mounted.
pub(crate) fn is_own_point(point: &Path) -> bool {
    OWN_POINTS.iter().any(|own| point == Path::new(own))
}

/// The block devices of this system, whole drives by name, as `/dev` paths. They are not opened here.
#[must_use]
pub fn devices() -> Vec<PathBuf> {
    device_berths().into_iter().map(|berth| berth.path).collect()
}

/// The block devices of this system as berths, by what the system says of them.
#[must_use]
pub fn device_berths() -> Vec<Berth> {
    berths_below(Path::new(BLOCKS), Path::new("/dev"))
}

fn berths_below(blocks: &Path, nodes: &Path) -> Vec<Berth> {
    let names = fs::read_dir(blocks).into_iter().flatten().flatten().map(|entry| entry.file_name());
    let mut names: Vec<String> = names.map(|name| name.to_string_lossy().into_owned()).collect();
    names.retain(|name| !NO_DRIVES.iter().any(|start| name.starts_with(start)));
    names.sort();
    names.into_iter().filter_map(|name| berth_of(&blocks.join(&name), nodes.join(&name))).collect()
}

fn berth_of(folder: &Path, node: PathBuf) -> Option<Berth> {
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
    let called = Identity { bytes, path: Some(node.clone()), ..Identity::of_sysfs(folder, LinkKind::BlockDevice) };
    let logical = number("queue/logical_block_size").unwrap_or(512);
    // What was seen of it under whatever name; one without a serial number may be any other.
    let sight = Some(&called).filter(|called| called.serial.is_some()).and_then(Sight::known);
    let device = Device {
        key: called.key(),
        model: called.model,
        serial: called.serial,
        firmware: called.firmware,
        bytes,
        sectors: (logical, number("queue/physical_block_size").unwrap_or(logical)),
        attachment,
    };
    Some(Berth { group: Group::Device, device: Some(device), sight, ..Berth::bare(node) })
}

/// The device of this machine that is kept under `key`, whatever its name is now.
#[must_use]
pub fn device_of_key(key: &str) -> Option<PathBuf> {
    let is_meant = |berth: &Berth| berth.device.as_ref().is_some_and(|device| device.key == key && device.serial.is_some());
    device_berths().into_iter().find(is_meant).map(|berth| berth.path)
}

/// Tells the devices of this machine whenever they changed, until it is asked to stop: by the kernel's word, and by reading the list anew
/// where the kernel tells nothing.
pub fn watch(desk: &Desk<Vec<Berth>>) {
    let events = DeviceEvents::open().ok();
    let mut last = device_berths();
    desk.tell(last.clone());
    while !desk.cancel().is_cancelled() {
        match &events {
            Some(events) if !events.wait(ANEW) => continue,
            Some(_) => {}
            None => std::thread::sleep(ANEW),
        }
        let now = device_berths();
        if !is_same(&last, &now) {
            desk.tell(now.clone());
            last = now;
        }
    }
}

/// The same drives in the same state; what the kernel counts on them does not matter.
fn is_same(one: &[Berth], other: &[Berth]) -> bool {
    let seen = |berth: &Berth| {
        let mut device = berth.device.clone();
        if let Some(device) = &mut device {
            device.attachment.kernel_counts = None;
        }
        (berth.path.clone(), device)
    };
    one.len() == other.len() && one.iter().zip(other).all(|(one, other)| seen(one) == seen(other))
}

/// What changed between two lists, in words: who came, and who is gone.
#[must_use]
pub fn changes(before: &[Berth], after: &[Berth]) -> Vec<String> {
    let key = |berth: &Berth| (berth.path.clone(), berth.device.as_ref().map(Device::words));
    let name = |berth: &Berth| {
        let node = printable(&berth.path.display().to_string());
        let words = berth.device.as_ref().map(Device::words).filter(|words| !words.is_empty());
        words.map_or(node.clone(), |words| format!("{node} ({words})"))
    };
    let lacks = |list: &[Berth], berth: &Berth| !list.iter().any(|other| key(other) == key(berth));
    let gone = before.iter().filter(|berth| lacks(after, berth)).map(|berth| format!("{} is gone", name(berth)));
    let came = after.iter().filter(|berth| lacks(before, berth)).map(|berth| format!("{} was plugged in", name(berth)));
    gone.chain(came).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn put(root: &Path, files: &[(&str, &str)]) {
        for (file, content) in files {
            let path = root.join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
    }

    #[test]
    fn drives_come_and_go_and_what_is_no_drive_is_not_listed() {
        let root = tempfile::tempdir().unwrap();
        put(
            root.path(),
            &[
                ("sdq/size", "2048\n"),
                ("sdq/device/model", "Mudlark\n"),
                ("sdq/device/serial", "BL-1\n"),
                ("sdq/queue/logical_block_size", "4096\n"),
                ("sdr/size", "0\n"),
                ("loop0/size", "0\n"),
                ("loop1/size", "8\n"),
                ("zram0/size", "8\n"),
                ("dm-0/size", "8\n"),
            ],
        );
        let nodes = Path::new("/dev");
        let before = berths_below(root.path(), nodes);
        let names: Vec<String> = before.iter().map(|berth| berth.path.display().to_string()).collect();
        assert_eq!(names, ["/dev/loop1", "/dev/sdq", "/dev/sdr"], "a reader without a card is there");
        let device = before[1].device.as_ref().unwrap();
        assert_eq!((device.words().as_str(), device.bytes, device.sectors), ("Mudlark BL-1", 1 << 20, (4096, 4096)));
        fs::remove_dir_all(root.path().join("sdq")).unwrap();
        put(root.path(), &[("sds/size", "2048\n"), ("sds/device/model", "Mudlark\n"), ("sds/device/serial", "BL-1\n")]);
        let after = berths_below(root.path(), nodes);
        assert_eq!(changes(&before, &after), ["/dev/sdq (Mudlark BL-1) is gone", "/dev/sds (Mudlark BL-1) was plugged in"]);
        assert!(changes(&after, &after).is_empty() && is_same(&after, &after) && !is_same(&before, &after));
    }
}
