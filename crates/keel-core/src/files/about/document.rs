//! Documents: titles and pages of PDF, titles of what offices write.

use std::io::{self, BufRead, Read};

use flate2::read::ZlibDecoder;
use lopdf::Document;
use memchr::memmem;
use quick_xml::Reader;
use quick_xml::events::Event;

use super::About;
use super::within::Within;

/// The longest PDF that is read, in bytes.
const LONGEST_PDF: u64 = 32 << 20;
/// The most bytes that the object streams of a PDF may unpack to.
const MOST_OBJECTS: u64 = 16 << 20;
/// The most bytes of a document's own description.
const MOST_XML: u64 = 1 << 20;

/// How an office keeps what a document says of itself, in its ZIP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Office {
    /// Office Open XML (ECMA-376).
    Ooxml,
    /// OpenDocument (ISO/IEC 26300).
    OpenDocument,
}

impl Office {
    pub(super) const ALL: [Self; 2] = [Self::Ooxml, Self::OpenDocument];

    /// The file in the ZIP that describes it.
    pub(super) fn path(self) -> &'static str {
        match self {
            Self::Ooxml => "docProps/core.xml",
            Self::OpenDocument => "meta.xml",
        }
    }

    /// The file that stands beside it in every such document.
    pub(super) fn also(self) -> Option<&'static str> {
        (self == Self::OpenDocument).then_some("mimetype")
    }

    /// What it is.
    pub(super) fn word(self, names: &[String]) -> &'static str {
        let has = |folder: &str| names.iter().any(|name| name.starts_with(folder));
        match self {
            Self::OpenDocument => "OpenDocument file",
            Self::Ooxml if has("word/") => "Office text",
            Self::Ooxml if has("xl/") => "Office spreadsheet",
            Self::Ooxml if has("ppt/") => "Office presentation",
            Self::Ooxml => "Office file",
        }
    }
}

/// The word for an element of a description.
fn word_of(element: &str) -> Option<&'static str> {
    match element {
        "dc:title" => Some("title"),
        "dc:subject" => Some("subject"),
        "dc:creator" | "meta:initial-creator" => Some("by"),
        "cp:lastModifiedBy" => Some("last changed by"),
        "dcterms:created" | "meta:creation-date" => Some("created"),
        "dcterms:modified" | "dc:date" => Some("changed"),
        _ => None,
    }
}

/// Takes what a description says.
pub(super) fn said_in_xml(description: impl BufRead, office: Office, about: &mut About) {
    let mut reader = Reader::from_reader(description.take(MOST_XML));
    let (mut buf, mut word) = (Vec::new(), None);
    let mut text = String::new();
    loop {
        buf.clear();
        match reader.read_event_into(&mut buf) {
            Ok(Event::Start(start)) => {
                word = word_of(start.name().as_ref());
                text.clear();
            }
            Ok(Event::Text(part)) if word.is_some() => text.push_str(&part),
            Ok(Event::GeneralRef(name)) if word.is_some() => text.push_str(entity(&name)),
            Ok(Event::End(_)) => {
                word.take().into_iter().for_each(|word| about.say(word, &text));
            }
            Ok(Event::Eof) => return,
            Ok(_) => {}
            Err(error) => return about.fails(&format!("{}: {error}", office.path())),
        }
    }
}

/// The signs that XML knows by name.
fn entity(name: &str) -> &'static str {
    match name {
        "amp" => "&",
        "lt" => "<",
        "gt" => ">",
        "quot" => "\"",
        "apos" => "'",
        _ => "?",
    }
}

/// Title, author and pages of a PDF.
pub(super) fn pdf(mut within: Within) -> About {
    let mut about = About::of("PDF");
    if within.len() > LONGEST_PDF {
        about.fails(&"it is too long to be read for a preview");
        return about;
    }
    let mut bytes = Vec::new();
    if let Err(error) = within.read_to_end(&mut bytes) {
        about.fails(&error);
        return about;
    }
    if !unpacks_within(&bytes) {
        about.fails(&"its tables unpack to more than a preview may cost");
        return about;
    }
    match Document::load_metadata_mem(&bytes) {
        Err(error) => about.fails(&error),
        Ok(said) => {
            for (word, value) in
                [("title", said.title), ("by", said.author), ("subject", said.subject), ("made by", said.creator)]
            {
                about.say(word, value.as_deref().unwrap_or_default());
            }
            for (word, value) in [("created", said.creation_date), ("changed", said.modification_date)] {
                about.say(word, &dated(value.as_deref().unwrap_or_default()));
            }
            about.say("pages", &said.page_count.to_string());
        }
    }
    about
}

/// True where the streams that hold objects unpack to so much as a preview may cost: a few bytes may claim to be gigabytes.
fn unpacks_within(bytes: &[u8]) -> bool {
    const BEFORE: usize = 1024;
    let mut left = MOST_OBJECTS;
    for at in memmem::find_iter(bytes, b"stream") {
        let before = &bytes[at.saturating_sub(BEFORE)..at];
        let dictionary = memmem::rfind(before, b"obj").map_or(before, |object| &before[object..]);
        let holds_objects = [&b"/ObjStm"[..], b"/XRef"].iter().any(|kind| memmem::find(dictionary, kind).is_some());
        if !holds_objects || bytes[..at].ends_with(b"end") {
            continue;
        }
        // Packed twice, a little becomes a great deal.
        if memmem::find_iter(dictionary, b"Decode").count() > 1 + memmem::find_iter(dictionary, b"DecodeParms").count() {
            return false;
        }
        let data = bytes.get(at + 6..).unwrap_or_default();
        let data = data.strip_prefix(b"\r\n").or_else(|| data.strip_prefix(b"\n")).unwrap_or(data);
        let mut unpacked = ZlibDecoder::new(data).take(left + 1);
        // What does not unpack to its end takes no more than what came of it.
        let _ = io::copy(&mut unpacked, &mut io::sink());
        left = unpacked.limit().saturating_sub(1);
        if left == 0 {
            return false;
        }
    }
    true
}

/// A date of PDF (`D:20240517091500Z`) as it is read; what is none, as it stands.
fn dated(text: &str) -> String {
    let digits = text.strip_prefix("D:").unwrap_or(text);
    match (digits.get(..4), digits.get(4..6), digits.get(6..8)) {
        (Some(year), Some(month), Some(day)) if digits.bytes().take(8).all(|byte| byte.is_ascii_digit()) => {
            let time = digits.get(8..10).zip(digits.get(10..12)).map(|(hour, minute)| format!(" {hour}:{minute}"));
            format!("{year}-{month}-{day}{}", time.unwrap_or_default())
        }
        _ => text.into(),
    }
}
