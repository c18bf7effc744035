//! Reading block 0 and the map behind it.

use keel_source::{ByteOffset, Lba, SectorCount, Source};

use super::known_type;
use super::layout::{RawBlock0, RawEntry};
use crate::table::{Partition, Role, TypeCode};
use crate::{Finding, FormatError, Severity, View, read_bytes};

/// The most entries that are read.
const MOST_ENTRIES: u32 = 256;

/// What the map says.
#[derive(Debug, Clone, Default)]
pub struct ApmReading {
    /// True when a map stands behind block 0.
    pub present: bool,
    /// Its partitions; the map itself and free ground are left out.
    pub partitions: Vec<Partition>,
    /// What is wrong with it.
    pub findings: Vec<Finding>,
}

/// Reads the map. Never fails: what is wrong is a finding. At most 256 entries are read.
#[must_use]
pub fn read(source: &dyn Source) -> ApmReading {
    let mut reading = ApmReading::default();
    let block = block_bytes(source);
    let Ok(first) = entry(source, block, 1) else { return reading };
    reading.present = true;
    let count = first.pm_map_blk_cnt.get();
    if count == 0 || count > MOST_ENTRIES {
        let what = format!("the partition map says it has {count} entries");
        reading.findings.push(Finding::at(Severity::Doubt, ByteOffset(block + 4), what, "pmMapBlkCnt of the first entry"));
    }
    for number in 1..=count.clamp(1, MOST_ENTRIES) {
        match entry(source, block, number) {
            Ok(raw) => take(source, block, number, &raw, &mut reading),
            Err(error) => {
                let what = format!("entry {number} of the partition map cannot be read");
                reading.findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
            }
        }
    }
    reading
}

/// `sbBlkSize`, or the drive's sector size where block 0 is gone.
fn block_bytes(source: &dyn Source) -> u64 {
    let sector = source.sector_size().bytes();
    let Ok(bytes) = read_bytes(source, ByteOffset(0), 512, "block 0") else { return sector };
    let view = View::new("block 0", ByteOffset(0), &bytes);
    match view.at::<RawBlock0>(0, "Block0") {
        Ok(raw) if &raw.sb_sig == b"ER" && matches!(raw.sb_blk_size.get(), 512 | 1024 | 2048 | 4096) => {
            u64::from(raw.sb_blk_size.get())
        }
        _ => sector,
    }
}

fn entry(source: &dyn Source, block: u64, number: u32) -> Result<RawEntry, FormatError> {
    let at = ByteOffset(block * u64::from(number));
    let bytes = read_bytes(source, at, 512, "partition map entry")?;
    let view = View::new("partition map entry", at, &bytes);
    let raw: RawEntry = *view.at(0, "Partition")?;
    if &raw.pm_sig != b"PM" {
        return Err(view.wrong(0, "pmSig", u64::from(view.u16(0, "pmSig")?), "PM"));
    }
    Ok(raw)
}

fn take(source: &dyn Source, block: u64, number: u32, raw: &RawEntry, reading: &mut ApmReading) {
    let name = known_type(&raw.pm_par_type);
    if matches!(name, "Apple_partition_map" | "Apple_Free") || raw.pm_part_blk_cnt.get() == 0 {
        return;
    }
    let sector = source.sector_size().bytes();
    let at = ByteOffset(block * u64::from(number));
    let (start, bytes) = (u64::from(raw.pm_py_part_start.get()) * block, u64::from(raw.pm_part_blk_cnt.get()) * block);
    if !start.is_multiple_of(sector) {
        let what = format!("entry {number} of the partition map starts inside a sector of this drive");
        reading.findings.push(Finding::at(Severity::Broken, at, what, format!("pmPyPartStart in blocks of {block} bytes")));
        return;
    }
    let end = raw.pm_part_name.iter().position(|byte| *byte == 0).unwrap_or(32);
    let label = String::from_utf8_lossy(raw.pm_part_name.get(..end).unwrap_or_default()).into_owned();
    reading.partitions.push(Partition {
        slot: number,
        role: Role::Apm,
        first: Lba(start / sector),
        sectors: SectorCount(bytes / sector),
        type_code: TypeCode::Apm(name),
        name: Some(label).filter(|label| !label.is_empty()),
        unique: None,
        attributes: 0,
        entry_at: at,
    });
}
