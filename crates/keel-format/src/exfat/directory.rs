//! Directory entry sets: a file entry, its stream extension and the pieces of its name.

use keel_source::ByteOffset;
use zerocopy::FromBytes;

use super::layout::{DIRECTORY, FILE, IN_USE, NAME, NO_FAT_CHAIN, RawFile, RawStream, STREAM, set_checksum};
use crate::{Entry, Existence, Finding, NodeId, NodeKind, Severity, Stamp, Times};

/// Bytes of one directory entry.
pub const ENTRY_BYTES: usize = 32;
/// The most entries of a set: a file entry, a stream extension, 17 pieces of a name of 255 units.
const MOST_ENTRIES: usize = 19;

/// One file or folder as its directory keeps it.
#[derive(Debug, Clone)]
pub struct FileSet {
    /// The file entry.
    pub file: RawFile,
    /// The stream extension.
    pub stream: RawStream,
    /// Where the stream extension stands in the volume; it is what opens the file.
    pub stream_at: ByteOffset,
    /// UTF-16 units of the name.
    pub units: Vec<u16>,
    /// True when the set is no longer in use.
    pub deleted: bool,
    /// True when `SetChecksum` holds. A deleted set is checked as it was before its deletion.
    pub checksum_holds: bool,
}

impl FileSet {
    /// As an entry of a listing.
    #[must_use]
    pub fn entry(&self) -> Entry {
        let (file, stream) = (&self.file, &self.stream);
        let directory = file.file_attributes.get() & DIRECTORY != 0;
        let stamp = |word: u32, tenths, offset| Stamp::from_exfat(word, tenths, offset);
        Entry {
            id: NodeId(self.stream_at.0),
            name: crate::ntfs::utf16_text(self.units.iter().copied()),
            kind: if directory { NodeKind::Directory } else { NodeKind::File },
            bytes: if directory { 0 } else { stream.data_length.get() },
            times: Times {
                created: stamp(file.create_timestamp.get(), file.create_10ms_increment, file.create_utc_offset),
                modified: stamp(
                    file.last_modified_timestamp.get(),
                    file.last_modified_10ms_increment,
                    file.last_modified_utc_offset,
                ),
                accessed: stamp(file.last_accessed_timestamp.get(), 0, file.last_accessed_utc_offset),
            },
            existence: if self.deleted { Existence::Deleted } else { Existence::Present },
        }
    }

    /// True when the clusters follow one another and no chain is kept.
    #[must_use]
    pub fn is_contiguous(&self) -> bool {
        self.stream.general_secondary_flags & NO_FAT_CHAIN != 0
    }
}

/// What one directory entry leads to.
#[derive(Debug)]
pub enum Step {
    /// Nothing is whole yet.
    More,
    /// The entry was never used, and nothing behind it either.
    End,
    /// A whole set.
    Set(Box<FileSet>),
    /// An entry that is no part of a set of files: label, bitmap, up-case table, or a kind not known here.
    Other,
    /// A set that is broken off.
    Broken(Finding),
}

/// Puts sets together from entries as they come.
#[derive(Default, Clone)]
pub struct Sets {
    bytes: Vec<u8>,
    wanted: usize,
    start: ByteOffset,
    stream_at: ByteOffset,
}

impl Sets {
    /// Takes the entry that stands at byte `at` of the volume.
    pub fn take(&mut self, entry: &[u8; ENTRY_BYTES], at: ByteOffset) -> Step {
        let [kind, count, ..] = *entry;
        if kind == 0 {
            return self.broken_off(at).map_or(Step::End, Step::Broken);
        }
        if kind | IN_USE == FILE {
            let broken = self.broken_off(at);
            let wanted = usize::from(count) + 1;
            if (3..=MOST_ENTRIES).contains(&wanted) {
                self.bytes = entry.to_vec();
                self.wanted = wanted;
                self.start = at;
            }
            return broken.map_or(Step::More, Step::Broken);
        }
        let secondary = kind & 0x40 != 0;
        let deleted = self.bytes.first().is_some_and(|first| first & IN_USE == 0);
        if !secondary || self.bytes.is_empty() || (kind & IN_USE == 0) != deleted {
            return self.broken_off(at).map_or(if secondary { Step::More } else { Step::Other }, Step::Broken);
        }
        let index = self.bytes.len() / ENTRY_BYTES;
        if index == 1 {
            self.stream_at = at;
        }
        self.bytes.extend_from_slice(entry);
        if index + 1 < self.wanted { Step::More } else { self.finish() }
    }

    /// True when a set was begun and is not whole yet.
    #[must_use]
    pub fn is_broken(&self) -> bool {
        !self.bytes.is_empty()
    }

    fn finish(&mut self) -> Step {
        let bytes = std::mem::take(&mut self.bytes);
        let (Ok((file, rest)), start) = (RawFile::read_from_prefix(&bytes), self.start) else { return Step::More };
        let Ok((stream, names)) = RawStream::read_from_prefix(rest) else { return Step::More };
        let deleted = file.entry_type & IN_USE == 0;
        if stream.entry_type | IN_USE != STREAM {
            return if deleted { Step::More } else { Step::Broken(damaged(start, "has no stream extension")) };
        }
        let pieces = names.as_chunks::<ENTRY_BYTES>().0.iter().filter(|piece| piece[0] | IN_USE == NAME);
        let units = pieces.flat_map(|piece| piece.as_chunks::<2>().0.iter().skip(1)).map(|pair| u16::from_le_bytes(*pair));
        let units: Vec<u16> = units.take(usize::from(stream.name_length)).collect();
        let stored = file.set_checksum.get();
        let mut as_used = bytes;
        as_used.iter_mut().step_by(ENTRY_BYTES).for_each(|kind| *kind |= IN_USE);
        let checksum_holds = set_checksum(&as_used) == stored;
        Step::Set(Box::new(FileSet { file, stream, stream_at: self.stream_at, units, deleted, checksum_holds }))
    }

    /// A set in use that ends before its entries are all there.
    fn broken_off(&mut self, _at: ByteOffset) -> Option<Finding> {
        let bytes = std::mem::take(&mut self.bytes);
        let in_use = bytes.first().is_some_and(|kind| kind & IN_USE != 0);
        in_use.then(|| damaged(self.start, "ends before all its entries are there"))
    }
}

fn damaged(at: ByteOffset, what: &str) -> Finding {
    Finding::at(
        Severity::Broken,
        at,
        format!("a directory entry set {what}: its file is not listed"),
        "SecondaryCount of the file entry",
    )
}
