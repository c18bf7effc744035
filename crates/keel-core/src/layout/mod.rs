//! The layout: the set of finds that can stand together, solved exactly, with a reason for each choice.

mod hand;
mod remains;
mod roles;
pub(crate) mod scheme;
mod solve;

#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet};

use keel_format::table::{Role, Scheme, TableReading, TypeCode};
use keel_source::{ByteRange, Lba, SectorCount, SectorSize, SharedSource};
use serde::Serialize;
use uuid::Uuid;

pub use hand::{ByHand, ByHandWrong, SetByHand, Speaks};

use crate::find::Find;

/// What the technician decided beside the evidence.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Choices {
    /// Finds that must be in the layout.
    pub hold: BTreeSet<String>,
    /// Finds that must not.
    pub drop: BTreeSet<String>,
    /// The scheme, instead of what the evidence says.
    pub scheme: Option<Scheme>,
    /// New identifiers for disk and partitions, because another drive has the same.
    pub new_ids: bool,
    /// Types for finds, instead of the customary ones.
    pub types: BTreeMap<String, TypeCode>,
    /// Start, length and type of the entries of finds, set by hand.
    pub by_hand: BTreeMap<String, ByHand>,
}

/// One entry of the layout.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LayoutEntry {
    /// The find it is for; none for an entry of the old table that is kept as it is.
    pub find: Option<String>,
    /// Number in the table, from 1; logicals from 5.
    pub slot: u32,
    /// Primary, logical or GPT entry.
    pub role: Role,
    /// Type.
    #[serde(rename = "type")]
    pub type_code: TypeCode,
    /// First sector.
    pub first: Lba,
    /// Length in sectors.
    pub sectors: SectorCount,
    /// Name (GPT).
    pub name: String,
    /// `UniquePartitionGUID` of the former entry, where one is known.
    #[serde(skip)]
    pub unique: Option<Uuid>,
    /// Attribute bits or boot indicator of the former entry.
    #[serde(skip)]
    pub attributes: u64,
    /// The EBR that states it, where one still stands.
    #[serde(skip)]
    pub ebr: Option<Lba>,
    /// Why it stands here.
    pub why: String,
}

impl LayoutEntry {
    /// The ground it claims.
    #[must_use]
    pub fn range(&self, sector: SectorSize) -> ByteRange {
        ByteRange::sized(self.first.offset(sector), self.sectors.bytes(sector))
    }
}

/// A find that is not in the layout, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LeftOut {
    /// The find.
    pub find: String,
    /// The reason, as a sentence.
    pub why: String,
}

/// A settled layout.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Layout {
    /// MBR or GPT.
    pub scheme: Scheme,
    /// Why this scheme.
    pub scheme_why: String,
    /// The entries, by start.
    pub entries: Vec<LayoutEntry>,
    /// The finds left out.
    pub left_out: Vec<LeftOut>,
    /// Finds that the technician held or dropped: what follows for them and for what they overlap is wanted.
    #[serde(skip)]
    pub by_choice: BTreeSet<String>,
    /// True when disk and partitions get new identifiers.
    pub new_ids: bool,
    /// The identifier that the disk gets, where it is chosen: as a GUID, of which an MBR keeps the low 32 bits.
    #[serde(skip)]
    pub disk: Option<Uuid>,
    /// True when a volume fills the drive without a table: nothing is proposed then.
    pub whole_drive: bool,
    /// What was set by hand, and what speaks for it and against it.
    pub by_hand: Vec<SetByHand>,
}

impl Layout {
    /// True for a find that is put or left in its place: one of the entries, or the volume that fills the drive without a table.
    #[must_use]
    pub fn holds(&self, find: &Find) -> bool {
        let whole = self.whole_drive && find.start_byte.0 == 0 && find.is_outer();
        whole || self.entries.iter().any(|entry| entry.find.as_ref() == Some(&find.id))
    }
}

/// Settles `finds` into a layout for `source`, whose table reads as `table`.
#[must_use]
pub fn settle(source: &SharedSource, table: &TableReading, finds: &[Find], choices: &Choices) -> Layout {
    let (scheme, scheme_why) = scheme::choose(source, table, finds, choices);
    let whole_drive = finds.iter().any(|find| find.needs_no_table(table) && !choices.drop.contains(&find.id));
    let ground = scheme::usable_ground(source, table, scheme);
    let (chosen, mut left_out) = solve::choose((source, table), finds, choices, ground, whole_drive);
    let mut entries = roles::assign(source, table, (scheme, choices), &chosen, &mut left_out);
    let around = hand::Around { ground, table, sector: source.sector_size() };
    let of_find = |id: &String| finds.iter().find(|find| &find.id == id);
    let asked = choices.by_hand.iter().filter_map(|(id, by_hand)| Some((of_find(id)?, by_hand)));
    let by_hand = asked.filter_map(|(find, by_hand)| hand::set(&mut entries, find, by_hand, &around)).collect();
    entries.sort_by_key(|entry| entry.first);
    let by_choice = choices.hold.union(&choices.drop).cloned().collect();
    Layout { scheme, scheme_why, entries, left_out, by_choice, new_ids: choices.new_ids, disk: None, whole_drive, by_hand }
}
