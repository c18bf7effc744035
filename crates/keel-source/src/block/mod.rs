//! Linux block devices: size and sector sizes by ioctl, identity from sysfs, and what the system does with them.

mod ata;
mod end;
mod log_sense;
mod reset;

use std::fs::{self, File};
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::attached::{Attachment, Transport, attachment_of, called_at, place_among_alike};
use crate::deadline::{Ask, Timely};
use crate::direct::Direct;
use crate::error::{ReadCause, ReadError, SourceError};
use crate::file::{file_name, read_descriptor, read_once};
use crate::filling::ReadBytes;
use crate::holders::{sysfs_of, use_of_device};
use crate::lock::{ExclusiveLock, lock_beneath, lock_shared};
use crate::scsi::{self, ScsiReads};
use crate::target::{FileTarget, WriteTarget};
use crate::{
    ByteOffset, EndOrder, ErrorLog, FurtherEnd, HEALTH_PAGE_BYTES, HealthPage, Identity, Leave, LinkKind, NoHealth, Node,
    NodeWanted, NotReady, NvmeIdentify, OwnSize, Renewed, SectorSize, SelfTestLog, SelfTestOrder, SettingsWanted, SharedSource,
    Source, nodes, sys,
};

/// A Linux block device, opened read-only.
pub(crate) struct BlockDevice {
    /// The device, and what it lies on: all of them locked.
    locked: Vec<Arc<File>>,
    file: Arc<File>,
    /// Past the system's memory, where the system knows how.
    direct: Option<Arc<Direct>>,
    /// Requests that are asked once, and answered in time.
    once: Timely,
    patience: Patience,
    identity: Identity,
    device: u64,
}

/// How long a device is waited for, and what is done when it does not answer.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Patience {
    /// How long it may take to answer one request.
    pub(crate) deadline: Option<Duration>,
    /// It is reset then.
    pub(crate) resets: bool,
}

/// How long a drive may take to answer one request: twice what the kernel gives it before it resets it.
const DEADLINE: Duration = Duration::from_secs(60);
/// How long a drive may take to carry out one command that is passed to it: as long as the kernel gives it.
const COMMAND_LIMIT: Duration = Duration::from_secs(30);
/// Reads of fewer bytes than this come from the system's memory where they were read before: structures are looked at again and again.
const SHARED_BELOW: usize = 64 << 10;

impl BlockDevice {
    /// Opens the device at `path`; `forced` overrides the logical sector size that the kernel reports.
    pub(crate) fn open(path: &Path, forced: Option<SectorSize>, patience: Patience) -> Result<Self, SourceError> {
        let opening = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::PermissionDenied => SourceError::NotAllowed { path: path.into() },
            _ if source.raw_os_error() == Some(rustix::io::Errno::NOMEDIUM.raw_os_error()) => {
                SourceError::NoMedium { path: path.into() }
            }
            _ => SourceError::Open { path: path.into(), source },
        };
        let file = File::open(path).map_err(opening)?;
        let metadata = file.metadata().map_err(opening)?;
        if !metadata.file_type().is_block_device() {
            return Err(SourceError::NotASource { path: path.into(), what: "no block device" });
        }
        let name = file_name(path);
        lock_shared(&file, &name)?;
        let bytes = sys::device_bytes(&file).map_err(|errno| opening(errno.into()))?;
        let logical = sys::device_logical_sector(&file).ok().and_then(SectorSize::new).unwrap_or_default();
        let physical = sys::device_physical_sector(&file).ok().and_then(SectorSize::new).unwrap_or(logical);
        let sysfs = sysfs_of(metadata.rdev());
        let called = called_at(&sysfs);
        let sector = forced.unwrap_or(logical);
        // No bytes at all is what a drive says whose medium is not ready.
        if bytes != 0 && bytes < sector.bytes() {
            return Err(SourceError::TooSmall { name, bytes, sector: sector.0 });
        }
        let identity = Identity {
            path: Some(path.canonicalize().map_err(opening)?),
            link: LinkKind::BlockDevice,
            place: place_among_alike(&sysfs, &called, Path::new("/sys/block")),
            model: called.model,
            serial: called.serial,
            firmware: called.firmware,
            bytes,
            logical_sector: sector,
            physical_sector: physical,
            name,
        };
        let file = Arc::new(file);
        let mut locked = vec![Arc::clone(&file)];
        locked.extend(lock_beneath(metadata.rdev(), &identity.name)?);
        // What nobody asked for is not read: no read-ahead beside a bad place.
        let _ = rustix::fs::fadvise(&file, 0, None, rustix::fs::Advice::Random);
        let direct = Direct::open(&file, logical.bytes()).map(Arc::new);
        let commands = commands_of(&sysfs, logical);
        let ask = ask_once((&file, metadata.rdev()), direct.clone(), commands);
        let rouse = patience.resets.then(|| reset::rouse(&file, &sysfs));
        let once = Timely::new(ask, patience.deadline.unwrap_or(DEADLINE), rouse);
        Ok(Self { locked, file, direct, once, patience, identity, device: metadata.rdev() })
    }
}

