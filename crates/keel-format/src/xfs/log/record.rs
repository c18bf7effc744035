//! Records of the log, and the operations in them. Source: "XFS Algorithms & Data Structures", chapter "Journaling Log"; big-endian.

use keel_source::ByteOffset;

use super::{BASIC, Log, RECORD_MAGIC};
use crate::device::hold;
use crate::xfs::layout::checksum;
use crate::{FormatError, Problem, View};

/// Bytes of a record's header that its checksum is over: as laid out for 64 bits and for 32.
const CHECKED: [usize; 2] = [328, 324];
/// Bytes of a further header that the checksum is over.
const CHECKED_MORE: usize = 260;
/// Where `h_crc` stands; little-endian.
const CRC_AT: usize = 32;
/// Basic blocks whose first words one header keeps.
const WORDS: usize = 64;
/// `h_fmt` of systems that write their items little-endian.
const LITTLE_ENDIAN: u32 = 1;
/// The largest record, in bytes.
const LARGEST: u64 = 512 << 10;

/// One record.
pub(super) struct Record {
    /// `h_num_logops`.
    pub(super) operations: u32,
    /// What it holds, with the first words of its blocks in their places.
    pub(super) data: Vec<u8>,
    /// Basic blocks that it takes.
    pub(super) blocks: u64,
}

/// One operation.
pub(super) struct Operation<'a> {
    /// `oh_tid`.
    pub(super) transaction: u32,
    /// `oh_flags`.
    pub(super) flags: u8,
    /// Its region.
    pub(super) region: &'a [u8],
}

impl Log<'_> {
    /// The record whose header stands in basic block `number`.
    ///
    /// # Errors
    /// [`FormatError`] when none stands there, or one that was not written to its end.
    pub(super) fn record(&self, number: u64, has_checksums: bool) -> Result<Record, FormatError> {
        let (at, header) = self.block(number)?;
        let view = View::new("log record", at, &header);
        let magic = view.u32_be(0, "h_magicno")?;
        if magic != RECORD_MAGIC {
            return Err(view.wrong(0, "h_magicno", u64::from(magic), "0xFEEDBABE"));
        }
        let (len, format) = (u64::from(view.u32_be(12, "h_len")?), view.u32_be(300, "h_fmt")?);
        if len > LARGEST || format != LITTLE_ENDIAN {
            return Err(view.wrong(12, "h_len", len, "at most 512 KiB, written by a little-endian system"));
        }
        let headers = headers_of(view)?;
        hold(self.pages.source().as_ref(), at, "log record", len)?;
        let count = len.div_ceil(BASIC);
        let mut data = Vec::new();
        for index in 0..count {
            data.extend(self.block((number + headers + index) % self.blocks)?.1);
        }
        let more: Vec<Vec<u8>> =
            (1..headers).map(|index| Ok(self.block((number + index) % self.blocks)?.1)).collect::<Result<_, FormatError>>()?;
        let body = data.get(..usize::try_from(len).unwrap_or(0)).unwrap_or_default();
        if has_checksums && !CHECKED.iter().any(|size| holds(&header, *size, &more, body)) {
            return Err(view.error(CRC_AT, Problem::Coding("a record of the log was not written to its end")));
        }
        // The first word of every block holds the cycle; what stood there is kept in the headers.
        for (index, block) in data.chunks_mut(512).enumerate() {
            let word = match index / WORDS {
                0 => header.get(44 + index * 4..48 + index * 4),
                further => more.get(further - 1).and_then(|bytes| bytes.get(4 + index % WORDS * 4..8 + index % WORDS * 4)),
            };
            if let (Some(slot), Some(word)) = (block.get_mut(..4), word) {
                slot.copy_from_slice(word);
            }
        }
        data.truncate(usize::try_from(len).unwrap_or(0));
        Ok(Record { operations: view.u32_be(40, "h_num_logops")?, data, blocks: headers + count })
    }
}

/// Basic blocks of headers: a long record has one for every 32 KiB.
pub(super) fn headers_of(header: View<'_>) -> Result<u64, FormatError> {
    let size = u64::from(header.u32_be(320, "h_size")?);
    let long = header.u32_be(8, "h_version")? & 2 != 0 && size > 32_768;
    Ok(if long { size.div_ceil(32_768).min(8) } else { 1 })
}

fn holds(header: &[u8], size: usize, more: &[Vec<u8>], body: &[u8]) -> bool {
    let stored = header.get(CRC_AT..).and_then(|rest| rest.first_chunk::<4>()).map(|word| u32::from_le_bytes(*word));
    let first = header.get(..size).and_then(|bytes| checksum(bytes, CRC_AT));
    let with_more =
        more.iter().try_fold(first.unwrap_or(0), |sum, bytes| Some(crc32c::crc32c_append(sum, bytes.get(..CHECKED_MORE)?)));
    // A sum of nothing says that none was kept.
    stored == Some(0) || (first.is_some() && with_more.map(|sum| crc32c::crc32c_append(sum, body)) == stored)
}

impl Record {
    /// Hands every operation to `each`.
    ///
    /// # Errors
    /// [`FormatError`] where one reaches behind the record's end.
    pub(super) fn each(&self, each: &mut dyn FnMut(&Operation<'_>)) -> Result<(), FormatError> {
        let view = View::new("log operation", ByteOffset(0), &self.data);
        let mut at = 0;
        for _ in 0..self.operations {
            let len = view.u32_be(at + 4, "oh_len")? as usize;
            let operation = Operation {
                transaction: view.u32_be(at, "oh_tid")?,
                flags: view.u8(at + 9, "oh_flags")?,
                region: view.slice(at + 12, len, "region")?,
            };
            each(&operation);
            at += 12 + len;
        }
        Ok(())
    }
}
