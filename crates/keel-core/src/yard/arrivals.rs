//! The devices of this machine as rows of the yard, and as they come and go.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use keel_source::{DeviceEvents, Transport, printable};

use super::{Berth, Group, Sight};
use crate::device::{self, Device};
use crate::job::Desk;

/// How often the list is read anew where the kernel tells nothing, and how soon a listener is let go of.
const ANEW: Duration = Duration::from_millis(500);

/// How long the list is read anew behind the kernel's word: how large a medium is that was put in is known when somebody first opens it.
const SETTLES: Duration = Duration::from_secs(5);

/// The block devices of this system, whole drives by name, as `/dev` paths. They are not opened here.
#[must_use]
pub fn devices() -> Vec<PathBuf> {
    device::all().into_iter().map(|(path, _)| path).collect()
}

/// The block devices of this system as berths, by what the system says of them.
#[must_use]
pub fn device_berths() -> Vec<Berth> {
    device::all().into_iter().map(berth).collect()
}

fn berth((path, device): (PathBuf, Device)) -> Berth {
    // What was seen of it under whatever name; one without a serial number may be any other.
    let sight = device.serial.as_ref().and_then(|_| Sight::known(&device.identity));
    Berth { group: Group::Device, device: Some(device), sight, ..Berth::bare(path) }
}

/// Tells the devices of this machine whenever they changed, until it is asked to stop: by the kernel's word, and by reading the list anew
/// where the kernel tells nothing.
pub fn watch(desk: &Desk<Vec<Berth>>) {
    let events = DeviceEvents::open().ok();
    let mut last = device_berths();
    desk.tell(last.clone());
    let mut settled = Instant::now();
    while !desk.cancel().is_cancelled() {
        match &events {
            Some(events) if events.wait(ANEW) => settled = Instant::now() + SETTLES,
            Some(_) if Instant::now() > settled => continue,
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

/// What changed between two lists, in words: who came, and who is gone. A loop device is plugged in by nobody: it comes and goes unsaid,
/// as this program's own do when it proves a volume.
#[must_use]
pub fn changes(before: &[Berth], after: &[Berth]) -> Vec<String> {
    let key = |berth: &Berth| (berth.path.clone(), berth.device.as_ref().map(Device::words));
    let name = |berth: &Berth| {
        let node = printable(&berth.path.display().to_string());
        let words = berth.device.as_ref().map(Device::words).filter(|words| !words.is_empty());
        words.map_or(node.clone(), |words| format!("{node} ({words})"))
    };
    let is_plugged = |berth: &&Berth| berth.device.as_ref().is_none_or(|device| device.attachment.transport != Transport::Loop);
    let lacks = |list: &[Berth], berth: &Berth| !list.iter().any(|other| key(other) == key(berth));
    let gone =
        before.iter().filter(is_plugged).filter(|berth| lacks(after, berth)).map(|berth| format!("{} is gone", name(berth)));
    let came = after
        .iter()
        .filter(is_plugged)
        .filter(|berth| lacks(before, berth))
        .map(|berth| format!("{} was plugged in", name(berth)));
    gone.chain(came).collect()
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::path::Path;

    use super::*;

    fn below(blocks: &Path, nodes: &Path) -> Vec<Berth> {
        device::below(blocks, nodes).into_iter().map(berth).collect()
    }

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
        let before = below(root.path(), nodes);
        let names: Vec<String> = before.iter().map(|berth| berth.path.display().to_string()).collect();
        assert_eq!(names, ["/dev/loop1", "/dev/sdq", "/dev/sdr"], "a reader without a card is there");
        let device = before[1].device.as_ref().unwrap();
        assert_eq!((device.words().as_str(), device.bytes, device.sectors), ("Mudlark BL-1", 1 << 20, (4096, 4096)));
        fs::remove_dir_all(root.path().join("sdq")).unwrap();
        fs::remove_dir_all(root.path().join("loop1")).unwrap();
        put(
            root.path(),
            &[("sds/size", "2048\n"), ("sds/device/model", "Mudlark\n"), ("sds/device/serial", "BL-1\n"), ("loop2/size", "8\n")],
        );
        let after = below(root.path(), nodes);
        assert_eq!(changes(&before, &after), ["/dev/sdq (Mudlark BL-1) is gone", "/dev/sds (Mudlark BL-1) was plugged in"]);
        assert!(changes(&after, &after).is_empty() && is_same(&after, &after) && !is_same(&before, &after));
    }
}
