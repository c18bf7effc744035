//! What is needed to look into a volume, whether a boot sector said it or the surface did.

use keel_source::{Budgeted, ByteOffset, Cancel, RangeSet, SharedSource};

use crate::bounded::bounded;
pub use crate::registry::Geometry;
use crate::structure::{Compute, Structure};
use crate::{FormatError, Volume, VolumeKind};

/// What a format answers of a volume by its geometry. Windows are the volume's ground, byte 0 its first, under a budget.
pub(crate) trait FormatGeometry {
    /// The kind of volume.
    fn kind(&self) -> VolumeKind;

    /// Length in bytes; 0 where the format records none.
    fn bytes(&self) -> u64;

    /// Opens the volume in `window`. No boot sector is read.
    ///
    /// # Errors
    /// [`FormatError`] when the core metadata cannot be read, and for kinds that are not read.
    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError>;

    /// As [`Geometry::shortened`].
    fn shortened(&self, room: u64) -> Option<Geometry>;

    /// Bytes at the end of the volume that move with it when it is shortened.
    fn moving_end(&self) -> u64;

    /// As [`Geometry::set_aside`].
    fn set_aside(&self, window: SharedSource) -> RangeSet;

    /// As [`Geometry::least_sector`].
    fn least_sector(&self) -> u32;

    /// As [`Geometry::copies`].
    fn copies(&self) -> Vec<ByteOffset>;

    /// As [`Geometry::boot_at`].
    fn boot_at(&self) -> ByteOffset;

    /// As [`Geometry::traced_at`].
    fn traced_at(&self) -> Option<ByteOffset>;

    /// As [`Geometry::is_stated_at`].
    fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool;

    /// As [`Geometry::structures`].
    fn structures(&self, window: &SharedSource, start: ByteOffset, compute: Compute) -> Vec<Structure>;
}

impl Geometry {
    /// The kind of volume.
    #[must_use]
    pub fn kind(&self) -> VolumeKind {
        match self.format() {
            Ok(format) => format.kind(),
            Err(former) => former.kind(),
        }
    }

    /// The same volume in at most `room` bytes: its count of sectors and clusters cut, everything else where it is. `None` for
    /// a kind whose other structures would have to change as well, and where the rest would be another kind.
    #[must_use]
    pub fn shortened(&self, room: u64) -> Option<Self> {
        self.format().ok()?.shortened(room)
    }

    /// Bytes at the end of the volume that move with it when it is shortened: a copy that stands in its last sector.
    #[must_use]
    pub fn moving_end(&self) -> u64 {
        self.format().map_or(0, FormatGeometry::moving_end)
    }

    /// Length of the volume in bytes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        match self.format() {
            Ok(format) => format.bytes(),
            Err(former) => former.bytes(),
        }
    }

    /// Opens the volume whose first byte is byte 0 of `window`. No boot sector is read. Every call on it is bounded by a budget for
    /// the window's length.
    ///
    /// # Errors
    /// [`FormatError`] when the core metadata cannot be read.
    pub fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        self.open_until(window, &Cancel::default())
    }

    /// As [`Geometry::open`]; `cancel` stops any call on the volume at its next step.
    ///
    /// # Errors
    /// As [`Geometry::open`]; [`Problem::Spent`](crate::Problem) when it was stopped.
    pub fn open_until(&self, window: SharedSource, cancel: &Cancel) -> Result<Box<dyn Volume>, FormatError> {
        bounded(window, cancel, |window| match self.format() {
            Ok(format) => format.open(window),
            Err(former) => former.open(window),
        })
    }

    /// Ground of the volume in `window` (bytes of the volume) that its formatter set aside and did not clear, tables and journals
    /// that are not full yet: what stood there before may stand there still.
    #[must_use]
    pub fn set_aside(&self, window: SharedSource) -> RangeSet {
        let window = Budgeted::shared(window, &Cancel::default());
        self.format().map_or_else(|_| RangeSet::default(), |format| format.set_aside(window))
    }

    /// The largest logical sector size, in bytes, behind which an operating system mounts the volume.
    #[must_use]
    pub fn least_sector(&self) -> u32 {
        self.format().map_or(u32::MAX, FormatGeometry::least_sector)
    }

    /// Where copies of the boot sector (or superblock, or volume header) stand, in bytes of the volume.
    #[must_use]
    pub fn copies(&self) -> Vec<ByteOffset> {
        self.format().map_or_else(|_| Vec::new(), FormatGeometry::copies)
    }

    /// Where the main boot sector (or superblock, or volume header) stands, in bytes of the volume.
    #[must_use]
    pub fn boot_at(&self) -> ByteOffset {
        self.format().map_or(ByteOffset(0), FormatGeometry::boot_at)
    }

    /// Where in the volume (a byte of it) an older generation would show first: behind what formatters always write. None where that
    /// is nowhere of its own.
    #[must_use]
    pub fn traced_at(&self) -> Option<ByteOffset> {
        self.format().ok()?.traced_at()
    }

    /// True when the boot sector at byte `at` of the volume in `window` states this volume: at [`Geometry::boot_at`]
    /// the main one, at one of [`Geometry::copies`] that copy.
    #[must_use]
    pub fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool {
        self.format().is_ok_and(|format| format.is_stated_at(window, at))
    }

    /// The structures that stand in more than one place or can be computed, of the volume in `window`, which starts at
    /// byte `start` of its drive.
    #[must_use]
    pub fn structures(&self, window: &SharedSource, start: ByteOffset, compute: Compute) -> Vec<Structure> {
        let window = &Budgeted::shared(SharedSource::clone(window), &Cancel::default());
        let _call = window.budget().map(keel_source::Budget::call);
        let structures = self.format().map_or_else(|_| Vec::new(), |format| format.structures(window, start, compute));
        // What did not read because nobody asked any more is not broken.
        if window.budget().is_some_and(|budget| budget.spent().is_some()) {
            return Vec::new();
        }
        structures.into_iter().map(|structure| Structure { start, ..structure }).collect()
    }
}

/// The sectors of `sector_bytes` before a volume that starts at byte `start` of its drive, as boot sectors count them.
pub(crate) fn hidden_sectors(start: ByteOffset, sector_bytes: u32) -> u32 {
    u32::try_from(start.0 / u64::from(sector_bytes.max(1))).unwrap_or(0)
}
