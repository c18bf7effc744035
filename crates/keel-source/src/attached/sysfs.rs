//! The files of sysfs that describe a block device, its adapter, and the ports and hubs between.

use std::fs;
use std::path::{Path, PathBuf};

use super::{Attachment, Bridge, Called, KernelCounts, LinkRate, Settings, Transport};
use crate::{holders, printable};

/// The longest text that is taken from a file, in bytes.
const LONGEST: usize = 400;
/// What the version of USB is called with which a drive says that it can do more than its port (USB 3.2, 9.6.1).
const CAN_DO_MORE: &str = "2.10";
/// USB class of hubs.
const HUB: &str = "09";

fn text(path: &Path) -> Option<String> {
    let bytes = fs::read(path).ok()?;
    let text =
        String::from_utf8_lossy(bytes.get(..bytes.len().min(LONGEST))?).trim_matches(|sign: char| sign == '\0').to_string();
    let text = printable(text.trim());
    (!text.is_empty()).then_some(text)
}

fn number(path: &Path) -> Option<u64> {
    text(path)?.parse().ok()
}

fn hexadecimal(path: &Path) -> Option<u64> {
    u64::from_str_radix(text(path)?.trim_start_matches("0x"), 16).ok()
}

fn name(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// The name of the driver at `path`.
fn driver(path: &Path) -> Option<String> {
    fs::read_link(path.join("driver")).ok().map(|driver| name(&driver))
}

/// `6.0 Gbps` and `8.0 GT/s PCIe` as bits per second.
fn rate_in(text: &str) -> Option<u64> {
    let (number, unit) = text.split_once(' ')?;
    let tenths = number.parse::<f64>().ok().filter(|number| (0.1..1000.0).contains(number))? * 10.0;
    let bits = tenths as u64 * 100_000_000;
    (unit.starts_with("Gbps") || unit.starts_with("GT/s")).then_some(bits)
}

/// The folders from the adapter down to the device: sysfs names a device by all that it is plugged into.
struct Way {
    /// The whole drive's own folder.
    drive: PathBuf,
    /// Every folder above it, the nearest first.
    above: Vec<PathBuf>,
}

impl Way {
    fn of(drive: &Path) -> Option<Self> {
        let drive = drive.canonicalize().ok()?;
        let drive = match drive.join("partition").exists() {
            true => drive.parent()?.to_path_buf(),
            false => drive,
        };
        let above = drive.ancestors().skip(1).take(32).map(Path::to_path_buf).collect();
        Some(Self { drive, above })
    }

    /// The nearest folder above that `fits`.
    fn nearest(&self, fits: impl Fn(&Path) -> bool) -> Option<&Path> {
        self.above.iter().map(PathBuf::as_path).find(|path| fits(path))
    }

    /// The USB device that it hangs on; an interface below it has no speed.
    fn usb(&self) -> Option<&Path> {
        self.nearest(|path| path.join("idVendor").exists() && path.join("speed").exists())
    }

    /// The folder of its ATA port: `ata3`.
    fn ata(&self) -> Option<&Path> {
        self.nearest(|path| name(path).strip_prefix("ata").is_some_and(|port| port.parse::<u32>().is_ok()))
    }

    fn transport(&self) -> Transport {
        let own = name(&self.drive);
        if own.starts_with("nvme") {
            return Transport::Nvme;
        }
        if self.ata().is_some() {
            return Transport::Ata;
        }
        if self.usb().is_some() {
            let is_uas = self.above.iter().any(|path| driver(path).is_some_and(|driver| driver == "uas"));
            return if is_uas { Transport::Uas } else { Transport::Usb };
        }
        match () {
            () if own.starts_with("sd") || own.starts_with("sr") => Transport::Scsi,
            () if own.starts_with("mmcblk") => Transport::Mmc,
            () if own.starts_with("vd") => Transport::Virtio,
            () if own.starts_with("loop") => Transport::Loop,
            () => Transport::Other,
        }
    }
}

/// What the drive described at `sysfs` (a folder of `/sys/block`) calls itself. A partition is not called at all: several of one drive would
/// be called alike.
pub(crate) fn called_at(sysfs: &Path) -> Called {
    if sysfs.join("partition").exists() {
        return Called::default();
    }
    let own = |names: &[&str]| names.iter().find_map(|name| text(&sysfs.join(name)));
    let way = Way::of(sysfs);
    let usb = way.as_ref().and_then(Way::usb);
    // `UNIT SERIAL NUMBER` (SPC-4, 7.8.15): four bytes, then the number.
    let page = || {
        let bytes = fs::read(sysfs.join("device/vpd_pg80")).ok()?;
        let length = usize::from(u16::from_be_bytes(*bytes.get(2..4)?.first_chunk()?));
        let serial = String::from_utf8_lossy(bytes.get(4..bytes.len().min(4 + length.min(LONGEST)))?).into_owned();
        let serial = printable(serial.trim_matches(|sign: char| sign == '\0' || sign.is_whitespace()));
        (!serial.is_empty()).then_some(serial)
    };
    // Bridges that know nothing of their drive have a number of their own.
    let bridge = || usb.and_then(|usb| text(&usb.join("serial")));
    Called {
        model: own(&["device/model", "device/name"]),
        serial: own(&["device/serial", "serial"]).or_else(page).or_else(bridge),
        firmware: own(&["device/firmware_rev", "device/rev", "device/fwrev"]),
    }
}

/// Where the drive at `sysfs` is plugged, when another drive below `blocks` (as `/sys/block`) calls itself the same and is as long.
pub(crate) fn place_among_alike(sysfs: &Path, called: &Called, blocks: &Path) -> Option<String> {
    called.serial.as_ref()?;
    let own = sysfs.canonicalize().ok()?;
    let size = text(&own.join("size"));
    let others = fs::read_dir(blocks).ok()?.flatten().filter_map(|entry| entry.path().canonicalize().ok());
    let is_alike = |other: &PathBuf| *other != own && text(&other.join("size")) == size && called_at(other) == *called;
    let mut others = others.filter(is_alike);
    others.next().and_then(|_| attachment_at(sysfs)).map(|found| found.place)
}

/// What the system says of the device with the number `device` (as in the metadata of its node). `None` where it has no folder.
#[must_use]
pub fn attachment_of(device: u64) -> Option<Attachment> {
    let mut found = attachment_at(&holders::sysfs_of(device))?;
    found.held = holders::use_of_device(device);
    Some(found)
}

/// What the folder `sysfs` of a device says, as of `/sys/block`; who uses it is not looked up.
#[must_use]
pub fn attachment_at(sysfs: &Path) -> Option<Attachment> {
    let way = Way::of(sysfs)?;
    let drive = &way.drive;
    let transport = way.transport();
    let is_set = |file: &str| text(&drive.join(file)).is_some_and(|flag| flag == "1");
    let (queue, device) = (drive.join("queue"), drive.join("device"));
    let scheduler = text(&queue.join("scheduler"));
    let settings = Settings {
        timeout_s: number(&device.join("timeout")).or_else(|| number(&queue.join("io_timeout")).map(|ms| ms / 1000)),
        queue_depth: number(&device.join("queue_depth")).or_else(|| number(&queue.join("nr_requests"))),
        read_ahead_kib: number(&queue.join("read_ahead_kb")),
        request_kib: number(&queue.join("max_sectors_kb")),
        scheduler: scheduler.and_then(|all| Some(all.split_once('[')?.1.split_once(']')?.0.to_string())),
    };
    let counts = hexadecimal(&device.join("iorequest_cnt")).map(|requests| KernelCounts {
        requests,
        errors: hexadecimal(&device.join("ioerr_cnt")).unwrap_or(0),
        timeouts: hexadecimal(&device.join("iotmo_cnt")),
    });
    let mut names = vec![name(drive)];
    names.extend(device.canonicalize().ok().map(|device| name(&device)).filter(|name| *name != "block"));
    names.extend(way.ata().map(name));
    names.extend(way.usb().map(|usb| format!("usb {}", name(usb))));
    let controller = way.nearest(|path| name(path).split(':').count() == 3 && path.join("vendor").exists());
    let place = match transport {
        Transport::Ata => way.ata().map(name),
        Transport::Usb | Transport::Uas => way.usb().map(|usb| format!("usb {}", name(usb))),
        _ => controller.map(name),
    };
    Some(Attachment {
        transport,
        place: place.unwrap_or_default(),
        hubs: way.usb().map(hubs).unwrap_or_default(),
        bridge: way.usb().map(|usb| bridge(usb, &way)),
        rate: rate(&way, transport),
        wwn: text(&device.join("wwid")).or_else(|| text(&drive.join("wwid"))),
        is_removable: is_set("removable"),
        is_read_only: is_set("ro"),
        has_medium: number(&drive.join("size")).is_some_and(|sectors| sectors > 0),
        kernel_counts: counts,
        settings,
        names,
        held: None,
        identify: way.ata().and_then(identify),
    })
}

/// The hubs above a USB device, without the one that is the machine's own.
fn hubs(usb: &Path) -> Vec<String> {
    let above = usb.ancestors().skip(1).take(16);
    let is_hub =
        |path: &&Path| text(&path.join("bDeviceClass")).is_some_and(|class| class == HUB) && !name(path).starts_with("usb");
    let mut hubs: Vec<String> = above.filter(is_hub).map(called).collect();
    hubs.reverse();
    hubs
}

fn called(usb: &Path) -> String {
    let words = ["manufacturer", "product"].map(|file| text(&usb.join(file)));
    let words: Vec<String> = words.into_iter().flatten().collect();
    if words.is_empty() { name(usb) } else { words.join(" ") }
}

fn bridge(usb: &Path, way: &Way) -> Bridge {
    let id = ["idVendor", "idProduct"].map(|file| text(&usb.join(file)).unwrap_or_default());
    let driver =
        way.above.iter().take_while(|path| path.as_path() != usb).find_map(|path| driver(path).filter(|name| name != "sd"));
    Bridge { name: called(usb), id: id.join(":"), driver }
}

fn rate(way: &Way, transport: Transport) -> Option<LinkRate> {
    match transport {
        Transport::Ata => {
            let port = way.ata()?;
            let number = name(port).strip_prefix("ata")?.to_string();
            let link = port.join(format!("link{number}/ata_link/link{number}"));
            let speed = |file: &str| rate_in(&text(&link.join(file))?);
            let now = speed("sata_spd")?;
            let (port_can, allowed) = (speed("hw_sata_spd_limit"), speed("sata_spd_limit"));
            let drive = identify(port).and_then(|words| sata_speeds(&words));
            // Kernels tell no limit where there is none; one below the port's was set after errors.
            let is_stepped_down =
                allowed.is_some_and(|allowed| port_can.is_none_or(|can| allowed < can) && drive > Some(allowed));
            Some(LinkRate { now, drive, port: port_can, is_stepped_down })
        }
        Transport::Usb | Transport::Uas => {
            let usb = way.usb()?;
            let now = number(&usb.join("speed"))? * 1_000_000;
            let can_do_more = text(&usb.join("version")).is_some_and(|version| version == CAN_DO_MORE);
            let drive = (can_do_more && now < 5_000_000_000).then_some(5_000_000_000);
            // A port of two speeds has a twin.
            let port = usb.join("port/peer").exists().then_some(5_000_000_000).filter(|_| now < 5_000_000_000);
            Some(LinkRate { now, drive, port, is_stepped_down: false })
        }
        Transport::Nvme => {
            let function = way.nearest(|path| path.join("current_link_speed").exists())?;
            let lanes = |file: &str| number(&function.join(file));
            let speed = |file: &str, lanes: u64| Some(rate_in(&text(&function.join(file))?)? * lanes);
            let now = speed("current_link_speed", lanes("current_link_width").filter(|lanes| *lanes > 0)?)?;
            let drive = lanes("max_link_width").and_then(|lanes| speed("max_link_speed", lanes));
            Some(LinkRate { now, drive, port: None, is_stepped_down: false })
        }
        _ => None,
    }
}

/// The fastest speed of word 76 of `IDENTIFY DEVICE` data (ACS-4, 7.12.7.33), in bits per second.
fn sata_speeds(identify: &[u8]) -> Option<u64> {
    let word = u16::from_le_bytes(*identify.get(152..154)?.first_chunk()?);
    // All bits alike: the word says nothing.
    let words = [(8, 6_000_000_000), (4, 3_000_000_000), (2, 1_500_000_000)];
    words.into_iter().find(|(bit, _)| word != u16::MAX && word & bit != 0).map(|(_, bits)| bits)
}

/// The kernel's own copy of what the drive on ATA port `port` answered to `IDENTIFY DEVICE`.
fn identify(port: &Path) -> Option<Vec<u8>> {
    let number = name(port).strip_prefix("ata")?.to_string();
    let device = format!("dev{number}.0");
    let written = fs::read_to_string(port.join(format!("link{number}/{device}/ata_device/{device}/id"))).ok()?;
    let words = written.split_whitespace().take(256).map(|word| u16::from_str_radix(word, 16));
    let words =
        words.collect::<Result<Vec<u16>, _>>().ok().filter(|words| words.len() == 256 && words.iter().any(|word| *word != 0));
    Some(words?.into_iter().flat_map(u16::to_le_bytes).collect())
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    /// Writes files below `root`.
    fn put(root: &Path, files: &[(&str, &str)]) {
        for (file, content) in files {
            let path = root.join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
    }

    #[test]
    fn a_stick_behind_a_hub_on_a_slow_port_is_told_with_its_way() {
        let root = tempfile::tempdir().unwrap();
        let hub = "pci0000:00/0000:00:14.0/usb1/1-4";
        let usb = format!("{hub}/1-4.2");
        let lun = format!("{usb}/1-4.2:1.0/host6/target6:0:0/6:0:0:0");
        let drive = root.path().join(format!("{lun}/block/sdq"));
        put(
            root.path(),
            &[
                ("pci0000:00/0000:00:14.0/vendor", "0x1"),
                (&format!("{hub}/bDeviceClass"), "09\n"),
                (&format!("{hub}/idVendor"), "0001"),
                (&format!("{hub}/product"), "Quay Hub"),
                (&format!("{hub}/speed"), "480"),
                (&format!("{usb}/idVendor"), "1234\n"),
                (&format!("{usb}/idProduct"), "5678\n"),
                (&format!("{usb}/speed"), "480\n"),
                (&format!("{usb}/version"), " 2.10\n"),
                (&format!("{usb}/manufacturer"), "Brackwater\n"),
                (&format!("{usb}/product"), "Stick\u{1b}[2J\n"),
                (&format!("{usb}/serial"), "BL0042\n"),
                (&format!("{lun}/model"), "Stick           \n"),
                (&format!("{lun}/rev"), "1.00\n"),
                (&format!("{lun}/timeout"), "30\n"),
                (&format!("{lun}/iorequest_cnt"), "0x1f\n"),
                (&format!("{lun}/ioerr_cnt"), "0x2\n"),
                (&format!("{lun}/block/sdq/size"), "0\n"),
                (&format!("{lun}/block/sdq/removable"), "1\n"),
                (&format!("{lun}/block/sdq/ro"), "1\n"),
                (&format!("{lun}/block/sdq/queue/scheduler"), "none [mq-deadline] bfq\n"),
            ],
        );
        symlink("../..", drive.join("device")).unwrap();
        let found = attachment_at(&drive).unwrap();
        assert_eq!(found.transport, Transport::Usb);
        assert_eq!(found.place, "usb 1-4.2");
        assert_eq!(found.hubs, ["Quay Hub"]);
        let rate = found.rate.unwrap();
        assert_eq!((rate.now, rate.drive), (480_000_000, Some(5_000_000_000)));
        assert!(rate.is_below());
        assert!(found.is_removable && found.is_read_only && !found.has_medium, "a reader with its switch on and no card");
        assert_eq!(found.kernel_counts, Some(KernelCounts { requests: 31, errors: 2, timeouts: None }));
        assert_eq!(found.settings.timeout_s, Some(30));
        assert_eq!(found.settings.words(), "gives up after 30 s, order: mq-deadline");
        assert_eq!(found.names, ["sdq", "6:0:0:0", "usb 1-4.2"]);
        let bridge = found.bridge.clone().unwrap();
        assert_eq!(bridge.id, "1234:5678");
        assert!(!found.words().contains('\u{1b}'), "{}", found.words());
        let called = called_at(&drive);
        assert_eq!(
            (called.model.as_deref(), called.serial.as_deref(), called.firmware.as_deref()),
            (Some("Stick"), Some("BL0042"), Some("1.00"))
        );
    }

    #[test]
    fn a_sata_drive_that_the_system_slowed_down_says_so() {
        let root = tempfile::tempdir().unwrap();
        let port = "pci0000:00/0000:00:17.0/ata3";
        let lun = format!("{port}/host2/target2:0:0/2:0:0:0");
        let drive = root.path().join(format!("{lun}/block/sda"));
        let link = format!("{port}/link3/ata_link/link3");
        let mut words = vec!["0000".to_string(); 256];
        words[76] = "000e".into();
        let mut page = vec![0, 0x80, 0, 6];
        page.extend(b" BL-77");
        put(
            root.path(),
            &[
                (&format!("{link}/sata_spd"), "1.5 Gbps\n"),
                (&format!("{link}/hw_sata_spd_limit"), "6.0 Gbps\n"),
                (&format!("{link}/sata_spd_limit"), "1.5 Gbps\n"),
                (
                    &format!("{port}/link3/dev3.0/ata_device/dev3.0/id"),
                    &words.chunks(8).map(|row| row.join(" ") + "\n").collect::<String>(),
                ),
                (&format!("{lun}/block/sda/size"), "1000\n"),
            ],
        );
        fs::write(root.path().join(&lun).join("vpd_pg80"), page).unwrap();
        symlink("../..", drive.join("device")).unwrap();
        let found = attachment_at(&drive).unwrap();
        let rate = found.rate.unwrap();
        assert_eq!((found.transport, found.place.as_str()), (Transport::Ata, "ata3"));
        assert_eq!((rate.now, rate.drive, rate.port), (1_500_000_000, Some(6_000_000_000), Some(6_000_000_000)));
        assert!(rate.is_stepped_down && rate.is_below());
        assert_eq!(found.identify.map(|words| words.len()), Some(512));
        assert_eq!(called_at(&drive).serial.as_deref(), Some("BL-77"));
        // Another one that calls itself the same: both are told apart by where they are plugged.
        let blocks = root.path().join("blocks");
        let twin = root.path().join(format!("{}/block/sdb", lun.replace("ata3", "ata5").replace("2:0:0:0", "4:0:0:0")));
        put(&twin, &[("size", "1000\n"), ("device/serial", "BL-77\n")]);
        fs::create_dir(&blocks).unwrap();
        symlink(&drive, blocks.join("sda")).unwrap();
        assert_eq!(place_among_alike(&drive, &called_at(&drive), &blocks), None, "alone");
        symlink(&twin, blocks.join("sdb")).unwrap();
        assert_eq!(place_among_alike(&drive, &called_at(&drive), &blocks).as_deref(), Some("ata3"));
        assert_eq!(place_among_alike(&twin, &called_at(&twin), &blocks).as_deref(), Some("ata5"));
        put(&twin, &[("size", "2000\n")]);
        assert_eq!(place_among_alike(&drive, &called_at(&drive), &blocks), None, "of another length");
        // A partition is described by its drive.
        let part = drive.join("sda1");
        put(&part, &[("partition", "1\n")]);
        assert_eq!(attachment_at(&part).unwrap().place, "ata3");
        assert_eq!(called_at(&part), Called::default(), "several of one drive would be called alike");
    }

    #[test]
    fn what_the_files_do_not_say_is_not_made_up() {
        let root = tempfile::tempdir().unwrap();
        let drive = root.path().join("virtual/block/loop9");
        put(&drive, &[("size", "no number"), ("queue/scheduler", "none")]);
        let found = attachment_at(&drive).unwrap();
        assert_eq!((found.transport, found.place.as_str(), found.rate), (Transport::Loop, "", None));
        assert!(!found.has_medium && found.identify.is_none() && found.settings.words().is_empty());
        assert_eq!(called_at(&drive), Called::default());
        assert_eq!(attachment_at(&root.path().join("gone")), None);
        for (text, bits) in [
            ("6.0 Gbps", Some(6_000_000_000)),
            ("16.0 GT/s PCIe", Some(16_000_000_000)),
            ("<unknown>", None),
            ("-1 Gbps", None),
            ("NaN Gbps", None),
        ] {
            assert_eq!(rate_in(text), bits, "{text}");
        }
        assert_eq!(LinkRate::words(480_000_000), "480 Mbit/s");
        assert_eq!(LinkRate::words(1_500_000_000), "1.5 Gbit/s");
        assert_eq!(LinkRate::words(6_000_000_000), "6 Gbit/s");
    }
}
