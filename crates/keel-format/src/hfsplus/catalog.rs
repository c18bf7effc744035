//! Catalog records: folders, files, and the keys they stand under.

use std::cmp::Ordering;

use unicode_normalization::UnicodeNormalization;

use super::layout::{OWNER_COMPRESSED, RECORD_FILE, RECORD_FOLDER, RawFile, RawFolder, RawPermissions};
use crate::{NodeKind, Stamp, Times, View};
use keel_source::ByteOffset;

/// A folder or file of the catalog.
#[derive(Debug, Clone, Copy)]
pub enum Record {
    /// A folder.
    Folder(RawFolder),
    /// A file, a symbolic link, or a hard link to one.
    File(RawFile),
}

/// What a hard link leads to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LinkTo {
    /// The file of this number in the private folder.
    File(u32),
    /// The folder of this number in the private folder of directories.
    Folder(u32),
}

impl Record {
    /// The record in `data`; `None` for threads and what is no record of the format.
    #[must_use]
    pub fn parse(data: &[u8]) -> Option<Self> {
        let view = View::new("catalog record", ByteOffset(0), data);
        match view.u16(0, "recordType").ok()?.swap_bytes() {
            RECORD_FOLDER => view.at::<RawFolder>(0, "folder").ok().copied().map(Self::Folder),
            RECORD_FILE => view.at::<RawFile>(0, "file").ok().copied().map(Self::File),
            _ => None,
        }
    }

    /// Catalog node ID.
    #[must_use]
    pub fn id(&self) -> u32 {
        match self {
            Self::Folder(folder) => folder.folder_id.get(),
            Self::File(file) => file.file_id.get(),
        }
    }

    fn permissions(&self) -> &RawPermissions {
        match self {
            Self::Folder(folder) => &folder.permissions,
            Self::File(file) => &file.permissions,
        }
    }

    /// What it is.
    #[must_use]
    pub fn kind(&self) -> NodeKind {
        match self {
            Self::Folder(_) => NodeKind::Directory,
            Self::File(_) if self.permissions().file_mode.get() >> 12 == 10 => NodeKind::Link,
            Self::File(file) if (&file.fd_type, &file.fd_creator) == (b"slnk", b"rhap") => NodeKind::Link,
            Self::File(_) => NodeKind::File,
        }
    }

    /// True when the content is kept compressed.
    #[must_use]
    pub fn is_compressed(&self) -> bool {
        self.permissions().owner_flags & OWNER_COMPRESSED != 0 && matches!(self, Self::File(_))
    }

    /// Where a hard link leads.
    #[must_use]
    pub fn link(&self) -> Option<LinkTo> {
        let Self::File(file) = self else { return None };
        let number = file.permissions.special.get();
        match (&file.fd_type, &file.fd_creator) {
            (b"hlnk", b"hfs+") => Some(LinkTo::File(number)),
            (b"fdrp", b"MACS") => Some(LinkTo::Folder(number)),
            _ => None,
        }
    }

    /// `attributeModDate`: when the record was changed last, in seconds since 1904-01-01 UTC.
    #[must_use]
    pub fn changed(&self) -> u32 {
        match self {
            Self::Folder(raw) => raw.attribute_mod_date.get(),
            Self::File(raw) => raw.attribute_mod_date.get(),
        }
    }

    /// Its times.
    #[must_use]
    pub fn times(&self) -> Times {
        let (created, modified, accessed) = match self {
            Self::Folder(raw) => (raw.create_date, raw.content_mod_date, raw.access_date),
            Self::File(raw) => (raw.create_date, raw.content_mod_date, raw.access_date),
        };
        let stamp = |date: zerocopy::big_endian::U32| Stamp::from_hfs(date.get());
        Times { created: stamp(created), modified: stamp(modified), accessed: stamp(accessed) }
    }
}

/// Parent ID of a catalog key.
#[must_use]
pub(super) fn parent_of(key: &[u8]) -> Option<u32> {
    key.first_chunk::<4>().map(|id| u32::from_be_bytes(*id))
}

/// Name of a catalog key, UTF-16 units.
#[must_use]
pub(super) fn units_of(key: &[u8]) -> Vec<u16> {
    let count = key.get(4..6).map_or(0, |pair| pair.iter().fold(0usize, |sum, byte| sum << 8 | usize::from(*byte)));
    let units = key.get(6..).unwrap_or_default().as_chunks::<2>().0;
    units.iter().take(count).map(|pair| u16::from_be_bytes(*pair)).collect()
}

/// The order of a key against the first possible key of `parent`: the one with an empty name.
#[must_use]
pub(super) fn against_first_of(parent: u32, key: &[u8]) -> Ordering {
    let name = key.get(4..6) != Some(&[0, 0]);
    parent_of(key).unwrap_or(0).cmp(&parent).then(if name { Ordering::Greater } else { Ordering::Equal })
}

/// The name as text: composed, as other systems write it; a slash of the name is a colon outside, as drivers show it.
#[must_use]
pub(super) fn text_of(units: &[u16]) -> String {
    let text = crate::ntfs::utf16_text(units.iter().copied());
    text.nfc().map(|sign| if sign == '/' { ':' } else { sign }).collect()
}
