//! The settings that the kernel reads a device with: shown, and changed where somebody asks for it.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

/// The files of a setting below a device's own folder, each with what it counts in: the first one that is there is meant.
type Files = &'static [(&'static str, u64)];
const TIMEOUT: Files = &[("device/timeout", 1), ("queue/io_timeout", 1000)];
const QUEUE_DEPTH: Files = &[("device/queue_depth", 1), ("queue/nr_requests", 1)];
const READ_AHEAD: Files = &[("queue/read_ahead_kb", 1)];

/// Settings that can be changed; what is none stays as it is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SettingsWanted {
    /// Seconds after which the kernel takes a request for lost, and resets the drive.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub timeout_s: Option<u64>,
    /// Requests under way at once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub queue_depth: Option<u64>,
    /// KiB that it reads ahead.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub read_ahead_kib: Option<u64>,
}

impl SettingsWanted {
    /// True where nothing is asked for.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Writes them for the device described at `sysfs`; what stood there before, of what was changed. Where one cannot be changed the
    /// others are put back.
    ///
    /// # Errors
    /// What the system answers, with the name of the setting.
    pub(crate) fn write(self, sysfs: &Path) -> io::Result<Self> {
        let mut before = Self::default();
        let asked = [
            (self.timeout_s, &mut before.timeout_s, TIMEOUT),
            (self.queue_depth, &mut before.queue_depth, QUEUE_DEPTH),
            (self.read_ahead_kib, &mut before.read_ahead_kib, READ_AHEAD),
        ];
        let mut failed = None;
        for (value, before, files) in asked {
            let Some(value) = value.filter(|_| failed.is_none()) else { continue };
            match change(sysfs, files, value) {
                Ok(stood) => *before = Some(stood),
                Err(error) => failed = Some(error),
            }
        }
        match failed {
            None => Ok(before),
            Some(error) => {
                if !before.is_empty() {
                    let _ = before.write(sysfs);
                }
                Err(error)
            }
        }
    }
}

/// Writes `value` to the first of `files` that is there, each with what it counts in; what stood there.
fn change(sysfs: &Path, files: Files, value: u64) -> io::Result<u64> {
    let there = files.iter().map(|(name, unit)| (sysfs.join(name), *unit)).find(|(path, _)| path.exists());
    let (path, unit): (PathBuf, u64) = there.ok_or(io::ErrorKind::Unsupported)?;
    let named = |error: io::Error| io::Error::new(error.kind(), format!("{}: {error}", path.display()));
    let stood = fs::read_to_string(&path).map_err(named)?;
    let stood: u64 = stood.trim().parse().map_err(|_| io::Error::from(io::ErrorKind::InvalidData))?;
    fs::write(&path, value.saturating_mul(unit).to_string()).map_err(named)?;
    Ok(stood / unit)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn device(files: &[(&str, &str)]) -> tempfile::TempDir {
        let root = tempfile::tempdir().unwrap();
        for (name, text) in files {
            let path = root.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        root
    }

    fn text(root: &tempfile::TempDir, name: &str) -> String {
        fs::read_to_string(root.path().join(name)).unwrap()
    }

    #[test]
    fn what_is_asked_for_is_changed_and_what_stood_before_comes_back() {
        let disk = device(&[("device/timeout", "30\n"), ("device/queue_depth", "32\n"), ("queue/read_ahead_kb", "128\n")]);
        let wanted = SettingsWanted { timeout_s: Some(5), read_ahead_kib: Some(0), ..SettingsWanted::default() };
        let before = wanted.write(disk.path()).unwrap();
        assert_eq!(before, SettingsWanted { timeout_s: Some(30), queue_depth: None, read_ahead_kib: Some(128) });
        assert_eq!((text(&disk, "device/timeout").as_str(), text(&disk, "queue/read_ahead_kb").as_str()), ("5", "0"));
        assert_eq!(text(&disk, "device/queue_depth"), "32\n", "nobody asked for it");
        before.write(disk.path()).unwrap();
        assert_eq!((text(&disk, "device/timeout").as_str(), text(&disk, "queue/read_ahead_kb").as_str()), ("30", "128"));
    }

    #[test]
    fn a_drive_without_that_file_counts_in_milliseconds() {
        let nvme = device(&[("queue/io_timeout", "30000\n"), ("queue/nr_requests", "1023\n")]);
        let wanted = SettingsWanted { timeout_s: Some(7), queue_depth: Some(1), read_ahead_kib: None };
        let before = wanted.write(nvme.path()).unwrap();
        assert_eq!((before.timeout_s, before.queue_depth), (Some(30), Some(1023)));
        assert_eq!(text(&nvme, "queue/io_timeout"), "7000");
    }

    #[test]
    fn where_one_cannot_be_changed_all_stay_as_they_were() {
        let disk = device(&[("device/timeout", "30\n"), ("queue/read_ahead_kb", "a few\n")]);
        let wanted = SettingsWanted { timeout_s: Some(5), queue_depth: None, read_ahead_kib: Some(0) };
        assert!(wanted.write(disk.path()).is_err());
        assert_eq!(text(&disk, "device/timeout"), "30");
        assert!(SettingsWanted { queue_depth: Some(1), ..SettingsWanted::default() }.write(disk.path()).is_err(), "it has none");
    }
}
