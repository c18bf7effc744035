//! An entry of a draft.

use std::ops::Range;

use keel_format::table::{Role, TypeCode};
use keel_format::{Geometry, VolumeKind};
use keel_source::{ByteOffset, ByteRange, Lba, SectorCount, SectorSize};

use super::step::Wish;

/// Why a step cannot be taken, as a sentence.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct NotDrafted(pub String);

/// What an entry's ground holds in a draft.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// What stands there now.
    Stands,
    /// A new volume.
    New(Wish),
}

/// An entry of a draft.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drafted {
    /// Its number in the present table; none for a new one.
    pub number: Option<u32>,
    /// Number in the table, from 1; logicals from 5.
    pub slot: u32,
    /// Primary, logical or GPT entry.
    pub role: Role,
    /// Type.
    pub type_code: TypeCode,
    /// First sector.
    pub first: Lba,
    /// Length in sectors.
    pub sectors: SectorCount,
    /// Name (GPT).
    pub name: String,
    /// `UniquePartitionGUID`, where it keeps one.
    pub unique: Option<uuid::Uuid>,
    /// Attribute bits, or the boot indicator.
    pub attributes: u64,
    /// Where its EBR stands, or shall stand.
    pub ebr: Option<Lba>,
    /// The volume that stands there, by its boot sector.
    pub stands: Option<Geometry>,
    /// What it shall hold.
    pub content: Content,
    /// Sectors that the volume which stands there shall take, where it gets another length.
    pub fits: Option<u64>,
    /// True where its type or its marks were asked to be others: what follows from that is wanted.
    pub is_chosen: bool,
}

impl Drafted {
    /// First sector and the one behind the last.
    #[must_use]
    pub fn ground(&self) -> Range<u64> {
        self.first.0..self.first.0.saturating_add(self.sectors.0)
    }

    /// The same, with the EBR of a logical.
    pub(super) fn claim(&self) -> Range<u64> {
        match self.role {
            Role::Logical => self.ebr.map_or(self.first.0.saturating_sub(1), |ebr| ebr.0).min(self.first.0)..self.ground().end,
            _ => self.ground(),
        }
    }

    /// The ground in bytes.
    #[must_use]
    pub fn range(&self, sector: SectorSize) -> ByteRange {
        ByteRange::sized(self.first.offset(sector), self.sectors.bytes(sector))
    }

    /// As [`Self::range`], with all of the volume that stands there: one that gets shorter ends behind its entry now.
    pub(super) fn held(&self, sector: SectorSize) -> ByteRange {
        let own = self.range(sector);
        let was = self.stands.as_ref().filter(|_| self.fits.is_some()).map_or(0, Geometry::bytes);
        ByteRange::new(own.start, own.end.max(own.start + was))
    }

    /// The kind that it holds in the draft.
    #[must_use]
    pub fn kind(&self) -> Option<VolumeKind> {
        match &self.content {
            Content::New(wish) => Some(wish.kind),
            Content::Stands => self.stands.as_ref().map(Geometry::kind),
        }
    }
}

/// The one entry of a drive of `drive` sectors without a table.
pub(super) fn whole(drive: u64) -> Drafted {
    Drafted {
        number: None,
        slot: 1,
        role: Role::Primary,
        type_code: TypeCode::Mbr(0),
        first: Lba(0),
        sectors: SectorCount(drive),
        name: String::new(),
        unique: None,
        attributes: 0,
        ebr: None,
        stands: None,
        content: Content::Stands,
        fits: None,
        is_chosen: false,
    }
}

/// Where the volume that stands in an entry ends, in sectors behind the entry's first: its own length, rounded up.
pub(super) fn own_sectors(entry: &Drafted, sector: SectorSize) -> Option<u64> {
    let bytes = entry.stands.as_ref().map(Geometry::bytes).filter(|bytes| *bytes > 0)?;
    Some(bytes.div_ceil(sector.bytes()))
}

/// The place of sector 0.
pub(super) const START: ByteOffset = ByteOffset(0);
