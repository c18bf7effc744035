//! How a drive stands when its case is closed: its table as it is then, entry by entry, with the volumes that open there.

use std::sync::Arc;

use keel_format::{registry, table};
use keel_source::{ByteOffset, ByteRange, SharedSource, Window, printable, size_decimal};
use serde::{Deserialize, Serialize};

/// The most entries that are kept.
const MOST_ENTRIES: usize = 128;

/// A drive's layout as it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Standing {
    /// Scheme of its table; none where it has none.
    pub table: Option<String>,
    /// Length in bytes.
    pub bytes: u64,
    /// Logical sector in bytes.
    pub sector: u32,
    /// The entries in the order of their numbers; of a drive without a table the one volume, where there is one.
    pub entries: Vec<StandingEntry>,
}

/// An entry with what stands on its ground.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StandingEntry {
    /// Number in the table, from 1.
    pub number: u32,
    /// First sector, of the drive's size.
    pub first_lba: u64,
    /// Length in sectors.
    pub sectors: u64,
    /// Kind of the volume that opens there; none where none does.
    pub kind: Option<String>,
    /// Its label.
    pub label: Option<String>,
}

impl Standing {
    /// Reads `source` as it is now.
    #[must_use]
    pub fn of(source: &SharedSource) -> Self {
        let (sector, read) = (source.sector_size(), table::read(source.as_ref()));
        let entry = |slot: u32, range: ByteRange| {
            let (kind, label) = volume(source, range).unzip();
            StandingEntry {
                number: slot,
                first_lba: range.start.lba(sector).0,
                sectors: range.len() / sector.bytes(),
                kind,
                label: label.flatten(),
            }
        };
        let mut entries: Vec<StandingEntry> = read
            .partitions
            .iter()
            .take(MOST_ENTRIES)
            .filter(|partition| !partition.type_code.holds_no_volume())
            .map(|partition| entry(partition.slot, partition.range(sector)))
            .collect();
        entries.sort_by_key(|entry| entry.number);
        if read.scheme.is_none() {
            let whole = entry(1, ByteRange::sized(ByteOffset(0), source.len()));
            entries.extend(Some(whole).filter(|whole| whole.kind.is_some()));
        }
        let table = read.scheme.map(|scheme| scheme.word().to_string());
        Self { table, bytes: source.len(), sector: sector.0, entries }
    }

    /// The layout in sentences, one for each entry.
    #[must_use]
    pub fn lines(&self) -> Vec<String> {
        let table = self.table.as_deref().map_or_else(|| "no table".to_string(), printable);
        let mut lines = vec![format!("{} with {table}", size_decimal(self.bytes))];
        lines.extend(self.entries.iter().map(|entry| {
            let bytes = size_decimal(entry.sectors.saturating_mul(u64::from(self.sector)));
            let kind = entry.kind.as_deref().map_or_else(|| "no volume that opens".into(), printable);
            let label = entry.label.as_deref().map(|label| format!(" {}", printable(label))).unwrap_or_default();
            format!("{}: {kind}{label}, {bytes} from sector {}", entry.number, entry.first_lba)
        }));
        lines
    }
}

/// Kind and label of the volume that opens at the start of `range`.
fn volume(source: &SharedSource, range: ByteRange) -> Option<(String, Option<String>)> {
    let geometry = registry::boot_sector(source.as_ref(), range.start)?;
    let opened = geometry.open(Arc::new(Window::new(SharedSource::clone(source), range))).ok()?;
    Some((geometry.kind().word().to_string(), opened.summary().label.clone()))
}
