//! File records: update sequence fixups and the header.

use keel_source::ByteOffset;

use super::attribute::{Attribute, Attributes};
use super::layout::{IN_USE, IS_DIRECTORY, RawRecord};
use crate::{FormatError, Problem, View};

/// Undoes the update sequence of a record or index block in place.
///
/// # Errors
/// [`FormatError`] when the array does not fit the block, or a protected block's last two bytes are not the update
/// sequence number: the block was written in part.
pub(crate) fn undo_fixups(structure: &'static str, at: ByteOffset, bytes: &mut [u8]) -> Result<(), FormatError> {
    let view = View::new(structure, at, bytes);
    let usa_offset = usize::from(view.u16(4, "usa_offset")?);
    let usa_count = usize::from(view.u16(6, "usa_count")?);
    let blocks = usa_count.saturating_sub(1);
    let stride = bytes.len().checked_div(blocks).unwrap_or(0);
    if !matches!(stride, 512 | 1024 | 2048 | 4096) || stride * blocks != bytes.len() {
        return Err(view.wrong(6, "usa_count", usa_count as u64, "one word for each block of the structure"));
    }
    view.slice(usa_offset, usa_count * 2, "update sequence array")?;
    let word = |bytes: &[u8], at: usize| bytes.get(at..at + 2).and_then(<[u8]>::first_chunk::<2>).copied();
    let Some(number) = word(bytes, usa_offset) else { return Ok(()) };
    for index in 0..blocks {
        // Words that lie over the end of a block are taken as the blocks before it left them.
        let Some(word) = word(bytes, usa_offset + 2 + index * 2) else { continue };
        let Some(tail) = bytes.get_mut((index + 1) * stride - 2..).and_then(<[u8]>::first_chunk_mut::<2>) else { continue };
        if *tail != number {
            let place = at + ((index + 1) * stride - 2) as u64;
            let found = u64::from(u16::from_le_bytes(*tail));
            return Err(FormatError::new(
                structure,
                place,
                Problem::Value { field: "update sequence number", found, expected: "the number at the start of the array" },
            ));
        }
        *tail = word;
    }
    Ok(())
}

/// Sets the update sequence of a record or index block anew, in place; false when the array does not fit the block.
pub(crate) fn redo_fixups(bytes: &mut [u8]) -> bool {
    let word =
        |bytes: &[u8], at: usize| bytes.get(at..at + 2).and_then(<[u8]>::first_chunk).map(|word| u16::from_le_bytes(*word));
    let (Some(offset), Some(count)) = (word(bytes, 4).map(usize::from), word(bytes, 6).map(usize::from)) else { return false };
    let blocks = count.saturating_sub(1);
    let stride = bytes.len().checked_div(blocks).unwrap_or(0);
    if stride < 512 || stride * blocks != bytes.len() || offset + count * 2 > stride {
        return false;
    }
    // 0 and 0xFFFF are not used as numbers.
    let number = match word(bytes, offset).map_or(1, |number| number.wrapping_add(1)) {
        0 | 0xFFFF => 1,
        number => number,
    };
    let tails: Vec<u16> = (1..=blocks).map(|block| word(bytes, block * stride - 2).unwrap_or(0)).collect();
    let mut set = |at: usize, value: u16| {
        if let Some(slot) = bytes.get_mut(at..at + 2) {
            slot.copy_from_slice(&value.to_le_bytes());
        }
    };
    set(offset, number);
    for (index, tail) in tails.into_iter().enumerate() {
        set(offset + 2 + index * 2, tail);
        set((index + 1) * stride - 2, number);
    }
    true
}

/// A file record after its fixups.
#[derive(Debug, Clone)]
pub struct Record {
    bytes: Vec<u8>,
    at: ByteOffset,
    header: RawRecord,
}

impl Record {
    /// Checks `bytes`, one whole record read at byte `at` of the volume.
    ///
    /// # Errors
    /// [`FormatError`] for a wrong magic, failed fixups or sizes that do not fit.
    pub fn parse(mut bytes: Vec<u8>, at: ByteOffset) -> Result<Self, FormatError> {
        const NAME: &str = "file record";
        let view = View::new(NAME, at, &bytes);
        let header: RawRecord = *view.at(0, "header")?;
        if &header.magic != b"FILE" {
            return Err(view.wrong(0, "magic", u64::from(u32::from_le_bytes(header.magic)), "\"FILE\""));
        }
        if header.used_size.get() as usize > bytes.len() || u32::from(header.attributes_offset.get()) >= header.used_size.get() {
            return Err(view.wrong(24, "used_size", u64::from(header.used_size.get()), "at most the size of a record"));
        }
        undo_fixups(NAME, at, &mut bytes)?;
        Ok(Self { bytes, at, header })
    }

    /// The header.
    #[must_use]
    pub fn header(&self) -> &RawRecord {
        &self.header
    }

    /// Where the record stands.
    #[must_use]
    pub fn position(&self) -> ByteOffset {
        self.at
    }

    /// Its bytes, fixups undone.
    #[must_use]
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// The part of it that is in use, fixups undone; the update sequence number at its start differs from write to write.
    #[must_use]
    pub fn used(&self) -> &[u8] {
        let from = usize::from(self.header.attributes_offset.get());
        self.bytes.get(from..self.header.used_size.get() as usize).unwrap_or_default()
    }

    /// The number that it says it has; none before NTFS 3.1, whose header ends before it.
    #[must_use]
    pub fn number(&self) -> Option<u64> {
        (self.header.usa_offset.get() >= 48).then(|| u64::from(self.header.record_number.get()))
    }

    /// True when it is in use.
    #[must_use]
    pub fn is_in_use(&self) -> bool {
        self.header.flags.get() & IN_USE != 0
    }

    /// True for an extension of record `base`.
    #[must_use]
    pub fn extends(&self, base: u64) -> bool {
        let reference = self.header.base_record.get();
        reference != 0 && reference & super::layout::NUMBER_MASK == base
    }

    /// True for a directory.
    #[must_use]
    pub fn is_directory(&self) -> bool {
        self.header.flags.get() & IS_DIRECTORY != 0
    }

    /// Its attributes in order; after one error the iterator ends.
    #[must_use]
    pub fn attributes(&self) -> Attributes<'_> {
        let used = self.header.used_size.get() as usize;
        let bytes = self.bytes.get(..used).unwrap_or(&self.bytes);
        Attributes::new(View::new("attribute", self.at, bytes), usize::from(self.header.attributes_offset.get()))
    }

    /// The first readable attribute of `type_code` and `name`.
    #[must_use]
    pub fn attribute(&self, type_code: u32, name: &str) -> Option<Attribute<'_>> {
        self.attributes().flatten().find(|attribute| attribute.type_code == type_code && attribute.name == name)
    }
}
