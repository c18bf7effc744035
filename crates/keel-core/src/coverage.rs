//! Coverage: the share of a drive that a verdict rests on. Ground is explained by a volume that was found, by a known
//! structure, or by zeros; what nothing explains and nobody looked at may hold anything.

use keel_format::table::{Partition, TableReading};
use keel_source::{ByteOffset, ByteRange, RangeSet, SectorSize, SharedSource, size_decimal};
use serde::Serialize;

use crate::find::{Find, Grade};

/// Stretches below this length in bytes hold no volume that the landmarks would not have met: they are what tables and
/// alignment leave between volumes, and the landmarks look into them.
pub const LEAST_VOLUME: u64 = 2 << 20;
/// Data and holes of a sparse source are told apart over at most so many stretches; what lies behind counts as data.
const MOST_STRETCHES: usize = 65_536;

/// How much of a drive its verdicts rest on.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub struct Coverage {
    /// Length of the drive in bytes.
    pub bytes: u64,
    /// Bytes of it that volumes, known structures and zeros explain.
    pub explained_bytes: u64,
    /// Bytes of it that nothing explains and that were swept: no certain volume was found on them.
    pub swept_bytes: u64,
    /// Ground that nothing explains and nobody looked at, each stretch long enough for a volume, ascending.
    pub unexplained: Vec<ByteRange>,
}

impl Coverage {
    /// The coverage of `source`, whose table reads as `table`, after a sweep that found `finds` and looked at every
    /// sector of `looked_at`. Reads nothing but where the source has holes.
    #[must_use]
    pub fn of(source: &SharedSource, table: &TableReading, finds: &[Find], looked_at: &[ByteRange]) -> Self {
        let drive = ByteRange::sized(ByteOffset(0), source.len());
        let sector = source.sector_size();
        let mut explained = RangeSet::default();
        let volumes = finds.iter().filter_map(|find| ground_of(find, table, sector));
        for range in volumes.chain(structures(table, sector)).filter_map(|range| range.overlap(drive)) {
            explained.add(range);
        }
        for gap in explained.lacking(drive) {
            if gap.len() < LEAST_VOLUME || is_hole(source, gap) {
                explained.add(gap);
            }
        }
        let mut seen = RangeSet::default();
        looked_at.iter().for_each(|range| seen.add(*range));
        let open = explained.lacking(drive);
        let unseen: Vec<ByteRange> = open.iter().flat_map(|range| seen.lacking(*range)).collect();
        let unexplained: Vec<ByteRange> = unseen.into_iter().filter(|range| range.len() >= LEAST_VOLUME).collect();
        let bytes = |ranges: &[ByteRange]| ranges.iter().map(|range| range.len()).sum::<u64>();
        Self {
            bytes: drive.len(),
            explained_bytes: explained.bytes(),
            swept_bytes: bytes(&open) - bytes(&unexplained),
            unexplained,
        }
    }

    /// Bytes that nothing explains and nobody looked at.
    #[must_use]
    pub fn unexplained_bytes(&self) -> u64 {
        self.unexplained.iter().map(|range| range.len()).sum()
    }

    /// True when no ground is left that is long enough for a volume and that nobody looked at.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.unexplained.is_empty()
    }

    /// The share that verdicts rest on, in percent, rounded down: 100 only when nothing is left.
    #[must_use]
    pub fn percent(&self) -> u64 {
        let open = u128::from(self.unexplained_bytes());
        let all = u128::from(self.bytes.max(1));
        u64::try_from((all - open.min(all)) * 100 / all).unwrap_or(0)
    }

    /// What the verdicts rest on, as a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let open = self.unexplained_bytes();
        let swept = match self.swept_bytes {
            0 => String::new(),
            bytes => {
                format!("; {} that nothing explains were swept, and no certain volume was found on them", size_decimal(bytes))
            }
        };
        match self.unexplained.len() {
            0 => format!("all of the drive was looked at or is explained{swept}"),
            count => {
                let places = if count == 1 { "one place".to_string() } else { format!("{count} places") };
                let first = self.unexplained.first().map_or(ByteOffset(0), |range| range.start);
                format!(
                    "{} % of the drive is explained; {} in {places} (the first at {first}) were not looked at{swept}",
                    self.percent(),
                    size_decimal(open)
                )
            }
        }
    }

    /// What follows from it: none when all was looked at.
    #[must_use]
    pub fn next(&self) -> Option<String> {
        let open = size_decimal(self.unexplained_bytes());
        (!self.is_whole()).then(|| format!("sweep the {open} that nothing explains: volumes may lie there"))
    }
}

