//! What is needed to look into a volume, whether a boot sector said it or the surface did.

use std::sync::Arc;

use keel_source::{Budgeted, ByteOffset, Cancel, RangeSet, SharedSource};
use serde::Serialize;

use crate::bounded::bounded;
use crate::exfat::{ExFatGeometry, ExFatVolume};
use crate::ext::ExtGeometry;
use crate::fat::FatGeometry;
use crate::former::Former;
use crate::hfsplus::HfsGeometry;
use crate::ntfs::{NtfsGeometry, NtfsVolume};
use crate::recognised::KnownGeometry;
use crate::structure::{Compute, Structure};
use crate::{FormatError, Problem, Volume, VolumeKind, exfat, ext, fat, hfsplus, ntfs, recognised, registry};

/// The geometry of a volume of any kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(untagged)]
#[allow(clippy::large_enum_variant, reason = "copied a few times for each find; a box would not be `Copy`")]
pub enum Geometry {
    /// NTFS.
    Ntfs(NtfsGeometry),
    /// FAT12, FAT16 or FAT32.
    Fat(FatGeometry),
    /// exFAT.
    ExFat(ExFatGeometry),
    /// ext2, ext3 or ext4.
    Ext(ExtGeometry),
    /// HFS+ or HFSX.
    HfsPlus(HfsGeometry),
    /// A kind that is recognised and not read.
    Known(KnownGeometry),
    /// What is left of a volume that another one was made over.
    Former(Arc<Former>),
}

impl Geometry {
    /// The kind of volume.
    #[must_use]
    pub fn kind(&self) -> VolumeKind {
        match self {
            Self::Ntfs(_) => VolumeKind::Ntfs,
            Self::Fat(fat) => fat.kind,
            Self::ExFat(_) => VolumeKind::ExFat,
            Self::Ext(ext) => ext.kind,
            Self::HfsPlus(hfs) => hfs.kind,
            Self::Known(known) => known.kind,
            Self::Former(former) => former.kind(),
        }
    }

    /// The same volume in at most `room` bytes: its count of sectors and clusters cut, everything else where it is. `None` for
    /// a kind whose other structures would have to change as well, and where the rest would be another kind.
    #[must_use]
    pub fn shortened(&self, room: u64) -> Option<Self> {
        match self {
            Self::Fat(fat) => fat.shortened(room).map(Self::Fat),
            Self::ExFat(exfat) => exfat.shortened(room).map(Self::ExFat),
            Self::Ntfs(ntfs) => ntfs.shortened(room).map(Self::Ntfs),
            Self::Ext(_) | Self::HfsPlus(_) | Self::Known(_) | Self::Former(_) => None,
        }
    }

    /// Length of the volume in bytes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        match self {
            Self::Ntfs(ntfs) => ntfs.volume_bytes(),
            Self::Fat(fat) => fat.volume_bytes(),
            Self::ExFat(exfat) => exfat.volume_bytes(),
            Self::Ext(ext) => ext.volume_bytes(),
            Self::HfsPlus(hfs) => hfs.volume_bytes(),
            Self::Known(known) => known.bytes,
            Self::Former(former) => former.bytes(),
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
    /// As [`Geometry::open`]; [`Problem::Spent`] when it was stopped.
    pub fn open_until(&self, window: SharedSource, cancel: &Cancel) -> Result<Box<dyn Volume>, FormatError> {
        bounded(window, cancel, |window| {
            Ok(match self {
                Self::Ntfs(ntfs) => Box::new(NtfsVolume::open(window, *ntfs)?),
                Self::Fat(fat) => fat::open(window, *fat)?,
                Self::ExFat(exfat) => Box::new(ExFatVolume::open(window, *exfat)?),
                Self::Ext(ext) => ext::open(window, *ext)?,
                Self::HfsPlus(hfs) => hfsplus::open(window, *hfs)?,
                Self::Former(former) => former.open(window)?,
                Self::Known(known) => {
                    let why = known.kind.why_closed().unwrap_or("this kind is not read");
                    return Err(FormatError::new("volume", ByteOffset(0), Problem::Coding(why)));
                }
            })
        })
    }

    /// Ground of the volume in `window` (bytes of the volume) that its formatter set aside and did not clear, tables and journals
    /// that are not full yet: what stood there before may stand there still.
    #[must_use]
    pub fn set_aside(&self, window: SharedSource) -> RangeSet {
        let window = Budgeted::shared(window, &Cancel::default());
        match self {
            Self::Ext(ext) => ext::set_aside(window, *ext),
            Self::HfsPlus(hfs) => hfsplus::set_aside(window, *hfs),
            Self::ExFat(exfat) => exfat::set_aside(window, *exfat),
            Self::Ntfs(_) | Self::Fat(_) | Self::Known(_) | Self::Former(_) => RangeSet::default(),
        }
    }

