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

#[cfg(test)]
mod tests {
    use super::*;

    /// Where each of the first `count` bytes leads, one stretch after the other.
    fn walked(lie: &Lie, end: u64) -> Vec<(u64, Leads)> {
        let (mut at, mut found) = (0, Vec::new());
        while at < end {
            let (leads, next) = lie.leads(at, end);
            assert!(next > at && next <= end, "a stretch is never empty: {at} to {next}");
            found.push((at, leads));
            at = next;
        }
        found
    }

    #[test]
    fn an_honest_drive_leads_to_itself_in_one_stretch() {
        assert_eq!(walked(&Lie::None, 1000), [(0, Leads::To(0))]);
        assert_eq!(Lie::None.real(1000), 1000);
    }

    #[test]
    fn a_wrap_turns_at_each_multiple_and_changes_where_another_one_begins() {
        let lie = Lie::Wraps(vec![Wrap { from_byte: 300, modulus: 100 }, Wrap { from_byte: 550, modulus: 300 }]);
        let expected = [
            (0, Leads::To(0)),
            (300, Leads::To(0)),
            (400, Leads::To(0)),
            (500, Leads::To(0)),
            (550, Leads::To(250)),
            (600, Leads::To(0)),
        ];
        assert_eq!(walked(&lie, 700), expected);
        assert_eq!(lie.real(700), 300);
    }

    #[test]
    fn what_lies_behind_the_end_of_the_others_is_one_stretch() {
        let drops = Lie::Drops { real: 300, answers: Answers::Ones };
        assert_eq!(walked(&drops, 1000), [(0, Leads::To(0)), (300, Leads::Nowhere(Answers::Ones))]);
        let repeats = Lie::RepeatsLast { real: 300, sector: 50 };
        assert_eq!(walked(&repeats, 1000), [(0, Leads::To(0)), (300, Leads::Sector(250))]);
        assert_eq!((drops.real(1000), repeats.real(1000)), (300, 300));
    }
}
