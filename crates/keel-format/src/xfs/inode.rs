//! Inodes: what they say of a node, and where their content lies. Source: "XFS Algorithms & Data Structures", chapter "On-disk
//! Inode".

use keel_source::ByteOffset;
use zerocopy::FromBytes;

use super::layout::{
    DIFLAG_REALTIME, DIFLAG2_BIGTIME, DIFLAG2_NREXT64, FORMAT_BTREE, FORMAT_EXTENTS, FORMAT_LOCAL, INODE_V2, INODE_V3, RawInode,
    RawTime, checksum_holds,
};
use super::map::Fork;
use super::{XfsGeometry, map};
use crate::file_map::FileMap;
use crate::pages::Pages;
use crate::{Extent, FormatError, NodeKind, Problem, Stamp, Times};

/// `di_magic`.
pub(super) const MAGIC: &[u8; 2] = b"IN";
/// Where `di_crc` stands.
const CRC_AT: usize = 100;
/// Nanoseconds of a second.
const NANOSECONDS: u64 = 1_000_000_000;
/// The second since 1970 at which `BIGTIME` begins to count.
const BIGTIME_EPOCH: i64 = -(1 << 31);
/// `di_format` of devices.
const FORMAT_DEVICE: u8 = 0;

/// An inode as read.
pub struct Inode {
    /// Its number.
    pub number: u64,
    /// Where it stands in the volume.
    pub at: ByteOffset,
    /// Its fields; what an older version does not keep is zero.
    pub raw: RawInode,
    bytes: Vec<u8>,
}

impl Inode {
    /// The inode of `bytes`, as long as the volume's inodes are.
    ///
    /// # Errors
    /// [`FormatError`] for bytes that are no inode of such a volume, or that say they are another one's.
    pub fn parse(geometry: &XfsGeometry, number: u64, at: ByteOffset, bytes: Vec<u8>) -> Result<Self, FormatError> {
        let fields = geometry.inode_fields();
        let mut padded = bytes.get(..fields).unwrap_or_default().to_vec();
        let available = padded.len();
        padded.resize(INODE_V3, 0);
        let short = || FormatError::new("inode", at, Problem::Truncated { field: "inode", offset: 0, wanted: fields, available });
        let raw = RawInode::read_from_bytes(&padded).ok().filter(|_| available == fields).ok_or_else(short)?;
        if raw.di_magic != *MAGIC {
            let found = u64::from(u16::from_be_bytes(raw.di_magic));
            return Err(FormatError::value("inode", at, "di_magic", found, "IN"));
        }
        let five = geometry.has_checksums();
        if five != (raw.di_version == 3) || !(1..=3).contains(&raw.di_version) {
            let found = u64::from(raw.di_version);
            return Err(FormatError::value("inode", at, "di_version", found, "3 with checksums, else 1 or 2"));
        }
        if five && (raw.di_ino.get() != number || raw.di_uuid != geometry.meta_uuid) {
            return Err(FormatError::value(
                "inode",
                at,
                "di_ino",
                raw.di_ino.get(),
                "its own number, and the volume's identifier",
            ));
        }
        Ok(Self { number, at, raw, bytes })
    }