/// How long the system is waited for after it was told to look at a device again.
const LOOKED_ANEW: Duration = Duration::from_secs(5);

impl BlockDevice {
    /// Where the drive's addresses could end beyond where its `identify` data says that they do.
    fn further(&self, identify: &[u8]) -> Vec<FurtherEnd> {
        let knows = end::Knows::of(identify);
        knows.further(end::native_sectors(&self.file, knows), end::made_sectors(&self.file, knows))
    }

    /// The device, where it may be asked for what SCSI drives log: some sticks hang at commands that they do not know.
    fn logs(&self) -> Option<&File> {
        let transport = self.attachment()?.transport;
        matches!(transport, Transport::Scsi | Transport::Uas).then_some(self.file.as_ref())
    }

    /// What an NVMe drive says of its namespaces: the controller's data, and the list of those that are active.
    fn namespaces(&self) -> Option<NvmeIdentify> {
        let own = fs::read_to_string(sysfs_of(self.device).join("nsid")).ok()?.trim().parse().ok()?;
        let (controller, active) = (sys::nvme_identify(&self.file, 1).ok()?, sys::nvme_identify(&self.file, 2).ok()?);
        Some(NvmeIdentify { own, controller, active })
    }

    /// Has the system look at the device again, until it shows `wanted` bytes; those that it shows.
    fn seen_anew(&self, wanted: u64) -> u64 {
        let sysfs = sysfs_of(self.device);
        let shown = || sys::device_bytes(&self.file).unwrap_or(self.identity.bytes);
        let host = sysfs.join("device").canonicalize().ok().and_then(|device| host_of(&device));
        // Itself first; then its adapter, which resets what it finds there.
        let asked = [(sysfs.join("device/rescan"), "1")].into_iter().chain(host.map(|host| (host.join("scan"), "- - -")));
        for (file, word) in asked {
            let until = Instant::now() + LOOKED_ANEW;
            let _ = fs::write(file, word);
            while shown() != wanted && Instant::now() < until {
                std::thread::sleep(Duration::from_millis(100));
            }
        }
        shown()
    }
}

/// The folder of the SCSI host above the device at `device`, a path without links: `/sys/class/scsi_host/host6`.
fn host_of(device: &Path) -> Option<PathBuf> {
    let is_host = |name: &str| name.strip_prefix("host").is_some_and(|number| number.parse::<u32>().is_ok());
    let name = device.ancestors().filter_map(|folder| folder.file_name()?.to_str()).find(|name| is_host(name))?;
    Some(Path::new("/sys/class/scsi_host").join(name))
}

