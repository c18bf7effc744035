//! The undo bundle: what puts the drive back, and what finishes an interrupted apply. It is written and read piece by piece, so that what
//! can be written can be undone, however much it is. Its format stands in `docs/formats.md`; the constants here are compared with it by
//! a test.

mod condition;
mod filed;
mod former;

#[cfg(test)]
mod tests;

pub use condition::{Condition, condition, condition_of, interrupted};

use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::Path;
use std::sync::Arc;

use keel_source::own::{Over, OwnFile};
use keel_source::{ByteOffset, ByteRange, PIECE, PageBuf, Payload, RangeSet, SharedSource};

use self::filed::{Filed, Hashed, Spot};
use crate::edit::{Edit, Order};
use crate::error::{CoreError, Refusal, file_error};
use crate::whose::Print;

/// First eight bytes of a bundle.
pub const MAGIC: &[u8; 8] = b"YKUNDO\r\n";
/// Last eight bytes of a bundle: a half-written one does not have them.
pub const TRAILER: &[u8; 8] = b"YKEND\r\n\0";
/// Version of the format. Version 1 has no samples; versions 1 and 2 hold their ranges unpacked; version 3 has no piece that is like
/// another.
pub const BUNDLE_VERSION: u16 = 4;

/// Bytes of the fixed header.
const HEADER_BYTES: usize = 64;
/// Bytes of a range's fixed part.
const RANGE_BYTES: usize = 24;
/// Bytes before each stored piece.
const PIECE_BYTES: usize = 5;

/// One range that an apply changes.
#[derive(Debug, Clone)]
pub struct BundleRange {
    /// First byte on the drive.
    pub at: ByteOffset,
    /// Length in bytes.
    pub bytes: u64,
    /// Copy or primary; none in older versions, which do not say it.
    pub order: Option<Order>,
    /// What stood there.
    former: Kept,
    /// What the plan writes.
    new: Kept,
}

/// Bytes of a range, held or in the bundle's file.
#[derive(Debug, Clone)]
enum Kept {
    /// In memory, or made as they are needed.
    Held(Payload),
    /// In pieces of [`PIECE`] bytes, the last one shorter.
    Filed(Filed, Vec<Spot>),
}

/// Which bytes of a range.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// What stood there.
    Former,
    /// What the plan writes.
    New,
}

impl BundleRange {
    /// The ground.
    #[must_use]
    pub fn range(&self) -> ByteRange {
        ByteRange::sized(self.at, self.bytes)
    }

    /// Offsets and lengths of its pieces.
    pub fn pieces(&self) -> impl Iterator<Item = (u64, usize)> + use<> {
        let bytes = self.bytes;
        (0..bytes).step_by(PIECE).map(move |at| (at, usize::try_from(bytes - at).unwrap_or(PIECE).min(PIECE)))
    }

    /// The bytes of one side from byte `at` on, which a piece begins at, as many as `buf` takes.
    ///
    /// # Errors
    /// [`CoreError::File`] when the bundle's file does not deliver them.
    pub fn read(&self, side: Side, at: u64, buf: &mut [u8]) -> Result<(), CoreError> {
        match self.kept(side) {
            Kept::Held(payload) => payload.fill(at, buf),
            Kept::Filed(filed, spots) => {
                let spot = usize::try_from(at / PIECE as u64).ok().and_then(|index| spots.get(index));
                filed.read(spot, buf)?;
            }
        }
        Ok(())
    }

    /// True when the piece at byte `at` of one side is known to be zeros.
    #[must_use]
    pub fn is_zeros(&self, side: Side, at: u64) -> bool {
        match self.kept(side) {
            Kept::Held(payload) => payload.is_zeros(),
            Kept::Filed(_, spots) => {
                let spot = usize::try_from(at / PIECE as u64).ok().and_then(|index| spots.get(index));
                spot.is_some_and(|spot| spot.is_zeros())
            }
        }
    }

