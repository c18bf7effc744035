//! What the running system does with a device or an image: mounts of any process, swap, devices built on it, loop devices over it;
//! and which medium a file lies on.

use std::collections::BTreeSet;
use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use crate::{printable, sys};

/// Devices on devices that are followed: arrays on mappers on partitions, and more.
const DEEPEST: usize = 12;
/// The most processes whose mounts are looked at.
const MOST_PROCESSES: usize = 65_536;

/// A file as the system tells it from others.
pub(crate) type FileId = (u64, u64);

/// Device and inode number of a file.
pub(crate) fn file_id(metadata: &fs::Metadata) -> FileId {
    (metadata.dev(), metadata.ino())
}

/// Where sysfs describes block device `device`.
pub(crate) fn sysfs_of(device: u64) -> PathBuf {
    PathBuf::from(format!("/sys/dev/block/{}", numbers(device)))
}

fn numbers(device: u64) -> String {
    format!("{}:{}", rustix::fs::major(device), rustix::fs::minor(device))
}

fn device_of(numbers: &str) -> Option<u64> {
    let (major, minor) = numbers.trim().split_once(':')?;
    Some(rustix::fs::makedev(major.parse().ok()?, minor.parse().ok()?))
}

/// The whole drive that a partition is of; the device itself for a whole drive.
fn whole(device: u64) -> u64 {
    let parent = || {
        let sysfs = sysfs_of(device).canonicalize().ok()?;
        sysfs.join("partition").exists().then_some(())?;
        device_of(&fs::read_to_string(sysfs.parent()?.join("dev")).ok()?)
    };
    parent().unwrap_or(device)
}

/// The partitions of a whole drive.
fn partitions(device: u64) -> Vec<u64> {
    let entries = fs::read_dir(sysfs_of(device)).into_iter().flatten().flatten();
    let parts = entries.filter(|entry| entry.path().join("partition").exists());
    parts.filter_map(|entry| device_of(&fs::read_to_string(entry.path().join("dev")).ok()?)).collect()
}

/// A line of a process's table of mounts.
struct Mount {
    device: String,
    point: String,
    source: String,
    kind: String,
}

impl Mount {
    /// True for a mount of one of these devices. File systems of several devices have a number of their own; the first of them is named.
    fn is_of(&self, devices: &[u64]) -> bool {
        let named =
            || self.source.starts_with('/') && is_block(Path::new(&self.source)).is_some_and(|own| devices.contains(&own));
        devices.iter().any(|device| self.device == numbers(*device)) || named()
    }
}

/// Reads a table of mounts as `/proc/PID/mountinfo` gives it.
fn mounts(text: &str) -> Vec<Mount> {
    let line = |line: &str| {
        let (head, tail) = line.split_once(" - ")?;
        let (mut head, mut tail) = (head.split(' '), tail.split(' '));
        let device = head.nth(2)?.to_string();
        let point = unescaped(head.nth(1)?);
        let kind = tail.next()?.to_string();
        Some(Mount { device, point, kind, source: unescaped(tail.next()?) })
    };
    text.lines().filter_map(line).collect()
}

