//! The journal, replayed virtually. Technical Note 1150, "Journal". Written in the byte order of the machine that made
//! it, which its `endian` field tells.

use std::collections::HashMap;

use keel_source::ByteOffset;

use super::HfsGeometry;
use super::layout::ATTRIBUTE_JOURNALED;
use crate::pages::Pages;
use crate::replay::{MOST_UNITS, Newer};
use crate::{Finding, FormatError, Problem, Repair, Severity, View};

/// `JOURNAL_HEADER_MAGIC`.
const MAGIC: u32 = 0x4A4E_4C78;
/// `ENDIAN_MAGIC`.
const ENDIAN: u32 = 0x1234_5678;
/// Bytes of the header that its checksum covers.
const HEADER_BYTES: usize = 44;
/// Bytes of a block list header that its checksum covers.
const LIST_BYTES: usize = 32;
/// `flags` of the journal info block: the journal lies in this volume.
const IN_FS: u32 = 1;
/// The most transactions that are followed.
const MOST_LISTS: u64 = 1 << 20;

/// The most sectors that are redirected, the same one many times among them.
const MOST_PIECES: u64 = 1 << 23;

/// What the journal holds, keyed by units of `unit` bytes.
pub(super) struct Journal {
    /// Bytes of a unit: the sector size that the journal counts in.
    pub(super) unit: u64,
    /// Where the newest content of each unit stands.
    pub(super) newer: HashMap<u64, Newer>,
    /// Transactions not yet written to their places.
    pub(super) transactions: u64,
    /// What was wrong.
    pub(super) findings: Vec<Finding>,
    /// The header of the same journal with nothing in it.
    pub(super) emptied: Option<Repair>,
}

/// Reads a number in the journal's own byte order.
#[derive(Clone, Copy)]
struct Order {
    big: bool,
}

impl Order {
    fn u32(self, view: View<'_>, offset: usize, field: &'static str) -> Result<u32, FormatError> {
        view.u32(offset, field).map(|value| if self.big { value.swap_bytes() } else { value })
    }

    fn u64(self, view: View<'_>, offset: usize, field: &'static str) -> Result<u64, FormatError> {
        view.u64(offset, field).map(|value| if self.big { value.swap_bytes() } else { value })
    }

    fn u16(self, view: View<'_>, offset: usize, field: &'static str) -> Result<u16, FormatError> {
        view.u16(offset, field).map(|value| if self.big { value.swap_bytes() } else { value })
    }
}

/// The checksum of journal headers: over `bytes` with the field at `field` taken as zero.
pub(super) fn checksum(bytes: &[u8], field: usize) -> u32 {
    let counted = bytes.iter().enumerate().map(|(index, byte)| if (field..field + 4).contains(&index) { 0 } else { *byte });
    !counted.fold(0u32, |sum, byte| (sum << 8) ^ sum.wrapping_add(u32::from(byte)))
}

/// The ring of the journal, in bytes of the volume.
struct Ring {
    at: ByteOffset,
    first: u64,
    end: u64,
}

impl Ring {
    /// Moves on by `bytes`, around the end.
    fn step(&self, offset: u64, bytes: u64) -> u64 {
        let next = offset + bytes;
        if next >= self.end { self.first + (next - self.end) } else { next }
    }
}

/// Place and length, in bytes of the volume, of the ring that the journal info block names; none when the volume has no
/// journal, it lies elsewhere, or the info block does not hold.
pub(super) fn place(pages: &Pages, geometry: &HfsGeometry) -> Option<(ByteOffset, u64)> {
    let (at, size) = located(pages, geometry).ok()??;
    let inside = at.0.checked_add(size).is_some_and(|end| end <= geometry.volume_bytes());
    (geometry.attributes & ATTRIBUTE_JOURNALED != 0 && inside && size >= 1 << 16).then_some((at, size))
}

fn located(pages: &Pages, geometry: &HfsGeometry) -> Result<Option<(ByteOffset, u64)>, FormatError> {
    let outside = || {
        FormatError::value(
            "volume header",
            ByteOffset(1036),
            "journalInfoBlock",
            u64::from(geometry.journal_info_block),
            "a block of the volume",
        )
    };
    let info_at = geometry.block_at(geometry.journal_info_block).filter(|at| at.0 > 0).ok_or_else(outside)?;
    let bytes = pages.bytes(info_at, 52, "journal info block")?;
    let info = View::new("journal info block", info_at, &bytes);
    let big = Order { big: true };
    if big.u32(info, 0, "flags")? & IN_FS == 0 {
        return Ok(None);
    }
    Ok(Some((ByteOffset(big.u64(info, 36, "offset")?), big.u64(info, 44, "size")?)))
}

