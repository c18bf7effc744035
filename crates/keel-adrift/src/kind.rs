//! The kinds of files that are known by their content. A kind is a reader in one of the folders and a line here.

use serde::{Deserialize, Serialize};

use crate::judged::Read;
use crate::walk::{Step, Walk};
use crate::{archive, data, document, film, picture, sound};

/// What a client would call a kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Sort {
    /// Photographs and drawings.
    Pictures,
    /// Moving pictures.
    Films,
    /// Music and speech.
    Sound,
    /// Texts, tables, letters.
    Documents,
    /// Several files in one.
    Archives,
    /// Databases, programs, fonts, disks.
    Data,
}

impl Sort {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::Pictures, Self::Films, Self::Sound, Self::Documents, Self::Archives, Self::Data];

    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Pictures => "pictures",
            Self::Films => "films",
            Self::Sound => "sound",
            Self::Documents => "documents",
            Self::Archives => "archives",
            Self::Data => "data",
        }
    }
}

/// Number of a kind: its place in [`KINDS`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct KindId(pub u8);

impl KindId {
    /// The kind; the first one for a number that is none.
    #[must_use]
    pub fn kind(self) -> &'static Kind {
        KINDS.get(usize::from(self.0)).unwrap_or(FIRST)
    }

    /// The kind with this word.
    #[must_use]
    pub fn named(word: &str) -> Option<Self> {
        KINDS.iter().position(|kind| kind.word == word).and_then(|index| u8::try_from(index).ok()).map(Self)
    }
}

/// A kind of files.
#[derive(Debug)]
pub struct Kind {
    /// Its word.
    pub word: &'static str,
    /// Suffix of its files where their content does not say it closer.
    pub suffix: &'static str,
    /// What a client would call it.
    pub sort: Sort,
    /// What its files begin with: offset from the start in bytes, and bytes. Several are alternatives; none is text.
    pub(crate) marks: &'static [(u32, &'static [u8])],
    /// The fewest bytes of a file, and of what is left of one.
    pub(crate) least: u64,
    /// The most bytes of a file.
    pub(crate) most: u64,
    /// Walks a file from its start.
    pub(crate) read: fn(&mut Walk<'_>) -> Step<Read>,
}

/// What a number that is none means.
const FIRST: &Kind = &KINDS[0];

impl Kind {
    /// True where a file with this suffix, by its content, is of this kind.
    #[must_use]
    pub fn makes(&self, suffix: &str) -> bool {
        let closer: &[&str] = match self.word {
            "zip" => &["docx", "xlsx", "pptx", "odt", "ods", "odp", "odg", "epub", "apk", "jar"],
            "ogg" => &["opus", "ogv", "oga"],
            _ => &[],
        };
        self.suffix == suffix || closer.contains(&suffix)
    }
}

/// Suffixes that say closer what a file of a kind is.
const CLOSER: &[&str] = &[
    "dng", "raw", "psb", "mov", "m4a", "heic", "avif", "3gp", "wav", "avi", "webp", "ani", "rmi", "sf2", "webm", "m2ts", "wma",
    "opus", "ogv", "oga", "doc", "xls", "ppt", "msg", "docx", "xlsx", "pptx", "odt", "ods", "odp", "odg", "epub", "apk", "jar",
    "dll", "html", "svg", "xml", "vcf", "ics", "mbox", "eml", "json", "csv",
];

/// Every word by which files can be asked for: sorts, and suffixes.
pub fn words() -> impl Iterator<Item = &'static str> {
    let sorts = Sort::ALL.iter().map(|sort| sort.word());
    sorts.chain(KINDS.iter().map(|kind| kind.suffix)).chain(CLOSER.iter().copied())
}

const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;
const TIB: u64 = 1 << 40;

macro_rules! kinds {
    ($($word:literal, $suffix:literal, $sort:ident, $least:expr, $most:expr, $read:path, [$($at:literal: $bytes:expr),* $(,)?];)*) => {
        /// All kinds. What begins alike is asked in this order.
        pub const KINDS: &[Kind] = &[$(Kind {
            word: $word,
            suffix: $suffix,
            sort: Sort::$sort,
            marks: &[$(($at, $bytes)),*],
            least: $least,
            most: $most,
            read: $read,
        }),*];
    };
}

