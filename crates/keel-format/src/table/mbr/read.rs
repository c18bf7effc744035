//! Reading sector 0 and the EBR chain.

use std::collections::HashSet;

use keel_source::{ByteOffset, Lba, SectorCount, Source};

use super::layout::{DISK_SIGNATURE_AT, PROTECTIVE, RECORDS_AT, RawPartitionRecord, SIGNATURE, SIGNATURE_AT, is_extended};
use crate::table::{Partition, Role, TypeCode};
use crate::{Finding, FormatError, Severity, View, read_bytes};

/// The longest chain of EBRs that is followed.
pub const MAX_LOGICALS: usize = 128;

/// What sector 0 says when it is read as an MBR.
#[derive(Debug, Clone, Default)]
pub struct MbrReading {
    /// True when the sector could be read.
    pub readable: bool,
    /// True when it ends in 55 AA.
    pub signature: bool,
    /// True when an entry of type 0xEE is there.
    pub protective: bool,
    /// `UniqueMBRDiskSignature`.
    pub disk_signature: u32,
    /// Primaries and logicals; the protective entry and extended containers are left out.
    pub partitions: Vec<Partition>,
    /// Extended containers.
    pub extended: Vec<Partition>,
    /// What is wrong with it.
    pub findings: Vec<Finding>,
    /// True when the sector is the boot sector of a volume that fills the drive.
    pub is_volume: bool,
}

/// Reads sector 0 and follows its extended partitions: loops, links out of range and EBRs without a signature are
/// findings. At most [`MAX_LOGICALS`] links are followed.
#[must_use]
pub fn read(source: &dyn Source) -> MbrReading {
    let mut reading = MbrReading::default();
    let sector = match read_bytes(source, ByteOffset(0), 512, "MBR") {
        Ok(sector) => sector,
        Err(error) => {
            let how = format!("read of sector 0: {}", error.problem);
            reading.findings.push(Finding::at(Severity::Broken, ByteOffset(0), "sector 0 cannot be read", how));
            return reading;
        }
    };
    reading.readable = true;
    let view = View::new("MBR", ByteOffset(0), &sector);
    let volume = crate::registry::boot_sector(source, ByteOffset(0));
    let marked = view.u16(SIGNATURE_AT, "Signature") == Ok(SIGNATURE);
    // A superblock behind sector 0 speaks for a volume only where sector 0 itself states no entries.
    let entries = marked && view.slice(RECORDS_AT, 64, "entries").is_ok_and(|bytes| bytes.iter().any(|byte| *byte != 0));
    if volume.is_some_and(|volume| volume.boot_at().0 == 0 || !entries) {
        reading.is_volume = true;
        reading.findings.push(Finding::at(
            Severity::Doubt,
            ByteOffset(0),
            "the drive begins with a volume, not with a table",
            "the boot sector or superblock there is that of a volume that starts at sector 0",
        ));
        return reading;
    }
    if view.u16(SIGNATURE_AT, "Signature") != Ok(SIGNATURE) {
        let what = match sector.iter().all(|byte| *byte == 0) {
            true => "sector 0 holds 512 zero bytes: no MBR signature, no entries",
            false => "sector 0 has no MBR signature (55 AA at its end)",
        };
        reading.findings.push(Finding::at(Severity::Broken, ByteOffset(0), what, "sector 0 was read without error"));
        return reading;
    }
    reading.signature = true;
    reading.disk_signature = view.u32(DISK_SIGNATURE_AT, "UniqueMBRDiskSignature").unwrap_or(0);
    for (index, slot) in (1u32..=4).enumerate() {
        let at = RECORDS_AT + index * 16;
        if let Ok(record) = view.at::<RawPartitionRecord>(at, "PartitionRecord") {
            take_primary(source, &mut reading, *record, slot, ByteOffset(at as u64));
        }
    }
    for container in reading.extended.clone() {
        follow_chain(source, &container, &mut reading);
    }
    if reading.partitions.is_empty() && !reading.protective && reading.extended.is_empty() {
        let what = "the MBR has its signature and no entries";
        reading.findings.push(Finding::at(Severity::Broken, ByteOffset(RECORDS_AT as u64), what, "four empty entries were read"));
    }
    reading
}

