//! Start, length and type of an entry as the technician sets them: what speaks for the value, and what against it.

use keel_format::table::{TableReading, TypeCode};
use keel_source::{ByteRange, Lba, SectorCount, SectorSize};
use serde::Serialize;

use super::LayoutEntry;
use crate::find::Find;
use crate::place::size_named;

/// What the technician sets for the entry of a find.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct ByHand {
    /// First sector.
    pub first: Option<Lba>,
    /// Length in sectors.
    pub sectors: Option<SectorCount>,
    /// Type.
    #[serde(rename = "type")]
    pub type_code: Option<TypeCode>,
}

/// Why a text sets nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ByHandWrong {
    /// It is none of the words.
    #[error(
        "`{0}`: type start, length or type and a value behind it: start 2048 length 409600 type 0x0c; or 1MiB, 200 MB in bytes"
    )]
    Word(String),
    /// The value fits no sector.
    #[error("`{0}` is no whole number of sectors of {1} bytes")]
    Sectors(String, u32),
    /// The type is none.
    #[error("`{0}` is no type: 0x07 for an MBR, a GUID for a GPT")]
    Type(String),
}

impl ByHand {
    /// True where nothing is set.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// What was typed: `start`, `length` and `type`, each with a value behind it. A number alone is sectors; with a unit it is bytes.
    ///
    /// # Errors
    /// [`ByHandWrong`].
    pub fn typed(text: &str, sector: SectorSize) -> Result<Self, ByHandWrong> {
        let plain = text.replace(['=', ',', ':'], " ");
        let mut set = Self::default();
        let mut words = plain.split_whitespace().peekable();
        while let Some(word) = words.next() {
            let mut value = words.next().ok_or_else(|| ByHandWrong::Word(word.into()))?.to_string();
            // A unit may stand by itself.
            if let Some(unit) = words.next_if(|next| !["start", "length", "type"].contains(next)) {
                value.push_str(unit);
            }
            match word {
                "start" => set.first = Some(Lba(sectors(&value, sector)?)),
                "length" => set.sectors = Some(SectorCount(sectors(&value, sector)?)),
                "type" => set.type_code = Some(TypeCode::parse(&value).ok_or(ByHandWrong::Type(value))?),
                _ => return Err(ByHandWrong::Word(word.into())),
            }
        }
        Ok(set)
    }
}

fn sectors(text: &str, sector: SectorSize) -> Result<u64, ByHandWrong> {
    let wrong = || ByHandWrong::Sectors(text.into(), sector.0);
    if let Ok(number) = text.parse() {
        return Ok(number);
    }
    let bytes = size_named(text).ok_or_else(wrong)?;
    bytes.is_multiple_of(sector.bytes()).then(|| bytes / sector.bytes()).ok_or_else(wrong)
}

/// Something that speaks for what was set, or against it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Speaks {
    /// True for it, false against it.
    pub for_it: bool,
    /// What, as a sentence.
    pub what: String,
}

/// What came of a value that was set by hand.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct SetByHand {
    /// The find.
    pub find: String,
    /// Why it was not taken: the entry stands as the evidence has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
    /// What speaks for it, and against it.
    pub speaks: Vec<Speaks>,
}

/// Where an entry can be: the ground of the table, and the former table.
pub(super) struct Around<'a> {
    pub(super) ground: ByteRange,
    pub(super) table: &'a TableReading,
    pub(super) sector: SectorSize,
}

/// Sets what was asked for the entry of `find`, where there is room for it; weighs it in any case.
pub(super) fn set(entries: &mut [LayoutEntry], find: &Find, by_hand: &ByHand, around: &Around<'_>) -> Option<SetByHand> {
    let at = entries.iter().position(|entry| entry.find.as_ref() == Some(&find.id))?;
    let now = &entries[at];
    let mut then = now.clone();
    then.first = by_hand.first.unwrap_or(then.first);
    then.sectors = by_hand.sectors.unwrap_or(then.sectors);
    then.type_code = by_hand.type_code.unwrap_or(then.type_code);
    if then.first != now.first {
        then.ebr = None;
    }
    let mut speaks = Vec::new();
    if by_hand.first.is_some() {
        weigh_start(&then, find, around, &mut speaks);
    }
    if by_hand.sectors.is_some() {
        weigh_length(&then, find, around, &mut speaks);
    }
    if by_hand.type_code.is_some() {
        weigh_type(&then, find, &mut speaks);
    }
    let others = entries.iter().enumerate().filter(|(index, _)| *index != at).map(|(_, entry)| entry);
    let refused = no_room(&then, others, around);
    if refused.is_none() {
        then.why = "set by hand by the technician".into();
        entries[at] = then;
    }
    Some(SetByHand { find: find.id.clone(), refused, speaks })
}

