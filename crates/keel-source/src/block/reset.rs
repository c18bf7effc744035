//! A drive that does not answer is reset: itself, then the port that it is plugged into.

use std::fs::{File, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::deadline::Rouse;
use crate::sys;

/// First the device itself, then its port; nothing more.
pub(super) fn rouse(file: &Arc<File>, sysfs: &Path) -> Rouse {
    let (file, port) = (Arc::clone(file), usb_node(sysfs));
    Arc::new(move |turn| match turn {
        0 => sys::reset_device(&file, sys::ResetLevel::Device).is_ok(),
        1 => match &port {
            Some(port) => OpenOptions::new().write(true).open(port).is_ok_and(|port| sys::reset_usb_port(&port).is_ok()),
            None => sys::reset_device(&file, sys::ResetLevel::Bus).is_ok(),
        },
        _ => false,
    })
}

/// The node of the USB device that the drive described at `sysfs` hangs on: `/dev/bus/usb/002/003`.
fn usb_node(sysfs: &Path) -> Option<PathBuf> {
    let drive = sysfs.canonicalize().ok()?;
    let number = |folder: &Path, file: &str| std::fs::read_to_string(folder.join(file)).ok()?.trim().parse::<u32>().ok();
    let usb = drive.ancestors().take(32).find(|folder| folder.join("idVendor").exists() && folder.join("busnum").exists())?;
    let (bus, device) = (number(usb, "busnum")?, number(usb, "devnum")?);
    Some(PathBuf::from(format!("/dev/bus/usb/{bus:03}/{device:03}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_port_is_that_of_the_usb_device_above_the_drive() {
        let root = tempfile::tempdir().unwrap();
        let drive = root.path().join("usb2/2-1/2-1:1.0/host6/6:0:0:0/block/sdq");
        std::fs::create_dir_all(&drive).unwrap();
        assert_eq!(usb_node(&drive), None);
        for (file, text) in [("idVendor", "1234"), ("busnum", "2\n"), ("devnum", "17\n")] {
            std::fs::write(root.path().join("usb2/2-1").join(file), text).unwrap();
        }
        assert_eq!(usb_node(&drive), Some("/dev/bus/usb/002/017".into()));
    }

    #[test]
    fn what_is_no_drive_is_not_roused() {
        let rouse = rouse(&Arc::new(tempfile::tempfile().unwrap()), Path::new("/nowhere"));
        assert!((0..4).all(|turn| !rouse(turn)));
    }
}
