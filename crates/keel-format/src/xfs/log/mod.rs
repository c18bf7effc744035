//! The log: whether everything that it holds is in its place, and what it would leave there. Source: "XFS Algorithms & Data Structures", chapter "Journaling Log";
//! big-endian.

mod record;
mod replay;
mod transaction;

use keel_source::{ByteOffset, SharedSource};

use self::record::headers_of;
use self::transaction::Transactions;
use super::XfsGeometry;
use crate::pages::Pages;
use crate::{Finding, FormatError, Problem, Severity, View};

/// `h_magicno` of a log record.
const RECORD_MAGIC: u32 = 0xFEED_BABE;
/// Bytes of a basic block, in which the log counts.
const BASIC: u64 = 512;
/// The most basic blocks of one record: 256 KiB and its headers.
const MOST_RECORD: u64 = 1024;
/// The longest stretch of the log that is replayed, in bytes: what it holds is kept in memory.
const MOST_REPLAYED: u64 = 64 << 20;
/// `oh_flags` of the record that an unmounting system writes.
const UNMOUNT: u8 = 0x20;

/// What is known of the log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum LogState {
    /// It holds nothing that is not in its place.
    Clean,
    /// The volume was not unmounted: changes of its last seconds may stand in the log alone.
    Pending,
    /// It was not unmounted, and is read as so many transactions of the log would leave it; with what kept the reading from the log's end.
    Replayed(usize, Option<FormatError>),
    /// It stands on a device of its own.
    Elsewhere,
    /// It does not read.
    Unknown(FormatError),
}

impl LogState {
    /// What is to be said of it; nothing of a clean one.
    pub(super) fn finding(&self, at: ByteOffset) -> Option<Finding> {
        match self {
            Self::Clean => None,
            Self::Pending => {
                let what =
                    "the volume was not unmounted: changes of its last seconds may stand in the log alone, and are not read";
                Some(Finding::at(Severity::Note, at, what, "the last record of the log is not that of an unmounting system"))
            }
            Self::Replayed(count, cut) => {
                let what = format!(
                    "the log holds {count} transactions that may not be in their places yet: the volume is read as if they were"
                );
                let how = cut
                    .as_ref()
                    .map_or_else(|| "read from its tail to its head".to_string(), |error| format!("read up to {error}"));
                Some(Finding::at(Severity::Note, at, what, how))
            }
            Self::Elsewhere => {
                let what = "the log stands on a device of its own: whether it holds changes is not known";
                Some(Finding::of_all(Severity::Note, what, "sb_logstart is 0"))
            }
            Self::Unknown(error) => {
                let what = "the log does not read: whether it holds changes is not known";
                Some(Finding::at(Severity::Doubt, error.at, what, error.to_string()))
            }
        }
    }
}

/// Where the log begins in the volume; byte 0 for one that stands elsewhere.
pub(super) fn place(geometry: &XfsGeometry) -> ByteOffset {
    geometry.run_at(geometry.log_start, u64::from(geometry.log_blocks)).filter(|_| geometry.log_start != 0).unwrap_or_default()
}

/// Looks at the end of the log.
pub(super) fn state(pages: &Pages, geometry: &XfsGeometry) -> LogState {
    if geometry.log_start == 0 {
        return LogState::Elsewhere;
    }
    match Log::of(pages, geometry).and_then(|log| log.last()) {
        Ok(None) => LogState::Clean,
        Ok(Some(_)) => LogState::Pending,
        Err(error) => LogState::Unknown(error),
    }
}

/// The volume as its log would leave it, where that holds anything: the source to read it from.
pub(super) fn replayed(pages: &Pages, geometry: &XfsGeometry) -> (LogState, Option<SharedSource>) {
    let state = state(pages, geometry);
    let log = Log::of(pages, geometry).ok().filter(|_| state == LogState::Pending);
    let last = log.as_ref().and_then(|log| log.last().ok().flatten());
    // What is too long is not replayed in part: half of it would be no state that the volume ever had.
    let (Some(log), Some(last)) = (&log, last.filter(|last| last.bytes(log.as_ref()) <= MOST_REPLAYED)) else {
        return (state, None);
    };
    let mut transactions = Transactions::default();
    let cut = log.walk(geometry, last, &mut transactions).err();
    let over = replay::replayed(pages.source(), geometry, &transactions.committed);
    (LogState::Replayed(transactions.committed.len(), cut), Some(over))
}