    /// All bytes of one side, for ranges that are small.
    ///
    /// # Errors
    /// As [`BundleRange::read`].
    pub fn all(&self, side: Side) -> Result<Vec<u8>, CoreError> {
        let mut all = Vec::new();
        for (at, len) in self.pieces() {
            let mut buf = vec![0; len];
            self.read(side, at, &mut buf)?;
            all.extend(buf);
        }
        Ok(all)
    }

    fn kept(&self, side: Side) -> &Kept {
        match side {
            Side::Former => &self.former,
            Side::New => &self.new,
        }
    }
}

/// A whole bundle.
#[derive(Debug, Clone)]
pub struct Bundle {
    /// Path of the drive when the plan was applied.
    pub source: String,
    /// Key of the drive's identity.
    pub key: String,
    /// Length of the drive in bytes.
    pub source_bytes: u64,
    /// Logical sector size in bytes.
    pub sector: u32,
    /// Samples of what the drive held, outside of the ranges too.
    pub print: Print,
    /// The ranges in the order in which they are written.
    pub ranges: Vec<BundleRange>,
}

/// Reads what a drive holds now; false where it does not deliver it.
pub type ReadNow<'a> = &'a mut dyn FnMut(ByteOffset, &mut [u8]) -> bool;

impl Bundle {
    /// A bundle for `edits` whose former bytes are all held.
    #[must_use]
    pub fn new(source: &SharedSource, edits: &[Edit]) -> Self {
        let identity = source.identity();
        let place = identity.path.as_ref().map(|path| path.to_string_lossy().into_owned()).unwrap_or_default();
        let range = |edit: &Edit| BundleRange {
            at: edit.at_byte,
            bytes: edit.after.len(),
            order: Some(edit.order),
            former: Kept::Held(edit.before.clone().into()),
            new: Kept::Held(edit.after.clone()),
        };
        let (source_bytes, sector) = (identity.bytes, source.sector_size().0);
        let ranges = edits.iter().map(range).collect();
        Self { source: place, key: identity.key(), source_bytes, sector, print: Print::of(source), ranges }
    }

    /// True when it is of `source`: of the drive that it names and that does not hold something else, or of one under another name that
    /// holds the same. What the apply itself wrote does not count.
    #[must_use]
    pub fn is_of(&self, source: &SharedSource) -> bool {
        let written: RangeSet = self.ranges.iter().map(BundleRange::range).collect();
        self.print.is_of((&self.key, self.source_bytes), source, &written)
    }

    /// Writes the bundle so that a crash leaves it whole or not at all, and makes it durable. Former bytes that are not held are taken
    /// from what the drive holds `now`.
    ///
    /// # Errors
    /// [`CoreError::File`]; [`Refusal::Unsaved`] for a place that does not read.
    pub fn write(&self, path: &Path, now: ReadNow<'_>) -> Result<(), CoreError> {
        let folder = path.parent().unwrap_or_else(|| Path::new("."));
        fs::create_dir_all(folder).map_err(file_error("create", folder))?;
        let writing = |source| file_error("write", path)(source);
        let mut own = OwnFile::begin(path, Over::Nothing).map_err(writing)?;
        let mut out = Hashed::new(BufWriter::with_capacity(PIECE, own.file()));
        self.write_to(&mut out, path, now)?;
        let (checksum, mut out) = out.finish();
        out.write_all(&checksum).and_then(|()| out.write_all(TRAILER)).and_then(|()| out.flush()).map_err(writing)?;
        drop(out);
        own.finish(path, Over::Nothing).map_err(writing)
    }

