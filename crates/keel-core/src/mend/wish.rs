//! What is staged beside what the evidence says: which repairs, which versions, and what is mended on request.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use keel_format::Take;
use serde::Serialize;

use super::{ByCheck, Taken};

/// Which repairs to stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Only {
    /// Everything the evidence supports.
    #[default]
    All,
    /// Partition tables.
    Table,
    /// Boot sectors, superblocks and volume headers.
    Boot,
    /// What stands behind them: MFT records, group descriptors, counts.
    Fs,
}

/// Whose structures are meant: as a word, `table` or the id of a find.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Subject {
    /// The partition table's.
    Table,
    /// Those of the volume of the find with this id.
    Volume(String),
}

impl Subject {
    /// The subject that a word names.
    #[must_use]
    pub fn named(word: &str) -> Self {
        if word == "table" { Self::Table } else { Self::Volume(word.to_string()) }
    }
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Table => "table",
            Self::Volume(id) => id,
        })
    }
}

/// What is mended on request: though something is lost by it, or though an operating system would do it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Request {
    /// What every rule of every volume found, and leftovers.
    Everything,
    /// What is left of former tables and containers is erased.
    Leftovers,
    /// What this rule found, on every volume.
    Rule(String),
    /// What this rule found, on the volume of one find.
    RuleOf {
        /// The find's id.
        find: String,
        /// The rule's name.
        rule: String,
    },
}

impl Request {
    /// The request that a word makes: `all`, `leftovers`, or the name of a rule.
    #[must_use]
    pub fn named(word: &str) -> Self {
        match word {
            "all" => Self::Everything,
            "leftovers" => Self::Leftovers,
            rule => Self::Rule(rule.to_string()),
        }
    }
}

/// What to stage beside what the evidence says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Wishes {
    /// Which repairs.
    pub only: Only,
    /// Versions that the technician took, by subject and name of the structure.
    pub takes: BTreeMap<(Subject, String), Taken>,
    /// What is mended on request.
    pub also: BTreeSet<Request>,
    /// Where the repairs that follow from a check come from.
    pub checks: Checks,
    /// Edits that are dropped, by the names of their groups.
    pub without: BTreeSet<String>,
}

/// Whether volumes are checked while a plan is staged.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Checks {
    /// Those whose core is doubtful, and those for which a rule is asked for.
    #[default]
    Run,
    /// They were: the repairs by find.
    Known(BTreeMap<String, ByCheck>),
}

impl From<Only> for Wishes {
    fn from(only: Only) -> Self {
        Self { only, ..Self::default() }
    }
}

impl Wishes {
    /// True when a version of any of the subject's structures was taken.
    #[must_use]
    pub fn takes_of(&self, subject: &Subject) -> bool {
        self.takes.keys().any(|(own, _)| own == subject)
    }

    /// The version that was taken of a structure as a whole.
    #[must_use]
    pub fn taken(&self, subject: &Subject, structure: &str) -> Option<Take> {
        self.takes.get(&(subject.clone(), structure.to_string())).map(|taken| taken.whole)
    }

    /// True when leftovers are erased.
    #[must_use]
    pub fn erases_leftovers(&self) -> bool {
        self.also.contains(&Request::Everything) || self.also.contains(&Request::Leftovers)
    }

    /// The rules asked for on the volume of a find.
    #[must_use]
    pub fn rules_of(&self, find: &str) -> Rules {
        let mut rules = Rules::default();
        for request in &self.also {
            match request {
                Request::Everything => rules.all = true,
                Request::Rule(rule) => drop(rules.named.insert(rule.clone())),
                Request::RuleOf { find: own, rule } if own == find => drop(rules.named.insert(rule.clone())),
                Request::RuleOf { .. } | Request::Leftovers => {}
            }
        }
        rules
    }
}

/// Rules that are mended on request on one volume.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Rules {
    all: bool,
    named: BTreeSet<String>,
}

impl Rules {
    /// True when nothing is asked for.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        !self.all && self.named.is_empty()
    }

    /// True when the rule of this name is asked for.
    #[must_use]
    pub fn has(&self, rule: &str) -> bool {
        self.all || self.named.contains(rule)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requests_reach_the_volumes_they_name_and_no_other() {
        let of = |also: &[Request]| Wishes { also: also.iter().cloned().collect(), ..Wishes::default() };
        let counts = "counts".to_string();
        let one = of(&[Request::RuleOf { find: "n2".into(), rule: counts.clone() }, Request::Leftovers]);
        assert!(one.rules_of("n2").has("counts") && !one.rules_of("n2").has("names"));
        assert!(one.rules_of("n1").is_empty() && one.erases_leftovers());
        let every = of(&[Request::named("counts")]);
        assert!(every.rules_of("n1").has("counts") && !every.erases_leftovers());
        let all = of(&[Request::named("all")]);
        assert!(all.rules_of("n7").has("names") && all.erases_leftovers());
        assert!(Wishes::default().rules_of("n1").is_empty());
    }

    #[test]
    fn a_find_named_like_nothing_else_is_a_volume() {
        assert_eq!(Subject::named("table"), Subject::Table);
        for word in ["table", "n1", "*"] {
            assert_eq!(Subject::named(word).to_string(), word);
        }
        assert_eq!(Subject::named("*"), Subject::Volume("*".into()));
    }
}
