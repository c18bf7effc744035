//! Files that the system keeps packed in a stream of their own: `WofCompressedData`, pieces behind a table of where each ends.
//! Source: [MS-FSCC] 2.1.2 for the reparse point, `FILE_PROVIDER_EXTERNAL_INFO_V1` for the codings.

mod code;
mod lzx;
mod xpress;

use keel_source::{ByteOffset, ByteRange};

use crate::{FormatError, Problem, StreamReader, View};

/// The stream that holds the packed content.
pub(super) const STREAM: &str = "WofCompressedData";
/// `WOF_CURRENT_VERSION` and `FILE_PROVIDER_CURRENT_VERSION`.
const VERSION: u32 = 1;
/// `WOF_PROVIDER_FILE`: the content is in the file itself, not in an archive elsewhere.
const PROVIDER_FILE: u32 = 2;
/// The largest table of pieces that is read, in bytes: of a file of 32 GiB in pieces of 4 KiB.
const LARGEST_TABLE: u64 = 64 << 20;
/// Bytes of the table that are looked through at once.
const TABLE_STEP: u64 = 64 << 10;
/// Files from this length on have offsets of eight bytes.
const WIDE_FROM: u64 = 1 << 32;

/// An entry of the table; little-endian.
fn number_of(entry: &[u8]) -> u64 {
    entry.iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte))
}

/// How pieces are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Coding {
    Xpress,
    Lzx,
}

/// How the content of a file is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Packing {
    coding: Coding,
    /// Bytes of a piece once it is unpacked.
    piece: u32,
}

impl Packing {
    /// What the reparse point in `view` says; none where it names an archive or a coding that is not known.
    pub(super) fn parse(view: View<'_>) -> Option<Self> {
        let word = |at: usize, what| view.u32(at, what).ok();
        let versions = (word(8, "Version")?, word(12, "Provider")?, word(16, "Version")?);
        if versions != (VERSION, PROVIDER_FILE, VERSION) {
            return None;
        }
        let (coding, piece) = match word(20, "Algorithm")? {
            0 => (Coding::Xpress, 4 << 10),
            1 => (Coding::Lzx, 32 << 10),
            2 => (Coding::Xpress, 8 << 10),
            3 => (Coding::Xpress, 16 << 10),
            _ => return None,
        };
        Some(Self { coding, piece })
    }
}

/// Content that is unpacked as it is read; one piece is kept. The table of pieces is read where a piece is asked for.
pub(super) struct PackedStream {
    packed: Box<dyn StreamReader>,
    packing: Packing,
    bytes: u64,
    /// Bytes of the table: one entry for each piece but the first, of four bytes or of eight.
    table: u64,
    width: u64,
    piece: Vec<u8>,
    number: Option<u64>,
    is_bad: bool,
}

impl PackedStream {
    /// Reads the table of the `packed` stream of a file of `bytes` bytes whose record stands at `at`, and sees that it rises.
    ///
    /// # Errors
    /// [`FormatError`] for a table that cannot be read or does not rise.
    pub(super) fn open(packed: Box<dyn StreamReader>, packing: Packing, bytes: u64, at: ByteOffset) -> Result<Self, FormatError> {
        let count = bytes.div_ceil(u64::from(packing.piece));
        let width: u64 = if bytes >= WIDE_FROM { 8 } else { 4 };
        let table = count.saturating_sub(1).saturating_mul(width);
        if table > LARGEST_TABLE || table > packed.bytes() {
            return Err(FormatError::value(STREAM, at, "size of the file", bytes, "one whose table of pieces fits its stream"));
        }
        let number = None;
        let mut stream = Self { packed, packing, bytes, table, width, piece: Vec::new(), number, is_bad: false };
        let mut last = table;
        for from in (0..table).step_by(TABLE_STEP as usize) {
            let mut raw = vec![0; usize::try_from(TABLE_STEP.min(table - from)).unwrap_or(0)];
            if !stream.packed.read(from, &mut raw).is_empty() {
                return Err(FormatError::new(STREAM, at, Problem::Unreadable { bytes: raw.len() as u64 }));
            }
            for entry in raw.chunks_exact(usize::try_from(width).unwrap_or(4)) {
                let place = table.saturating_add(number_of(entry));
                if place < last || place > stream.packed.bytes() {
                    return Err(FormatError::new(STREAM, at, Problem::Coding("the table of its pieces does not rise")));
                }
                last = place;
            }
        }
        Ok(stream)
    }

    /// Where piece `number` begins, in bytes of the packed stream: the first one behind the table, the one behind the last at its end.
    fn place(&mut self, number: u64) -> Option<u64> {
        let entry = number.checked_sub(1).map(|index| index.saturating_mul(self.width));
        match entry {
            None => Some(self.table),
            Some(at) if at >= self.table => Some(self.packed.bytes()),
            Some(at) => {
                let mut raw = vec![0; usize::try_from(self.width).unwrap_or(4)];
                let is_read = self.packed.read(at, &mut raw).is_empty();
                is_read.then(|| self.table.saturating_add(number_of(&raw)))
            }
        }
    }

    fn load(&mut self, number: u64) {
        if self.number == Some(number) {
            return;
        }
        self.number = Some(number);
        let size = u64::from(self.packing.piece);
        let len = size.min(self.bytes.saturating_sub(number.saturating_mul(size)));
        self.piece = vec![0; usize::try_from(len).unwrap_or(0)];
        // A piece that packing did not make smaller stands as it is; none is larger.
        let most = self.piece.len();
        let length = |from: u64, to: u64| usize::try_from(to.checked_sub(from)?).ok().filter(|packed| *packed <= most);
        let places = self.place(number).zip(self.place(number + 1));
        let Some((from, packed)) = places.and_then(|(from, to)| Some((from, length(from, to)?))) else {
            self.is_bad = true;
            return;
        };
        let mut raw = vec![0; packed];
        self.is_bad = !self.packed.read(from, &mut raw).is_empty();
        if packed == self.piece.len() {
            self.piece = raw;
            return;
        }
        self.is_bad |= !match self.packing.coding {
            Coding::Xpress => xpress::unpack(&raw, &mut self.piece),
            Coding::Lzx => lzx::unpack(&raw, &mut self.piece),
        };
        if self.is_bad {
            self.piece.fill(0);
        }
    }
}

impl StreamReader for PackedStream {
    fn bytes(&self) -> u64 {
        self.bytes
    }

    fn read(&mut self, at: u64, buf: &mut [u8]) -> Vec<ByteRange> {
        let size = u64::from(self.packing.piece);
        let mut bad: Vec<ByteRange> = Vec::new();
        let mut done = 0usize;
        buf.fill(0);
        while done < buf.len() {
            let here = at + done as u64;
            if here >= self.bytes {
                bad.push(ByteRange::new(ByteOffset(here), ByteOffset(at + buf.len() as u64)));
                break;
            }
            self.load(here / size);
            let inside = usize::try_from(here % size).unwrap_or(0);
            let count = self.piece.len().saturating_sub(inside).min(buf.len() - done);
            if self.is_bad {
                bad.push(ByteRange::sized(ByteOffset(here), count as u64));
            }
            if let (Some(to), Some(from)) = (buf.get_mut(done..done + count), self.piece.get(inside..inside + count)) {
                to.copy_from_slice(from);
            }
            done += count;
        }
        bad
    }
}

#[cfg(test)]
mod tests;