    /// The largest logical sector size, in bytes, behind which an operating system mounts the volume.
    #[must_use]
    pub fn least_sector(&self) -> u32 {
        match self {
            Self::Ntfs(ntfs) => ntfs.bytes_per_sector,
            Self::Fat(fat) => fat.bytes_per_sector,
            Self::ExFat(exfat) => exfat.bytes_per_sector,
            Self::Ext(ext) => ext.block_bytes,
            Self::HfsPlus(hfs) => hfs.block_bytes,
            Self::Known(_) | Self::Former(_) => u32::MAX,
        }
    }

    /// Where copies of the boot sector (or superblock, or volume header) stand, in bytes of the volume.
    #[must_use]
    pub fn copies(&self) -> Vec<ByteOffset> {
        match self {
            Self::Ntfs(ntfs) => vec![ntfs.backup_at()],
            Self::Fat(fat) if fat.backup > 0 => {
                vec![ByteOffset(u64::from(fat.backup) * u64::from(fat.bytes_per_sector))]
            }
            Self::Fat(_) => Vec::new(),
            Self::ExFat(exfat) => vec![exfat.backup_at()],
            Self::Ext(ext) => ext.backup_groups().into_iter().map(|group| ext.superblock_at(group)).collect(),
            Self::HfsPlus(hfs) => vec![hfs.alternate_at()],
            Self::Known(_) | Self::Former(_) => Vec::new(),
        }
    }

    /// Where the main boot sector (or superblock, or volume header) stands, in bytes of the volume.
    #[must_use]
    pub fn boot_at(&self) -> ByteOffset {
        match self {
            Self::Ext(ext) => ext.superblock_at(0),
            Self::HfsPlus(_) => ByteOffset(hfsplus::layout::HEADER_AT),
            _ => ByteOffset(0),
        }
    }

    /// True when the boot sector at byte `at` of the volume in `window` states this volume: at [`Geometry::boot_at`]
    /// the main one, at one of [`Geometry::copies`] that copy.
    #[must_use]
    pub fn is_stated_at(&self, window: &SharedSource, at: ByteOffset) -> bool {
        match self {
            Self::ExFat(exfat) => exfat::mend::region_holds(window, exfat, at),
            Self::Ext(ext) => {
                let groups = std::iter::once(0).chain(ext.backup_groups());
                groups.into_iter().any(|group| ext.superblock_at(group) == at && ext::mend::is_stated_in(window, ext, group))
            }
            Self::HfsPlus(hfs) => hfsplus::mend::is_stated_at(window, hfs, at),
            Self::Known(_) => true,
            Self::Former(_) => false,
            _ => registry::boot_sector(window.as_ref(), at).is_some_and(|found| self.is_same_volume(&found)),
        }
    }

    /// The structures that stand in more than one place or can be computed, of the volume in `window`, which starts at
    /// byte `start` of its drive.
    #[must_use]
    pub fn structures(&self, window: &SharedSource, start: ByteOffset, compute: Compute) -> Vec<Structure> {
        let hidden = |sector: u32| u32::try_from(start.0 / u64::from(sector.max(1))).unwrap_or(0);
        let window = &Budgeted::shared(SharedSource::clone(window), &Cancel::default());
        let _call = window.budget().map(keel_source::Budget::call);
        let structures = match self {
            Self::Ext(ext) if !ext.fits(window.len()) => Vec::new(),
            Self::Ntfs(ntfs) => ntfs::mend::structures(window, ntfs, hidden(ntfs.bytes_per_sector), compute),
            Self::Fat(fat) => fat::mend::structures(window, fat, hidden(fat.bytes_per_sector), compute),
            Self::ExFat(exfat) => exfat::mend::structures(window, exfat, u64::from(hidden(exfat.bytes_per_sector)), compute),
            Self::Ext(ext) => ext::mend::structures(window, ext, compute),
            Self::HfsPlus(hfs) => hfsplus::mend::structures(window, hfs, compute),
            Self::Known(known) => recognised::mend::structures(window, known),
            Self::Former(_) => Vec::new(),
        };
        // What did not read because nobody asked any more is not broken.
        if window.budget().is_some_and(|budget| budget.spent().is_some()) {
            return Vec::new();
        }
        structures.into_iter().map(|structure| Structure { start, ..structure }).collect()
    }

    /// True when both lead to the same structures: serial numbers and labels may differ.
    fn is_same_volume(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Ntfs(one), Self::Ntfs(other)) => one.is_same_volume(other),
            (Self::Fat(one), Self::Fat(other)) => one.is_same_volume(other),
            (one, other) => one == other,
        }
    }
}
