//! Classes of how long reads take.

use serde::{Deserialize, Serialize};

/// How long a read took, against what is usual for this drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Latency {
    /// Not read.
    Unread,
    /// As usual.
    Usual,
    /// More than three times, and above 5 ms.
    Late,
    /// More than ten times, and above 50 ms.
    Slow,
    /// More than a hundred times, and above 500 ms.
    Stuck,
    /// It failed, and came when it was asked again.
    Passing,
    /// It failed each time.
    Failed,
}

impl Latency {
    /// All of them, from good to bad.
    pub const ALL: [Self; 7] = [Self::Unread, Self::Usual, Self::Late, Self::Slow, Self::Stuck, Self::Passing, Self::Failed];

    /// A sign for a cell of a picture; each class has a shape of its own.
    #[must_use]
    pub fn sign(self) -> char {
        match self {
            Self::Unread => '·',
            Self::Usual => '▁',
            Self::Late => '▃',
            Self::Slow => '▅',
            Self::Stuck => '▇',
            Self::Passing => '◦',
            Self::Failed => '×',
        }
    }

    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Unread => "not read",
            Self::Usual => "as usual",
            Self::Late => "late",
            Self::Slow => "slow",
            Self::Stuck => "stuck",
            Self::Passing => "failed once",
            Self::Failed => "does not read",
        }
    }

    /// The class of a read that took `took` microseconds where `median` are usual.
    #[must_use]
    pub fn of(took: u64, median: u64) -> Self {
        let over = |times: u64, least: u64| took > median.saturating_mul(times) && took > least;
        match () {
            () if over(100, 500_000) => Self::Stuck,
            () if over(10, 50_000) => Self::Slow,
            () if over(3, 5_000) => Self::Late,
            () => Self::Usual,
        }
    }
}
