//! Who a drive is.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::attached::{called_at, place_among_alike};
use crate::{SectorSize, printable};

/// How a source is attached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LinkKind {
    /// A raw image file, whole or split.
    Image,
    /// A Linux block device.
    BlockDevice,
    /// A simulated drive.
    Simulated,
    /// Bytes in memory, a window or an overlay: derived from another source.
    Derived,
}

impl LinkKind {
    /// The word shown to the technician.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Image => "image",
            Self::BlockDevice => "block device",
            Self::Simulated => "simulated drive",
            Self::Derived => "derived view",
        }
    }
}

/// What a drive says of itself. The confirmation code and the names of its state files derive from it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Identity {
    /// Name for the screens: file name or device name, control characters made visible.
    pub name: String,
    /// Canonical path, when there is one.
    pub path: Option<PathBuf>,
    /// How it is attached.
    pub link: LinkKind,
    /// Model as the drive says.
    pub model: Option<String>,
    /// Serial number as the drive says.
    pub serial: Option<String>,
    /// Firmware version as the drive says.
    pub firmware: Option<String>,
    /// Where it is plugged, where another drive that is there calls itself the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// Claimed length in bytes.
    pub bytes: u64,
    /// Logical sector size in bytes.
    pub logical_sector: SectorSize,
    /// Physical sector size in bytes.
    pub physical_sector: SectorSize,
}

impl Identity {
    /// A bare identity: a name and a length, 512-byte sectors.
    #[must_use]
    pub fn bare(name: impl Into<String>, bytes: u64, link: LinkKind) -> Self {
        Self {
            name: name.into(),
            path: None,
            link,
            model: None,
            serial: None,
            firmware: None,
            place: None,
            bytes,
            logical_sector: SectorSize::default(),
            physical_sector: SectorSize::default(),
        }
    }

    /// What the device calls itself that the folder `sysfs` of the system describes, as of `/sys/block`; it is not opened.
    #[must_use]
    pub fn of_sysfs(sysfs: &Path, link: LinkKind) -> Self {
        let called = called_at(sysfs);
        let name = printable(&sysfs.file_name().unwrap_or_default().to_string_lossy());
        let place = sysfs.parent().and_then(|blocks| place_among_alike(sysfs, &called, blocks));
        Self { place, model: called.model, serial: called.serial, firmware: called.firmware, ..Self::bare(name, 0, link) }
    }

    /// 32 hexadecimal digits that name this drive: from model, serial and size where the drive has a serial, else
    /// from path and size; with its place where another one calls itself the same.
    #[must_use]
    pub fn key(&self) -> String {
        let mut hasher = blake3::Hasher::new();
        match &self.serial {
            Some(serial) => {
                hasher.update(self.model.as_deref().unwrap_or("").as_bytes());
                hasher.update(&[0]);
                hasher.update(serial.as_bytes());
            }
            None => {
                let path = self.path.as_ref().map(|path| path.to_string_lossy().into_owned());
                hasher.update(path.unwrap_or_else(|| self.name.clone()).as_bytes());
            }
        }
        hasher.update(&self.bytes.to_le_bytes());
        if let Some(place) = &self.place {
            hasher.update(place.as_bytes());
        }
        hasher.finalize().to_hex()[..32].to_string()
    }

    /// The confirmation code: six signs from an alphabet without look-alikes, as `ABC-DEF`.
    #[must_use]
    pub fn code(&self) -> String {
        self.code_for("code")
    }

    /// As [`Identity::code`], for one purpose alone.
    #[must_use]
    pub fn code_for(&self, purpose: &str) -> String {
        const SIGNS: &[u8; 32] = b"ABCDEFGHJKLMNPQRSTUVWXYZ23456789";
        let hash = blake3::hash(format!("{purpose} {}", self.key()).as_bytes());
        let mut code: String = hash.as_bytes().iter().take(6).map(|byte| char::from(SIGNS[usize::from(byte & 31)])).collect();
        code.insert(3, '-');
        code
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn drive(serial: Option<&str>, path: &str, bytes: u64) -> Identity {
        Identity {
            serial: serial.map(str::to_string),
            path: Some(path.into()),
            model: Some("Mudlark".into()),
            ..Identity::bare("quay", bytes, LinkKind::Image)
        }
    }

    #[test]
    fn a_serial_names_a_drive_wherever_it_stands_and_a_path_where_there_is_none() {
        let own = drive(Some("BL-1"), "/dev/sda", 1000);
        assert_eq!(own.key(), drive(Some("BL-1"), "/dev/sdb", 1000).key());
        for other in [drive(Some("BL-2"), "/dev/sda", 1000), drive(Some("BL-1"), "/dev/sda", 2000), drive(None, "/dev/sda", 1000)]
        {
            assert_ne!(own.key(), other.key());
        }
        let model = Identity { model: Some("MudlarkB".into()), serial: Some("L-1".into()), ..own.clone() };
        assert_ne!(own.key(), model.key(), "model and serial are apart");
        assert_ne!(drive(None, "/bench/a.img", 1000).key(), drive(None, "/bench/b.img", 1000).key());
        assert_eq!(own.key().len(), 32);
        let twin = |place: &str| Identity { place: Some(place.into()), ..own.clone() };
        assert_ne!(twin("usb 1-4").key(), twin("usb 1-5").key(), "two that call themselves alike");
        assert_ne!(twin("usb 1-4").code(), own.code());
    }

    #[test]
    fn a_code_is_six_signs_that_cannot_be_taken_for_one_another() {
        for number in 0..200 {
            let code = drive(Some(&number.to_string()), "/x", 1).code();
            assert_eq!((code.len(), code.as_bytes()[3]), (7, b'-'));
            assert!(code.chars().all(|sign| sign == '-' || sign.is_ascii_uppercase() || ('2'..='9').contains(&sign)), "{code}");
            assert!(!code.contains(['I', 'O', '0', '1']), "{code}");
        }
    }
}