/// Where the last record leaves the log: the first block behind it, and the block from which on records may not be in their places.
#[derive(Clone, Copy)]
struct Last {
    head: u64,
    tail: u64,
}

impl Last {
    /// Bytes of the log from the tail to the head.
    fn bytes(self, log: Option<&Log<'_>>) -> u64 {
        let blocks = log.map_or(1, |log| log.blocks).max(1);
        (self.head + blocks - self.tail % blocks) % blocks * BASIC
    }
}

struct Log<'a> {
    pages: &'a Pages,
    at: ByteOffset,
    /// Basic blocks.
    blocks: u64,
    /// `h_fs_uuid` of its own records.
    uuid: [u8; 16],
}

impl<'a> Log<'a> {
    /// The log of a volume.
    fn of(pages: &'a Pages, geometry: &XfsGeometry) -> Result<Self, FormatError> {
        let at = geometry.run_at(geometry.log_start, u64::from(geometry.log_blocks)).filter(|_| geometry.log_blocks > 0);
        let outside = || FormatError::value("log", ByteOffset(0), "sb_logstart", geometry.log_start, "blocks of one group");
        let blocks = u64::from(geometry.log_blocks) * u64::from(geometry.block_bytes) / BASIC;
        Ok(Self { pages, at: at.ok_or_else(outside)?, blocks, uuid: geometry.uuid })
    }

    fn block(&self, number: u64) -> Result<(ByteOffset, Vec<u8>), FormatError> {
        let at = self.at + number * BASIC;
        Ok((at, self.pages.bytes(at, 512, "log")?))
    }

    /// The cycle that a basic block was written in: its first word, or the second of a record's header.
    fn cycle(&self, number: u64) -> Result<u32, FormatError> {
        let (at, bytes) = self.block(number)?;
        let view = View::new("log", at, &bytes);
        let first = view.u32_be(0, "cycle")?;
        if first == RECORD_MAGIC { view.u32_be(4, "h_cycle") } else { Ok(first) }
    }

    /// The last record of a volume that was not unmounted; none where it was, or where nothing was ever written.
    fn last(&self) -> Result<Option<Last>, FormatError> {
        let head = self.head()?;
        let back = (1..=MOST_RECORD.min(self.blocks)).map(|step| (head + self.blocks - step) % self.blocks);
        for number in back {
            let (at, bytes) = self.block(number)?;
            let view = View::new("log record", at, &bytes);
            if view.u32_be(0, "h_magicno")? == RECORD_MAGIC {
                let tail = view.u64_be(24, "h_tail_lsn")? & u64::from(u32::MAX);
                return Ok((!self.is_unmount(view, number)?).then_some(Last { head, tail }));
            }
        }
        // A log that was never written is empty.
        let empty = self.cycle(0)? == 0 && self.cycle(self.blocks - 1)? == 0;
        let missing = FormatError::new("log", self.at, Problem::Missing("record before its end"));
        if empty { Ok(None) } else { Err(missing) }
    }

    /// Takes the records from the tail to the head.
    fn walk(&self, geometry: &XfsGeometry, last: Last, transactions: &mut Transactions) -> Result<(), FormatError> {
        let (mut number, mut walked) = (last.tail % self.blocks, 0);
        while number != last.head && walked < self.blocks {
            let record = self.record(number, geometry.has_checksums())?;
            record.each(&mut |operation| transactions.take(operation))?;
            number = (number + record.blocks) % self.blocks;
            walked += record.blocks;
        }
        Ok(())
    }

    /// The block behind the last one written: cycles go down by one there. The first blocks have the latest cycle.
    fn head(&self) -> Result<u64, FormatError> {
        let (mut low, mut high) = (0, self.blocks);
        let latest = self.cycle(0)?;
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            if self.cycle(middle)? == latest { low = middle } else { high = middle }
        }
        Ok(high % self.blocks)
    }

    fn is_unmount(&self, header: View<'_>, number: u64) -> Result<bool, FormatError> {
        let operations = header.u32_be(40, "h_num_logops")?;
        let own = header.slice(304, 16, "h_fs_uuid")? == self.uuid.as_slice();
        if !own {
            return Err(header.error(304, Problem::Coding("the log is another volume's")));
        }
        let headers = headers_of(header)?;
        let (at, bytes) = self.block((number + headers) % self.blocks)?;
        let flags = View::new("log operation", at, &bytes).u8(9, "oh_flags")?;
        Ok(operations == 1 && flags & UNMOUNT != 0)
    }
}
