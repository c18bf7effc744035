//! What is said of the kinds of volume: each format tells it of its own in its room `kind`.

use uuid::Uuid;

use crate::make::{NewVolume, NotMade, Wanted};
use crate::resize::Resizer;

pub use crate::registry::VolumeKind;

/// What is to be known of a kind without looking at a volume.
#[derive(Debug)]
pub struct KindFacts {
    /// The trade's name of the kind.
    pub word: &'static str,
    /// Two letters for the keel's blocks.
    pub letters: &'static str,
    /// Two signs that fill the keel's blocks.
    pub texture: &'static str,
    /// Types of an MBR.
    pub mbr: MbrTypes,
    /// The customary `PartitionTypeGUID`, and the other ones behind which systems find the kind too.
    pub gpt: (Uuid, &'static [Uuid]),
    /// Types of an Apple partition map behind which the kind stands, the customary one first.
    pub apm: &'static [&'static str],
    /// True when those types are kept for kinds that are known here: an entry of such a type without such a volume is broken.
    pub promised: Promise,
    /// The drivers of the system, by the names under which they are mounted, and the options with which nothing is written.
    pub drivers: &'static [Driver],
    /// Kinds that a volume may be called instead: features tell them apart, and one whose journal is gone is another without it.
    pub alike: &'static [VolumeKind],
    /// Why a volume cannot be looked into here, as a sentence; none for kinds that are read.
    pub closed: Option<&'static str>,
    /// What a volume keeps of a file that was deleted.
    pub deleted: KeptOfDeleted,
    /// Why a volume can often not be cut short in its place, as a sentence.
    pub uncut: &'static str,
    /// Whether other volumes lie inside.
    pub holds: Holds,
    /// What makes new volumes of it; none where they are not made here.
    pub make: Option<Maker>,
    /// What fits volumes of it to another length; none where that is not done here.
    pub resize: Option<Resizer>,
}

/// Makes a new, empty volume of a kind.
pub type Maker = fn(VolumeKind, &Wanted) -> Result<NewVolume, NotMade>;

impl VolumeKind {
    /// A new, empty volume of the kind, of which nothing is written yet.
    ///
    /// # Errors
    /// [`NotMade`] with the reason, as a sentence.
    pub fn make(self, wanted: &Wanted) -> Result<NewVolume, NotMade> {
        let facts = self.facts();
        let make = facts.make.ok_or_else(|| NotMade(format!("new volumes of {} are not made here", facts.word)))?;
        make(self, wanted)
    }
}

/// Types of an MBR behind which systems look for a kind.
#[derive(Debug, Clone, Copy)]
pub struct MbrTypes {
    /// The customary `OSType`.
    pub usual: u8,
    /// The customary one of volumes that are smaller than so many bytes.
    pub small: Option<(u64, u8)>,
    /// Others behind which systems find it too.
    pub also: &'static [u8],
}

/// A driver of the operating system.
#[derive(Debug, Clone, Copy)]
pub struct Driver {
    /// The name under which it is mounted.
    pub name: &'static str,
    /// Options with which nothing is written.
    pub options: &'static str,
    /// True for one that is a program of its own.
    pub is_program: bool,
}

/// What an entry of a kind's types says of what stands behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Promise {
    /// A volume of a kind that is known here.
    Known,
    /// A volume, maybe of a kind that is not known here.
    Any,
    /// Nothing that must stand at its start.
    None,
}

/// What a volume keeps of a deleted file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeptOfDeleted {
    /// As a sentence; none for kinds that hold no files or are not read.
    pub says: Option<&'static str>,
    /// True when deleting empties the length: a deleted file of no bytes may have held some.
    pub empties: bool,
    /// True when content may be kept inside the file's own record.
    pub inside: bool,
}

/// Whether a kind has other volumes inside.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// What looks like a volume inside is a file.
    Files,
    /// Other volumes lie inside by design: what is found there needs no entry in the table.
    Volumes,
    /// Files; and its first 32 KiB are left to the system, which keeps tables there on purpose: boot images that are volume and
    /// partitioned drive at once.
    FilesBehindTables,
}

impl MbrTypes {
    /// One type, and others that do as well.
    #[must_use]
    pub const fn new(usual: u8, also: &'static [u8]) -> Self {
        Self { usual, small: None, also }
    }

    /// The customary type of a volume of so many bytes.
    #[must_use]
    pub fn for_length(self, bytes: u64) -> u8 {
        self.small.filter(|(below, _)| bytes < *below).map_or(self.usual, |(_, code)| code)
    }
}

impl Driver {
    /// A driver that is a part of the kernel.
    #[must_use]
    pub const fn kernel(name: &'static str, options: &'static str) -> Self {
        Self { name, options, is_program: false }
    }

    /// A driver that is a program of its own.
    #[must_use]
    pub const fn program(name: &'static str) -> Self {
        Self { name, options: "", is_program: true }
    }
}

impl KeptOfDeleted {
    /// Nothing, of a kind that holds no files or is not read.
    pub const NOTHING: Self = Self { says: None, empties: false, inside: false };

    /// What the sentence says; lengths stay, and nothing is kept inside of records.
    #[must_use]
    pub const fn told(says: &'static str) -> Self {
        Self { says: Some(says), empties: false, inside: false }
    }
}

impl VolumeKind {
    /// True for one and the same kind, and for kinds that only features tell apart.
    #[must_use]
    pub fn is_alike(self, other: Self) -> bool {
        self == other || self.facts().alike.contains(&other)
    }

    /// The trade's name of the kind.
    #[must_use]
    pub fn word(self) -> &'static str {
        self.facts().word
    }

    /// Two letters for the keel's blocks.
    #[must_use]
    pub fn letters(self) -> &'static str {
        self.facts().letters
    }

    /// What a volume of this kind keeps of a file that was deleted, as a sentence; why it is not read, for kinds that are not.
    #[must_use]
    pub fn kept_of_deleted(self) -> Option<&'static str> {
        self.facts().deleted.says.or(self.why_closed())
    }

    /// Why a volume of this kind cannot be looked into here; none for the kinds that can.
    #[must_use]
    pub fn why_closed(self) -> Option<&'static str> {
        self.facts().closed
    }

    /// True for kinds whose first 32 KiB are left to the system, which keeps tables there on purpose.
    #[must_use]
    pub fn leaves_room_for_tables(self) -> bool {
        self.facts().holds == Holds::FilesBehindTables
    }

    /// True when other volumes lie inside by design.
    #[must_use]
    pub fn is_container(self) -> bool {
        self.facts().holds == Holds::Volumes
    }
}
