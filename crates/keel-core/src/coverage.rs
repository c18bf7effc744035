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
