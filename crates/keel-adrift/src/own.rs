//! Kinds of a technician's own: files of signatures, documented in `docs/formats.md`, that the settings name. A rule of lengths or ends proves
//! nothing of what lies between: its files are plausible at most.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use serde::Deserialize;

use crate::judged::Read;
use crate::kind::{KINDS, Kind, Reader, Sort};
use crate::walk::{Broken, Step, Walk, wrong};

/// The largest file of signatures that is read, in bytes.
const LARGEST: u64 = 1 << 20;
/// The most kinds of one's own: numbers of kinds are bytes.
const MOST_OWN: usize = 128;
/// The longest mark, in bytes.
const LONGEST_MARK: usize = 64;
/// The furthest a mark or a length may stand from the start of a file.
const FURTHEST: u32 = 1 << 20;

/// A file of signatures that cannot be taken.
#[derive(Debug, thiserror::Error)]
pub enum SignatureError {
    /// It does not read.
    #[error("{path}: {source}", path = path.display())]
    Read {
        /// Which.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// It says something that is no signature.
    #[error("{path}: {why}", path = path.display())]
    Wrong {
        /// Which.
        path: PathBuf,
        /// Why.
        why: String,
    },
}

/// A file of signatures.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Signatures {
    kind: Vec<Signature>,
}

/// A kind, as it is written down.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Signature {
    word: String,
    sort: Sort,
    begins: String,
    #[serde(default)]
    at: u32,
    ends: Option<String>,
    length: Option<Length>,
    least: Option<u64>,
    most: u64,
}

/// Where a file says how long it is.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
struct Length {
    /// Place of the number, from the start of the file.
    at: u32,
    /// Bytes of it: 1, 2, 4 or 8.
    bytes: u8,
    /// Lowest byte first, or highest.
    #[serde(default)]
    order: Order,
    /// What one of it means in bytes.
    #[serde(default = "one")]
    times: u64,
    /// Bytes that it does not count.
    #[serde(default)]
    plus: u64,
}

fn one() -> u64 {
    1
}

#[derive(Debug, Clone, Copy, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Order {
    #[default]
    Little,
    Big,
}

/// How the end of a file is known.
#[derive(Debug)]
pub(crate) enum Rule {
    /// It ends with these bytes.
    Ends(Vec<u8>),
    /// It says how long it is.
    Length(LengthRule),
}

/// A length that a file says.
#[derive(Debug)]
pub(crate) struct LengthRule(Length);

impl Rule {
    /// Walks a file to the end that its rule tells.
    pub(crate) fn read(&self, walk: &mut Walk<'_>) -> Step<Read> {
        let (end, by) = match self {
            Self::Ends(mark) => {
                let found = walk.find(mark.len() as u64, u64::MAX, mark)?.ok_or(Broken::End)?;
                (found + mark.len() as u64, "what its kind ends with stands there")
            }
            Self::Length(LengthRule(length)) => {
                let at = u64::from(length.at);
                let number = match (length.bytes, length.order) {
                    (1, _) => u64::from(walk.u8(at)?),
                    (2, Order::Little) => u64::from(walk.le16(at)?),
                    (2, Order::Big) => u64::from(walk.be16(at)?),
                    (4, Order::Little) => u64::from(walk.le32(at)?),
                    (4, Order::Big) => u64::from(walk.be32(at)?),
                    (_, Order::Little) => walk.le64(at)?,
                    (_, Order::Big) => walk.be64(at)?,
                };
                let end = number.checked_mul(length.times).and_then(|bytes| bytes.checked_add(length.plus));
                let Some(end) = end.filter(|end| *end > at) else { return wrong("the length that it says is none") };
                (end, "it says so itself")
            }
        };
        walk.reaches(end)?;
        walk.trust(u64::MAX);
        walk.hold(end);
        Ok(Read::to(end, by))
    }
}

static OWN: OnceLock<(Vec<Kind>, String)> = OnceLock::new();

