//! Structures that are recognised by their own bytes, wherever they stand: what a view of bytes says beside them, and where their
//! pointers lead.

use keel_source::ByteOffset;

use crate::registry;
use crate::structure::Field;
use crate::table;

/// A structure that is known by its bytes alone.
#[derive(Clone, Copy)]
pub struct Shape {
    /// What it is called.
    pub name: &'static str,
    /// Where it is written down.
    pub standard: &'static str,
    /// The fewest bytes that it is known by.
    pub bytes: usize,
    /// Its bytes, as far as they say it themselves.
    pub(crate) reach: fn(&[u8]) -> usize,
    /// True for bytes that begin with one where they stand on the drive.
    pub(crate) is: fn(&[u8], ByteOffset) -> bool,
    /// Its fields.
    pub(crate) fields: fn(&[u8]) -> Vec<Field>,
    /// Where its fields point.
    pub(crate) leads: fn(&[u8], Base) -> Vec<Lead>,
}

/// What pointers are counted from.
#[derive(Debug, Clone, Copy)]
pub struct Base {
    /// Byte of the drive at which the structure begins.
    pub at: ByteOffset,
    /// Bytes of a sector of the drive.
    pub sector: u64,
    /// Byte of the drive at which the volume begins that it belongs to; none where no volume is known there.
    pub volume: Option<ByteOffset>,
    /// Byte of the drive at which the extended partition begins; none where the table has none.
    pub extended: Option<ByteOffset>,
}

impl Base {
    /// The start of the volume: as it is known, else as the structure would have it `inside` bytes in.
    pub(crate) fn volume_or(&self, inside: u64) -> ByteOffset {
        self.volume.unwrap_or(ByteOffset(self.at.0.saturating_sub(inside)))
    }
}

/// Where a field points.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lead {
    /// The field.
    pub field: &'static str,
    /// What is to be found there.
    pub what: &'static str,
    /// Where, in bytes of the drive. It may lie behind the drive's end.
    pub to: ByteOffset,
}

/// A lead `count` units of `unit` bytes behind `from`; none where that is nowhere, or the count says that there is none.
pub(crate) fn lead(field: &'static str, what: &'static str, from: ByteOffset, count: u64, unit: u64) -> Option<Lead> {
    let to = count.checked_mul(unit)?.checked_add(from.0)?;
    (count > 0).then_some(Lead { field, what, to: ByteOffset(to) })
}

/// The little-endian number of `len` bytes, 8 at most, at `offset`; 0 behind the end.
pub(crate) fn little(bytes: &[u8], offset: usize, len: usize) -> u64 {
    let slice = bytes.get(offset..offset + len).unwrap_or_default();
    slice.iter().rev().fold(0, |sum, byte| sum << 8 | u64::from(*byte))
}

/// The big-endian number of `len` bytes, 8 at most, at `offset`; 0 behind the end.
pub(crate) fn big(bytes: &[u8], offset: usize, len: usize) -> u64 {
    let slice = bytes.get(offset..offset + len).unwrap_or_default();
    slice.iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte))
}

/// A power of two of a shift that is read from a drive; 0 where it is out of all reason.
pub(crate) fn power(shift: u64) -> u64 {
    if shift < 32 { 1 << shift } else { 0 }
}

/// A field with its value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FieldValue {
    /// The field.
    pub field: Field,
    /// Its value; characters as stored, control characters and all.
    pub text: String,
    /// Where it points, and to what.
    pub lead: Option<Lead>,
}

/// The most entries of a list that are told one by one.
pub(crate) const MOST_ENTRIES: usize = 128;

/// Fields of entries that stand one behind the other, moved to where each stands.
pub(crate) fn each_at(fields: &[Field], places: impl IntoIterator<Item = usize>) -> Vec<Field> {
    let moved = |at: usize| fields.iter().map(move |field| Field { offset: at + field.offset, ..*field });
    places.into_iter().take(MOST_ENTRIES).flat_map(moved).collect()
}

/// The places of entries of which each says how long it is, from `first` to `end`; it ends where one says what cannot be.
pub(crate) fn walked(first: usize, end: usize, len: impl Fn(usize) -> usize, least: usize) -> Vec<usize> {
    let mut places = Vec::new();
    let mut at = first;
    while at < end && places.len() < MOST_ENTRIES {
        places.push(at);
        let step = len(at);
        if step < least {
            break;
        }
        at = at.saturating_add(step);
    }
    places
}

/// For structures of one length.
pub(crate) fn fixed<const BYTES: usize>(_bytes: &[u8]) -> usize {
    BYTES
}

impl Shape {
    /// How many bytes the structure has that `bytes` begin with.
    #[must_use]
    pub fn len_in(&self, bytes: &[u8]) -> usize {
        (self.reach)(bytes)
    }

    /// The structure that `bytes` begin with, which stand at byte `at` of the drive.
    #[must_use]
    pub fn of(bytes: &[u8], at: ByteOffset) -> Option<&'static Self> {
        let known = registry::FORMATS.iter().flat_map(|format| format.shapes).chain(table::SHAPES);
        known.into_iter().find(|shape| bytes.len() >= shape.bytes && (shape.is)(bytes, at))
    }

    /// Its fields with their values, in the order in which they stand.
    #[must_use]
    pub fn read(&self, bytes: &[u8], base: Base) -> Vec<FieldValue> {
        let mut leads = (self.leads)(bytes, base);
        let value = |field: Field| {
            let lead = leads.iter().position(|lead| lead.field == field.name).map(|index| leads.swap_remove(index));
            Some(FieldValue { field, text: field.text(bytes)?, lead })
        };
        let mut fields = (self.fields)(bytes);
        fields.sort_by_key(|field| field.offset);
        fields.into_iter().filter_map(value).collect()
    }
}

impl std::fmt::Debug for Shape {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ({})", self.name, self.standard)
    }
}

/// For structures that point nowhere.
pub(crate) fn no_leads(_bytes: &[u8], _base: Base) -> Vec<Lead> {
    Vec::new()
}
