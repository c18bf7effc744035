//! The undo bundle: what puts the drive back, and what finishes an interrupted apply. Its format stands in
//! `docs/formats.md`; the constants here are compared with it by a test.

use std::fs;
use std::path::Path;

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};

use crate::error::{CoreError, file_error};
use crate::whose::{Print, Sample};
use crate::{case, mend::Edit};

/// First eight bytes of a bundle.
pub const MAGIC: &[u8; 8] = b"YKUNDO\r\n";
/// Last eight bytes of a bundle: a half-written one does not have them.
pub const TRAILER: &[u8; 8] = b"YKEND\r\n\0";
/// Version of the format. Version 1 has no samples.
pub const BUNDLE_VERSION: u16 = 2;

/// Bytes of the fixed header.
const HEADER_BYTES: usize = 64;
/// Bytes of a range's fixed part.
const RANGE_BYTES: usize = 80;

/// One range that an apply changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BundleRange {
    /// First byte on the drive.
    pub at: ByteOffset,
    /// What stood there.
    pub former: Vec<u8>,
    /// What the plan writes.
    pub new: Vec<u8>,
}

impl BundleRange {
    /// The ground.
    #[must_use]
    pub fn range(&self) -> ByteRange {
        ByteRange::sized(self.at, self.new.len() as u64)
    }
}

/// A whole bundle.
#[derive(Debug, Clone, PartialEq, Eq)]
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

impl Bundle {
    /// A bundle for `edits`, whose former bytes are all known.
    #[must_use]
    pub fn new(source: &SharedSource, edits: &[Edit]) -> Self {
        let identity = source.identity();
        let place = identity.path.as_ref().map(|path| path.to_string_lossy().into_owned()).unwrap_or_default();
        let ranges = edits
            .iter()
            .map(|edit| BundleRange { at: edit.at_byte, former: edit.before.clone(), new: edit.after.clone() })
            .collect();
        let (source_bytes, sector) = (identity.bytes, source.sector_size().0);
        Self { source: place, key: identity.key(), source_bytes, sector, print: Print::of(source), ranges }
    }

    /// True when it is of `source`: of the drive that it names and that does not hold something else, or of one under another name that
    /// holds the same. What the apply itself wrote does not count.
    #[must_use]
    pub fn is_of(&self, source: &SharedSource) -> bool {
        let mut written = RangeSet::default();
        self.ranges.iter().for_each(|range| written.add(range.range()));
        self.print.is_of((&self.key, self.source_bytes), source, &written)
    }

    /// The bundle as bytes.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes =
            Vec::with_capacity(HEADER_BYTES + self.ranges.iter().map(|range| RANGE_BYTES + 2 * range.new.len()).sum::<usize>());
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
        for range in &self.ranges {
            bytes.extend_from_slice(&range.at.0.to_le_bytes());
            bytes.extend_from_slice(&(range.new.len() as u64).to_le_bytes());
            bytes.extend_from_slice(blake3::hash(&range.former).as_bytes());
            bytes.extend_from_slice(blake3::hash(&range.new).as_bytes());
            bytes.extend_from_slice(&range.former);
            bytes.extend_from_slice(&range.new);
        }
        let checksum = blake3::hash(&bytes);
        bytes.extend_from_slice(checksum.as_bytes());
        bytes.extend_from_slice(TRAILER);
        bytes
    }

    /// Reads a bundle. Nothing in it is believed before the checksum over all of it holds; the reading never changes
    /// the file.
    ///
    /// # Errors
    /// [`CoreError::Bundle`] naming what is wrong, [`CoreError::File`] when it cannot be read.
    pub fn read(path: &Path) -> Result<Self, CoreError> {
        let refused = |reason| CoreError::Bundle { path: path.into(), reason };
        let bytes = fs::read(path).map_err(file_error("read", path))?;
        Self::parse(&bytes).map_err(refused)
    }

    fn parse(bytes: &[u8]) -> Result<Self, &'static str> {
        if !bytes.starts_with(MAGIC) {
            return Err("it does not begin like one");
        }
        let body = bytes.strip_suffix(TRAILER).ok_or("it is cut off: its end mark is missing")?;
        let (body, checksum) = body.split_last_chunk::<32>().ok_or("it is cut off")?;
        if blake3::hash(body).as_bytes() != checksum {
            return Err("its checksum does not match: it is damaged");
        }
        let mut reader = Reader(body);
        reader.take(MAGIC.len())?;
        let version = u16::from_le_bytes(reader.array()?);
        if !(1..=BUNDLE_VERSION).contains(&version) {
            return Err("it is of a version not known here");
        }
        reader.take(2)?;
        let count = u32::from_le_bytes(reader.array()?);
        let source_bytes = u64::from_le_bytes(reader.array()?);
        let sector = u32::from_le_bytes(reader.array()?);
        let name_length = u32::from_le_bytes(reader.array()?) as usize;
        let key = String::from_utf8(reader.take(32)?.to_vec()).map_err(|_| "its drive key is no text")?;
        let source = String::from_utf8(reader.take(name_length)?.to_vec()).map_err(|_| "its path is no text")?;
        let mut print = Print::default();
        let samples = if version > 1 { u32::from_le_bytes(reader.array()?) } else { 0 };
        for _ in 0..samples {
            let (at, hash) = (u64::from_le_bytes(reader.array()?), u64::from_le_bytes(reader.array()?));
            print.0.push(Sample { at, hash });
        }
        let mut ranges = Vec::new();
        for _ in 0..count {
            ranges.push(reader.range()?);
        }
        if !reader.0.is_empty() {
            return Err("it holds more than its ranges");
        }
        Ok(Self { source, key, source_bytes, sector, print, ranges })
    }

    /// Writes the bundle so that a crash leaves it whole or not at all, and makes it durable.
    ///
    /// # Errors
    /// [`CoreError::File`].
    pub fn write(&self, path: &Path) -> Result<(), CoreError> {
        case::write_new(path, &self.to_bytes())
    }
}

struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    fn take(&mut self, len: usize) -> Result<&'a [u8], &'static str> {
        let (head, rest) = self.0.split_at_checked(len).ok_or("a length in it does not fit")?;
        self.0 = rest;
        Ok(head)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], &'static str> {
        let (head, rest) = self.0.split_first_chunk::<N>().ok_or("a length in it does not fit")?;
        self.0 = rest;
        Ok(*head)
    }

    fn range(&mut self) -> Result<BundleRange, &'static str> {
        let at = ByteOffset(u64::from_le_bytes(self.array()?));
        let length = usize::try_from(u64::from_le_bytes(self.array()?)).map_err(|_| "a length in it does not fit")?;
        let (former_hash, new_hash): ([u8; 32], [u8; 32]) = (self.array()?, self.array()?);
        let (former, new) = (self.take(length)?.to_vec(), self.take(length)?.to_vec());
        if blake3::hash(&former).as_bytes() != &former_hash || blake3::hash(&new).as_bytes() != &new_hash {
            return Err("the hash of a range does not match");
        }
        Ok(BundleRange { at, former, new })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> Bundle {
        let range = |at, byte| BundleRange { at: ByteOffset(at), former: vec![0; 512], new: vec![byte; 512] };
        Bundle {
            source: "/bench/purser.img".into(),
            key: "0".repeat(32),
            source_bytes: 1 << 20,
            sector: 512,
            print: Print(vec![Sample { at: 8192, hash: 7 }, Sample { at: 65_536, hash: 0 }]),
            ranges: vec![range(0, 1), range(4096, 2)],
        }
    }

    #[test]
    fn a_bundle_reads_back_as_written() {
        assert_eq!(Bundle::parse(&sample().to_bytes()), Ok(sample()));
    }

    #[test]
    fn a_bundle_of_the_first_version_still_reads() {
        // Of two lengths and a path a bundle of version 1 has no samples between.
        let bundle = Bundle { print: Print::default(), ..sample() };
        let mut bytes = bundle.to_bytes();
        bytes.truncate(bytes.len() - 32 - TRAILER.len());
        let at = HEADER_BYTES + bundle.source.len();
        bytes.drain(at..at + 4);
        bytes[MAGIC.len()] = 1;
        let checksum = blake3::hash(&bytes);
        bytes.extend_from_slice(checksum.as_bytes());
        bytes.extend_from_slice(TRAILER);
        assert_eq!(Bundle::parse(&bytes), Ok(bundle));
    }

    #[test]
    fn every_cut_and_every_flipped_bit_is_refused() {
        let bytes = sample().to_bytes();
        for len in 0..bytes.len() {
            assert!(Bundle::parse(&bytes[..len]).is_err(), "cut at {len}");
        }
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 1 << (at % 8);
            assert!(Bundle::parse(&damaged).is_err(), "bit flipped at {at}");
        }
    }

    #[test]
    fn the_format_document_names_the_constants() {
        let text = include_str!("../../../../docs/formats.md");
        assert!(text.contains(&format!("version {BUNDLE_VERSION}")));
        assert!(
            text.contains(&format!("fixed header, {HEADER_BYTES} bytes"))
                && text.contains(&format!("fixed part of a range, {RANGE_BYTES} bytes"))
        );
    }
}