fn take_primary(source: &dyn Source, reading: &mut MbrReading, record: RawPartitionRecord, slot: u32, at: ByteOffset) {
    let (first, sectors) = (u64::from(record.starting_lba.get()), u64::from(record.size_in_lba.get()));
    if record.os_type == 0 && sectors == 0 {
        return;
    }
    if record.boot_indicator & 0x7F != 0 {
        let what = format!("entry {slot} has boot indicator 0x{:02X}; 0x00 or 0x80 is legal", record.boot_indicator);
        reading.findings.push(Finding::at(Severity::Doubt, at, what, "first byte of the entry"));
    }
    if record.os_type == 0 || sectors == 0 || first == 0 {
        let what = format!("entry {slot} is half empty: type 0x{:02X}, start {first}, length {sectors}", record.os_type);
        reading.findings.push(Finding::at(Severity::Broken, at, what, "fields of the entry"));
        return;
    }
    if record.os_type == PROTECTIVE {
        // The protective entry covers the drive from its second sector on.
        if first == 1 {
            reading.protective = true;
        } else {
            let what = format!("entry {slot} has the protective type and starts at {first} instead of 1");
            reading.findings.push(Finding::at(Severity::Broken, at, what, "StartingLBA of the entry"));
        }
        return;
    }
    let role = if is_extended(record.os_type) { Role::Extended } else { Role::Primary };
    let partition = partition(slot, role, first, sectors, record, at);
    if role == Role::Extended {
        if partition.range(source.sector_size()).end.0 > source.len() {
            let what = format!("the extended partition in entry {slot} reaches behind the end of the drive");
            reading.findings.push(Finding::at(Severity::Broken, at, what, "start and length of the entry"));
        }
        reading.extended.push(partition);
    } else {
        reading.partitions.push(partition);
    }
}

fn partition(slot: u32, role: Role, first: u64, sectors: u64, record: RawPartitionRecord, at: ByteOffset) -> Partition {
    Partition {
        slot,
        role,
        first: Lba(first),
        sectors: SectorCount(sectors),
        type_code: TypeCode::Mbr(record.os_type),
        name: None,
        unique: None,
        attributes: u64::from(record.boot_indicator),
        entry_at: at,
    }
}

fn read_ebr(source: &dyn Source, at: ByteOffset) -> Result<[RawPartitionRecord; 2], FormatError> {
    let bytes = read_bytes(source, at, 512, "EBR")?;
    let view = View::new("EBR", at, &bytes);
    let signature = view.u16(SIGNATURE_AT, "Signature")?;
    if signature != SIGNATURE {
        return Err(view.wrong(SIGNATURE_AT, "Signature", u64::from(signature), "0xAA55"));
    }
    Ok([*view.at(RECORDS_AT, "PartitionRecord")?, *view.at(RECORDS_AT + 16, "PartitionRecord")?])
}

/// The logical partition that an EBR at `lba` states, when one stands there: its mark, a type, a start behind it.
#[must_use]
pub fn ebr_at(source: &dyn Source, lba: Lba) -> Option<Partition> {
    let at = lba.offset(source.sector_size());
    let [logical, _] = read_ebr(source, at).ok()?;
    let (first, sectors) = (u64::from(logical.starting_lba.get()), u64::from(logical.size_in_lba.get()));
    let states = logical.os_type != 0 && first > 0 && sectors > 0;
    states.then(|| partition(5, Role::Logical, lba.0 + first, sectors, logical, at + RECORDS_AT as u64))
}

fn follow_chain(source: &dyn Source, container: &Partition, reading: &mut MbrReading) {
    let sector = source.sector_size();
    let ground = container.range(sector);
    let mut seen = HashSet::new();
    let mut ebr = container.first;
    for _ in 0..=MAX_LOGICALS {
        let at = ebr.offset(sector);
        if !seen.insert(ebr) {
            let what = format!("the chain of logical partitions comes back to {ebr}: it loops");
            reading.findings.push(Finding::at(Severity::Broken, at, what, "link of the EBR before"));
            return;
        }
        if !ground.contains(at) {
            let what = format!("the chain of logical partitions points at {ebr}, outside the extended partition");
            reading.findings.push(Finding::at(Severity::Broken, at, what, "link of the EBR before"));
            return;
        }
        let [logical, next] = match read_ebr(source, at) {
            Ok(records) => records,
            Err(error) => {
                let what = format!("the chain of logical partitions is cut at {ebr}");
                reading.findings.push(Finding::at(Severity::Broken, at, what, error.to_string()));
                return;
            }
        };
        if logical.os_type != 0 && logical.size_in_lba.get() != 0 {
            let first = ebr.0 + u64::from(logical.starting_lba.get());
            let slot = 5 + u32::try_from(seen.len()).unwrap_or(u32::MAX - 6) - 1;
            let sectors = u64::from(logical.size_in_lba.get());
            reading.partitions.push(partition(slot, Role::Logical, first, sectors, logical, at + RECORDS_AT as u64));
        }
        if next.os_type == 0 || next.size_in_lba.get() == 0 {
            return;
        }
        ebr = Lba(container.first.0 + u64::from(next.starting_lba.get()));
    }
    let what = format!("more than {MAX_LOGICALS} logical partitions: the rest was not read");
    reading.findings.push(Finding::at(Severity::Doubt, container.entry_at, what, "length of the chain"));
}