/// Why the entry cannot be so.
fn no_room<'a>(entry: &LayoutEntry, mut others: impl Iterator<Item = &'a LayoutEntry>, around: &Around<'_>) -> Option<String> {
    let last = entry.first.0.checked_add(entry.sectors.0).and_then(|end| end.checked_mul(around.sector.bytes()));
    let Some(_) = last.filter(|_| entry.sectors.0 > 0) else { return Some("it has no length, or no end".into()) };
    let range = entry.range(around.sector);
    if !around.ground.covers(range) {
        let (first, end) = (around.ground.start.lba(around.sector).0, around.ground.end.lba(around.sector).0);
        return Some(format!("it does not lie between sector {first} and sector {}, where entries can", end.saturating_sub(1)));
    }
    let other = others.find(|other| other.range(around.sector).overlap(range).is_some());
    if let Some(other) = other {
        return Some(format!("it reaches into entry {}, which begins at sector {}", other.slot, other.first.0));
    }
    let scheme = entry.role.scheme();
    (entry.type_code.scheme() != scheme).then(|| format!("a table of this kind ({}) has no such type", scheme.word()))
}

fn weigh_start(entry: &LayoutEntry, find: &Find, around: &Around<'_>, speaks: &mut Vec<Speaks>) {
    let mut say = |for_it: bool, what: String| speaks.push(Speaks { for_it, what });
    let begins = format!("{} begins at sector {} ({} by its witnesses)", find.id, find.start_lba.0, find.grade.word());
    say(entry.first == find.start_lba, begins);
    let on_whole = entry.first.0.is_multiple_of((1 << 20) / around.sector.bytes().max(1));
    say(
        on_whole,
        if on_whole { "it stands on a whole MiB, as systems put entries" } else { "it does not stand on a whole MiB" }.into(),
    );
    if let Some(former) = around.table.partitions.iter().find(|former| former.holds(find.range(), around.sector)) {
        say(former.first == entry.first, format!("the table as it stands says sector {}", former.first.0));
    }
}

fn weigh_length(entry: &LayoutEntry, find: &Find, around: &Around<'_>, speaks: &mut Vec<Speaks>) {
    let mut say = |for_it: bool, what: String| speaks.push(Speaks { for_it, what });
    let end = |first: Lba, sectors: SectorCount| first.0.saturating_add(sectors.0);
    let (own, volume) = (end(entry.first, entry.sectors), end(find.start_lba, find.sectors));
    match own.cmp(&volume) {
        std::cmp::Ordering::Less => say(false, format!("the last {} sectors of {} would lie outside", volume - own, find.id)),
        std::cmp::Ordering::Equal => say(true, format!("{} ends with it", find.id)),
        std::cmp::Ordering::Greater => say(true, format!("{} fits, with {} sectors behind it", find.id, own - volume)),
    }
    if let Some(former) = around.table.partitions.iter().find(|former| former.holds(find.range(), around.sector)) {
        say(former.sectors == entry.sectors, format!("the table as it stands says {} sectors", former.sectors.0));
    }
}

fn weigh_type(entry: &LayoutEntry, find: &Find, speaks: &mut Vec<Speaks>) {
    let looked_for = entry.type_code.alike(find.kind).contains(&entry.type_code);
    let what = if looked_for { "systems look" } else { "systems do not look" };
    speaks.push(Speaks {
        for_it: looked_for,
        what: format!("{what} for {} behind it ({})", find.kind.word(), entry.type_code.word()),
    });
}
