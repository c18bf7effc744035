//! What is left of a file's ground: its own clusters, or what others have taken since.

use std::sync::OnceLock;

use keel_adrift::proves_itself;
use keel_format::check::Allocation;
use keel_format::{Entry, Existence, Extent, NodeKind, Volume, read_whole};
use keel_source::{ByteRange, RangeSet};
use serde::Serialize;

use super::Taken;

/// The most of a file that is read to see whether it proves itself, in bytes.
const MOST_PROVEN: usize = 32 << 20;

/// What is left of a file's ground.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum FileGround {
    /// All clusters are its own, by what records them.
    Whole,
    /// Nothing records its clusters any more: free ones are taken as they follow one another.
    Guessed,
    /// Some of its clusters are in use by others now, or are not known.
    PartlyOverwritten,
    /// Nothing of it is left: its clusters are in use by others, or nothing says where they were.
    Gone,
}

impl FileGround {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Whole => "whole",
            Self::Guessed => "guessed",
            Self::PartlyOverwritten => "partly overwritten",
            Self::Gone => "gone",
        }
    }

    /// What it means, as a sentence.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        match self {
            Self::Whole => "all its clusters are its own",
            Self::Guessed => "nothing records its clusters any more: free ones are taken as they follow one another",
            Self::PartlyOverwritten => "some of its clusters are in use by others now, or are not known",
            Self::Gone => "nothing of it is left: its clusters are in use by others, or nothing says where they were",
        }
    }
}

/// Judges the files of one volume; what the volume counts as used is read once, when a deleted file is asked for.
pub struct GroundJudge<'a> {
    volume: &'a dyn Volume,
    allocation: OnceLock<Option<Allocation>>,
    /// Ground of the volume's own bytes that a later volume has now.
    taken: Option<&'a Taken>,
}

impl<'a> GroundJudge<'a> {
    /// A judge of the files of `volume`.
    #[must_use]
    pub fn new(volume: &'a dyn Volume) -> Self {
        Self { volume, allocation: OnceLock::new(), taken: None }
    }

    /// A judge of the files of `volume`, of whose ground a later volume has `taken` now (bytes of `volume`).
    #[must_use]
    pub fn under(volume: &'a dyn Volume, taken: &'a Taken) -> Self {
        Self { taken: Some(taken), ..Self::new(volume) }
    }

    /// What is left of the ground of `entry`. Folders and links count as whole.
    #[must_use]
    pub fn of(&self, entry: &Entry) -> FileGround {
        let is_file = entry.kind == NodeKind::File;
        match (entry.existence, self.taken) {
            _ if !is_file => FileGround::Whole,
            (Existence::Named, _) => FileGround::Gone,
            (_, Some(taken)) => self.of_former(entry, taken),
            (Existence::Present, None) if self.volume.is_guessed(entry.id) => self.proven(entry).unwrap_or(FileGround::Guessed),
            (Existence::Present, None) => FileGround::Whole,
            (Existence::Deleted, None) => self.of_deleted(entry),
        }
    }

    /// A file of an older generation: its ground against what the present volume uses.
    fn of_former(&self, entry: &Entry, taken: &Taken) -> FileGround {
        let Ok(extents) = self.volume.extents(entry.id) else { return FileGround::Gone };
        let (mut all, mut lost, mut aside, mut held) = (0, 0, 0, 0);
        let shared =
            |set: &RangeSet, range: ByteRange| range.len() - set.lacking(range).iter().map(|free| free.len()).sum::<u64>();
        for extent in &extents {
            held += extent.bytes;
            let Some(at) = extent.volume_at else { continue };
            let range = ByteRange::sized(at, extent.bytes);
            all += range.len();
            lost += shared(&taken.used, range);
            aside += shared(&taken.set_aside, range);
        }
        match (all, lost) {
            (0, _) if extents.is_empty() => FileGround::Whole,
            // What was set aside and not cleared may be its own still.
            (all, lost) if lost > 0 && lost >= all && aside == 0 => FileGround::Gone,
            (_, 1..) => FileGround::PartlyOverwritten,
            _ if held < entry.bytes => FileGround::PartlyOverwritten,
            _ if self.volume.is_guessed(entry.id) => self.proven(entry).unwrap_or(FileGround::Guessed),
            _ => FileGround::Whole,
        }
    }

    fn of_deleted(&self, entry: &Entry) -> FileGround {
        let Some(kept) = self.volume.summary().kind.map(|kind| kind.facts().deleted) else { return FileGround::Whole };
        if entry.bytes == 0 {
            // Where deleting empties the length, that nothing is left does not mean that there was nothing.
            return if kept.empties { FileGround::Gone } else { FileGround::Whole };
        }
        let Ok(extents) = self.volume.extents(entry.id) else { return FileGround::Gone };
        if extents.is_empty() {
            // What is kept inside a record is whole as long as the record is.
            let inside = kept.inside && self.volume.open(entry.id, "").is_ok();
            return if inside { FileGround::Whole } else { FileGround::Gone };
        }
        let guessed = self.volume.is_guessed(entry.id);
        let (own, others) = if guessed { (1, 0) } else { self.count(&extents) };
        let held: u64 = extents.iter().map(|extent| extent.bytes).sum();
        match (own, others) {
            (0, 1..) => FileGround::Gone,
            (_, 1..) => FileGround::PartlyOverwritten,
            _ if held < entry.bytes => FileGround::PartlyOverwritten,
            _ if guessed => self.proven(entry).unwrap_or(FileGround::Guessed),
            _ => FileGround::Whole,
        }
    }

    /// Units of `extents` that are free, and those that others use.
    fn count(&self, extents: &[Extent]) -> (u64, u64) {
        let Some(allocation) = self.allocation.get_or_init(|| self.volume.allocation()) else { return (1, 0) };
        let (mut own, mut others) = (0, 0);
        for extent in extents {
            let Some(at) = extent.volume_at else { continue };
            let first = at.0.saturating_sub(allocation.first_at.0) / allocation.unit_bytes.max(1);
            let count = extent.bytes.div_ceil(allocation.unit_bytes.max(1));
            let end = first.saturating_add(count).min(allocation.units);
            let used = (first..end).filter(|unit| allocation.is_used(*unit)).count() as u64;
            others += used;
            own += end.saturating_sub(first) - used;
        }
        (own, others)
    }

    /// `Whole` where the content proves itself to its last byte.
    fn proven(&self, entry: &Entry) -> Option<FileGround> {
        let bytes = usize::try_from(entry.bytes).ok().filter(|bytes| *bytes <= MOST_PROVEN)?;
        let mut stream = self.volume.open(entry.id, "").ok()?;
        let (content, whole) = read_whole(stream.as_mut(), bytes);
        (whole && proves_itself(content)).then_some(FileGround::Whole)
    }
}
