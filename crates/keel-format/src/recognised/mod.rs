//! Kinds of volume that are recognised with their start and length and cannot be looked into here. A recogniser is a
//! file and a line in [`RECOGNISERS`].

pub(crate) mod apfs;
pub(crate) mod btrfs;
mod closed;
pub(crate) mod ext_journal;
pub(crate) mod f2fs;
pub(crate) mod fve;
pub(crate) mod iso9660;
mod kind;
pub(crate) mod luks;
pub(crate) mod lvm;
pub mod mend;
pub(crate) mod raid;
pub(crate) mod refs;
mod shape;
pub(crate) mod swap;
pub(crate) mod udf;

#[cfg(test)]
mod tests;

pub(crate) use shape::SHAPES;

use std::collections::BTreeMap;

use keel_source::{ByteOffset, SharedSource, Source};
use serde::{Deserialize, Serialize};

use crate::clue::{Clues, Placed, clue_lists, keep};
use crate::former::Host;
use crate::{FoundVolume, Geometry, VolumeKind, Witness, WitnessKind, read_lenient};

/// Bytes of a structure that a recogniser may look at.
const SEEN: usize = 4096;

/// What is known of a volume that cannot be looked into.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct KnownGeometry {
    /// Kind.
    pub kind: VolumeKind,
    /// Length in bytes; 0 where the format records none.
    pub bytes: u64,
    /// Identifier, as the format keeps it; zeros where it has none.
    pub identifier: [u8; 16],
}

/// A structure of a recognised kind and what it says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Known {
    /// First byte of the volume on the drive.
    pub(crate) start: ByteOffset,
    /// Length in bytes; 0 where the format records none.
    pub(crate) bytes: u64,
    /// Label.
    pub(crate) label: Option<String>,
    /// Identifier.
    pub(crate) identifier: [u8; 16],
    /// True for the structure at the start, false for a copy elsewhere.
    pub(crate) main: bool,
    /// True when a checksum over the structure was tested and holds.
    pub(crate) checked: bool,
    /// What was seen, as a sentence.
    pub(crate) says: String,
}

/// One kind.
pub(crate) struct Recogniser {
    kind: VolumeKind,
    /// A quick test of a sector's first and last 64 bytes.
    is_marked: fn(&[u8; 512]) -> bool,
    /// Reads the structure whose marked sector stands at a byte of the drive; `bytes` are up to 4096 from there on.
    read: fn(&dyn Source, ByteOffset, &[u8]) -> Option<Known>,
}

macro_rules! recognisers {
    ($(($module:ident, $kind:ident)),+ $(,)?) => {
        const RECOGNISERS: &[Recogniser] = &[$(Recogniser {
            kind: VolumeKind::$kind,
            is_marked: $module::is_marked,
            read: $module::read,
        }),+];

        /// True when a sector may belong to one of the recognised kinds.
        #[inline]
        #[must_use]
        pub fn is_marked(sector: &[u8; 512]) -> bool {
            $($module::is_marked(sector))||+
        }
    };
}

recognisers!(
    (btrfs, Btrfs),
    (f2fs, F2fs),
    (apfs, Apfs),
    (refs, Refs),
    (ext_journal, ExtJournal),
    (swap, Swap),
    (luks, Luks),
    (lvm, Lvm),
    (raid, Raid),
    (fve, Fve),
    (udf, Udf),
    (iso9660, Iso9660),
);

/// A structure of a recognised kind, seen on the surface.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct KnownClue {
    /// Where its marked sector stands.
    pub at: ByteOffset,
    /// Kind.
    pub kind: VolumeKind,
}

impl Placed for KnownClue {
    fn place(&self) -> ByteOffset {
        self.at
    }
}

/// Clues to recognised volumes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct KnownClues {
    /// Structures seen.
    pub seen: Vec<KnownClue>,
}

clue_lists!(KnownClues {
    all: seen;
    tried: seen;
    leads: |lists| lists.seen.len()
});

