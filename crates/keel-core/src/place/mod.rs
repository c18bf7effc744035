//! Places of a drive: the bytes that stand there, the structure that they are, where its pointers lead, and whose they are.

mod named;
mod owner;
mod search;

use keel_format::shape::{Base, FieldValue, Lead, Shape};
use keel_format::table::TableReading;
use keel_source::{ByteOffset, ByteRange, SharedSource};
use serde::Serialize;

pub use named::{NamedWrong, label_named, label_told, named, size_named};
pub use owner::{Owner, owner};
pub use search::{Found, Pattern, PatternWrong, SearchProgress, Way, search};

use crate::find::{Find, outer};

/// Bytes of a sector that structures are looked for in.
const SECTOR: u64 = 512;
/// Bytes of the longest structure that is told.
const LONGEST: u64 = 4096;

/// The bytes at a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct View {
    /// The first byte of the drive that is shown: a sector's.
    pub at: ByteOffset,
    /// The bytes; what does not read is zero.
    pub bytes: Vec<u8>,
    /// What does not read.
    pub bad: Vec<ByteRange>,
    /// Why it does not, in the system's or the drive's words.
    pub why: Option<String>,
    /// The structure that the place is in.
    pub structure: Option<Decoded>,
}

/// A structure with its fields.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Decoded {
    /// What it is called.
    pub name: &'static str,
    /// Where it is written down.
    pub standard: &'static str,
    /// Where it begins.
    pub at: ByteOffset,
    /// Its bytes, as far as they are told apart.
    pub bytes: usize,
    /// Its fields, in the order in which they stand.
    pub fields: Vec<DecodedField>,
}

/// A field of a structure.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct DecodedField {
    /// The standard's name.
    pub name: &'static str,
    /// Offset in the structure, in bytes.
    pub offset: usize,
    /// Length in bytes.
    pub bytes: usize,
    /// Its value; numbers decimal and hexadecimal, characters as stored.
    pub value: String,
    /// What does not work when it is wrong; empty where no system cares.
    pub breaks: &'static str,
    /// Where it points, in bytes of the drive.
    pub leads_to: Option<ByteOffset>,
    /// What is to be found there.
    pub leads: Option<&'static str>,
}

/// What is known of a drive when a place of it is looked at.
#[derive(Debug, Clone, Copy)]
pub struct Around<'a> {
    /// The finds.
    pub finds: &'a [Find],
    /// What its table says.
    pub table: &'a TableReading,
}

/// Looks at `len` bytes from the sector on that holds `at`, and at the structure that this sector is a part of.
#[must_use]
pub fn look(source: &SharedSource, at: ByteOffset, len: u64, around: Around<'_>) -> View {
    let end = source.len();
    let at = ByteOffset(at.0.min(end.saturating_sub(1)) / SECTOR * SECTOR);
    // A structure may begin some sectors before.
    let from = ByteOffset(at.0.saturating_sub(LONGEST));
    let until = at.0.saturating_add(len.max(LONGEST)).min(end);
    let mut all = vec![0; usize::try_from(until.saturating_sub(from.0)).unwrap_or(0)];
    let failed = source.read_at(from, &mut all).err();
    let inside = usize::try_from(at.0 - from.0).unwrap_or(0);
    let structure = decode(source, (from, &all), at, around);
    let shown = ByteRange::new(at, ByteOffset(at.0.saturating_add(len).min(end)));
    let bad = failed.iter().flat_map(|error| &error.bad).filter_map(|bad| bad.overlap(shown)).collect();
    let bytes = all.get(inside..inside + usize::try_from(shown.len()).unwrap_or(0)).unwrap_or_default().to_vec();
    View { at, bytes, bad, why: failed.map(|error| error.reason), structure }
}

/// The structure that the sector at `at` is a part of, in `bytes` that were read at `from`.
fn decode(source: &SharedSource, (from, bytes): (ByteOffset, &[u8]), at: ByteOffset, around: Around<'_>) -> Option<Decoded> {
    let sectors_before = (at.0 - from.0) / SECTOR;
    (0..=sectors_before).find_map(|back| {
        let start = ByteOffset(at.0 - back * SECTOR);
        let inside = usize::try_from(start.0 - from.0).ok()?;
        let own = bytes.get(inside..)?;
        let shape = Shape::of(own, start).filter(|shape| shape.len_in(own) as u64 > back * SECTOR)?;
        let volume = outer(around.finds).find(|find| find.range().contains(start)).map(|find| find.start_byte);
        let sector = source.sector_size();
        let extended = around.table.mbr.extended.first().map(|entry| entry.range(sector).start);
        let base = Base { at: start, sector: sector.bytes(), volume, extended };
        let fields = shape.read(own, base).into_iter().map(|value| field(value, source.len())).collect();
        Some(Decoded { name: shape.name, standard: shape.standard, at: start, bytes: shape.len_in(own), fields })
    })
}

/// A field as it is told: one that points behind the end of the drive leads nowhere.
fn field(value: FieldValue, end: u64) -> DecodedField {
    let FieldValue { field, text, lead } = value;
    let (leads_to, leads) = match lead.filter(|lead: &Lead| lead.to.0 < end) {
        Some(lead) => (Some(lead.to), Some(lead.what)),
        None => (None, None),
    };
    DecodedField { name: field.name, offset: field.offset, bytes: field.len, value: text, breaks: field.breaks, leads_to, leads }
}

#[cfg(test)]
mod tests;
