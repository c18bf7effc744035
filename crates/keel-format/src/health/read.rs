//! What the pages say.

use keel_source::HealthPage;
use serde::{Deserialize, Serialize};
use zerocopy::{FromBytes, LE, U64};

use super::ScsiHealth;
use super::layout::{RawNvmeLog, RawSmartData, RawThresholds};

/// One ATA attribute.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct AtaAttribute {
    /// Attribute ID.
    pub id: u8,
    /// Normalised value: falls as things get worse.
    pub value: u8,
    /// The worst value ever.
    pub worst: u8,
    /// At or below this value the attribute has failed; 0 never fails, `None` is not told.
    pub threshold: Option<u8>,
    /// Raw value, 48 bits; what it counts depends on the attribute and the maker.
    pub raw: u64,
    /// True when a failure of it means that the drive is about to fail.
    pub pre_failure: bool,
}

impl AtaAttribute {
    /// True when the value is at or below the threshold now.
    #[must_use]
    pub fn has_failed(&self) -> bool {
        self.threshold.is_some_and(|threshold| threshold > 0 && self.value <= threshold)
    }

    /// True when the value was at or below the threshold once.
    #[must_use]
    pub fn had_failed(&self) -> bool {
        self.threshold.is_some_and(|threshold| threshold > 0 && self.worst <= threshold)
    }

    /// The count in the raw value. Makers put other figures into its upper half for some attributes.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.raw & 0xFFFF_FFFF
    }
}

/// An ATA page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AtaHealth {
    /// The attributes in the order of the table.
    pub attributes: Vec<AtaAttribute>,
    /// False when the page's checksum does not hold: its figures are doubtful.
    pub checksum_holds: bool,
    /// Temperature now and the highest since its power is on, in degrees Celsius, by SCT status.
    #[serde(default)]
    pub sct_celsius: Option<(i64, i64)>,
}

impl AtaHealth {
    /// The attribute of this id.
    #[must_use]
    pub fn attribute(&self, id: u8) -> Option<&AtaAttribute> {
        self.attributes.iter().find(|attribute| attribute.id == id)
    }

    /// The count of the attribute of this id, 0 where there is none.
    #[must_use]
    pub fn count(&self, id: u8) -> u64 {
        self.attribute(id).map_or(0, AtaAttribute::count)
    }

    /// Temperature in degrees Celsius.
    #[must_use]
    pub fn celsius(&self) -> Option<i64> {
        let attribute = self.attribute(194).or_else(|| self.attribute(190)).map(|attribute| (attribute.raw & 0xFF) as i64);
        self.sct_celsius.map(|(now, _)| now).or(attribute)
    }
}

/// An NVMe page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct NvmeHealth {
    /// Critical Warning bits.
    pub critical_warning: u8,
    /// Composite Temperature in degrees Celsius; `None` where the drive tells none.
    pub celsius: Option<i64>,
    /// Available Spare in per cent.
    pub available_spare: u8,
    /// Available Spare Threshold in per cent.
    pub available_spare_threshold: u8,
    /// Percentage Used.
    pub percentage_used: u8,
    /// Power Cycles.
    pub power_cycles: u64,
    /// Power On Hours.
    pub power_on_hours: u64,
    /// Unsafe Shutdowns.
    pub unsafe_shutdowns: u64,
    /// Media and Data Integrity Errors.
    pub media_errors: u64,
    /// Number of Error Information Log Entries.
    pub error_log_entries: u64,
}

/// What a page says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum HealthReading {
    /// ATA.
    Ata(AtaHealth),
    /// NVMe.
    Nvme(NvmeHealth),
    /// SCSI.
    Scsi(ScsiHealth),
}

/// Reads a page. Any bytes are accepted: no panic, no allocation beyond the thirty entries of the table.
#[must_use]
pub fn read(page: &HealthPage) -> HealthReading {
    match page {
        HealthPage::Ata { data, thresholds, sct } => {
            let sct = sct.as_deref().and_then(|status| sct_celsius(status));
            HealthReading::Ata(AtaHealth { sct_celsius: sct, ..ata(data, thresholds) })
        }
        HealthPage::Scsi { pages } => HealthReading::Scsi(ScsiHealth::read(pages)),
        HealthPage::Nvme { log } => HealthReading::Nvme(nvme(log)),
    }
}

