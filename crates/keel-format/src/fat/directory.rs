//! Directory entries with their long names, present and deleted.

use keel_source::ByteOffset;

use super::layout::{ATTR_DIRECTORY, ATTR_LONG_NAME, ATTR_VOLUME_ID, DELETED, RawDirEntry, RawLongEntry};
use super::oem;
use crate::{Entry, Existence, NodeId, NodeKind, Stamp, Times, View};

/// The largest directory: the specification allows 65,536 entries of 32 bytes.
pub(super) const LARGEST_DIRECTORY: u64 = 65_536 * 32;

/// One short entry with its long name put together.
#[derive(Debug, Clone)]
pub struct RawSlot {
    /// The short entry as stored.
    pub raw: RawDirEntry,
    /// Name: the long one where its checksum holds, else the short one.
    pub name: String,
    /// Where the short entry stands in the volume.
    pub at: ByteOffset,
    /// True when its first byte is 0xE5.
    pub deleted: bool,
}

impl RawSlot {
    /// First cluster; 0 for an empty file.
    #[must_use]
    pub fn first_cluster(&self) -> u32 {
        u32::from(self.raw.fst_clus_hi.get()) << 16 | u32::from(self.raw.fst_clus_lo.get())
    }

    /// True for a folder.
    #[must_use]
    pub fn is_directory(&self) -> bool {
        self.raw.attr & ATTR_DIRECTORY != 0
    }

    /// True for the volume label.
    #[must_use]
    pub fn is_label(&self) -> bool {
        self.raw.attr & ATTR_VOLUME_ID != 0 && self.raw.attr & ATTR_LONG_NAME != ATTR_LONG_NAME
    }

    /// True for `.` and `..`.
    #[must_use]
    pub fn is_dot(&self) -> bool {
        self.raw.name.starts_with(b".          ") || self.raw.name.starts_with(b"..         ")
    }

    /// As an entry of a listing.
    #[must_use]
    pub fn entry(&self) -> Entry {
        let raw = &self.raw;
        Entry {
            id: NodeId(self.at.0),
            name: self.name.clone(),
            kind: if self.is_directory() { NodeKind::Directory } else { NodeKind::File },
            bytes: if self.is_directory() { 0 } else { u64::from(raw.file_size.get()) },
            times: Times {
                created: Stamp::from_fat(raw.crt_date.get(), raw.crt_time.get(), raw.crt_time_tenth),
                modified: Stamp::from_fat(raw.wrt_date.get(), raw.wrt_time.get(), 0),
                accessed: Stamp::from_fat(raw.lst_acc_date.get(), 0, 0),
            },
            existence: if self.deleted { Existence::Deleted } else { Existence::Present },
        }
    }
}

/// The slots of a stretch of directory bytes. Ends at the first entry that was never used.
pub struct Slots<'a> {
    bytes: &'a [u8],
    at: ByteOffset,
    offset: usize,
    long: LongName,
    ended: bool,
}

/// The parts of a long name that came so far.
#[derive(Default)]
pub(super) struct LongName {
    /// UTF-16 units, last part first, as they come.
    parts: Vec<Vec<u16>>,
    checksum: u8,
    expected: u8,
    deleted: bool,
}

impl<'a> Slots<'a> {
    /// Slots of `bytes`, which stand at byte `at` of the volume.
    #[must_use]
    pub fn new(bytes: &'a [u8], at: ByteOffset) -> Self {
        Self { bytes, at, offset: 0, long: LongName::default(), ended: false }
    }

    /// Slots of `bytes`, which go on a directory whose last long name is `long` so far.
    pub(super) fn carrying(long: LongName, bytes: &'a [u8], at: ByteOffset) -> Self {
        Self { bytes, at, offset: 0, long, ended: false }
    }

    /// The long name that is not whole yet.
    pub(super) fn into_long_name(self) -> LongName {
        self.long
    }

    /// True when the end mark was met: what follows in the directory was never used.
    #[must_use]
    pub fn ended(&self) -> bool {
        self.ended
    }

    /// True when the first entry of `next` may follow what came so far: where a long name is not whole yet, the part that is
    /// missing, or the short entry that it belongs to.
    #[must_use]
    pub fn goes_on_with(&self, next: &[u8]) -> bool {
        let view = View::new("directory", ByteOffset(0), next);
        let (Ok(short), Ok(long)) = (view.at::<RawDirEntry>(0, "entry"), view.at::<RawLongEntry>(0, "long entry")) else {
            return false;
        };
        let is_long = short.attr & 0x3F == ATTR_LONG_NAME;
        match (self.long.parts.is_empty() || self.long.deleted, is_long) {
            // A name begins with its last part.
            (true, true) => long.ord & 0x40 != 0 || long.ord == DELETED,
            (true, false) => true,
            (false, true) => long.ord == self.long.expected && long.chksum == self.long.checksum,
            (false, false) => self.long.expected == 0 && oem::checksum(&short.name) == self.long.checksum,
        }
    }