    /// Length of the content in bytes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.raw.di_size.get()
    }

    /// True for devices, pipes and sockets, which hold no content.
    #[must_use]
    pub fn is_special(&self) -> bool {
        matches!(self.raw.di_mode.get() >> 12, 1 | 2 | 6 | 12)
    }

    /// What it is; `None` for devices, sockets and what is no inode in use.
    #[must_use]
    pub fn kind(&self) -> Option<NodeKind> {
        match self.raw.di_mode.get() >> 12 {
            4 => Some(NodeKind::Directory),
            8 => Some(NodeKind::File),
            10 => Some(NodeKind::Link),
            _ => None,
        }
    }

    /// True when it is free: nothing is kept of what it was but its map.
    #[must_use]
    pub fn is_free(&self) -> bool {
        self.raw.di_mode.get() == 0
    }

    /// How many names lead to it.
    #[must_use]
    pub fn links(&self) -> u32 {
        if self.raw.di_version == 1 { u32::from(self.raw.di_onlink.get()) } else { self.raw.di_nlink.get() }
    }

    /// True when its fields are those of a file, folder, link, device, pipe or socket in use.
    #[must_use]
    pub fn is_plausible(&self) -> bool {
        let is_node = matches!(self.raw.di_mode.get() >> 12, 1 | 2 | 4 | 6 | 8 | 10 | 12);
        let format = matches!(self.raw.di_format, FORMAT_DEVICE | FORMAT_LOCAL | FORMAT_EXTENTS | FORMAT_BTREE);
        is_node && format && self.bytes() >> 63 == 0 && self.links() > 0
    }

    /// Its times.
    #[must_use]
    pub fn times(&self) -> Times {
        let big = self.has_flag2(DIFLAG2_BIGTIME);
        let stamp = |time: RawTime| {
            if !big {
                return Stamp::from_unix(i64::from(time.t_sec.get()), time.t_nsec.get());
            }
            let high = u64::from(time.t_sec.get().cast_unsigned());
            let count = high << 32 | u64::from(time.t_nsec.get());
            let seconds = i64::try_from(count / NANOSECONDS).ok()?;
            Stamp::from_unix(seconds + BIGTIME_EPOCH, u32::try_from(count % NANOSECONDS).ok()?)
        };
        let raw = &self.raw;
        let created = if raw.di_version == 3 { stamp(raw.di_crtime) } else { None };
        Times { created, modified: stamp(raw.di_mtime), accessed: stamp(raw.di_atime) }
    }

    fn has_flag2(&self, flag: u64) -> bool {
        self.raw.di_version == 3 && self.raw.di_flags2.get() & flag != 0
    }

    /// True when the checksum holds; also where none is kept.
    #[must_use]
    pub fn checksum_holds(&self) -> bool {
        self.raw.di_version != 3 || checksum_holds(&self.bytes, CRC_AT)
    }

    /// How the content is kept, in the words of a stream listing.
    #[must_use]
    pub fn storage(&self) -> &'static str {
        if self.raw.di_format == FORMAT_LOCAL { "resident" } else { "plain" }
    }

    /// Where the forks begin in the inode's bytes, and where the second one does; that is their end where there is none.
    fn forks(&self) -> (usize, usize) {
        let start = if self.raw.di_version == 3 { INODE_V3 } else { INODE_V2 };
        let second = match self.raw.di_forkoff {
            0 => self.bytes.len(),
            units => (start + usize::from(units) * 8).min(self.bytes.len()),
        };
        (start, second)
    }

    /// The fork that holds content.
    #[must_use]
    pub fn data(&self) -> Fork<'_> {
        let (start, end) = self.forks();
        let wide = self.has_flag2(DIFLAG2_NREXT64);
        let extents = if wide { self.raw.di_big_nextents.get() } else { u64::from(self.raw.di_nextents.get()) };
        let bytes = self.bytes.get(start..end).unwrap_or_default();
        Fork { format: self.raw.di_format, bytes, at: self.at + start as u64, extents }
    }

    /// The fork that holds attributes, where there is one.
    #[must_use]
    pub fn attributes(&self) -> Option<Fork<'_>> {
        let (_, start) = self.forks();
        let wide = self.has_flag2(DIFLAG2_NREXT64);
        let extents = if wide { u64::from(self.raw.di_nextents.get()) } else { u64::from(self.raw.di_anextents.get()) };
        let bytes = self.bytes.get(start..).filter(|bytes| self.raw.di_forkoff != 0 && !bytes.is_empty())?;
        Some(Fork { format: self.raw.di_aformat, bytes, at: self.at + start as u64, extents })
    }

    /// Content that is kept inside the inode: a short folder, or a short link's target.
    #[must_use]
    pub fn inline(&self) -> Option<&[u8]> {
        let fork = self.data();
        let len = usize::try_from(self.bytes()).unwrap_or(usize::MAX).min(fork.bytes.len());
        fork.bytes.get(..len).filter(|_| fork.format == FORMAT_LOCAL)
    }

    /// Where the content lies, and every block that is held for it.
    ///
    /// # Errors
    /// [`FormatError`] when a block of the map cannot be read or does not hold, and for content on a realtime device.
    pub(super) fn map(&self, pages: &Pages, geometry: &XfsGeometry) -> Result<FileMap, FormatError> {
        if self.raw.di_flags.get() & DIFLAG_REALTIME != 0 && self.kind() == Some(NodeKind::File) {
            let problem = Problem::Coding("its content lies on a realtime device, which is not part of this volume");
            return Err(FormatError::new("inode", self.at, problem));
        }
        // A folder's index stands far behind its entries: holes up to there say nothing.
        let bytes = if self.kind() == Some(NodeKind::File) { self.bytes() } else { 0 };
        map::fork_map(pages, geometry, &self.data(), bytes)
    }

    /// Where the content lies, as extents of the volume. Holes and blocks that were never written have no place.
    ///
    /// # Errors
    /// As [`Inode::map`].
    pub fn extents(&self, pages: &Pages, geometry: &XfsGeometry) -> Result<Vec<Extent>, FormatError> {
        Ok(self.map(pages, geometry)?.extents)
    }

    /// What a free inode held, as far as its fork still says so.
    pub(super) fn left_behind(&self, geometry: &XfsGeometry) -> FileMap {
        let (start, _) = self.forks();
        // The attribute fork is gone with the rest; what the data fork held may reach as far as it did.
        let bytes = self.bytes.get(start..).unwrap_or_default();
        let fork = Fork { format: FORMAT_EXTENTS, bytes, at: self.at + start as u64, extents: 0 };
        map::left_behind(geometry, &fork)
    }
}