kinds! {
    "jpeg", "jpg", Pictures, 64, 512 * MIB, picture::jpeg::read, [0: b"\xff\xd8\xff"];
    "png", "png", Pictures, 45, 2 * GIB, picture::png::read, [0: b"\x89PNG\r\n\x1a\n"];
    "gif", "gif", Pictures, 14, 512 * MIB, picture::gif::read, [0: b"GIF87a", 0: b"GIF89a"];
    "bmp", "bmp", Pictures, 54, GIB, picture::bmp::read, [0: b"BM"];
    "tiff", "tif", Pictures, 64, 4 * GIB, picture::tiff::read, [0: b"II*\0", 0: b"MM\0*", 0: b"IIRO", 0: b"IIU\0"];
    "psd", "psd", Pictures, 40, 4 * GIB, picture::psd::read, [0: b"8BPS\0\x01", 0: b"8BPS\0\x02"];
    "movie", "mp4", Films, 24, TIB, film::boxes::read, [4: b"ftyp", 4: b"moov", 4: b"wide", 4: b"mdat"];
    "riff", "riff", Films, 44, 64 * GIB, film::riff::read, [0: b"RIFF"];
    "matroska", "mkv", Films, 64, TIB, film::ebml::read, [0: b"\x1a\x45\xdf\xa3"];
    "mpeg-ps", "mpg", Films, 2048, 64 * GIB, film::program::read, [0: b"\0\0\x01\xba"];
    "mpeg-ts", "ts", Films, 1880, 256 * GIB, film::transport::read, [0: b"\x47", 4: b"\x47"];
    "flv", "flv", Films, 64, 16 * GIB, film::flv::read, [0: b"FLV\x01"];
    "asf", "wmv", Films, 128, 64 * GIB, film::asf::read, [0: b"\x30\x26\xb2\x75\x8e\x66\xcf\x11\xa6\xd9\0\xaa\0\x62\xce\x6c"];
    "flac", "flac", Sound, 64, 8 * GIB, sound::flac::read, [0: b"fLaC"];
    "ogg", "ogg", Sound, 58, 16 * GIB, sound::ogg::read, [0: b"OggS\0\x02"];
    "mp3", "mp3", Sound, 1024, 4 * GIB, sound::mpeg::read, [0: b"ID3", 0: b"\xff\xfb", 0: b"\xff\xfa", 0: b"\xff\xf3", 0: b"\xff\xf2"];
    "aac", "aac", Sound, 512, 4 * GIB, sound::mpeg::adts, [0: b"\xff\xf1", 0: b"\xff\xf9"];
    "aiff", "aiff", Sound, 54, 4 * GIB, sound::aiff::read, [0: b"FORM"];
    "midi", "mid", Sound, 22, 64 * MIB, sound::midi::read, [0: b"MThd\0\0\0\x06"];
    "pdf", "pdf", Documents, 64, 4 * GIB, document::pdf::read, [0: b"%PDF-1.", 0: b"%PDF-2."];
    "compound", "ole", Documents, 1536, 4 * GIB, document::compound::read, [0: b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"];
    "rtf", "rtf", Documents, 16, GIB, document::rtf::read, [0: b"{\\rtf"];
    "zip", "zip", Archives, 22, TIB, archive::zip::read, [0: b"PK\x03\x04"];
    "gzip", "gz", Archives, 18, 64 * GIB, archive::gzip::read, [0: b"\x1f\x8b\x08"];
    "xz", "xz", Archives, 32, 64 * GIB, archive::xz::read, [0: b"\xfd7zXZ\0"];
    "bzip2", "bz2", Archives, 14, 64 * GIB, archive::bzip2::read, [0: b"BZh"];
    "zstd", "zst", Archives, 9, 64 * GIB, archive::zstd::read, [0: b"\x28\xb5\x2f\xfd"];
    "7z", "7z", Archives, 32, TIB, archive::seven::read, [0: b"7z\xbc\xaf\x27\x1c"];
    "rar", "rar", Archives, 20, TIB, archive::rar::read, [0: b"Rar!\x1a\x07\x01\0", 0: b"Rar!\x1a\x07\0"];
    "cab", "cab", Archives, 36, 4 * GIB, archive::cab::read, [0: b"MSCF\0\0\0\0"];
    "tar", "tar", Archives, 1024, TIB, archive::tar::read, [257: b"ustar"];
    "sqlite", "sqlite", Data, 512, TIB, data::sqlite::read, [0: b"SQLite format 3\0"];
    "sqlite-wal", "sqlite-wal", Data, 32, 64 * GIB, data::sqlite::wal, [0: b"\x37\x7f\x06\x82", 0: b"\x37\x7f\x06\x83"];
    "elf", "elf", Data, 52, 4 * GIB, data::elf::read, [0: b"\x7fELF"];
    "pe", "exe", Data, 128, 4 * GIB, data::pe::read, [0: b"MZ"];
    "dex", "dex", Data, 112, 256 * MIB, data::dex::read, [0: b"dex\n0"];
    "font", "ttf", Data, 64, 256 * MIB, data::font::read, [0: b"\0\x01\0\0\0", 0: b"OTTO\0"];
    "iso9660", "iso", Data, 36_864, TIB, data::iso::read, [32_769: b"CD001"];
    "text", "txt", Documents, 64, 256 * MIB, document::text::read, [];
}