/// The commands that the device described at `sysfs` takes: a whole SCSI disk, by its type. A partition would take them as well, and
/// read elsewhere.
fn commands_of(sysfs: &Path, logical: SectorSize) -> Option<ScsiReads> {
    let text = |name: &str| fs::read_to_string(sysfs.join(name)).ok();
    let number = |name: &str| text(name)?.trim().parse::<u64>().ok();
    let is_whole = !sysfs.join("partition").exists();
    (is_whole && text("device/type")?.trim() == "0").then_some(())?;
    let most = number("queue/max_sectors_kb")?.min(number("queue/max_hw_sectors_kb")?) << 10;
    let pieces = number("queue/max_segments")? * 4096;
    Some(ScsiReads::new(logical.bytes(), most.min(pieces), COMMAND_LIMIT))
}

/// An error of a device that is not there any more is one of its link, whatever the system calls it: a device that was pulled reads as
/// one without bytes, or fails.
fn of_link(error: ReadError, file: &File, device: u64) -> ReadError {
    let is_gone = || sys::device_bytes(file).map_or(true, |bytes| bytes == 0) || !sysfs_of(device).exists();
    match error.cause {
        ReadCause::LinkLost => error,
        _ if is_gone() => error.because(ReadCause::LinkLost),
        _ => error,
    }
}

/// Asks for each sector once: by a command where the drive takes it, else past the system's memory.
fn ask_once((file, device): (&Arc<File>, u64), direct: Option<Arc<Direct>>, commands: Option<ScsiReads>) -> Ask {
    let file = Arc::clone(file);
    Box::new(move |at, buf| {
        let commanded = commands.as_ref().and_then(|commands| commands.read(&file, at, buf));
        let from: &dyn ReadBytes = direct.as_ref().map_or(file.as_ref(), |direct| direct.as_ref());
        commanded.unwrap_or_else(|| read_once(from, at, buf)).map_err(|error| of_link(error, &file, device))
    })
}

/// Bytes of the NVMe device self-test log.
const NVME_SELF_TEST_BYTES: usize = 564;
/// How long a drive may take to say whether it is ready.
const READY_LIMIT: Duration = Duration::from_secs(5);
/// The SMART log that holds SCT status.
const SCT_STATUS: u8 = 0xE0;
/// Bytes of the NVMe error information log that are asked for: sixteen entries.
const NVME_ERROR_BYTES: usize = 16 * 64;

fn refused(errno: rustix::io::Errno) -> NoHealth {
    match errno {
        rustix::io::Errno::PERM | rustix::io::Errno::ACCESS => {
            NoHealth::Refused { reason: "only root may ask for them (sudo ykeel …)".into() }
        }
        other => NoHealth::Refused { reason: std::io::Error::from(other).to_string() },
    }
}

