//! The formats: a line for each. What matches on formats anywhere is made from this list.

use std::sync::Arc;

use keel_source::{ByteOffset, SharedSource, Source};
use serde::{Deserialize, Serialize};

use crate::clue::FormatClues;
use crate::former::{FormatFormer, Host};
use crate::geometry::FormatGeometry;
use crate::shape::Shape;
use crate::{FoundVolume, KindFacts, read_bytes};

/// What a format offers to the search.
pub struct Format {
    /// Looks at one sector (and what of the chunk lies behind it) and keeps a clue.
    pub look: fn(&mut Clues, ByteOffset, &[u8]),
    /// Reads the boot sector of a volume that starts at a byte of a drive: the geometry, when every field makes sense.
    pub boot_sector: fn(&dyn Source, ByteOffset) -> Option<Geometry>,
    /// Turns clues into volumes, each verified on the drive.
    pub infer: fn(&SharedSource, &Clues) -> Vec<FoundVolume>,
    /// Turns clues into volumes of an older generation, which the present ones do not reach.
    pub(crate) former: fn(&SharedSource, &Clues, &[FoundVolume], &[Host<'_>]) -> Vec<FoundVolume>,
    /// Structures that are known by their own bytes.
    pub(crate) shapes: &'static [Shape],
    /// The same quick test that every sector of a surface goes through.
    pub(crate) is_marked: fn(&[u8; 512]) -> bool,
    /// Its kinds.
    pub(crate) kinds: &'static [VolumeKind],
}

/// Lists the formats: the module, the name of its geometry's variant, the types of geometry, clues and (where it has any) what is left
/// of an older generation, and its kinds with the facts of each. The module offers `look`, `boot_sector`, `infer`, `former`, `SHAPES`, and
/// `is_marked`: a quick test of the first and the last 64 bytes of a sector, which every sector of a surface goes through.
macro_rules! formats {
    ($(
        $(#[$doc:meta])*
        $module:ident: $variant:ident($geometry:ident, $clues:ident $(, $former:ident)?) {
            $($(#[$kind_doc:meta])* $kind:ident = $room:ident::$facts:ident),+ $(,)?
        }
    )+) => {
        /// Every format that is known.
        pub const FORMATS: &[Format] = &[$(Format {
            look: crate::$module::look,
            boot_sector: crate::$module::boot_sector,
            infer: crate::$module::infer,
            former: crate::$module::former,
            shapes: crate::$module::SHAPES,
            is_marked: crate::$module::is_marked,
            kinds: &[$(VolumeKind::$kind),+],
        }),+];

        /// True when a sector may belong to one of the formats.
        #[inline]
        pub(crate) fn is_marked(sector: &[u8; 512]) -> bool {
            $(crate::$module::is_marked(sector))||+
        }

        /// A kind of volume.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(rename_all = "lowercase")]
        pub enum VolumeKind {
            $($($(#[$kind_doc])* $kind,)+)+
        }

        impl VolumeKind {
            /// Every kind that is known.
            pub const ALL: &[Self] = &[$($(Self::$kind,)+)+];

            /// What is known of the kind.
            #[must_use]
            pub fn facts(self) -> &'static KindFacts {
                match self {
                    $($(Self::$kind => &crate::$module::$room::$facts,)+)+
                }
            }
        }

        /// The geometry of a volume of any kind.
        #[derive(Debug, Clone, PartialEq, Eq, Serialize)]
        #[serde(untagged)]
        #[allow(clippy::large_enum_variant, reason = "copied a few times for each find; a box would not be `Copy`")]
        pub enum Geometry {
            $($(#[$doc])* $variant(crate::$module::$geometry),)+
            /// What is left of a volume that another one was made over.
            Former(Arc<Former>),
        }

        impl Geometry {
            /// The format's own answers; none for what is left of a volume.
            pub(crate) fn format(&self) -> Result<&dyn FormatGeometry, &Former> {
                match self {
                    $(Self::$variant(geometry) => Ok(geometry),)+
                    Self::Former(former) => Err(former),
                }
            }
        }

        /// What is left of a volume that another one was made over.
        #[derive(Debug, Clone, PartialEq, Eq, Serialize)]
        #[serde(untagged)]
        #[allow(clippy::large_enum_variant, reason = "one is kept behind a pointer for each find")]
        #[allow(missing_docs, reason = "each is what its format's geometry of the same name is")]
        pub enum Former {
            $($($variant(crate::$module::$former),)?)+
        }

        impl Former {
            /// The format's own answers.
            pub(crate) fn format(&self) -> &dyn FormatFormer {
                match self {
                    $($(Self::$variant(former) => former as &crate::$module::$former,)?)+
                }
            }
        }

        /// Everything seen so far, by format. Serialised as the state of a resumable sweep.
        #[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
        pub struct Clues {
            $($(#[$doc])* pub $module: crate::$module::$clues,)+
            /// Remains of partition tables: places of GPT headers.
            pub gpt_headers: Vec<ByteOffset>,
        }

        impl Clues {
            /// What each format saw.
            pub(crate) fn formats(&self) -> impl Iterator<Item = &dyn FormatClues> {
                let all: [&dyn FormatClues; FORMATS.len()] = [$(&self.$module),+];
                all.into_iter()
            }

            /// What each format saw, to be put in order.
            pub(crate) fn formats_mut(&mut self) -> impl Iterator<Item = &mut dyn FormatClues> {
                let all: [&mut dyn FormatClues; FORMATS.len()] = [$(&mut self.$module),+];
                all.into_iter()
            }

            /// Adds what another worker saw, as it comes. [`Clues::tidy`] puts it in order.
            pub fn append(&mut self, other: Clues) {
                $(self.$module.append(other.$module);)+
                crate::clue::append(&mut self.gpt_headers, other.gpt_headers);
            }
        }
    };
}

formats! {
    /// NTFS.
    ntfs: Ntfs(NtfsGeometry, NtfsClues, FormerNtfs) {
        /// NTFS.
        Ntfs = kind::NTFS,
    }
    /// FAT12, FAT16 or FAT32.
    fat: Fat(FatGeometry, FatClues, FormerFat) {
        /// FAT with 12-bit entries.
        Fat12 = kind::FAT12,
        /// FAT with 16-bit entries.
        Fat16 = kind::FAT16,
        /// FAT with 32-bit entries.
        Fat32 = kind::FAT32,
    }
    /// exFAT.
    exfat: ExFat(ExFatGeometry, ExFatClues, FormerExFat) {
        /// exFAT.
        ExFat = kind::EXFAT,
    }
    /// ext2, ext3 or ext4.
    ext: Ext(ExtGeometry, ExtClues, FormerExt) {
        /// ext2: no journal.
        Ext2 = kind::EXT2,
        /// ext3: ext2 with a journal.
        Ext3 = kind::EXT3,
        /// ext4.
        Ext4 = kind::EXT4,
    }
    /// HFS+ or HFSX.
    hfsplus: HfsPlus(HfsGeometry, HfsClues, FormerHfs) {
        /// HFS+.
        HfsPlus = kind::HFS_PLUS,
        /// HFSX: HFS+ with names that may differ in case alone.
        Hfsx = kind::HFSX,
    }
    /// XFS.
    xfs: Xfs(XfsGeometry, XfsClues, FormerXfs) {
        /// XFS.
        Xfs = kind::XFS,
    }
    /// A kind that is recognised and not read.
    recognised: Known(KnownGeometry, KnownClues) {
        /// Btrfs; recognised, not read.
        Btrfs = btrfs::FACTS,
        /// F2FS; recognised, not read.
        F2fs = f2fs::FACTS,
        /// An APFS container; recognised, not read.
        Apfs = apfs::FACTS,
        /// ReFS; recognised, not read.
        Refs = refs::FACTS,
        /// The journal of an ext volume, on a partition of its own.
        ExtJournal = ext_journal::FACTS,
        /// Linux swap space.
        Swap = swap::FACTS,
        /// A volume encrypted by LUKS.
        Luks = luks::FACTS,
        /// An LVM2 physical volume.
        Lvm = lvm::FACTS,
        /// A member of a Linux RAID.
        Raid = raid::FACTS,
        /// NTFS under full volume encryption.
        Fve = fve::FACTS,
        /// UDF; recognised, not read.
        Udf = udf::FACTS,
        /// ISO 9660; recognised, not read.
        Iso9660 = iso9660::FACTS,
    }
}

/// Reads the boot sector of a volume that starts at byte `at` as that of any known format.
#[must_use]
pub fn boot_sector(source: &dyn Source, at: ByteOffset) -> Option<Geometry> {
    FORMATS.iter().find_map(|format| (format.boot_sector)(source, at))
}

/// The first 512 bytes at `at`, when they read and end in 55 AA.
pub(crate) fn marked_sector(source: &dyn Source, at: ByteOffset) -> Option<Vec<u8>> {
    read_bytes(source, at, 512, "boot sector").ok().filter(|sector| sector.ends_with(&[0x55, 0xAA]))
}
