//! Which sort of content a file has, by its name: what a technician tells a client by.

use serde::Serialize;

/// A sort of content.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Sort {
    /// Pictures, also raw ones of cameras.
    Picture,
    /// Moving pictures.
    Film,
    /// Sound.
    Sound,
    /// What offices write.
    Document,
    /// Mail, contacts and calendars.
    Mail,
    /// Plain text, and what is written as such.
    Text,
    /// Archives.
    Archive,
    /// Databases.
    Database,
    /// Disks of virtual machines, and images of media.
    Image,
    /// Programs and their parts.
    Program,
    /// Everything else.
    Other,
}

/// Endings of each sort.
const ENDINGS: [(Sort, &[&str]); 10] = [
    (
        Sort::Picture,
        &[
            "jpg", "jpeg", "jpe", "png", "gif", "bmp", "tif", "tiff", "webp", "heic", "heif", "avif", "psd", "svg", "ico", "cr2",
            "cr3", "nef", "arw", "dng", "orf", "rw2", "raf", "pef", "srw", "raw",
        ],
    ),
    (
        Sort::Film,
        &["mp4", "mov", "avi", "mkv", "webm", "mpg", "mpeg", "m2ts", "mts", "ts", "vob", "flv", "wmv", "asf", "3gp", "m4v"],
    ),
    (Sort::Sound, &["mp3", "wav", "flac", "ogg", "opus", "oga", "m4a", "aac", "aif", "aiff", "wma", "mid", "midi", "caf", "ape"]),
    (
        Sort::Document,
        &[
            "pdf", "doc", "docx", "docm", "dot", "rtf", "odt", "ott", "xls", "xlsx", "xlsm", "ods", "ppt", "pptx", "pps", "odp",
            "epub", "pages", "numbers", "key", "vsd", "pub", "odg", "xps", "djvu",
        ],
    ),
    (Sort::Mail, &["eml", "msg", "mbox", "pst", "ost", "dbx", "emlx", "vcf", "ics", "olm"]),
    (
        Sort::Text,
        &[
            "txt", "csv", "tsv", "md", "log", "json", "xml", "html", "htm", "ini", "toml", "yaml", "yml", "tex", "srt", "css",
            "c", "h", "py", "rs", "js", "java", "sh", "bat", "sql",
        ],
    ),
    (Sort::Archive, &["zip", "tar", "gz", "tgz", "bz2", "xz", "zst", "7z", "rar", "cab", "lz4", "jar", "apk"]),
    (Sort::Database, &["sqlite", "sqlite3", "db", "mdb", "accdb", "dbf", "fdb", "ldf", "mdf", "edb", "wal"]),
    (Sort::Image, &["iso", "img", "vhd", "vhdx", "vmdk", "vdi", "qcow2", "dmg", "bin", "ova"]),
    (Sort::Program, &["exe", "dll", "sys", "msi", "so", "dylib", "com", "ocx", "drv", "cat", "inf"]),
];

impl Sort {
    /// All of them, in the order in which they are told.
    pub const ALL: [Self; 11] = [
        Self::Picture,
        Self::Film,
        Self::Sound,
        Self::Document,
        Self::Mail,
        Self::Text,
        Self::Archive,
        Self::Database,
        Self::Image,
        Self::Program,
        Self::Other,
    ];

    /// The sort of a file of this name.
    #[must_use]
    pub fn of(name: &str) -> Self {
        let Some((_, ending)) = name.rsplit_once('.') else { return Self::Other };
        let ending = ending.to_ascii_lowercase();
        ENDINGS.iter().find(|(_, endings)| endings.contains(&ending.as_str())).map_or(Self::Other, |(sort, _)| *sort)
    }

    /// The word for it, as it is typed and shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Picture => "pictures",
            Self::Film => "films",
            Self::Sound => "sound",
            Self::Document => "documents",
            Self::Mail => "mail",
            Self::Text => "text",
            Self::Archive => "archives",
            Self::Database => "databases",
            Self::Image => "disk images",
            Self::Program => "programs",
            Self::Other => "other",
        }
    }
}
