//! What a file says of itself: the listing of an archive, the title of a document, the length of sound and film. Read by packages that
//! know these forms, from as much of the file as a preview may cost; none of it decides anything.

mod archive;
mod document;
mod media;
mod text;
mod within;

#[cfg(test)]
mod tests;

use std::panic::{AssertUnwindSafe, catch_unwind};

use keel_format::{Entry, NodeKind, StreamReader, Volume, read_whole};
use serde::Serialize;

pub use text::{Encoding, decoded};

use crate::job::Cancel;
use within::Within;

/// Bytes at the start by which a form is told.
const HEAD: usize = 512;
/// The most lines of a listing.
const MOST_LISTED: usize = 2000;
/// The longest text of a title or name, in signs.
const LONGEST: usize = 300;

/// An entry of an archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Listed {
    /// Its path in the archive.
    pub path: String,
    /// Its length in bytes, as the archive says.
    pub bytes: u64,
}

/// What a file says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct About {
    /// What it is, in a few words.
    pub form: &'static str,
    /// What it says: a word and its value.
    pub says: Vec<(&'static str, String)>,
    /// What an archive holds, as far as it was listed.
    pub listing: Vec<Listed>,
    /// True where the archive holds more than is listed.
    pub more: bool,
    /// Why it was not read to its end.
    pub problem: Option<String>,
}

impl About {
    fn of(form: &'static str) -> Self {
        Self { form, ..Self::default() }
    }

    fn say(&mut self, word: &'static str, value: &str) {
        let value: String = value.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(LONGEST).collect();
        if !value.is_empty() {
            self.says.push((word, value));
        }
    }

    fn list(&mut self, path: &str, bytes: u64) {
        match self.listing.len() < MOST_LISTED {
            true => self.listing.push(Listed { path: path.chars().take(LONGEST).collect(), bytes }),
            false => self.more = true,
        }
    }

    fn fails(&mut self, why: &dyn ToString) {
        self.problem = Some(why.to_string());
    }
}

/// The forms that are read, told by the first bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    Zip,
    Tar,
    Gzip,
    Pdf,
    Media(&'static str),
}

/// Marks of sound and film: offset, mark, what it is.
const MEDIA: [(usize, &[u8], &str); 12] = [
    (8, b"WAVE", "WAV sound"),
    (8, b"AVI ", "AVI film"),
    (4, b"ftyp", "MP4 or QuickTime"),
    (4, b"moov", "QuickTime film"),
    (0, b"\x1a\x45\xdf\xa3", "Matroska or WebM"),
    (0, b"OggS", "Ogg"),
    (0, b"fLaC", "FLAC sound"),
    (0, b"FORM", "AIFF sound"),
    (0, b"caff", "CAF sound"),
    (0, b"ID3", "MPEG sound"),
    (0, b"\xff\xfb", "MPEG sound"),
    (0, b"\xff\xf3", "MPEG sound"),
];

fn form(head: &[u8]) -> Option<Form> {
    let at = |offset: usize, mark: &[u8]| head.get(offset..).is_some_and(|rest| rest.starts_with(mark));
    match () {
        () if at(0, b"PK\x03\x04") || at(0, b"PK\x05\x06") => Some(Form::Zip),
        () if at(257, b"ustar") => Some(Form::Tar),
        () if at(0, b"\x1f\x8b") => Some(Form::Gzip),
        () if at(0, b"%PDF-") => Some(Form::Pdf),
        () => MEDIA.iter().find(|(offset, mark, _)| at(*offset, mark)).map(|(_, _, word)| Form::Media(word)),
    }
}

/// What the file `entry` says of itself; none for a form that is not read here. It ends early when `cancel` says so.
#[must_use]
pub fn about(volume: &dyn Volume, entry: &Entry, cancel: &Cancel) -> Option<About> {
    if entry.kind != NodeKind::File {
        return None;
    }
    let stream = volume.open(entry.id, "").ok()?;
    about_stream(stream, cancel)
}

fn about_stream(mut stream: Box<dyn StreamReader>, cancel: &Cancel) -> Option<About> {
    let (head, _) = read_whole(stream.as_mut(), HEAD);
    let form = form(&head)?;
    let within = Within::new(stream, cancel.clone());
    // The packages are made for files as programs write them; what a damaged one does to them ends here.
    let read = catch_unwind(AssertUnwindSafe(|| match form {
        Form::Zip => archive::zip(within),
        Form::Tar => archive::tar(within),
        Form::Gzip => archive::gzip(within),
        Form::Pdf => document::pdf(within),
        Form::Media(word) => media::media(within, word, &head),
    }));
    Some(read.unwrap_or_else(|_| About {
        form: "damaged",
        problem: Some("it is not what its first bytes say".into()),
        ..About::default()
    }))
}