/// The ground that a find explains: all it claims where its start and length are certain, or where an entry of the table
/// states them. What lies inside another find explains nothing by itself.
fn ground_of(find: &Find, table: &TableReading, sector: SectorSize) -> Option<ByteRange> {
    if !find.is_outer() || find.grade < Grade::Strong {
        return None;
    }
    let stated = |entry: &&Partition| entry.type_code.fits(find.kind) && entry.holds(find.range(), sector);
    let certain = find.grade == Grade::Certain && !find.is_open_ended();
    // A kind that can be read shows itself to be certain; of the others an entry that states the same is the most there is.
    if !certain && find.kind.why_closed().is_none() {
        return None;
    }
    (certain || find.needs_no_table(table) || table.partitions.iter().any(|entry| stated(&entry))).then(|| find.range())
}

/// Ground whose entry says that no volume is to be expected there.
fn structures(table: &TableReading, sector: SectorSize) -> impl Iterator<Item = ByteRange> {
    table.partitions.iter().filter(|entry| entry.type_code.holds_no_volume()).map(move |entry| entry.range(sector))
}

/// True when the source itself says that nothing was ever written to all of `range`: it reads as zeros.
fn is_hole(source: &SharedSource, range: ByteRange) -> bool {
    let mut at = range.start;
    for _ in 0..MOST_STRETCHES {
        match source.next_data(at) {
            None => return true,
            Some(data) if data.start >= range.end => return true,
            // File systems keep whole blocks: what is data may be a few zeros at the edge of a neighbour.
            Some(data) if data.len() <= 1 << 16 && is_blank(source, data, range) => at = data.end,
            Some(_) => return false,
        }
    }
    false
}

