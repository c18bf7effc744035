//! Inodes: what they say of a node, and where their content lies.

use std::ops::Range;

use keel_source::ByteOffset;
use zerocopy::{FromBytes, IntoBytes};

use super::layout::{FLAG_ENCRYPT, FLAG_EXTENTS, FLAG_INLINE_DATA, RawInode, crc32c};
use super::{ExtGeometry, map};
use crate::file_map::FileMap;
use crate::pages::Pages;
use crate::{Extent, FormatError, NodeKind, Problem, Stamp, Times, View};

/// Bytes of `i_block` that hold content of a short symbolic link or of a file kept inline.
const INLINE_BYTES: usize = 60;
/// Magic of the extended attributes behind an inode's fields.
const XATTR_MAGIC: u32 = 0xEA02_0000;

/// An inode as read.
pub struct Inode {
    /// Its number.
    pub number: u32,
    /// Where it stands in the volume.
    pub at: ByteOffset,
    /// Its fields; what a smaller inode does not keep is zero.
    pub raw: RawInode,
    bytes: Vec<u8>,
}

impl Inode {
    /// The inode of `bytes`, as long as the volume's inodes are.
    ///
    /// # Errors
    /// [`Problem::Truncated`] for fewer than 128 bytes.
    pub fn parse(number: u32, at: ByteOffset, bytes: Vec<u8>) -> Result<Self, FormatError> {
        let mut padded = bytes.clone();
        if bytes.len() < 128 {
            View::new("inode", at, &bytes).slice(0, 128, "inode")?;
        }
        // A small inode ends before the extra fields, and an old one says how many of them it keeps.
        let extra =
            bytes.get(128..130).map_or(0, |pair| pair.iter().rev().fold(0usize, |sum, byte| sum << 8 | usize::from(*byte)));
        padded.truncate(128 + extra.min(bytes.len().saturating_sub(128)));
        padded.resize(size_of::<RawInode>(), 0);
        let wanted = size_of::<RawInode>();
        let raw = RawInode::read_from_bytes(&padded).map_err(|_| {
            FormatError::new("inode", at, Problem::Truncated { field: "inode", offset: 0, wanted, available: padded.len() })
        })?;
        Ok(Self { number, at, raw, bytes })
    }

