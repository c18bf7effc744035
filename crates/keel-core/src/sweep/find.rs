//! A find: a volume that the sweep inferred, with its grade.

use keel_format::table::{self, TableReading};
use keel_format::{FoundVolume, Geometry, Stamp, VolumeKind, Witness, WitnessKind};
use keel_source::{ByteOffset, ByteRange, Lba, SectorCount, SharedSource, printable};
use serde::Serialize;

use super::inside;
use super::stored::{self, Behind};

/// How sure a find is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Grade {
    /// Witnesses speak against it about as much as for it.
    Contradicted,
    /// Few witnesses.
    Weak,
    /// Many witnesses agree; start and length may rest on inference.
    Strong,
    /// A boot sector or its backup, the core metadata and the root directory agree.
    Certain,
}

impl Grade {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Contradicted => "contradicted",
            Self::Weak => "weak",
            Self::Strong => "strong",
            Self::Certain => "certain",
        }
    }

    fn of(volume: &FoundVolume) -> Self {
        let against: i32 = volume.witnesses.iter().map(|witness| witness.weight.min(0)).sum();
        let boot = volume.has(WitnessKind::BootSector) || volume.has(WitnessKind::BackupBootSector);
        let reads = volume.has(WitnessKind::CoreMetadata) && volume.has(WitnessKind::RootDirectory);
        // What cannot be read is certain by its superblock and a copy that agree.
        let rests = match volume.kind.why_closed() {
            Some(_) => volume.has(WitnessKind::BootSector) && volume.has(WitnessKind::BackupBootSector),
            None => reads,
        };
        match volume.score() {
            score if matches!(volume.geometry, Geometry::Former(_)) => {
                if score >= 25 {
                    Self::Strong
                } else {
                    Self::Weak
                }
            }
            score if against <= -30 && score < 60 => Self::Contradicted,
            score if score >= 60 && boot && rests => Self::Certain,
            score if score >= 40 => Self::Strong,
            _ => Self::Weak,
        }
    }
}

/// A volume that the sweep inferred.
#[derive(Debug, Clone, Serialize)]
pub struct Find {
    /// `n1`, `n2`, … by start.
    pub id: String,
    /// Kind.
    pub kind: VolumeKind,
    /// First byte on the drive.
    pub start_byte: ByteOffset,
    /// Length in bytes.
    pub bytes: u64,
    /// First logical sector.
    pub start_lba: Lba,
    /// Length in logical sectors.
    pub sectors: SectorCount,
    /// Label, control characters made visible.
    pub label: Option<String>,
    /// How sure it is.
    pub grade: Grade,
    /// Sum of the witnesses' weights.
    pub score: i32,
    /// The evidence, strongest first.
    pub witnesses: Vec<Witness>,
    /// The find inside whose file it lies: a disk image stored there.
    pub inside: Option<String>,
    /// The file it lies in, when `inside` is set.
    pub inside_file: Option<String>,
    /// The present find on whose ground it is what is left of an older generation.
    pub older_than: Option<String>,
    /// Newest time in its root directory.
    pub newest: Option<Stamp>,
    /// What lies behind the end of a drive that stores less than it claims.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub behind: Option<Behind>,
    /// What is needed to look into it.
    pub geometry: Geometry,
}

impl Find {
    /// The ground it claims.
    #[must_use]
    pub fn range(&self) -> ByteRange {
        ByteRange::sized(self.start_byte, self.bytes)
    }

    /// True for what is left of a volume that another one was made over: its files can be taken out, and it is never put back.
    #[must_use]
    pub fn is_former(&self) -> bool {
        matches!(self.geometry, Geometry::Former(_))
    }

    /// True for a volume that stands by itself: not a disk image inside another one's file, and of the present generation.
    #[must_use]
    pub fn is_outer(&self) -> bool {
        self.inside.is_none() && !self.is_former()
    }

    /// True when its format records no length: where it ends is taken from what stands around it.
    #[must_use]
    pub fn is_open_ended(&self) -> bool {
        matches!(&self.geometry, Geometry::Known(known) if known.bytes == 0)
    }

