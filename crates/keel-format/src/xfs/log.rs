//! The log: whether everything that it holds is in its place. Source: "XFS Algorithms & Data Structures", chapter "Journaling Log";
//! big-endian.

use keel_source::ByteOffset;

use super::XfsGeometry;
use crate::pages::Pages;
use crate::{Finding, FormatError, Problem, Severity, View};

/// `h_magicno` of a log record.
const RECORD_MAGIC: u32 = 0xFEED_BABE;
/// Bytes of a basic block, in which the log counts.
const BASIC: u64 = 512;
/// The most basic blocks of one record: 256 KiB and its headers.
const MOST_RECORD: u64 = 1024;
/// `oh_flags` of the record that an unmounting system writes.
const UNMOUNT: u8 = 0x20;

/// What is known of the log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum LogState {
    /// It holds nothing that is not in its place.
    Clean,
    /// The volume was not unmounted: changes of its last seconds may stand in the log alone.
    Pending,
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
    let at = geometry.run_at(geometry.log_start, u64::from(geometry.log_blocks)).filter(|_| geometry.log_blocks > 0);
    let outside = || FormatError::value("log", ByteOffset(0), "sb_logstart", geometry.log_start, "blocks of one group");
    match at.ok_or_else(outside).and_then(|at| Log { pages, at, blocks: 0 }.look(geometry)) {
        Ok(true) => LogState::Clean,
        Ok(false) => LogState::Pending,
        Err(error) => LogState::Unknown(error),
    }
}

struct Log<'a> {
    pages: &'a Pages,
    at: ByteOffset,
    /// Basic blocks.
    blocks: u64,
}

impl Log<'_> {
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

    /// True when the last record is that of an unmounting system, or there is none.
    fn look(mut self, geometry: &XfsGeometry) -> Result<bool, FormatError> {
        self.blocks = u64::from(geometry.log_blocks) * u64::from(geometry.block_bytes) / BASIC;
        let head = self.head()?;
        let back = (1..=MOST_RECORD.min(self.blocks)).map(|step| (head + self.blocks - step) % self.blocks);
        for number in back {
            let (at, bytes) = self.block(number)?;
            let view = View::new("log record", at, &bytes);
            if view.u32_be(0, "h_magicno")? == RECORD_MAGIC {
                return self.is_unmount(view, number);
            }
        }
        // A log that was never written is empty.
        let empty = self.cycle(0)? == 0 && self.cycle(self.blocks - 1)? == 0;
        let missing = FormatError::new("log", self.at, Problem::Missing("record before its end"));
        if empty { Ok(true) } else { Err(missing) }
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
        // Records of the second version may have a header for every 32 KiB.
        let size = u64::from(header.u32_be(320, "h_size")?);
        let long = header.u32_be(8, "h_version")? & 2 != 0 && size > 32_768;
        let headers = if long { size.div_ceil(32_768).min(8) } else { 1 };
        let (at, bytes) = self.block((number + headers) % self.blocks)?;
        let flags = View::new("log operation", at, &bytes).u8(9, "oh_flags")?;
        Ok(operations == 1 && flags & UNMOUNT != 0)
    }
}