    /// Length of the content in bytes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        u64::from(self.raw.i_size_lo.get()) | u64::from(self.raw.i_size_high.get()) << 32
    }

    /// True for devices, pipes and sockets, which hold no content.
    #[must_use]
    pub fn is_special(&self) -> bool {
        matches!(self.raw.i_mode.get() >> 12, 1 | 2 | 6 | 12)
    }

    /// What it is; `None` for devices, sockets and what is no inode in use.
    #[must_use]
    pub fn kind(&self) -> Option<NodeKind> {
        match self.raw.i_mode.get() >> 12 {
            4 => Some(NodeKind::Directory),
            8 => Some(NodeKind::File),
            10 => Some(NodeKind::Link),
            _ => None,
        }
    }

    /// True when no directory entry points at it any more.
    #[must_use]
    pub fn is_deleted(&self) -> bool {
        self.raw.i_links_count.get() == 0 || self.raw.i_dtime.get() != 0
    }

    /// True when its fields are those of a file, folder, link, device, pipe or socket in use: kind, links, and times make sense.
    #[must_use]
    pub fn is_plausible(&self) -> bool {
        let raw = &self.raw;
        let is_node = matches!(raw.i_mode.get() >> 12, 1 | 2 | 4 | 6 | 8 | 10 | 12);
        is_node && !self.is_deleted() && raw.i_links_count.get() < 0xFFFF && raw.i_ctime.get() != 0
    }

    /// True when its bytes can be those of an inode of the volume, in use or not: its checksum holds, or, where none is kept, type
    /// and map make sense.
    #[must_use]
    pub(super) fn may_be(&self, geometry: &ExtGeometry) -> bool {
        if geometry.has_checksums() {
            return self.checksum_holds(geometry);
        }
        let raw = &self.raw;
        let mapped = matches!(raw.i_mode.get() >> 12, 4 | 8) && !self.has_flag(FLAG_INLINE_DATA);
        let pointers =
            || raw.i_block.chunks_exact(4).filter_map(<[u8]>::first_chunk).map(|word| u64::from(u32::from_le_bytes(*word)));
        let map_holds = match self.has_flag(FLAG_EXTENTS) {
            true => raw.i_block.starts_with(&[0x0A, 0xF3]),
            false => pointers().all(|block| block < geometry.blocks),
        };
        let extra = usize::from(raw.i_extra_isize.get()) <= self.bytes.len().saturating_sub(128);
        matches!(raw.i_mode.get() >> 12, 0 | 1 | 2 | 4 | 6 | 8 | 10 | 12) && extra && (!mapped || map_holds)
    }

    /// True when it was changed last (`i_ctime`, `i_crtime`) at `time` or before, in seconds since 1970.
    #[must_use]
    pub fn is_before(&self, time: u32) -> bool {
        self.raw.i_ctime.get() <= time && self.raw.i_crtime.get() <= time
    }

    /// `i_flags`.
    #[must_use]
    pub fn has_flag(&self, flag: u32) -> bool {
        self.raw.i_flags.get() & flag != 0
    }

    /// Its times. The extra words hold two more bits of seconds and the nanoseconds.
    #[must_use]
    pub fn times(&self) -> Times {
        let stamp = |seconds: u32, extra: u32| {
            let seconds = i64::from(seconds.cast_signed()) + (i64::from(extra & 3) << 32);
            Stamp::from_unix(seconds, extra >> 2)
        };
        let raw = &self.raw;
        Times {
            created: stamp(raw.i_crtime.get(), raw.i_crtime_extra.get()),
            modified: stamp(raw.i_mtime.get(), raw.i_mtime_extra.get()),
            accessed: stamp(raw.i_atime.get(), raw.i_atime_extra.get()),
        }
    }

    /// True when the metadata checksum holds; also where none is kept.
    #[must_use]
    pub fn checksum_holds(&self, geometry: &ExtGeometry) -> bool {
        if !geometry.has_checksums() {
            return true;
        }
        let bytes = self.zeroed();
        let seed = crc32c(geometry.checksum_seed, &self.number.to_le_bytes());
        let seed = crc32c(seed, &self.raw.i_generation.get().to_le_bytes());
        let computed = crc32c(seed, &bytes);
        let low = self.checksum_low();
        match self.keeps_whole_checksum() {
            true => computed == low | u32::from(self.raw.i_checksum_hi.get()) << 16,
            false => computed & 0xFFFF == low,
        }
    }

    /// The bytes that its checksum is of, and the checksum; `None` for an inode that keeps the lower half only.
    #[must_use]
    pub(super) fn checked_bytes(&self) -> Option<(Vec<u8>, u32)> {
        let sum = self.checksum_low() | u32::from(self.raw.i_checksum_hi.get()) << 16;
        self.keeps_whole_checksum().then(|| (self.zeroed(), sum))
    }

    fn keeps_whole_checksum(&self) -> bool {
        self.bytes.len() > 128 && self.raw.i_extra_isize.get() >= 4
    }

    /// `l_i_checksum_lo`, in `osd2`.
    fn checksum_low(&self) -> u32 {
        let [.., low, high, _, _] = self.raw.osd2;
        u32::from(u16::from_le_bytes([low, high]))
    }

    /// The inode as stored with other fields; what stands behind them stays.
    pub(super) fn with(&self, geometry: &ExtGeometry, raw: &RawInode) -> Vec<u8> {
        let mut bytes = self.bytes.clone();
        let kept = 128 + usize::from(self.raw.i_extra_isize.get()).min(bytes.len().saturating_sub(128));
        bytes.iter_mut().take(kept).zip(raw.as_bytes()).for_each(|(slot, byte)| *slot = *byte);
        seal(geometry, self.number, &mut bytes);
        bytes
    }

    /// The inode's bytes with its checksum zero.
    fn zeroed(&self) -> Vec<u8> {
        let mut bytes = self.bytes.clone();
        let high = if self.keeps_whole_checksum() { 130..132 } else { 0..0 };
        for place in [124..126, high] {
            bytes.get_mut(place).into_iter().flatten().for_each(|slot| *slot = 0);
        }
        bytes
    }

    /// How the content is kept, in the words of a stream listing.
    #[must_use]
    pub fn storage(&self) -> &'static str {
        if self.has_flag(FLAG_ENCRYPT) {
            "encrypted"
        } else if self.inline().is_some() {
            "resident"
        } else {
            "plain"
        }
    }

    /// Content that is kept inside the inode: a short link's target, or a small file with the rest of it in the
    /// attribute `system.data`.
    #[must_use]
    pub fn inline(&self) -> Option<Vec<u8>> {
        let size = usize::try_from(self.bytes()).ok()?;
        let short_link = self.kind() == Some(NodeKind::Link) && size < INLINE_BYTES && !self.has_flag(FLAG_EXTENTS);
        if short_link {
            return self.raw.i_block.get(..size).map(<[u8]>::to_vec);
        }
        if !self.has_flag(FLAG_INLINE_DATA) {
            return None;
        }
        let mut content = self.raw.i_block.to_vec();
        content.extend(self.inline_rest().unwrap_or_default());
        content.truncate(size);
        Some(content)
    }

    /// The value of the attribute `system.data`.
    fn inline_rest(&self) -> Option<&[u8]> {
        let area = self.bytes.get(128 + usize::from(self.raw.i_extra_isize.get())..)?;
        let view = View::new("inode attributes", self.at, area);
        if view.u32(0, "h_magic").ok()? != XATTR_MAGIC {
            return None;
        }
        let mut offset = 4;
        // Each entry takes 16 bytes at least, so this ends with the area.
        while offset + 16 <= area.len() {
            let name_len = usize::from(view.u8(offset, "e_name_len").ok()?);
            let index = view.u8(offset + 1, "e_name_index").ok()?;
            if name_len == 0 && index == 0 {
                return None;
            }
            if index == 7 && area.get(offset + 16..offset + 16 + name_len) == Some(b"data") {
                let from = 4 + usize::from(view.u16(offset + 2, "e_value_offs").ok()?);
                let len = view.u32(offset + 8, "e_value_size").ok()? as usize;
                return area.get(from..from.checked_add(len)?);
            }
            offset += (16 + name_len).next_multiple_of(4);
        }
        None
    }

    /// Where the content lies, as extents of the volume. Holes and blocks that were never written have no place.
    ///
    /// # Errors
    /// [`FormatError`] when a block of the map cannot be read or does not hold.
    pub fn extents(&self, pages: &Pages, geometry: &ExtGeometry) -> Result<Vec<Extent>, FormatError> {
        Ok(self.map(pages, geometry)?.extents)
    }

    /// Every block of the volume that it holds: content, written or not, the blocks of its map, and its block of attributes.
    ///
    /// # Errors
    /// [`FormatError`] when a block of the map cannot be read or does not hold.
    pub(super) fn held(&self, pages: &Pages, geometry: &ExtGeometry) -> Result<Vec<Range<u64>>, FormatError> {
        // Devices, pipes and sockets keep their numbers where others keep their map.
        let mapped = self.kind().is_some();
        let mut held = if mapped { self.map(pages, geometry)?.held } else { Vec::new() };
        held.extend(self.attribute_block().map(|block| block..block + 1));
        Ok(held)
    }

    fn map(&self, pages: &Pages, geometry: &ExtGeometry) -> Result<FileMap, FormatError> {
        let bytes = self.bytes();
        if self.inline().is_some() {
            Ok(FileMap::default())
        } else if self.has_flag(FLAG_EXTENTS) {
            map::extent_tree(pages, geometry, self, bytes)
        } else {
            map::block_map(pages, geometry, self, bytes)
        }
    }

    /// The block in which attributes are kept that find no room in the inode (`i_file_acl`).
    #[must_use]
    pub(super) fn attribute_block(&self) -> Option<u64> {
        let high = self.raw.osd2.get(2..4).and_then(<[u8]>::first_chunk::<2>).map_or(0, |high| u16::from_le_bytes(*high));
        let block = u64::from(self.raw.i_file_acl_lo.get()) | u64::from(high) << 32;
        (block != 0).then_some(block)
    }
}

