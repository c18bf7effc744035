//! What is said of a volume of a kind that is recognised and not read, by its geometry.

use keel_source::{ByteOffset, RangeSet, SharedSource};

use super::closed::NOT_READ;
use super::{KnownGeometry, mend};
use crate::geometry::FormatGeometry;
use crate::{Compute, FormatError, Geometry, Problem, Structure, Volume, VolumeKind};

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
