//! What is said of a file that was found by its content.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};

use crate::kind::Kind;
use crate::walk::{Broken, Ground, Walk};

/// How far a file is proven.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Its structure reaches to its last byte, and what it holds is proven by checksums or by decoding it.
    Whole,
    /// Its structure reaches to its last byte; what it holds proves nothing by itself.
    Plausible,
    /// Its structure breaks before its end.
    Cut,
}

impl State {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Whole => "whole",
            Self::Plausible => "plausible",
            Self::Cut => "cut",
        }
    }
}

/// What a file tells of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Facts {
    /// Title, subject, or the name of the first thing in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// When it was made, `YYYY-MM-DDThh:mm:ss` as it stands there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub made: Option<String>,
    /// Who or what made it: an author, a camera, an artist.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Width and height of a picture, in pixels.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pixels: Option<(u32, u32)>,
}

/// A judged file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Judged {
    /// How far it is proven.
    pub state: State,
    /// Its length in bytes; of a cut one, the bytes up to which its structure held.
    pub bytes: u64,
    /// Suffix of its name, by its content.
    pub suffix: &'static str,
    /// Why that is so, as half a sentence.
    pub why: String,
    /// What it tells of itself.
    pub facts: Facts,
}

/// What a kind's reader answers when the structure reaches to an end.
pub(crate) struct Read {
    pub(crate) bytes: u64,
    pub(crate) suffix: Option<&'static str>,
    pub(crate) facts: Facts,
    /// What proves it, as half a sentence.
    pub(crate) by: &'static str,
}

impl Read {
    /// `bytes` bytes, proven by what `by` says.
    pub(crate) fn to(bytes: u64, by: &'static str) -> Self {
        Self { bytes, suffix: None, facts: Facts::default(), by }
    }

    pub(crate) fn named(mut self, suffix: &'static str) -> Self {
        self.suffix = Some(suffix);
        self
    }

    pub(crate) fn telling(mut self, facts: Facts) -> Self {
        self.facts = facts;
        self
    }
}

/// What a look at a start comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Looked {
    /// The file; none where it is none of that kind after all, or the work was stopped.
    pub file: Option<Judged>,
    /// Bytes that were read for it.
    pub read: u64,
}

/// Judges what begins at byte `start` of `ground` as a file of `kind`.
#[must_use]
pub fn judge(ground: Ground<'_>, kind: &Kind, start: ByteOffset) -> Looked {
    let mut walk = Walk::new(ground, start, kind.most);
    let file = match (kind.read)(&mut walk) {
        Ok(read) if read.bytes >= kind.least => {
            let state = if walk.is_doubtful() { State::Plausible } else { State::Whole };
            let proves = if state == State::Whole { "" } else { "; parts of it prove nothing by themselves" };
            Some(Judged {
                state,
                bytes: read.bytes,
                suffix: read.suffix.or(walk.suffix()).unwrap_or(kind.suffix),
                why: format!("{}{proves}", read.by),
                facts: read.facts,
            })
        }
        Ok(_) | Err(Broken::Stopped) => None,
        Err(broken) if walk.held() >= kind.least => Some(Judged {
            state: State::Cut,
            bytes: walk.held(),
            suffix: walk.suffix().unwrap_or(kind.suffix),
            why: format!("{} at its byte {}", broken.says(), walk.held()),
            facts: Facts::default(),
        }),
        Err(_) => None,
    };
    Looked { file, read: walk.read() }
}

/// Seconds since 1970 as a date.
pub(crate) fn date(since: i64) -> String {
    let (days, rest) = (since.div_euclid(86_400), since.rem_euclid(86_400));
    // Days since 0000-03-01, in cycles of 400 years.
    let days = days + 719_468;
    let (cycle, day) = (days.div_euclid(146_097), days.rem_euclid(146_097));
    let year = (day - day / 1460 + day / 36_524 - day / 146_096) / 365;
    let of_year = day - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let (month, next) = if month < 10 { (month + 3, 0) } else { (month - 9, 1) };
    let year = cycle * 400 + year + next;
    format!("{year:04}-{month:02}-{day:02}T{:02}:{:02}:{:02}", rest / 3600, rest / 60 % 60, rest % 60)
}