/// An inode of the volume as stored: the fields of `raw`, zeros behind them, and its checksum.
#[must_use]
pub(super) fn stored(geometry: &ExtGeometry, number: u32, raw: &RawInode) -> Vec<u8> {
    let size = usize::from(geometry.inode_bytes);
    let mut raw = *raw;
    raw.i_extra_isize.set(if size > 128 { 32 } else { 0 });
    let mut bytes = raw.as_bytes().to_vec();
    bytes.resize(size, 0);
    seal(geometry, number, &mut bytes);
    bytes
}

/// Sets the checksum of an inode as stored.
fn seal(geometry: &ExtGeometry, number: u32, bytes: &mut [u8]) {
    let inode = Inode::parse(number, ByteOffset(0), bytes.to_vec()).ok().filter(|_| geometry.has_checksums());
    let Some(inode) = inode else { return };
    let seed = crc32c(geometry.checksum_seed, &number.to_le_bytes());
    let sum = crc32c(crc32c(seed, &inode.raw.i_generation.get().to_le_bytes()), &inode.zeroed()).to_le_bytes();
    let high = if inode.keeps_whole_checksum() { 2..4 } else { 0..0 };
    for (place, half) in [(124, 0..2), (130, high)] {
        let half = sum.get(half).unwrap_or_default();
        bytes.iter_mut().skip(place).zip(half).for_each(|(slot, byte)| *slot = *byte);
    }
}