    /// Goes on in the next stretch of the same directory: a long name may reach over the boundary.
    #[must_use]
    pub fn resume(self, bytes: &[u8], at: ByteOffset) -> Slots<'_> {
        Slots { bytes, at, offset: 0, long: self.long, ended: self.ended }
    }
}

impl LongName {
    fn take(&mut self, raw: &RawLongEntry) {
        let number = raw.ord & 0x3F;
        let deleted = raw.ord == DELETED;
        let goes_on = if deleted { self.deleted && !self.parts.is_empty() } else { !self.deleted && self.expected == number };
        let starts = if deleted { !goes_on } else { raw.ord & 0x40 != 0 };
        if starts || !goes_on || raw.chksum != self.checksum || self.parts.len() >= 20 {
            *self = Self { checksum: raw.chksum, deleted, ..Self::default() };
            if !starts {
                return;
            }
        }
        let units = raw.name1.as_chunks::<2>().0.iter().chain(raw.name2.as_chunks::<2>().0).chain(raw.name3.as_chunks::<2>().0);
        self.parts.push(units.map(|pair| u16::from_le_bytes(*pair)).take_while(|unit| *unit != 0).collect());
        self.expected = number.wrapping_sub(1);
    }

    /// The long name of the short entry that follows, when it belongs to it.
    fn finish(&mut self, short: &RawDirEntry, deleted: bool) -> Option<String> {
        let long = std::mem::take(self);
        let whole = !long.parts.is_empty() && long.deleted == deleted;
        // A deleted entry lost its first byte, so the checksum cannot be tested.
        let belongs = deleted || (long.expected == 0 && long.checksum == oem::checksum(&short.name));
        (whole && belongs).then(|| crate::ntfs::utf16_text(long.parts.into_iter().rev().flatten()))
    }
}

impl Iterator for Slots<'_> {
    type Item = RawSlot;

    fn next(&mut self) -> Option<RawSlot> {
        while !self.ended {
            let view = View::new("directory", self.at, self.bytes);
            let raw: &RawDirEntry = view.at(self.offset, "entry").ok()?;
            let at = self.at + self.offset as u64;
            if raw.name.first() == Some(&0) {
                self.ended = true;
                return None;
            }
            let long = view.at::<RawLongEntry>(self.offset, "long entry").ok()?;
            self.offset += 32;
            if raw.attr & 0x3F == ATTR_LONG_NAME {
                self.long.take(long);
                continue;
            }
            let deleted = raw.name.first() == Some(&DELETED);
            let long = self.long.finish(raw, deleted);
            let name = long.unwrap_or_else(|| {
                let mut short = raw.name;
                if let (true, Some(first)) = (deleted, short.first_mut()) {
                    *first = b'_';
                }
                oem::short_name(&short, raw.nt_res)
            });
            return Some(RawSlot { raw: *raw, name, at, deleted });
        }
        None
    }
}

/// True for bytes of a folder behind its beginning: entries with names, attributes and dates that can be, up to the first one that
/// was never used.
pub(in crate::fat) fn holds_entries(bytes: &[u8]) -> bool {
    let entries = || bytes.chunks_exact(32).take_while(|entry| entry.first() != Some(&0));
    entries().next().is_some() && entries().all(is_entry)
}

fn is_entry(entry: &[u8]) -> bool {
    let byte = |at: usize| entry.get(at).copied().unwrap_or(0);
    let word = |at: usize| u16::from_le_bytes([byte(at), byte(at + 1)]);
    if byte(0) == DELETED {
        return true;
    }
    if byte(11) == ATTR_LONG_NAME {
        return byte(12) == 0 && word(26) == 0 && (1..=20).contains(&(byte(0) & 0x3F));
    }
    // FAT specification §6.1: no small letters in a short name, and none of these signs.
    let sign = |byte: &u8| *byte >= 0x20 && !byte.is_ascii_lowercase() && !b"\"*+,/:;<=>?[\\]|".contains(byte);
    let name = entry.get(..11).is_some_and(|name| name.iter().all(|byte| sign(byte) || *byte == 0x05)) && byte(0) != b'.';
    let date = |at: usize| matches!((word(at) & 31, word(at) >> 5 & 15), (1..=31, 1..=12));
    name && byte(11) & 0xC0 == 0 && date(24)
}