    /// True for a volume that begins where a table would stand: it fills the drive, or did before the table was made.
    #[must_use]
    pub fn needs_no_table(&self, table: &TableReading) -> bool {
        let superblock_alone = !table.mbr.signature && table.scheme.is_none() && self.grade >= Grade::Strong;
        // The first 32 KiB of such a volume belong to the system: tables of boot sticks stand there.
        let leaves_room = self.kind.leaves_room_for_tables() && self.grade >= Grade::Strong;
        let superblock_alone = superblock_alone || leaves_room;
        self.start_byte.0 == 0 && self.is_outer() && (table.mbr.is_volume || superblock_alone)
    }

    /// The label, or a dash.
    #[must_use]
    pub fn name(&self) -> &str {
        self.label.as_deref().unwrap_or("-")
    }
}

/// The volumes that stand by themselves: neither images inside another one's files nor of an older generation.
pub fn outer(finds: &[Find]) -> impl Iterator<Item = &Find> {
    finds.iter().filter(|find| find.is_outer())
}

/// The volumes that stand by themselves and whose files can be read.
pub fn readable(finds: &[Find]) -> impl Iterator<Item = &Find> {
    outer(finds).filter(|find| find.kind.why_closed().is_none())
}

/// Gives a length to volumes whose format records none: to the end of the table entry that starts there, else to the
/// next volume, else to the end of the drive less what a GPT needs there.
fn close_open_ends(source: &SharedSource, found: &mut [FoundVolume]) {
    const CUSTOMARY: u64 = 1 << 20;
    let starts: Vec<ByteOffset> = found.iter().map(|volume| volume.start).collect();
    let open = found.iter_mut().filter(|volume| volume.bytes == 0);
    for volume in open {
        let table = table::read(source.as_ref());
        let sector = source.sector_size();
        let entry = table.partitions.iter().map(|entry| entry.range(sector)).find(|range| range.start == volume.start);
        let next = starts.iter().copied().filter(|start| *start > volume.start).min();
        let last = ByteOffset(source.len().saturating_sub(34 * sector.bytes()) / CUSTOMARY * CUSTOMARY);
        let (end, how) = match (entry, next) {
            (Some(range), _) => (range.end, "a table entry that starts here gives the end"),
            (None, Some(next)) => (next, "the end is taken where the next volume starts"),
            (None, None) => (last, "the end is taken at the last customary boundary of the drive"),
        };
        volume.bytes = end - volume.start;
        volume.witnesses.push(Witness::at(WitnessKind::SizeRecord, volume.start, 0, how).length(volume.bytes));
    }
}

/// Names for each find of an older generation the present one that was made over it.
fn mark_older(finds: &mut [Find]) {
    let present: Vec<(String, ByteRange)> =
        finds.iter().filter(|find| !find.is_former()).map(|find| (find.id.clone(), find.range())).collect();
    for find in finds.iter_mut().filter(|find| find.is_former()) {
        let ground = find.range();
        let shared = |range: &ByteRange| range.overlap(ground).map_or(0, ByteRange::len);
        let host = present.iter().filter(|(_, range)| shared(range) > 0).max_by_key(|(_, range)| shared(range));
        find.older_than = host.map(|(id, _)| id.clone());
    }
}

/// Finds from what the formats inferred: sorted, numbered, graded, nested ones marked.
pub(super) fn make(source: &SharedSource, mut found: Vec<FoundVolume>) -> Vec<Find> {
    found.retain(|volume| volume.start.0 < source.len());
    found.sort_by_key(|volume| (volume.start, volume.kind));
    close_open_ends(source, &mut found);
    found.retain(|volume| volume.bytes > 0);
    let sector = source.sector_size();
    let mut finds: Vec<Find> = found
        .into_iter()
        .enumerate()
        .map(|(index, volume)| {
            let grade = Grade::of(&volume);
            let score = volume.score();
            let mut witnesses = volume.witnesses;
            witnesses.sort_by_key(|witness| std::cmp::Reverse(witness.weight));
            Find {
                id: format!("n{}", index + 1),
                kind: volume.kind,
                start_byte: volume.start,
                bytes: volume.bytes,
                start_lba: volume.start.lba(sector),
                sectors: SectorCount(volume.bytes.div_ceil(sector.bytes())),
                label: volume.label.map(|label| printable(&label)),
                grade,
                score,
                witnesses,
                inside: None,
                inside_file: None,
                older_than: None,
                newest: volume.newest,
                behind: None,
                geometry: volume.geometry,
            }
        })
        .collect();
    mark_older(&mut finds);
    inside::mark(source, &mut finds);
    stored::fit(source, &mut finds);
    finds
}
