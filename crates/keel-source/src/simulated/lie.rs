//! How a simulated drive lies about its capacity: where a claimed address really leads.

use serde::Deserialize;

/// From `from_byte` on, addresses lead to themselves modulo `modulus`, both in bytes.
#[derive(Deserialize, Debug, Clone, Copy, PartialEq, Eq)]
#[serde(deny_unknown_fields)]
pub(super) struct Wrap {
    pub(super) from_byte: u64,
    pub(super) modulus: u64,
}

/// What a drive that drops writes answers behind its real end.
#[derive(Deserialize, Debug, Clone, Copy, PartialEq, Eq)]
#[serde(rename_all = "snake_case")]
pub(super) enum Answers {
    Zeros,
    Ones,
    /// What went over the link last.
    Stale,
}

/// The lie. Lengths in bytes, whole sectors.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Lie {
    None,
    /// Ascending; the first one begins at the real end.
    Wraps(Vec<Wrap>),
    Drops {
        real: u64,
        answers: Answers,
    },
    RepeatsLast {
        real: u64,
        sector: u64,
    },
}

/// Where a stretch of claimed addresses leads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Leads {
    /// To this byte of the medium and on.
    To(u64),
    /// To the one sector at this byte, again and again.
    Sector(u64),
    /// Nowhere.
    Nowhere(Answers),
}

impl Lie {
    /// Bytes that the medium has, of `claimed` ones.
    pub(super) fn real(&self, claimed: u64) -> u64 {
        match self {
            Self::None => claimed,
            Self::Wraps(wraps) => wraps.first().map_or(claimed, |wrap| wrap.from_byte),
            Self::Drops { real, .. } | Self::RepeatsLast { real, .. } => *real,
        }
    }

    /// Where byte `at` leads, and the byte up to which the addresses behind it follow on (at most `end`).
    pub(super) fn leads(&self, at: u64, end: u64) -> (Leads, u64) {
        let real = self.real(u64::MAX);
        if at < real {
            return (Leads::To(at), end.min(real));
        }
        match self {
            Self::None => (Leads::To(at), end),
            Self::Drops { answers, .. } => (Leads::Nowhere(*answers), end),
            Self::RepeatsLast { sector, .. } => (Leads::Sector(real - sector), end),
            Self::Wraps(wraps) => {
                let index = wraps.partition_point(|wrap| wrap.from_byte <= at).saturating_sub(1);
                let modulus = wraps.get(index).map_or(real, |wrap| wrap.modulus);
                let next = wraps.get(index + 1).map_or(u64::MAX, |wrap| wrap.from_byte);
                let turn = (at / modulus + 1).saturating_mul(modulus);
                (Leads::To(at % modulus), end.min(next).min(turn))
            }
        }
    }
}
