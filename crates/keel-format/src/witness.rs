//! Evidence for a volume, and the volume it speaks for.

use std::ops::ControlFlow;

use keel_source::{ByteOffset, ByteRange};
use serde::Serialize;

use crate::{Deleted, Geometry, NodeKind, Stamp, Volume, VolumeKind};

/// What gave the evidence.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum WitnessKind {
    /// The boot sector at the start.
    BootSector,
    /// The backup of the boot sector.
    BackupBootSector,
    /// MFT record 0, or the file allocation table: the root of the volume's metadata.
    CoreMetadata,
    /// A copy of core metadata that agrees: MFT mirror, second FAT.
    CoreCopy,
    /// References between structures that meet where they should: run lists, dot entries.
    References,
    /// The root directory lists.
    RootDirectory,
    /// A size from bitmap, bad-cluster stream or free-cluster count.
    SizeRecord,
    /// A current or former table entry.
    TableEntry,
}

impl WitnessKind {
    /// The words for the screen.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::BootSector => "boot sector",
            Self::BackupBootSector => "its backup",
            Self::CoreMetadata => "core metadata",
            Self::CoreCopy => "its copy",
            Self::References => "references",
            Self::RootDirectory => "root directory",
            Self::SizeRecord => "size record",
            Self::TableEntry => "table entry",
        }
    }
}

/// One piece of evidence for (or against) a volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Witness {
    /// What gave it.
    pub kind: WitnessKind,
    /// Where on the drive.
    pub at_byte: Option<ByteOffset>,
    /// What it says, as a sentence.
    pub says: String,
    /// How much it counts; negative where it speaks against the volume, 0 where it is absent.
    pub weight: i32,
    /// The start it implies, where it implies one.
    pub start_byte: Option<ByteOffset>,
    /// The length in bytes it implies, where it implies one.
    pub bytes: Option<u64>,
}

impl Witness {
    /// A witness at a place.
    #[must_use]
    pub fn at(kind: WitnessKind, at: ByteOffset, weight: i32, says: impl Into<String>) -> Self {
        Self { kind, at_byte: Some(at), says: says.into(), weight, start_byte: None, bytes: None }
    }

    /// The same witness, implying a start.
    #[must_use]
    pub fn start(mut self, start: ByteOffset) -> Self {
        self.start_byte = Some(start);
        self
    }

    /// The same witness, implying a length in bytes.
    #[must_use]
    pub fn length(mut self, bytes: u64) -> Self {
        self.bytes = Some(bytes);
        self
    }
}

/// A volume that a format inferred from what lies on the surface.
#[derive(Debug, Clone)]
pub struct FoundVolume {
    /// Kind.
    pub kind: VolumeKind,
    /// First byte on the drive.
    pub start: ByteOffset,
    /// Length in bytes.
    pub bytes: u64,
    /// Label, when one was read.
    pub label: Option<String>,
    /// Evidence, strongest first.
    pub witnesses: Vec<Witness>,
    /// What is needed to look into it.
    pub geometry: Geometry,
    /// Newest time seen in its root, as evidence of age.
    pub newest: Option<Stamp>,
}

impl FoundVolume {
    /// The ground it claims.
    #[must_use]
    pub fn range(&self) -> ByteRange {
        ByteRange::sized(self.start, self.bytes)
    }

    /// Sum of the witnesses' weights.
    #[must_use]
    pub fn score(&self) -> i32 {
        self.witnesses.iter().map(|witness| witness.weight).sum()
    }

    /// True when a witness of `kind` speaks for the volume.
    #[must_use]
    pub fn has(&self, kind: WitnessKind) -> bool {
        self.witnesses.iter().any(|witness| witness.kind == kind && witness.weight > 0)
    }
}

/// The most folders of a root that are followed, and the most names of it that are read.
const MOST_FOLLOWED: usize = 64;
const MOST_NAMES: u32 = 4096;

/// What the root folder of `volume`, which stands at byte `at` of the drive, says by its names and by the folders that they lead to; and
/// the newest time in it.
pub(crate) fn root_witness(volume: &dyn Volume, at: ByteOffset) -> (Witness, Option<Stamp>) {
    let (mut names, mut asked, mut met, mut newest) = (0u32, 0usize, 0usize, None);
    let listed = volume.list(volume.root(), Deleted::Hide, &mut |entry| {
        names += 1;
        newest = newest.max(entry.times.modified);
        if entry.kind == NodeKind::Directory && asked < MOST_FOLLOWED {
            asked += 1;
            let inside = volume.list(entry.id, Deleted::Hide, &mut |_| ControlFlow::Break(()));
            met += usize::from(inside.is_ok_and(|findings| findings.is_empty()));
        }
        if names < MOST_NAMES { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    let (weight, says) = match listed {
        Ok(findings) if findings.is_empty() && met == asked => {
            (20, format!("root folder lists {names} names, {met} folders below it list too"))
        }
        Ok(_) => (5, format!("root folder lists {names} names; {met} of {asked} folders below it list")),
        Err(_) => (-10, "root folder cannot be read".to_string()),
    };
    (Witness::at(WitnessKind::RootDirectory, at, weight, says), newest)
}
