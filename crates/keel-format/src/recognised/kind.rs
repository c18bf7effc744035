//! What is said of a volume of a kind that is recognised and not read, by its geometry.

use keel_source::{ByteOffset, RangeSet, SharedSource};

use super::{KnownGeometry, mend};
use crate::geometry::FormatGeometry;
use crate::kind::{Holds, KeptOfDeleted, KindFacts, MbrTypes, Promise};
use crate::table::gpt::BASIC_DATA;
use crate::{Compute, FormatError, Geometry, Problem, Structure, Volume, VolumeKind};

/// Why an encrypted volume is closed.
pub(super) const ENCRYPTED: &str = "the volume is encrypted: it opens with its key, once its entry is back";
/// Why most of these kinds are closed.
const NOT_READ: &str = "volumes of this kind are recognised, with start and length, and not read yet";

/// A kind that is recognised and not read; what differs is said by each.
pub(super) const CLOSED: KindFacts = KindFacts {
    word: "",
    letters: "",
    texture: "▒▒",
    mbr: MbrTypes::new(0x07, &[]),
    gpt: (BASIC_DATA, &[]),
    apm: &[],
    promised: Promise::None,
    drivers: &[],
    alike: &[],
    closed: Some(NOT_READ),
    deleted: KeptOfDeleted::NOTHING,
    uncut: "what such a volume holds cannot be told: it cannot be cut here",
    holds: Holds::Files,
};

impl FormatGeometry for KnownGeometry {
    fn kind(&self) -> VolumeKind {
        self.kind
    }

    fn bytes(&self) -> u64 {
        self.bytes
    }

    fn open(&self, _window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        let why = self.kind.why_closed().unwrap_or(NOT_READ);
        Err(FormatError::new("volume", ByteOffset(0), Problem::Coding(why)))
    }

    fn shortened(&self, _room: u64) -> Option<Geometry> {
        None
    }

    fn moving_end(&self) -> u64 {
        0
    }

    fn set_aside(&self, _window: SharedSource) -> RangeSet {
        RangeSet::default()
    }

    fn least_sector(&self) -> u32 {
        u32::MAX
    }

    fn copies(&self) -> Vec<ByteOffset> {
        Vec::new()
    }

    fn boot_at(&self) -> ByteOffset {
        ByteOffset(0)
    }

    fn traced_at(&self) -> Option<ByteOffset> {
        None
    }

    fn is_stated_at(&self, _window: &SharedSource, _at: ByteOffset) -> bool {
        true
    }

    fn structures(&self, window: &SharedSource, _start: ByteOffset, _compute: Compute) -> Vec<Structure> {
        mend::structures(window, self)
    }
}