fn holds(page: &[u8]) -> bool {
    page.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)) == 0
}

fn ata(data: &[u8; 512], thresholds: &[u8; 512]) -> AtaHealth {
    let (Ok(table), Ok(limits)) = (RawSmartData::ref_from_bytes(data), RawThresholds::ref_from_bytes(thresholds)) else {
        return AtaHealth { attributes: Vec::new(), checksum_holds: false, sct_celsius: None };
    };
    let told = limits.thresholds.iter().any(|entry| entry.id != 0) && holds(thresholds);
    let threshold = |id: u8| {
        let own = limits.thresholds.iter().find(|entry| entry.id == id);
        own.filter(|_| told).map(|entry| entry.threshold)
    };
    let attributes = table.attributes.iter().filter(|entry| entry.id != 0).map(|entry| AtaAttribute {
        id: entry.id,
        value: entry.value,
        worst: entry.worst,
        threshold: threshold(entry.id),
        raw: entry.raw.iter().rev().fold(0, |raw, byte| raw << 8 | u64::from(*byte)),
        pre_failure: entry.flags.get() & 1 != 0,
    });
    AtaHealth { attributes: attributes.collect(), checksum_holds: holds(data), sct_celsius: None }
}

/// `HDA TEMP` and `MAX TEMP` of SCT status (ATA8-ACS, 8.2.3): formats 2 and 3, degrees as signed bytes, 80h for none.
fn sct_celsius(status: &[u8]) -> Option<(i64, i64)> {
    let told = |at: usize| status.get(at).filter(|byte| **byte != 0x80).map(|byte| i64::from(byte.cast_signed()));
    let format = status.get(..2).and_then(<[u8]>::first_chunk).map_or(0, |field| u16::from_le_bytes(*field));
    let now = told(200).filter(|_| matches!(format, 2 | 3))?;
    Some((now, told(202).unwrap_or(now).max(now)))
}

/// A 128-bit counter, at most what fits 64 bits.
fn counter(halves: [U64<LE>; 2]) -> u64 {
    if halves[1].get() == 0 { halves[0].get() } else { u64::MAX }
}

fn nvme(bytes: &[u8; 512]) -> NvmeHealth {
    let empty = [0; 512];
    let log = RawNvmeLog::ref_from_bytes(bytes).or_else(|_| RawNvmeLog::ref_from_bytes(&empty));
    let Ok(log) = log else {
        return NvmeHealth {
            critical_warning: 0,
            celsius: None,
            available_spare: 0,
            available_spare_threshold: 0,
            percentage_used: 0,
            power_cycles: 0,
            power_on_hours: 0,
            unsafe_shutdowns: 0,
            media_errors: 0,
            error_log_entries: 0,
        };
    };
    let kelvins = log.composite_temperature.get();
    NvmeHealth {
        critical_warning: log.critical_warning,
        celsius: (kelvins > 0).then(|| i64::from(kelvins).saturating_sub(273)),
        available_spare: log.available_spare,
        available_spare_threshold: log.available_spare_threshold,
        percentage_used: log.percentage_used,
        power_cycles: counter(log.power_cycles),
        power_on_hours: counter(log.power_on_hours),
        unsafe_shutdowns: counter(log.unsafe_shutdowns),
        media_errors: counter(log.media_errors),
        error_log_entries: counter(log.error_log_entries),
    }
}

/// What an ATA attribute counts, where most makers agree.
#[must_use]
pub fn attribute_word(id: u8) -> &'static str {
    match id {
        1 => "raw read error rate",
        3 => "spin-up time",
        4 => "start/stop count",
        5 => "reallocated sectors",
        7 => "seek error rate",
        9 => "power-on hours",
        10 => "spin retries",
        12 => "power cycles",
        22 => "helium level",
        173 | 177 => "wear",
        187 => "reported uncorrectable errors",
        188 => "command timeouts",
        190 => "airflow temperature",
        192 => "power-off retracts",
        194 => "temperature",
        196 => "reallocation events",
        197 => "pending sectors",
        198 => "offline uncorrectable sectors",
        199 => "interface errors",
        231 => "life left",
        232 => "available spare",
        233 => "wear-out indicator",
        241 => "written",
        242 => "read",
        _ => "maker's own",
    }
}
