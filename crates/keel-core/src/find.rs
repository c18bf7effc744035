//! A find: a volume that was inferred, with its grade, and how it is looked into.

use std::sync::Arc;

use keel_format::table::TableReading;
use keel_format::{FoundVolume, Geometry, Stamp, Volume, VolumeKind, Witness, WitnessKind};
use keel_source::{ByteOffset, ByteRange, Lba, SectorCount, SharedSource, Window, size_decimal};
use serde::Serialize;

use crate::error::CoreError;

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

    pub(crate) fn of(volume: &FoundVolume) -> Self {
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

/// What lies behind the end of the drive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Behind {
    /// Length that the volume was made with, in bytes.
    pub made_bytes: u64,
    /// Bytes of the volume that lie behind the end.
    pub missing_bytes: u64,
    /// Files that lie wholly before the end.
    pub whole_files: u64,
    /// Files that lose something.
    pub cut_files: u64,
    /// True where the drive was shown to store less than it claims: the rest is nowhere. Else the image or the drive is
    /// shorter than what it held, and the rest may be elsewhere.
    pub is_nowhere: bool,
    /// Why the volume cannot be fitted; none where it was.
    pub why: Option<String>,
}

impl Behind {
    /// What became of the volume, as a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let made = size_decimal(self.made_bytes);
        let end = if self.is_nowhere { "true end" } else { "end" };
        let files = format!("files wholly before the {end}: {}, files that lose something: {}", self.whole_files, self.cut_files);
        match (&self.why, self.is_nowhere) {
            (None, _) => {
                format!("made with {made}, more than the drive stores; what it uses lies before the {end}: {files}")
            }
            (Some(why), true) => format!("made with {made}, more than the drive stores; {why}; {files}: take them out"),
            (Some(why), false) => {
                let missing = size_decimal(self.missing_bytes);
                format!("reaches {} bytes ({missing} of {made}) behind the end of the drive: {why}; {files}", self.missing_bytes)
            }
        }
    }
}

/// Opens the volume of a find for looking into it.
///
/// # Errors
/// [`CoreError::Format`] when its core metadata cannot be read.
pub fn open(source: &SharedSource, find: &Find) -> Result<Arc<dyn Volume>, CoreError> {
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), find.range()));
    if let Some(why) = find.kind.why_closed() {
        return Err(CoreError::Nothing(why));
    }
    Ok(Arc::from(find.geometry.open(window)?))
}
