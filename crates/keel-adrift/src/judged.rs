//! What is said of a file that was found by its content.

use serde::{Deserialize, Serialize};

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