/// Looks at one sector and keeps a clue. Whether the structure holds is tested when volumes are inferred.
pub fn look(clues: &mut Clues, at: ByteOffset, bytes: &[u8]) {
    let Some(sector) = bytes.first_chunk::<512>() else { return };
    for recogniser in RECOGNISERS.iter().filter(|recogniser| (recogniser.is_marked)(sector)) {
        keep(&mut clues.recognised.seen, KnownClue { at, kind: recogniser.kind });
    }
}

/// What is left of these kinds under another volume is not told: without its superblock nothing is known of one.
pub(crate) fn former(_drive: &SharedSource, _clues: &Clues, _found: &[FoundVolume], _hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    Vec::new()
}

/// These kinds have no boot sector that opens them.
#[must_use]
pub fn boot_sector(_source: &dyn Source, _at: ByteOffset) -> Option<Geometry> {
    None
}

fn read(drive: &dyn Source, clue: KnownClue) -> Option<Known> {
    let recogniser = RECOGNISERS.iter().find(|recogniser| recogniser.kind == clue.kind)?;
    let len = usize::try_from(drive.len().checked_sub(clue.at.0)?).unwrap_or(SEEN).min(SEEN);
    let (bytes, _) = read_lenient(drive, clue.at, len, "structure").ok()?;
    (recogniser.read)(drive, clue.at, &bytes)
}

/// Turns clues into recognised volumes: structures that give the same start and identifier are one volume.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues) -> Vec<FoundVolume> {
    let mut volumes: BTreeMap<_, Vec<(ByteOffset, Known)>> = BTreeMap::new();
    for clue in &clues.recognised.seen {
        if let Some(known) = read(drive.as_ref(), *clue) {
            volumes.entry((known.start, clue.kind, known.identifier)).or_default().push((clue.at, known));
        }
    }
    volumes.into_iter().filter_map(|((start, kind, identifier), seen)| volume(start, kind, identifier, &seen)).collect()
}

fn volume(start: ByteOffset, kind: VolumeKind, identifier: [u8; 16], seen: &[(ByteOffset, Known)]) -> Option<FoundVolume> {
    let bytes = seen.iter().map(|(_, known)| known.bytes).max()?;
    let mut witnesses = Vec::new();
    let mut copies = 0;
    for (at, known) in seen {
        let weight = match (known.main, known.checked) {
            (true, true) => 45,
            (true, false) => 35,
            (false, true) => 30,
            (false, false) => 20,
        };
        // More copies of the same say no more than a few of them.
        copies += i32::from(!known.main);
        let weight = if known.main || copies <= 3 { weight } else { 1 };
        let role = if known.main { WitnessKind::BootSector } else { WitnessKind::BackupBootSector };
        let summed = known.checked && !matches!(kind, VolumeKind::Iso9660 | VolumeKind::ExtJournal);
        let sum = if summed { ", and its checksum holds" } else { "" };
        let witness = Witness::at(role, *at, weight, format!("{}{sum}", known.says)).start(start);
        witnesses.push(if known.bytes > 0 { witness.length(known.bytes) } else { witness });
    }
    let label = seen.iter().find_map(|(_, known)| known.label.clone());
    let geometry = Geometry::Known(KnownGeometry { kind, bytes, identifier });
    Some(FoundVolume { kind, start, bytes, label, witnesses, geometry, newest: None })
}

/// Text up to the first zero, without blanks at its end; none when nothing is left.
fn text(bytes: &[u8]) -> Option<String> {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    let text = String::from_utf8_lossy(bytes.get(..end).unwrap_or_default()).trim_end().to_string();
    Some(text).filter(|text| !text.is_empty())
}

/// Sixteen bytes at `offset`, zeros where there are fewer.
fn sixteen(bytes: &[u8], offset: usize) -> [u8; 16] {
    bytes.get(offset..).and_then(|rest| rest.first_chunk::<16>()).copied().unwrap_or_default()
}

/// An identifier written as hexadecimal text, as far as its digits go.
fn from_hex_text(bytes: &[u8]) -> [u8; 16] {
    let mut digits = bytes.iter().filter_map(|byte| char::from(*byte).to_digit(16)).filter_map(|digit| u8::try_from(digit).ok());
    std::array::from_fn(|_| digits.next().unwrap_or(0) << 4 | digits.next().unwrap_or(0))
}