/// Reads the journal of the volume; none when it has none or it lies elsewhere.
///
/// # Errors
/// [`FormatError`] when the journal's header cannot be read or does not hold.
pub(super) fn read(pages: &Pages, geometry: &HfsGeometry) -> Result<Option<Journal>, FormatError> {
    if geometry.attributes & ATTRIBUTE_JOURNALED == 0 {
        return Ok(None);
    }
    let Some((at, size)) = located(pages, geometry)? else { return Ok(None) };
    let bytes = pages.bytes(at, 512, "journal header")?;
    let view = View::new("journal header", at, &bytes);
    let order = Order { big: view.u32(4, "endian")?.swap_bytes() == ENDIAN };
    let magic = order.u32(view, 0, "magic")?;
    if magic != MAGIC || order.u32(view, 4, "endian")? != ENDIAN {
        return Err(view.wrong(0, "magic", u64::from(magic), "JNLx"));
    }
    let (found, computed) = (order.u32(view, 36, "checksum")?, checksum(view.slice(0, HEADER_BYTES, "header")?, 36));
    if found != computed {
        return Err(view.error(36, Problem::Checksum { field: "checksum", found, computed }));
    }
    let list_bytes = order.u32(view, 32, "blhdr_size")?;
    let unit = order.u32(view, 40, "jhdr_size")?;
    let ring = Ring { at, first: u64::from(unit), end: order.u64(view, 24, "size")?.min(size) };
    if !unit.is_power_of_two() || unit < 512 || !list_bytes.is_multiple_of(unit) || !(unit..=1 << 20).contains(&list_bytes) {
        return Err(view.wrong(40, "jhdr_size", u64::from(unit), "a sector size that blhdr_size is a multiple of"));
    }
    let (start, end) = (order.u64(view, 8, "start")?, order.u64(view, 16, "end")?);
    let inside = |offset: u64| (ring.first..=ring.end).contains(&offset) && offset.is_multiple_of(u64::from(unit));
    if !inside(start) || !inside(end) {
        return Err(view.wrong(8, "start", start, "a place inside the journal"));
    }
    let emptied = emptied(view, order, end);
    let mut journal = Journal { unit: u64::from(unit), newer: HashMap::new(), transactions: 0, findings: Vec::new(), emptied };
    let walk = Walk { pages, order, ring, list_bytes: u64::from(list_bytes), start, end };
    if let Err(error) = walk.run(&mut journal) {
        let what = "the journal is damaged: what it holds from here on is not replayed";
        journal.findings.push(Finding::at(Severity::Doubt, error.at, what, error.to_string()));
    }
    Ok(Some(journal))
}

/// The header in `view` with its start at its `end`.
fn emptied(view: View<'_>, order: Order, end: u64) -> Option<Repair> {
    let mut bytes = view.bytes().to_vec();
    bytes.get_mut(8..16)?.copy_from_slice(&if order.big { end.to_be_bytes() } else { end.to_le_bytes() });
    let sum = checksum(bytes.get(..HEADER_BYTES)?, 36);
    bytes.get_mut(36..40)?.copy_from_slice(&if order.big { sum.to_be_bytes() } else { sum.to_le_bytes() });
    Some(Repair::computed("journal header", view.position(), bytes, "the journal is left empty"))
}

struct Walk<'a> {
    pages: &'a Pages,
    order: Order,
    ring: Ring,
    list_bytes: u64,
    start: u64,
    end: u64,
}

impl Walk<'_> {
    fn run(&self, journal: &mut Journal) -> Result<(), FormatError> {
        let mut offset = self.start;
        let mut units = 0u64;
        for _ in 0..MOST_LISTS {
            if offset == self.end {
                return Ok(());
            }
            let at = self.ring.at + offset;
            let bytes = self.pages.bytes(at, usize::try_from(self.list_bytes).unwrap_or(0), "journal block list")?;
            let view = View::new("journal block list", at, &bytes);
            let (found, computed) = (self.order.u32(view, 8, "checksum")?, checksum(view.slice(0, LIST_BYTES, "block list")?, 8));
            if found != computed {
                return Err(view.error(8, Problem::Checksum { field: "checksum", found, computed }));
            }
            let count = usize::from(self.order.u16(view, 2, "num_blocks")?);
            let mut data = self.ring.step(offset, self.list_bytes);
            // The first entry is the header's own.
            for index in 1..count {
                let entry = 16 + index * 16;
                let number = self.order.u64(view, entry, "bnum")?;
                let bytes = u64::from(self.order.u32(view, entry + 8, "bsize")?);
                if !bytes.is_multiple_of(journal.unit) || bytes > self.ring.end - self.ring.first {
                    return Err(view.wrong(entry + 8, "bsize", bytes, "whole sectors of the journal"));
                }
                for piece in 0..bytes / journal.unit {
                    let newer = Newer { at: self.ring.at + data, head: None };
                    // A block that was given up has no number.
                    if let Some(target) = number.checked_add(piece).filter(|_| number != u64::MAX) {
                        if journal.newer.len() >= MOST_UNITS {
                            return Err(view.error(entry, Problem::Endless { field: "journal", limit: MOST_UNITS as u64 }));
                        }
                        journal.newer.insert(target, newer);
                    }
                    units += 1;
                    if units > MOST_PIECES {
                        return Err(view.error(entry, Problem::Endless { field: "journal", limit: MOST_PIECES }));
                    }
                    data = self.ring.step(data, journal.unit);
                }
            }
            journal.transactions += 1;
            offset = data;
        }
        Err(FormatError::new("journal", self.ring.at, Problem::Endless { field: "journal", limit: MOST_LISTS }))
    }
}