/// The kinds that were learnt.
pub(crate) fn learnt() -> &'static [Kind] {
    OWN.get().map_or(&[], |(kinds, _)| kinds)
}

/// What tells the learnt kinds from others; none where none were.
#[must_use]
pub fn own_kinds() -> Option<String> {
    OWN.get().filter(|(kinds, _)| !kinds.is_empty()).map(|(_, told)| told.clone())
}

/// Learns the kinds of files of signatures, once and before anything is looked for.
///
/// # Errors
/// [`SignatureError`] for a file that does not read, says what is no signature, or names a kind that there is.
pub fn learn(files: &[PathBuf]) -> Result<(), SignatureError> {
    let (mut kinds, mut told) = (Vec::new(), String::new());
    for path in files {
        let text = read(path)?;
        let wrong = |why: String| SignatureError::Wrong { path: path.clone(), why };
        let parsed: Signatures = toml::from_str(&text).map_err(|error| wrong(error.message().to_string()))?;
        for signature in parsed.kind {
            let word = signature.word.clone();
            let is_known = KINDS.iter().chain(&kinds).any(|kind: &Kind| kind.word == word || kind.suffix == word);
            if is_known || kinds.len() >= MOST_OWN {
                let why = if is_known { "is a kind already" } else { "is one kind too many" };
                return Err(wrong(format!("\"{word}\" {why}")));
            }
            kinds.push(kind(signature).map_err(|why| wrong(format!("\"{word}\": {why}")))?);
        }
        told.push_str(&text);
    }
    let sum = crc32fast::hash(told.as_bytes());
    let _ = OWN.set((kinds, format!("{sum:08x}-{}", told.len())));
    Ok(())
}

fn read(path: &Path) -> Result<String, SignatureError> {
    let reading = |source| SignatureError::Read { path: path.to_path_buf(), source };
    let found = std::fs::metadata(path).map_err(reading)?;
    if !found.is_file() || found.len() > LARGEST {
        return Err(SignatureError::Wrong { path: path.to_path_buf(), why: "it is no file of signatures".into() });
    }
    std::fs::read_to_string(path).map_err(reading)
}

/// The kind that a signature describes. What is learnt stays for the whole run.
fn kind(signature: Signature) -> Result<Kind, String> {
    let Signature { word, sort, begins, at, ends, length, least, most } = signature;
    let is_word = (1..=16).contains(&word.len()) && word.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit());
    if !is_word {
        return Err("a word is one to sixteen small letters and digits".into());
    }
    let mark = bytes_of(&begins)?;
    if mark.len() < 2 {
        return Err("what it begins with is two bytes at least".into());
    }
    let rule = match (ends, length) {
        (Some(ends), None) => Rule::Ends(bytes_of(&ends)?),
        (None, Some(length)) if matches!(length.bytes, 1 | 2 | 4 | 8) && length.at <= FURTHEST && length.times > 0 => {
            Rule::Length(LengthRule(length))
        }
        (None, Some(_)) => return Err("a length has 1, 2, 4 or 8 bytes in its first MiB, and counts something".into()),
        _ => return Err("its end is known by what it ends with or by a length: one of the two".into()),
    };
    let least = least.unwrap_or(u64::from(at) + mark.len() as u64);
    if at > FURTHEST || most < least.max(1) {
        return Err("it begins in its first MiB, and the most is no less than the least".into());
    }
    let word: &'static str = Box::leak(word.into_boxed_str());
    let mark: &'static [u8] = Box::leak(mark.into_boxed_slice());
    let marks: &'static [(u32, &'static [u8])] = Box::leak(Box::new([(at, mark)]));
    Ok(Kind { word, suffix: word, sort, marks, least, most, read: Reader::Own(rule) })
}

