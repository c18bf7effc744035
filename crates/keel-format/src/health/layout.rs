//! The pages as stored.

use zerocopy::{FromBytes, Immutable, KnownLayout, LE, U16, U64, Unaligned};

/// One entry of the attribute table: 12 bytes.
#[derive(FromBytes, Immutable, KnownLayout, Unaligned, Clone, Copy)]
#[repr(C)]
pub(super) struct RawAttribute {
    /// Attribute ID; 0 for an unused entry.
    pub(super) id: u8,
    /// Status flags; bit 0: pre-failure.
    pub(super) flags: U16<LE>,
    /// Normalised value.
    pub(super) value: u8,
    /// Worst value ever.
    pub(super) worst: u8,
    /// Raw value, 48 bits, little-endian.
    pub(super) raw: [u8; 6],
    /// Reserved.
    pub(super) reserved: u8,
}
const _: () = assert!(size_of::<RawAttribute>() == 12);

/// Device SMART data structure: 512 bytes.
#[derive(FromBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub(super) struct RawSmartData {
    /// Revision of the table.
    pub(super) revision: U16<LE>,
    /// The attribute table.
    pub(super) attributes: [RawAttribute; 30],
    /// Status of offline collection, self-test, capabilities, vendor's own.
    pub(super) rest: [u8; 149],
    /// Two's complement of the sum of all bytes before.
    pub(super) checksum: u8,
}
const _: () = assert!(size_of::<RawSmartData>() == 512);

/// One entry of the threshold table: 12 bytes.
#[derive(FromBytes, Immutable, KnownLayout, Unaligned, Clone, Copy)]
#[repr(C)]
pub(super) struct RawThreshold {
    /// Attribute ID.
    pub(super) id: u8,
    /// At or below this normalised value the attribute has failed; 0 never fails.
    pub(super) threshold: u8,
    /// Reserved.
    pub(super) reserved: [u8; 10],
}
const _: () = assert!(size_of::<RawThreshold>() == 12);

/// Device attribute thresholds: 512 bytes.
#[derive(FromBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub(super) struct RawThresholds {
    /// Revision of the table.
    pub(super) revision: U16<LE>,
    /// The table.
    pub(super) thresholds: [RawThreshold; 30],
    /// Reserved and vendor's own.
    pub(super) rest: [u8; 149],
    /// Two's complement of the sum of all bytes before.
    pub(super) checksum: u8,
}
const _: () = assert!(size_of::<RawThresholds>() == 512);

/// NVMe SMART / Health Information log page: 512 bytes.
#[derive(FromBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub(super) struct RawNvmeLog {
    /// Critical Warning: bit 0 spare, 1 temperature, 2 reliability, 3 read only, 4 backup of volatile memory.
    pub(super) critical_warning: u8,
    /// Composite Temperature in kelvins.
    pub(super) composite_temperature: U16<LE>,
    /// Available Spare in per cent.
    pub(super) available_spare: u8,
    /// Available Spare Threshold in per cent.
    pub(super) available_spare_threshold: u8,
    /// Percentage Used: of the life that was meant; may pass 100.
    pub(super) percentage_used: u8,
    /// Endurance group summary, reserved.
    pub(super) reserved_6: [u8; 26],
    /// Data Units Read, Data Units Written, Host Read Commands, Host Write Commands, Controller Busy Time: 16 bytes each.
    pub(super) counters: [u8; 80],
    /// Power Cycles: low and high half.
    pub(super) power_cycles: [U64<LE>; 2],
    /// Power On Hours.
    pub(super) power_on_hours: [U64<LE>; 2],
    /// Unsafe Shutdowns.
    pub(super) unsafe_shutdowns: [U64<LE>; 2],
    /// Media and Data Integrity Errors.
    pub(super) media_errors: [U64<LE>; 2],
    /// Number of Error Information Log Entries.
    pub(super) error_log_entries: [U64<LE>; 2],
    /// Warning and critical temperature times, sensors, reserved.
    pub(super) rest: [u8; 320],
}
const _: () = assert!(size_of::<RawNvmeLog>() == 512);