impl Source for BlockDevice {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let known = self.direct.is_none() || buf.len() < SHARED_BELOW;
        // The system's memory holds whole pages: one bad sector would cost all that share its page.
        if known && at.checked_add(buf.len() as u64).is_some_and(|end| end.0 <= self.identity.bytes) {
            let read = self.file.read_bytes(at.0, buf);
            if read.is_ok_and(|filled| filled == buf.len()) {
                return Ok(());
            }
        }
        let from: &dyn ReadBytes = self.direct.as_ref().map_or(self.file.as_ref(), |direct| direct.as_ref());
        let read = read_descriptor(from, at, buf, self.identity.bytes, self.identity.logical_sector);
        read.map_err(|error| of_link(error, &self.file, self.device))
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.once.read(at, buf)
    }

    fn change_mark(&self) -> Option<String> {
        // The kernel counts what it wrote since it started: fifth and seventh field of the statistics.
        let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
        let statistics = fs::read_to_string(sysfs_of(self.device).join("stat")).ok()?;
        let fields: Vec<&str> = statistics.split_whitespace().collect();
        Some(format!("{} {} {}", boot.trim(), fields.get(4)?, fields.get(6)?))
    }

    fn health_page(&self) -> Result<HealthPage, NoHealth> {
        if let Ok(log) = sys::nvme_health_log(&self.file) {
            return Ok(HealthPage::Nvme { log });
        }
        let data = match ata::smart_page(&self.file, ata::SMART_READ_DATA) {
            Ok(data) => data,
            // No ATA drive, or none that hands them out.
            Err(errno) => {
                let pages = self.logs().and_then(|file| log_sense::pages(file).ok());
                return pages.map(|pages| HealthPage::Scsi { pages }).ok_or_else(|| refused(errno));
            }
        };
        // Some drives keep no thresholds any more.
        let thresholds =
            ata::smart_page(&self.file, ata::SMART_READ_THRESHOLDS).unwrap_or_else(|_| Box::new([0; HEALTH_PAGE_BYTES]));
        let sct = ata::smart_log(&self.file, SCT_STATUS).ok().and_then(|log| log.into_boxed_slice().try_into().ok());
        Ok(HealthPage::Ata { data, thresholds, sct })
    }

    fn self_test_log(&self) -> Result<SelfTestLog, NoHealth> {
        if let Ok(log) = sys::nvme_log(&self.file, 0x06, NVME_SELF_TEST_BYTES) {
            return Ok(SelfTestLog::Nvme { log });
        }
        let data = match ata::smart_page(&self.file, ata::SMART_READ_DATA) {
            Ok(data) => data,
            Err(errno) => {
                let told = self.logs().and_then(|file| log_sense::self_tests(file).ok());
                return told.map(|(page, progress)| SelfTestLog::Scsi { page, progress }).ok_or_else(|| refused(errno));
            }
        };
        let log = ata::smart_log(&self.file, 0x06).map_err(refused)?;
        Ok(SelfTestLog::Ata { status: data[363], log })
    }

    fn error_log(&self) -> Result<ErrorLog, NoHealth> {
        if let Ok(log) = sys::nvme_log(&self.file, 0x01, NVME_ERROR_BYTES) {
            return Ok(ErrorLog::Nvme { log });
        }
        ata::smart_log(&self.file, 0x01).map(|log| ErrorLog::Ata { log }).map_err(refused)
    }

    fn self_test(&self, order: SelfTestOrder) -> Result<(), NoHealth> {
        if sys::nvme_health_log(&self.file).is_ok() {
            let code = match order {
                SelfTestOrder::Short => 1,
                SelfTestOrder::Extended => 2,
                SelfTestOrder::Stop => 0x0F,
            };
            return sys::nvme_self_test(&self.file, code).map_err(refused);
        }
        let code = match order {
            SelfTestOrder::Short => 1,
            SelfTestOrder::Extended => 2,
            SelfTestOrder::Stop => 0x7F,
        };
        let ordered = ata::execute_off_line(&self.file, code);
        ordered.or_else(|errno| {
            let begun = self.logs().is_some_and(|file| log_sense::self_test(file, order).is_ok());
            if begun { Ok(()) } else { Err(refused(errno)) }
        })
    }

    fn not_ready(&self) -> Option<NotReady> {
        scsi::not_ready(&self.file, READY_LIMIT)
    }

    fn own_size(&self) -> OwnSize {
        let known = self.attachment().and_then(|found| found.identify);
        let identify = known.or_else(|| ata::identify(&self.file));
        let further = identify.as_deref().map(|identify| self.further(identify)).unwrap_or_default();
        OwnSize { identify, further, namespaces: self.namespaces() }
    }

    fn set_end(&self, order: EndOrder, leave: &Leave) -> Result<u64, SourceError> {
        let name = &self.identity.name;
        if !leave.is_for(&self.identity) {
            return Err(SourceError::NoLeave { name: name.clone() });
        }
        if let Some(how) = use_of_device(self.device) {
            return Err(SourceError::Mounted { name: name.clone(), how });
        }
        let _lock = ExclusiveLock::take(&self.locked, name)?;
        let not_set = |reason: String| SourceError::NotSet { name: name.clone(), reason };
        let identify = self.own_size().identify.ok_or_else(|| not_set("it does not identify itself".into()))?;
        let knows = end::Knows::of(&identify);
        end::set(&self.file, knows, order.means, knows.sectors(order.bytes), order.lasts)
            .map_err(|error| not_set(error.to_string()))?;
        Ok(self.seen_anew(order.bytes))
    }

    fn attachment(&self) -> Option<Attachment> {
        attachment_of(self.device)
    }

    fn set_settings(&self, wanted: SettingsWanted) -> std::io::Result<()> {
        wanted.write(&sysfs_of(self.device)).map(drop)
    }

    fn renew_nodes(&self, wanted: &[NodeWanted]) -> std::io::Result<Renewed> {
        let sysfs = sysfs_of(self.device);
        match sysfs.join("partition").exists() {
            true => Err(std::io::ErrorKind::Unsupported.into()),
            false => nodes::renew(&self.file, &sysfs, wanted),
        }
    }

    fn nodes(&self) -> Vec<Node> {
        nodes::known(&sysfs_of(self.device), Path::new("/dev"))
    }

    fn stop(&self) -> std::io::Result<Vec<String>> {
        let mut done = Vec::new();
        sys::flush_device(&self.file)?;
        done.push("everything that the system held is on the drive".to_string());
        let sysfs = sysfs_of(self.device);
        let is_whole = !sysfs.join("partition").exists();
        let is_scsi = is_whole && fs::read_to_string(sysfs.join("device/type")).is_ok_and(|kind| kind.trim() == "0");
        if is_scsi {
            // `SYNCHRONIZE CACHE (10)`, then `START STOP UNIT` with START at 0 (SBC-3, 5.22 and 5.25): what does not know them has
            // nothing to stop.
            let ask = |command: &mut [u8]| {
                let passed = sys::scsi_command(&self.file, command, sys::Transfer::Nothing, COMMAND_LIMIT);
                passed.is_ok_and(|passed| passed.status == 0 && passed.host_status == 0)
            };
            if ask(&mut [0x35, 0, 0, 0, 0, 0, 0, 0, 0, 0]) {
                done.push("the drive wrote its own cache".into());
            }
            if ask(&mut [0x1B, 0, 0, 0, 0, 0]) {
                done.push("the drive was stopped".into());
            }
            if fs::write(sysfs.join("device/delete"), "1").is_ok() {
                done.push("the system let go of it; unplug it and plug it in again to use it".into());
            }
        }
        Ok(done)
    }

    fn look_up_anew(&self) -> Result<SharedSource, SourceError> {
        let own = &self.identity;
        let forced = Some(own.logical_sector);
        let same = |found: &Self| found.identity.model == own.model && found.identity.serial == own.serial;
        // Under its own name first; one without a serial number is known by its name only.
        if let Some(found) = own.path.as_deref().and_then(|path| Self::open(path, forced, self.patience).ok()).filter(same) {
            return Ok(Arc::new(found));
        }
        // The others are not opened for it: what they call themselves is enough.
        let blocks = fs::read_dir("/sys/block").into_iter().flatten().flatten();
        let alike = blocks.filter(|block| own.serial.is_some() && called_at(&block.path()).serial == own.serial);
        let mut devices =
            alike.filter_map(|block| Self::open(&Path::new("/dev").join(block.file_name()), forced, self.patience).ok());
        let found = devices.find(same);
        found.map_or_else(|| Err(SourceError::Gone { name: own.name.clone() }), |found| Ok(Arc::new(found) as SharedSource))
    }

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        let name = &self.identity.name;
        if !leave.is_for(&self.identity) {
            return Err(SourceError::NoLeave { name: name.clone() });
        }
        if let Some(how) = use_of_device(self.device) {
            return Err(SourceError::Mounted { name: name.clone(), how });
        }
        let path = self.identity.path.clone().ok_or_else(|| SourceError::NotWritable { name: name.clone() })?;
        let lock = ExclusiveLock::take(&self.locked, name)?;
        Ok(Box::new(FileTarget::open(&path, &self.file, self.identity.bytes, Some(lock))?))
    }
}
