//! How a device is attached: what the system's own files say of the drive, of the way to it, and of the settings that it is read with.
//! Nothing is asked of the drive for it, and no leave of the administrator is needed.

mod alignment;
mod settings;
mod sysfs;

pub use alignment::alignment_of;
pub use settings::SettingsWanted;
pub use sysfs::{attachment_at, attachment_of};

use serde::Serialize;

/// What carries a drive's commands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Transport {
    /// SATA, or parallel ATA.
    Ata,
    /// USB mass storage: one request at a time.
    Usb,
    /// USB attached SCSI.
    Uas,
    /// NVMe on PCI Express.
    Nvme,
    /// SCSI, SAS.
    Scsi,
    /// A card in a reader of its own.
    Mmc,
    /// A disk of a virtual machine.
    Virtio,
    /// A file that the system shows as a device.
    Loop,
    /// Anything else.
    Other,
}

impl Transport {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Ata => "SATA",
            Self::Usb => "USB",
            Self::Uas => "USB (UAS)",
            Self::Nvme => "NVMe",
            Self::Scsi => "SCSI",
            Self::Mmc => "card",
            Self::Virtio => "virtual disk",
            Self::Loop => "loop device",
            Self::Other => "block device",
        }
    }
}

/// The rate of a link in bits per second, as negotiated, and as both ends could do it where they say so.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct LinkRate {
    /// What was negotiated.
    pub now: u64,
    /// What the drive can do.
    pub drive: Option<u64>,
    /// What the port can do.
    pub port: Option<u64>,
    /// The system itself slowed it down after errors.
    pub is_stepped_down: bool,
}

impl LinkRate {
    /// True where drive and port could do more than was negotiated, or the drive could and the port does not say.
    #[must_use]
    pub fn is_below(&self) -> bool {
        self.is_stepped_down || self.drive.is_some_and(|drive| self.now < drive)
    }

    /// A rate in words: `6 Gbit/s`.
    #[must_use]
    pub fn words(bits: u64) -> String {
        match bits {
            1_000_000_000.. => format!("{} Gbit/s", f64::from(u32::try_from(bits / 100_000_000).unwrap_or(u32::MAX)) / 10.0),
            _ => format!("{} Mbit/s", bits as f64 / 1e6),
        }
    }
}

/// The bridge of an enclosure or a card reader.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Bridge {
    /// Names as it gives them: manufacturer and product.
    pub name: String,
    /// `idVendor:idProduct`.
    pub id: String,
    /// The kernel's driver.
    pub driver: Option<String>,
}

/// What the kernel reads a device with.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Settings {
    /// Seconds after which it takes a request for lost.
    pub timeout_s: Option<u64>,
    /// Requests under way at once.
    pub queue_depth: Option<u64>,
    /// KiB that it reads ahead.
    pub read_ahead_kib: Option<u64>,
    /// KiB of one request at the most.
    pub request_kib: Option<u64>,
    /// The order in which requests are sent: the one in use.
    pub scheduler: Option<String>,
}

impl Settings {
    /// In words, as far as they are told; empty where none is.
    #[must_use]
    pub fn words(&self) -> String {
        let told = |value: Option<u64>, before: &str, unit: &str| value.map(|value| format!("{before}{value}{unit}"));
        let words = [
            told(self.timeout_s, "gives up after ", " s"),
            told(self.request_kib, "at most ", " KiB at once"),
            told(self.queue_depth, "", " requests under way"),
            told(self.read_ahead_kib, "reads ", " KiB ahead for others than us"),
            self.scheduler.clone().map(|scheduler| format!("order: {scheduler}")),
        ];
        words.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }
}

/// What the system says of a device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Attachment {
    /// What carries its commands.
    pub transport: Transport,
    /// Where it is plugged, as long as it is not moved: `ata1`, `usb 2-1.3`, a PCI address.
    pub place: String,
    /// Hubs between the machine and the drive, the nearest to the machine first.
    pub hubs: Vec<String>,
    /// The bridge that stands before the drive.
    pub bridge: Option<Bridge>,
    /// The rate of its link.
    pub rate: Option<LinkRate>,
    /// World wide name, or what serves as one.
    pub wwn: Option<String>,
    /// Its medium can be taken out, or it can be pulled.
    pub is_removable: bool,
    /// The system takes no writes for it: a switch on a card, or a drive that gave up.
    pub is_read_only: bool,
    /// There is something to read: a reader without a card has nothing.
    pub has_medium: bool,
    /// Read requests, and those that failed or timed out, as the kernel counts them since it is there.
    pub kernel_counts: Option<KernelCounts>,
    /// What it is read with.
    pub settings: Settings,
    /// What the kernel's log calls it: `sda`, `2:0:0:0`, `ata1`, `usb 2-1`.
    pub names: Vec<String>,
    /// What uses it: a mount point, swap, an array; none where the system leaves it alone.
    pub held: Option<String>,
    /// `IDENTIFY DEVICE` data (ACS-4, 7.12), 512 bytes, as the kernel read it.
    #[serde(skip)]
    pub identify: Option<Vec<u8>>,
}

/// Requests as the kernel counts them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct KernelCounts {
    /// Requests that were sent.
    pub requests: u64,
    /// Requests that ended in an error.
    pub errors: u64,
    /// Requests that were not answered in time; kernels before 6.6 do not count them.
    pub timeouts: Option<u64>,
}

impl Attachment {
    /// The way to it in words: `USB at 480 Mbit/s, port 2-1.3, hub "...", bridge "..."`.
    #[must_use]
    pub fn words(&self) -> String {
        let mut words = self.transport.word().to_string();
        if let Some(rate) = &self.rate {
            words += &format!(" at {}", LinkRate::words(rate.now));
        }
        if !self.place.is_empty() {
            words += &format!(", {}", self.place);
        }
        for hub in &self.hubs {
            words += &format!(", behind {hub}");
        }
        if let Some(bridge) = &self.bridge {
            words += &format!(", bridge {} ({})", bridge.name, bridge.id);
        }
        words
    }
}

/// What a whole drive calls itself, as far as the system knows it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Called {
    pub(crate) model: Option<String>,
    pub(crate) serial: Option<String>,
    pub(crate) firmware: Option<String>,
}

pub(crate) use sysfs::{called_at, place_among_alike};