/// The bytes that are written down: as text, or behind `hex:` in pairs of digits.
fn bytes_of(text: &str) -> Result<Vec<u8>, String> {
    let bytes = match text.strip_prefix("hex:") {
        None => text.as_bytes().to_vec(),
        Some(digits) => {
            let digits: String = digits.split_ascii_whitespace().collect();
            let pairs = digits.as_bytes().chunks(2).map(|pair| std::str::from_utf8(pair).unwrap_or_default());
            let parsed = pairs.map(|pair| if pair.len() == 2 { u8::from_str_radix(pair, 16).ok() } else { None });
            parsed.collect::<Option<Vec<u8>>>().ok_or_else(|| format!("`{digits}` are no pairs of hexadecimal digits"))?
        }
    };
    if (1..=LONGEST_MARK).contains(&bytes.len()) { Ok(bytes) } else { Err(format!("a mark has 1 to {LONGEST_MARK} bytes")) }
}

#[cfg(test)]
mod tests {
    use keel_source::{ByteOffset, Cancel, MemorySource};

    use super::*;
    use crate::{Ground, State, judge};

    fn of(text: &str) -> Result<Kind, String> {
        let parsed: Signatures = toml::from_str(text).map_err(|error| error.message().to_string())?;
        kind(parsed.kind.into_iter().next().unwrap())
    }

    fn judged(kind: &Kind, bytes: &[u8]) -> Option<(u64, State)> {
        let source = MemorySource::new("ground", bytes.to_vec(), 1);
        let cancel = Cancel::default();
        let ground = Ground { source: &source, end: ByteOffset(bytes.len() as u64), most_read: u64::MAX, cancel: &cancel };
        judge(ground, kind, ByteOffset(0)).file.map(|file| (file.bytes, file.state))
    }

    #[test]
    fn a_length_and_an_end_lead_to_the_last_byte_and_make_nothing_whole() {
        let by_length = of("[[kind]]\nword = \"logbook\"\nsort = \"documents\"\nbegins = \"BWLG\"\nmost = 5000\n\
                            length = { at = 4, bytes = 2, order = \"big\", times = 16, plus = 6 }").unwrap();
        let mut file = b"BWLG\x00\x03".to_vec();
        file.resize(200, 7);
        assert_eq!(judged(&by_length, &file), Some((54, State::Plausible)));
        assert_eq!(judged(&by_length, &file[..50]), None);
        file[4] = 0xFF;
        assert_eq!(judged(&by_length, &file), None, "behind the most, or the ground");
        let by_end = of("[[kind]]\nword = \"chart\"\nsort = \"data\"\nbegins = \"hex:42 57 00 01\"\nends = \"THE END\"\nmost = 5000").unwrap();
        let ended = [b"BW\x00\x01".as_slice(), &[9; 300], b"THE END", &[1; 50]].concat();
        assert_eq!(judged(&by_end, &ended), Some((311, State::Plausible)));
        assert_eq!(judged(&by_end, &ended[..200]), None);
    }

    #[test]
    fn what_is_no_signature_is_refused_with_its_reason() {
        let right = "word = \"logbook\"\nsort = \"documents\"\nbegins = \"BWLG\"\nends = \"END\"\nmost = 5000\n";
        assert!(of(&format!("[[kind]]\n{right}")).is_ok());
        for (from, to, says) in [
            ("logbook", "Log book", "small letters"),
            ("documents", "papers", "unknown variant"),
            ("\"BWLG\"", "\"hex:4\"", "pairs"),
            ("\"BWLG\"", "\"B\"", "two bytes"),
            ("ends = \"END\"", "", "one of the two"),
            ("ends = \"END\"", "length = { at = 4, bytes = 3 }", "1, 2, 4 or 8"),
            ("most = 5000", "most = 1", "no less"),
            ("most = 5000", "largest = 1", "unknown field"),
        ] {
            let said = of(&format!("[[kind]]\n{}", right.replace(from, to))).unwrap_err();
            assert!(said.contains(says), "{to}: {said}");
        }
        assert!(learn(&[PathBuf::from("/no/such/file.toml")]).is_err());
        assert!(learn(&[PathBuf::from("/")]).unwrap_err().to_string().contains("no file of signatures"));
    }
}
