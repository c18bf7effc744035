//! Health pages of a simulated drive: the values of its description as bytes in the standards' layouts.
//!
//! ATA: attribute table as all drives keep it, twelve bytes each from byte 2 on, thresholds in the same order; checksum in
//! the last byte. NVMe: NVM Express Base Specification, SMART / Health Information (log identifier 02h).

use serde::Deserialize;

use crate::health::{HEALTH_PAGE_BYTES, HealthPage};

/// The most attributes of an ATA page.
const MOST_ATTRIBUTES: usize = 30;
/// Bytes of one attribute, and of one threshold.
const ATTRIBUTE_BYTES: usize = 12;
/// Where the attributes begin.
const FIRST_ATTRIBUTE: usize = 2;
/// Attribute that counts sectors waiting to be replaced.
const PENDING: u8 = 197;
/// Attribute that counts errors of the link.
const LINK_ERRORS: u8 = 199;

/// What the description gives: one of the three.
#[derive(Deserialize, Debug, Clone)]
#[serde(deny_unknown_fields, rename_all = "snake_case")]
pub(super) enum HealthValues {
    Ata { attributes: Vec<Attribute> },
    Nvme(Nvme),
    Scsi(Scsi),
}

/// What stands in the log pages of a SCSI drive.
#[derive(Deserialize, Debug, Clone, Copy, Default)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Scsi {
    /// In degrees Celsius.
    temperature: u8,
    read_corrected: u32,
    read_uncorrected: u32,
    write_uncorrected: u32,
    /// Errors that are not the medium's.
    non_medium: u32,
    /// `FAILURE PREDICTION THRESHOLD EXCEEDED` is reported.
    fails_soon: bool,
}

/// One ATA attribute.
#[derive(Deserialize, Debug, Clone, Copy)]
#[serde(deny_unknown_fields)]
pub(super) struct Attribute {
    id: u8,
    #[serde(default = "hundred")]
    value: u8,
    worst: Option<u8>,
    #[serde(default)]
    threshold: u8,
    #[serde(default)]
    raw: u64,
    /// Bit 0: an attribute whose failure means that the drive fails.
    #[serde(default)]
    flags: u16,
}

fn hundred() -> u8 {
    100
}

/// The fields of the NVMe log.
#[derive(Deserialize, Debug, Clone, Copy, Default)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Nvme {
    critical_warning: u8,
    /// In degrees Celsius; the log keeps kelvins.
    temperature: u16,
    available_spare: u8,
    available_spare_threshold: u8,
    percentage_used: u8,
    power_cycles: u64,
    power_on_hours: u64,
    unsafe_shutdowns: u64,
    media_errors: u64,
    error_log_entries: u64,
}

/// The page of `values`, with what the drive counted since: sectors that went bad, and errors of the link.
pub(super) fn page(values: &HealthValues, grown_sectors: u64, link_errors: u64) -> HealthPage {
    match values {
        HealthValues::Ata { attributes } => ata(attributes, grown_sectors, link_errors),
        HealthValues::Nvme(nvme) => {
            let mut log = Box::new([0; HEALTH_PAGE_BYTES]);
            let mut put = |at: usize, bytes: &[u8]| {
                if let Some(slot) = log.get_mut(at..at + bytes.len()) {
                    slot.copy_from_slice(bytes);
                }
            };
            put(0, &[nvme.critical_warning]);
            put(1, &(nvme.temperature + 273).to_le_bytes());
            put(3, &[nvme.available_spare, nvme.available_spare_threshold, nvme.percentage_used]);
            put(112, &nvme.power_cycles.to_le_bytes());
            put(128, &nvme.power_on_hours.to_le_bytes());
            put(144, &nvme.unsafe_shutdowns.to_le_bytes());
            put(160, &(nvme.media_errors + grown_sectors).to_le_bytes());
            put(176, &(nvme.error_log_entries + grown_sectors).to_le_bytes());
            HealthPage::Nvme { log }
        }
        HealthValues::Scsi(scsi) => {
            let counters = |corrected: u32, uncorrected: u64| vec![(3, u64::from(corrected)), (6, uncorrected)];
            let pages = vec![
                log_page(0x02, &counters(0, scsi.write_uncorrected.into())),
                log_page(0x03, &counters(scsi.read_corrected, u64::from(scsi.read_uncorrected) + grown_sectors)),
                log_page(0x06, &[(0, u64::from(scsi.non_medium) + link_errors)]),
                vec![0x0D, 0, 0, 6, 0, 0, 3, 2, 0, scsi.temperature],
                vec![0x2F, 0, 0, 8, 0, 0, 3, 4, if scsi.fails_soon { 0x5D } else { 0 }, 0, scsi.temperature, 0],
            ];
            HealthPage::Scsi { pages }
        }
    }
}

/// A log page of counters of eight bytes, by their parameter codes.
fn log_page(code: u8, parameters: &[(u16, u64)]) -> Vec<u8> {
    let mut page = vec![code, 0];
    page.extend(u16::try_from(parameters.len() * 12).unwrap_or(0).to_be_bytes());
    for (parameter, value) in parameters {
        page.extend(parameter.to_be_bytes());
        page.extend([3, 8]);
        page.extend(value.to_be_bytes());
    }
    page
}

fn ata(attributes: &[Attribute], grown_sectors: u64, link_errors: u64) -> HealthPage {
    let (mut data, mut thresholds) = (Box::new([0; HEALTH_PAGE_BYTES]), Box::new([0; HEALTH_PAGE_BYTES]));
    data[0] = 0x10;
    thresholds[0] = 0x10;
    for (index, attribute) in attributes.iter().take(MOST_ATTRIBUTES).enumerate() {
        let at = FIRST_ATTRIBUTE + index * ATTRIBUTE_BYTES;
        let counted = match attribute.id {
            PENDING => grown_sectors,
            LINK_ERRORS => link_errors,
            _ => 0,
        };
        let raw = attribute.raw.saturating_add(counted).to_le_bytes();
        data[at] = attribute.id;
        data[at + 1..at + 3].copy_from_slice(&attribute.flags.to_le_bytes());
        data[at + 3] = attribute.value;
        data[at + 4] = attribute.worst.unwrap_or(attribute.value);
        data[at + 5..at + 11].copy_from_slice(&raw[..6]);
        thresholds[at] = attribute.id;
        thresholds[at + 1] = attribute.threshold;
    }
    for page in [&mut data, &mut thresholds] {
        let sum = page.iter().take(HEALTH_PAGE_BYTES - 1).fold(0u8, |sum, byte| sum.wrapping_add(*byte));
        page[HEALTH_PAGE_BYTES - 1] = sum.wrapping_neg();
    }
    HealthPage::Ata { data, thresholds, sct: None }
}