fn is_blank(source: &SharedSource, data: ByteRange, range: ByteRange) -> bool {
    let Some(part) = data.overlap(range) else { return true };
    let mut bytes = vec![0; usize::try_from(part.len()).unwrap_or(0)];
    source.read_at(part.start, &mut bytes).is_ok() && bytes.iter().all(|byte| *byte == 0)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_format::table;
    use keel_format::table::mbr::make::{NewEntry, mbr_sector};
    use keel_source::MemorySource;

    use super::*;
    use crate::testing::find;

    const MIB: u64 = 1 << 20;

    /// A drive of 64 MiB that is nowhere zero, with these entries: type, first sector, sectors.
    fn drive(entries: &[(u8, u32, u32)]) -> SharedSource {
        let mut bytes = vec![0x2A; 64 * MIB as usize];
        let entry = |(os_type, starting_lba, size_in_lba): &(u8, u32, u32)| NewEntry {
            os_type: *os_type,
            boot_indicator: 0,
            starting_lba: *starting_lba,
            size_in_lba: *size_in_lba,
        };
        bytes[..512].copy_from_slice(&mbr_sector(&[], 7, &entries.iter().map(entry).collect::<Vec<_>>()));
        Arc::new(MemorySource::new("quay", bytes, 512))
    }

    fn of(source: &SharedSource, finds: &[Find], looked_at: &[ByteRange]) -> Coverage {
        Coverage::of(source, &table::read(source.as_ref()), finds, looked_at)
    }

    fn range(start: u64, end: u64) -> ByteRange {
        ByteRange::new(ByteOffset(start), ByteOffset(end))
    }

    fn certain(id: usize, start: u64, bytes: u64) -> Find {
        Find { grade: Grade::Certain, ..find(id, start, bytes, 100) }
    }

    #[test]
    fn a_certain_volume_explains_its_ground_and_a_strong_one_does_not() {
        let source = drive(&[]);
        let whole = of(&source, &[certain(1, MIB, 20 * MIB)], &[]);
        assert_eq!(whole.unexplained, [range(21 * MIB, 64 * MIB)], "the first MiB is shorter than any volume");
        assert_eq!((whole.explained_bytes, whole.unexplained_bytes()), (21 * MIB, 43 * MIB));
        assert_eq!(whole.percent(), 32);
        let strong = of(&source, &[find(1, MIB, 20 * MIB, 50)], &[]);
        assert_eq!(strong.unexplained, [range(0, 64 * MIB)]);
        // Not even where an entry states the same: a kind that is read shows itself to be certain.
        let stated = drive(&[(0x07, 2048, 40_960)]);
        assert_eq!(of(&stated, &[find(1, MIB, 20 * MIB, 50)], &[]).unexplained, [range(0, 64 * MIB)]);
    }

    #[test]
    fn what_lies_inside_or_is_of_an_older_generation_explains_nothing() {
        let source = drive(&[]);
        let inside = Find { inside: Some("n1".into()), ..certain(2, 30 * MIB, 20 * MIB) };
        let weak = Find { grade: Grade::Weak, ..find(3, 30 * MIB, 20 * MIB, 1) };
        for finds in [vec![inside], vec![weak], Vec::new()] {
            assert_eq!(of(&source, &finds, &[]).unexplained, [range(0, 64 * MIB)]);
        }
    }

    #[test]
    fn entries_that_hold_no_volume_explain_theirs() {
        let source = drive(&[(0x82, 2048, 131_072 - 2048)]);
        let kept = of(&source, &[], &[]);
        let swap = table::read(source.as_ref()).partitions[0].type_code.holds_no_volume();
        assert_eq!(kept.is_whole(), swap);
        let reserved = drive(&[(0x07, 2048, 131_072 - 2048)]);
        assert!(!of(&reserved, &[], &[]).is_whole(), "an entry alone explains nothing");
    }

    #[test]
    fn ground_that_was_swept_is_not_open_any_more_and_is_said_to_be_without_a_volume() {
        let source = drive(&[]);
        let half = of(&source, &[], &[range(0, 32 * MIB)]);
        assert_eq!((half.unexplained.clone(), half.swept_bytes), (vec![range(32 * MIB, 64 * MIB)], 32 * MIB));
        assert!(half.sentence().contains("50 % of the drive is explained") && half.sentence().contains("in one place"));
        assert!(half.next().unwrap().ends_with("volumes may lie there"));
        let all = of(&source, &[], &[range(0, 64 * MIB)]);
        assert!(all.is_whole() && all.next().is_none() && all.percent() == 100);
        assert!(all.sentence().contains("no certain volume was found on them"));
    }

    #[test]
    fn holes_of_the_source_are_zeros_and_blank_blocks_at_their_edges_too() {
        let image = tempfile::NamedTempFile::new().unwrap();
        let out = std::fs::File::options().write(true).open(image.path()).unwrap();
        out.set_len(64 * MIB).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&out, &[0; 4096], 10 * MIB).unwrap();
        let open = || keel_source::open(image.path(), keel_source::OpenOptions::default()).unwrap();
        assert!(of(&open(), &[], &[]).is_whole());
        std::os::unix::fs::FileExt::write_all_at(&out, &[7; 4096], 40 * MIB).unwrap();
        assert_eq!(of(&open(), &[], &[]).unexplained, [range(0, 64 * MIB)]);
    }

    #[test]
    fn a_share_of_99_and_more_is_never_called_all() {
        let nearly = Coverage {
            bytes: 1 << 50,
            explained_bytes: (1 << 50) - 2 * MIB,
            swept_bytes: 0,
            unexplained: vec![range(0, 2 * MIB)],
        };
        assert_eq!(nearly.percent(), 99);
        assert_eq!(Coverage::default().percent(), 100, "a drive of no bytes has nothing left");
    }
}
