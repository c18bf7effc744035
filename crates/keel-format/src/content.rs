//! Does a file's content match its type? A first look for rung 9 and for sampled proofs.

/// What a look at the first bytes of a file says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ContentMatch {
    /// The content is what the name's type promises.
    Match,
    /// The content is something else.
    Mismatch,
    /// The type has no mark that could be looked for.
    Unknown,
}

/// Types with a mark at a fixed place: extension, offset of the mark, mark.
const MARKS: &[(&[&str], usize, &[u8])] = &[
    (&["png"], 0, b"\x89PNG\r\n\x1a\n"),
    (&["jpg", "jpeg"], 0, b"\xff\xd8\xff"),
    (&["gif"], 0, b"GIF8"),
    (&["bmp"], 0, b"BM"),
    (&["pdf"], 0, b"%PDF-"),
    (&["zip", "docx", "xlsx", "pptx", "odt", "ods", "jar", "epub"], 0, b"PK"),
    (&["gz", "tgz"], 0, b"\x1f\x8b"),
    (&["xz"], 0, b"\xfd7zXZ\0"),
    (&["bz2"], 0, b"BZh"),
    (&["7z"], 0, b"7z\xbc\xaf\x27\x1c"),
    (&["doc", "xls", "ppt", "msi"], 0, b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"),
    (&["exe", "dll", "sys"], 0, b"MZ"),
    (&["wav", "avi", "webp"], 0, b"RIFF"),
    (&["mp4", "mov", "m4a", "heic"], 4, b"ftyp"),
    (&["tif", "tiff"], 0, b"II*\0"),
    (&["sqlite", "db"], 0, b"SQLite format 3\0"),
    (&["tar"], 257, b"ustar"),
    (&["flac"], 0, b"fLaC"),
    (&["ogg"], 0, b"OggS"),
    (&["xml", "svg"], 0, b"<"),
];

/// Types that are text.
const TEXTS: &[&str] = &["txt", "csv", "log", "md", "json", "toml", "ini", "html", "htm", "tsv", "yaml", "yml"];

/// Compares the first bytes of a file with what its name's extension promises.
#[must_use]
pub fn matches_type(name: &str, head: &[u8]) -> ContentMatch {
    let Some((_, extension)) = name.rsplit_once('.') else { return ContentMatch::Unknown };
    let extension = extension.to_ascii_lowercase();
    if head.is_empty() {
        return ContentMatch::Unknown;
    }
    if TEXTS.contains(&extension.as_str()) {
        return if is_text(head) { ContentMatch::Match } else { ContentMatch::Mismatch };
    }
    let Some((_, offset, mark)) = MARKS.iter().find(|(extensions, _, _)| extensions.contains(&extension.as_str())) else {
        return ContentMatch::Unknown;
    };
    let found = head.get(*offset..).unwrap_or_default();
    if found.starts_with(mark) { ContentMatch::Match } else { ContentMatch::Mismatch }
}

/// True when `head` reads as text: UTF-8 or UTF-16 with a mark, or bytes without control characters.
#[must_use]
pub fn is_text(head: &[u8]) -> bool {
    if head.starts_with(b"\xff\xfe") || head.starts_with(b"\xfe\xff") {
        return true;
    }
    let control = head.iter().filter(|byte| **byte < 9 || (14..32).contains(*byte)).count();
    control == 0
}