    fn write_to<W: Write>(&self, out: &mut Hashed<W>, path: &Path, now: ReadNow<'_>) -> Result<(), CoreError> {
        let writing = |source| file_error("write", path)(source);
        out.write_all(&self.head()).map_err(writing)?;
        let mut packer = filed::Packer::default();
        let mut buf = PageBuf::new(PIECE);
        for range in &self.ranges {
            let order = u8::from(range.order == Some(Order::Primary));
            let mut fixed = Vec::with_capacity(RANGE_BYTES);
            fixed.extend_from_slice(&range.at.0.to_le_bytes());
            fixed.extend_from_slice(&range.bytes.to_le_bytes());
            fixed.push(order);
            fixed.resize(RANGE_BYTES, 0);
            out.write_all(&fixed).map_err(writing)?;
            let held = !matches!(&range.former, Kept::Held(former) if former.len() != range.bytes);
            for (at, len) in range.pieces() {
                let piece = buf.get_mut(..len).unwrap_or_default();
                if held {
                    range.read(Side::Former, at, piece)?;
                } else if !now(range.at + at, piece) {
                    return Err(Refusal::Unsaved { at: range.at + at }.into());
                }
                packer.put(piece, out).map_err(writing)?;
                range.read(Side::New, at, piece)?;
                packer.put(piece, out).map_err(writing)?;
            }
        }
        Ok(())
    }

    /// Everything before the ranges.
    fn head(&self) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(HEADER_BYTES + self.source.len());
        bytes.extend_from_slice(MAGIC);
        bytes.extend_from_slice(&BUNDLE_VERSION.to_le_bytes());
        bytes.extend_from_slice(&[0; 2]);
        bytes.extend_from_slice(&u32::try_from(self.ranges.len()).unwrap_or(u32::MAX).to_le_bytes());
        bytes.extend_from_slice(&self.source_bytes.to_le_bytes());
        bytes.extend_from_slice(&self.sector.to_le_bytes());
        bytes.extend_from_slice(&u32::try_from(self.source.len()).unwrap_or(u32::MAX).to_le_bytes());
        let mut key = self.key.as_bytes().to_vec();
        key.resize(32, 0);
        bytes.extend_from_slice(&key);
        bytes.extend_from_slice(self.source.as_bytes());
        bytes.extend_from_slice(&u32::try_from(self.print.0.len()).unwrap_or(0).to_le_bytes());
        for sample in &self.print.0 {
            bytes.extend_from_slice(&sample.at.to_le_bytes());
            bytes.extend_from_slice(&sample.hash.to_le_bytes());
        }
        bytes
    }

    /// Reads a bundle. Nothing in it is believed before the checksum over all of it holds; the reading never changes
    /// the file. What its ranges hold stays in the file and is unpacked when it is asked for.
    ///
    /// # Errors
    /// [`CoreError::Bundle`] naming what is wrong, [`CoreError::File`] when it cannot be read.
    pub fn read(path: &Path) -> Result<Self, CoreError> {
        let file = File::open(path).map_err(file_error("read", path))?;
        Self::parse(&Filed::new(path, Arc::new(file))?)
    }

    fn parse(filed: &Filed) -> Result<Self, CoreError> {
        let refused = |reason| CoreError::Bundle { path: filed.path().into(), reason };
        let body = filed.checked(MAGIC, TRAILER)?;
        let mut reader = filed.reader(body);
        reader.skip(MAGIC.len() as u64)?;
        let version = reader.u16()?;
        if !(1..=BUNDLE_VERSION).contains(&version) {
            return Err(refused("it is of a version not known here"));
        }
        reader.skip(2)?;
        let count = reader.u32()?;
        let (source_bytes, sector) = (reader.u64()?, reader.u32()?);
        let path_bytes = reader.u32()?;
        let key = String::from_utf8(reader.bytes(32)?).map_err(|_| refused("its drive key is no text"))?;
        let source = String::from_utf8(reader.bytes(path_bytes)?).map_err(|_| refused("its path is no text"))?;
        let mut print = Print::default();
        let samples = if version > 1 { reader.u32()? } else { 0 };
        for _ in 0..samples {
            print.0.push(crate::whose::Sample { at: reader.u64()?, hash: reader.u64()? });
        }
        let mut ranges = Vec::new();
        for _ in 0..count {
            ranges.push(if version > 2 { filed::range(&mut reader)? } else { former::range(&mut reader)? });
        }
        if !reader.is_at_end() {
            return Err(refused("it holds more than its ranges"));
        }
        Ok(Self { source, key, source_bytes, sector, print, ranges })
    }
}