/// The table writes blanks and backslashes as three octal digits.
fn unescaped(text: &str) -> String {
    let (mut bytes, mut rest) = (Vec::new(), text.as_bytes());
    while let [first, tail @ ..] = rest {
        let digits = tail.get(..3).filter(|_| *first == b'\\').and_then(|digits| std::str::from_utf8(digits).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &tail[3..];
            }
            None => {
                bytes.push(*first);
                rest = tail;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// The mounts that this process sees.
fn own_mounts() -> Vec<Mount> {
    mounts(&fs::read_to_string("/proc/self/mountinfo").unwrap_or_default())
}

/// The mounts of all processes: one table for each name space that any of them sees.
fn all_mounts() -> Vec<Mount> {
    let mut spaces: BTreeSet<PathBuf> = BTreeSet::new();
    let mut all = own_mounts();
    spaces.extend(fs::read_link("/proc/self/ns/mnt").ok());
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten().take(MOST_PROCESSES) {
        if !entry.file_name().to_string_lossy().bytes().all(|byte| byte.is_ascii_digit()) {
            continue;
        }
        if fs::read_link(entry.path().join("ns/mnt")).is_ok_and(|space| spaces.insert(space)) {
            all.extend(mounts(&fs::read_to_string(entry.path().join("mountinfo")).unwrap_or_default()));
        }
    }
    all
}

fn is_block(path: &Path) -> Option<u64> {
    fs::metadata(path).ok().filter(|about| about.file_type().is_block_device()).map(|about| about.rdev())
}

/// How the running system uses block device `device`, one of its partitions, or the drive that it is a partition of: a mount point in
/// any process's view, swap, a device built on it, or a loop device over it that is in use itself. `None` when it does not, as far as its tables say.
pub(crate) fn use_of_device(device: u64) -> Option<String> {
    // The other partitions of its drive are others' ground: a partition may be written beside a mounted one.
    let mut own = vec![device];
    own.extend(partitions(device));
    own.extend(Some(whole(device)).filter(|whole| *whole != device));
    for mount in all_mounts() {
        if mount.is_of(&own) {
            return Some(format!("mounted at {}", printable(&mount.point)));
        }
    }
    if let Some(how) = own.iter().find_map(|device| member_of_volume(*device)) {
        return Some(how);
    }
    if swaps().iter().filter_map(|path| is_block(path)).any(|swap| own.contains(&swap)) {
        return Some("swap space".into());
    }
    let holders = own.iter().flat_map(|device| fs::read_dir(sysfs_of(*device).join("holders")).into_iter().flatten().flatten());
    let built =
        holders.map(|holder| format!("device {} is built on it", printable(&holder.file_name().to_string_lossy()))).next();
    built.or_else(|| use_through_loops(&|backing| backing.device.is_some_and(|device| own.contains(&device))))
}

/// The folders at which this process sees the block device at `path` or one of its partitions mounted, the outer ones first.
#[must_use]
pub fn mount_points_of(path: &Path) -> Vec<PathBuf> {
    let Some(device) = is_block(path) else { return Vec::new() };
    let mut own = vec![device];
    own.extend(partitions(device));
    own_mounts().into_iter().filter(|mount| mount.is_of(&own)).map(|mount| PathBuf::from(mount.point)).collect()
}

/// What this process sees mounted at the folder `point`: the devices, as they were named.
#[must_use]
pub fn mounts_at(point: &Path) -> Vec<PathBuf> {
    own_mounts().into_iter().filter(|mount| Path::new(&mount.point) == point).map(|mount| PathBuf::from(mount.source)).collect()
}

/// How the running system uses the block device with these numbers, as `8:16`.
#[must_use]
pub fn use_of_numbers(numbers: &str) -> Option<String> {
    use_of_device(device_of(numbers)?)
}

/// A mounted file system of several devices that `device` is one of.
fn member_of_volume(device: u64) -> Option<String> {
    let volumes = fs::read_dir("/sys/fs/btrfs").into_iter().flatten().flatten();
    let mut members = volumes.flat_map(|volume| fs::read_dir(volume.path().join("devices")).into_iter().flatten().flatten());
    let is_own = |member: &fs::DirEntry| {
        fs::read_to_string(member.path().join("dev")).ok().and_then(|numbers| device_of(&numbers)) == Some(device)
    };
    members.any(|member| is_own(&member)).then(|| "a mounted file system of several devices".to_string())
}

/// Devices and files in use as swap.
fn swaps() -> Vec<PathBuf> {
    let table = fs::read_to_string("/proc/swaps").unwrap_or_default();
    table.lines().skip(1).filter_map(|line| Some(PathBuf::from(unescaped(line.split_whitespace().next()?)))).collect()
}

/// What stands behind a loop device: a file, and the block device that it is, where it is one.
struct Backing {
    file: FileId,
    device: Option<u64>,
}

/// The loop devices over what `is_own`, whatever name or place they know it by.
fn loops_over(is_own: &dyn Fn(&Backing) -> bool) -> Vec<(String, u64)> {
    let entries = fs::read_dir("/sys/block").into_iter().flatten().flatten();
    let attached = entries.filter(|entry| entry.path().join("loop/backing_file").exists());
    let over = attached.filter(|entry| backing_of(entry).is_some_and(|backing| is_own(&backing)));
    over.filter_map(|entry| {
        let number = device_of(&fs::read_to_string(entry.path().join("dev")).ok()?)?;
        Some((entry.file_name().to_string_lossy().into_owned(), number))
    })
    .collect()
}

/// What is behind a loop device: as the driver knows it, else by the name that it was given.
fn backing_of(entry: &fs::DirEntry) -> Option<Backing> {
    let device = File::open(Path::new("/dev").join(entry.file_name())).ok();
    let known = device.and_then(|device| sys::loop_backing(&device).ok());
    known.map(|(file, device)| Backing { file, device: Some(device).filter(|device| *device != 0) }).or_else(|| {
        let name = fs::read_to_string(entry.path().join("loop/backing_file")).ok()?;
        let about = fs::metadata(name.trim_end()).ok()?;
        let device = about.file_type().is_block_device().then(|| about.rdev());
        Some(Backing { file: file_id(&about), device })
    })
}

/// How the running system uses a loop device over what `is_own`.
fn use_through_loops(is_own: &dyn Fn(&Backing) -> bool) -> Option<String> {
    loops_over(is_own).into_iter().find_map(|(name, device)| {
        // Held by something that no table shows.
        let held = || is_held(&Path::new("/dev").join(&name)).then(|| "held by the system".to_string());
        let how = use_of_device(device).or_else(held)?;
        Some(format!("{how}, through {}", printable(&name)))
    })
}

/// How the running system uses the file `image`: through a loop device that is in use, or as swap.
pub(crate) fn use_of_image(image: FileId) -> Option<String> {
    let in_swap = || swaps().iter().any(|path| fs::metadata(path).is_ok_and(|about| file_id(&about) == image));
    use_through_loops(&|backing| backing.file == image).or_else(|| in_swap().then(|| "swap space".into()))
}

/// True when the block device at `path` does not open exclusively: the kernel holds it.
fn is_held(path: &Path) -> bool {
    let flags = (rustix::fs::OFlags::EXCL | rustix::fs::OFlags::NONBLOCK).bits().cast_signed();
    let opened = OpenOptions::new().read(true).custom_flags(flags).open(path);
    opened.is_err_and(|error| error.raw_os_error() == Some(rustix::io::Errno::BUSY.raw_os_error()))
}

/// What a file lies on: block devices, whole drives, and files that back loop devices, down to the ground.
#[derive(Default)]
struct Medium {
    devices: BTreeSet<u64>,
    files: BTreeSet<FileId>,
}

impl Medium {
    /// Adds `device` and what it is built on; through the files of loop devices only with `files`.
    fn add(&mut self, device: u64, files: bool, depth: usize) {
        if depth > DEEPEST || !self.devices.insert(device) {
            return;
        }
        let drive = whole(device);
        self.add(drive, files, depth + 1);
        let below = fs::read_dir(sysfs_of(drive).join("slaves")).into_iter().flatten().flatten();
        let below = below.filter_map(|entry| device_of(&fs::read_to_string(entry.path().join("dev")).ok()?));
        for device in below.collect::<Vec<u64>>() {
            self.add(device, files, depth + 1);
        }
        let backing = fs::read_to_string(sysfs_of(drive).join("loop/backing_file")).ok().filter(|_| files);
        if let Some(name) = backing.map(|name| PathBuf::from(name.trim_end())) {
            let name_of = sysfs_of(drive).canonicalize().ok().and_then(|path| path.file_name().map(ToOwned::to_owned));
            let device = name_of.and_then(|name| File::open(Path::new("/dev").join(name)).ok());
            let id = device.and_then(|device| sys::loop_backing(&device).ok()).map(|(file, _)| file);
            self.files.extend(id.or_else(|| fs::metadata(&name).ok().map(|about| file_id(&about))));
            file_system_of(&name).into_iter().for_each(|device| self.add(device, files, depth + 1));
        }
    }
}

/// What block device `device` lies on, by their paths and without itself: whole drives, members, files behind loop devices.
pub(crate) fn beneath(device: u64) -> Vec<PathBuf> {
    let mut ground = Medium::default();
    ground.add(device, false, 0);
    let backing = |device: &u64| {
        let name = fs::read_to_string(sysfs_of(*device).join("loop/backing_file")).ok()?;
        Some(PathBuf::from(name.trim_end())).filter(|name| name.is_file())
    };
    let node = |device: &u64| {
        let name = sysfs_of(*device).canonicalize().ok()?.file_name().map(ToOwned::to_owned)?;
        Some(Path::new("/dev").join(name))
    };
    let files: Vec<PathBuf> = ground.devices.iter().filter_map(backing).collect();
    ground.devices.iter().filter(|other| **other != device).filter_map(node).chain(files).collect()
}

/// The device that the file system is on in which `path` stands, or would stand.
fn file_system_of(path: &Path) -> Vec<u64> {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    let stands = absolute.ancestors().find_map(|ancestor| ancestor.canonicalize().ok());
    let Some(stands) = stands else { return Vec::new() };
    let own = mounts(&fs::read_to_string("/proc/self/mountinfo").unwrap_or_default());
    // Of several mounts at one point the last one is seen.
    let mount = own.iter().filter(|mount| stands.starts_with(&mount.point)).max_by_key(|mount| mount.point.len());
    let named = mount.and_then(|mount| is_block(Path::new(&mount.source)));
    let numbered = mount.and_then(|mount| device_of(&mount.device)).filter(|device| sysfs_of(*device).exists());
    let by_file = fs::metadata(&stands).ok().map(|about| about.dev()).filter(|device| sysfs_of(*device).exists());
    let mut devices: Vec<u64> = named.into_iter().chain(numbered).chain(by_file).collect();
    if mount.is_some_and(|mount| mount.kind == "btrfs") {
        devices.extend(fellows(&devices));
    }
    devices.dedup();
    devices
}

/// The other devices of the mounted file systems that one of `devices` is of.
fn fellows(devices: &[u64]) -> Vec<u64> {
    let volumes = fs::read_dir("/sys/fs/btrfs").into_iter().flatten().flatten();
    let members = |volume: fs::DirEntry| -> Vec<u64> {
        let members = fs::read_dir(volume.path().join("devices")).into_iter().flatten().flatten();
        members.filter_map(|member| device_of(&fs::read_to_string(member.path().join("dev")).ok()?)).collect()
    };
    volumes.map(members).filter(|members| members.iter().any(|member| devices.contains(member))).flatten().collect()
}

/// Why nothing may be put at `output` (a file, or a block device that is written over) while the source at `source` (an image or a block
/// device) is worked on: it would lie on the source's own medium. `None` when it would not.
#[must_use]
pub fn own_medium(source: &Path, output: &Path) -> Option<&'static str> {
    let about = fs::metadata(source).ok()?;
    let mut ground = Medium::default();
    let below = is_block(output).map_or_else(|| file_system_of(output), |device| vec![device]);
    below.into_iter().for_each(|device| ground.add(device, true, 0));
    if about.file_type().is_block_device() {
        let mut own = Medium::default();
        own.add(about.rdev(), false, 0);
        let on = own.devices.iter().any(|device| ground.devices.contains(device));
        return on.then_some("it lies on that drive");
    }
    let on = ground.files.contains(&file_id(&about));
    on.then_some("it lies in that image, through a loop device")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_of_mounts_is_read_with_its_escapes_and_optional_fields() {
        let text = "36 35 98:0 /mnt1 /mnt\\0402 rw,noatime master:1 shared:7 - ext3 /dev/root\\134x rw,errors=continue\nnonsense\n\
                    41 35 0:44 /@ /home rw - btrfs /dev/sdb2 rw\n";
        let found = mounts(text);
        assert_eq!(found.len(), 2);
        assert_eq!(
            (found[0].device.as_str(), found[0].point.as_str(), found[0].source.as_str()),
            ("98:0", "/mnt 2", "/dev/root\\x")
        );
        assert_eq!((found[1].kind.as_str(), found[1].source.as_str()), ("btrfs", "/dev/sdb2"));
        assert_eq!(unescaped("a\\9b\\"), "a\\9b\\");
    }
}
