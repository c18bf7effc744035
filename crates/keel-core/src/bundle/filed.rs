//! What a bundle's file holds: packed pieces, where they stand, and a checksum over all of it.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

use keel_source::{ByteOffset, PIECE};

use super::{BundleRange, Kept, PIECE_BYTES};
use crate::edit::Order;
use crate::error::{CoreError, file_error};

/// A piece of nothing but zeros, of which no bytes follow.
const ZEROS: u8 = 0;
/// A piece as it is.
const PLAIN: u8 = 1;
/// A packed piece: an LZ4 block.
const PACKED: u8 = 2;
/// A piece of which only the first [`OWN`] bytes follow: the rest is that of a piece before, whose head's place comes first.
const LIKE: u8 = 3;
/// Bytes of a piece that may differ from those of the one that it is like: copies of one table begin with what tells them apart.
const OWN: usize = 4096;
/// Bytes of a place in the file.
const PLACE: usize = 8;

/// Where a piece stands in the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Spot {
    at: u64,
    stored: u32,
    kind: u8,
}

impl Spot {
    pub(super) fn is_zeros(self) -> bool {
        self.kind == ZEROS
    }

    /// Bytes of a file as they are, from byte `at` on.
    pub(super) fn plain(at: u64, stored: u32) -> Self {
        Self { at, stored, kind: PLAIN }
    }
}

/// True for nothing but zeros: compared block by block, which is several times as fast as byte by byte.
fn is_blank(piece: &[u8]) -> bool {
    const BLANK: [u8; 4096] = [0; 4096];
    piece.chunks(BLANK.len()).all(|block| BLANK.get(..block.len()) == Some(block))
}

/// The head of a piece.
fn head(kind: u8, stored: usize) -> [u8; PIECE_BYTES] {
    let [one, two, three, four] = u32::try_from(stored).unwrap_or(u32::MAX).to_le_bytes();
    [kind, one, two, three, four]
}

/// Packs pieces.
#[derive(Default)]
pub(super) struct Packer {
    packed: Vec<u8>,
    /// Places of the heads of what was written, by the length and the hash of all but its first bytes.
    seen: HashMap<(usize, blake3::Hash), u64>,
}

impl Packer {
    /// Writes `piece`, packed where that makes it smaller, and once where it comes again.
    pub(super) fn put<W: Write>(&mut self, piece: &[u8], out: &mut Hashed<W>) -> io::Result<()> {
        if is_blank(piece) {
            return out.write_all(&head(ZEROS, 0));
        }
        if let Some((own, rest)) = piece.split_at_checked(OWN).filter(|(_, rest)| rest.len() > OWN) {
            let key = (piece.len(), blake3::hash(rest));
            if let Some(like) = self.seen.get(&key) {
                out.write_all(&head(LIKE, PLACE + own.len()))?;
                out.write_all(&like.to_le_bytes())?;
                return out.write_all(own);
            }
            self.seen.insert(key, out.at);
        }
        self.packed.resize(lz4_flex::block::get_maximum_output_size(piece.len()), 0);
        let packed = lz4_flex::block::compress_into(piece, &mut self.packed).unwrap_or(usize::MAX);
        if packed >= piece.len() {
            out.write_all(&head(PLAIN, piece.len()))?;
            return out.write_all(piece);
        }
        out.write_all(&head(PACKED, packed))?;
        out.write_all(self.packed.get(..packed).unwrap_or_default())
    }
}

/// Writes through, and hashes and counts what passes.
pub(super) struct Hashed<W> {
    inner: W,
    hasher: blake3::Hasher,
    /// Bytes that passed.
    at: u64,
}

impl<W: Write> Hashed<W> {
    pub(super) fn new(inner: W) -> Self {
        Self { inner, hasher: blake3::Hasher::new(), at: 0 }
    }

    /// The checksum of all that passed, and what it was written to.
    pub(super) fn finish(self) -> ([u8; 32], W) {
        (*self.hasher.finalize().as_bytes(), self.inner)
    }
}

impl<W: Write> Write for Hashed<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let count = self.inner.write(buf)?;
        self.hasher.update(buf.get(..count).unwrap_or_default());
        self.at += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

/// The file of a bundle.
#[derive(Debug, Clone)]
pub(super) struct Filed {
    path: Arc<Path>,
    file: Arc<File>,
    len: u64,
}

impl Filed {
    pub(super) fn new(path: &Path, file: Arc<File>) -> Result<Self, CoreError> {
        let len = file.metadata().map_err(file_error("read", path))?.len();
        Ok(Self { path: path.into(), file, len })
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    fn refused(&self, reason: &'static str) -> CoreError {
        CoreError::Bundle { path: self.path().into(), reason }
    }

    fn read_exact(&self, at: u64, buf: &mut [u8]) -> Result<(), CoreError> {
        self.file.read_exact_at(buf, at).map_err(file_error("read", self.path()))
    }

    /// Compares begin, end mark and checksum; answers with the bytes before the checksum.
    pub(super) fn checked(&self, magic: &[u8; 8], trailer: &[u8; 8]) -> Result<u64, CoreError> {
        let mut head = [0; 8];
        if self.len < 8 || self.read_exact(0, &mut head).is_err() || head != *magic {
            return Err(self.refused("it does not begin like one"));
        }
        let cut = || self.refused("it is cut off: its end mark is missing");
        let body = self.len.checked_sub(40).filter(|body| *body >= 8).ok_or_else(cut)?;
        let (mut checksum, mut end) = ([0; 32], [0; 8]);
        self.read_exact(body, &mut checksum)?;
        self.read_exact(body + 32, &mut end)?;
        if end != *trailer {
            return Err(cut());
        }
        let mut hasher = blake3::Hasher::new();
        let mut buf = vec![0; PIECE];
        for at in (0..body).step_by(PIECE) {
            let piece = buf.get_mut(..usize::try_from(body - at).unwrap_or(PIECE).min(PIECE)).unwrap_or_default();
            self.read_exact(at, piece)?;
            hasher.update(piece);
        }
        let holds = *hasher.finalize().as_bytes() == checksum;
        if holds { Ok(body) } else { Err(self.refused("its checksum does not match: it is damaged")) }
    }

    /// Reads the first `body` bytes in their order.
    pub(super) fn reader(&self, body: u64) -> Reader<'_> {
        Reader {
            filed: self,
            inner: BufReader::with_capacity(64 << 10, Stretch { filed: self, at: 0, end: body }),
            at: 0,
            end: body,
        }
    }

    /// Unpacks what stands at `spot` into `buf`.
    pub(super) fn read(&self, spot: Option<&Spot>, buf: &mut [u8]) -> Result<(), CoreError> {
        let spot = spot.ok_or_else(|| self.refused("a piece of it is missing"))?;
        if spot.kind != LIKE {
            return self.unpack(spot, buf);
        }
        let mut place = [0; PLACE];
        self.read_exact(spot.at, &mut place)?;
        let (place, mut fixed) = (u64::from_le_bytes(place), [0; PIECE_BYTES]);
        let astray = || self.refused("a piece of it is said to be like one that is none");
        let at = place.checked_add(PIECE_BYTES as u64).filter(|at| *at < spot.at).ok_or_else(astray)?;
        self.read_exact(place, &mut fixed)?;
        let [kind, rest @ ..] = fixed;
        let stored = u32::from_le_bytes(rest);
        // Neither zeros nor one that is like another: no chain can be followed.
        if !matches!(kind, PLAIN | PACKED) || !may_hold(kind, stored, buf.len() as u64) {
            return Err(astray());
        }
        self.unpack(&Spot { at, stored, kind }, buf)?;
        let own = buf.len().min(OWN);
        self.read_exact(spot.at + PLACE as u64, buf.get_mut(..own).unwrap_or_default())
    }

    /// Unpacks a piece of which all bytes stand at `spot`.
    fn unpack(&self, spot: &Spot, buf: &mut [u8]) -> Result<(), CoreError> {
        match spot.kind {
            ZEROS => buf.fill(0),
            PLAIN => self.read_exact(spot.at, buf)?,
            _ => {
                let mut packed = vec![0; spot.stored as usize];
                self.read_exact(spot.at, &mut packed)?;
                let whole = lz4_flex::block::decompress_into(&packed, buf).is_ok_and(|count| count == buf.len());
                if !whole {
                    return Err(self.refused("a piece of it does not unpack"));
                }
            }
        }
        Ok(())
    }
}

/// Whether a piece of `len` bytes can have `stored` bytes in the file.
fn may_hold(kind: u8, stored: u32, len: u64) -> bool {
    let stored = u64::from(stored);
    match kind {
        ZEROS => stored == 0,
        PLAIN => stored == len,
        PACKED => stored < len,
        LIKE => stored == PLACE as u64 + len.min(OWN as u64),
        _ => false,
    }
}

/// A stretch of the file, for a buffer over it.
struct Stretch<'a> {
    filed: &'a Filed,
    at: u64,
    end: u64,
}

impl Read for Stretch<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let most = usize::try_from(self.end - self.at).unwrap_or(usize::MAX).min(buf.len());
        let count = self.filed.file.read_at(buf.get_mut(..most).unwrap_or_default(), self.at)?;
        self.at += count as u64;
        Ok(count)
    }
}

impl Seek for Stretch<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let place = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.end.checked_add_signed(by),
        };
        self.at = place.filter(|at| *at <= self.end).ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// Reads fields in their order; lengths are held against what is left.
pub(super) struct Reader<'a> {
    filed: &'a Filed,
    inner: BufReader<Stretch<'a>>,
    at: u64,
    end: u64,
}

impl Reader<'_> {
    pub(super) fn is_at_end(&self) -> bool {
        self.at == self.end
    }

    pub(super) fn filed(&self) -> Filed {
        self.filed.clone()
    }

    /// The place of the next byte in the file.
    pub(super) fn at(&self) -> u64 {
        self.at
    }

    fn take(&mut self, bytes: u64) -> Result<(), CoreError> {
        let end = self.at.checked_add(bytes).filter(|end| *end <= self.end);
        self.at = end.ok_or_else(|| self.filed.refused("a length in it does not fit"))?;
        Ok(())
    }

    pub(super) fn bytes(&mut self, count: u32) -> Result<Vec<u8>, CoreError> {
        self.take(u64::from(count))?;
        let mut bytes = vec![0; count as usize];
        self.inner.read_exact(&mut bytes).map_err(file_error("read", self.filed.path()))?;
        Ok(bytes)
    }

    pub(super) fn skip(&mut self, bytes: u64) -> Result<(), CoreError> {
        self.take(bytes)?;
        let offset = i64::try_from(bytes).map_err(|_| self.filed.refused("a length in it does not fit"))?;
        self.inner.seek_relative(offset).map_err(file_error("read", self.filed.path()))
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], CoreError> {
        self.take(N as u64)?;
        let mut bytes = [0; N];
        self.inner.read_exact(&mut bytes).map_err(file_error("read", self.filed.path()))?;
        Ok(bytes)
    }

    pub(super) fn u16(&mut self) -> Result<u16, CoreError> {
        self.array().map(u16::from_le_bytes)
    }

    pub(super) fn u32(&mut self) -> Result<u32, CoreError> {
        self.array().map(u32::from_le_bytes)
    }

    pub(super) fn u64(&mut self) -> Result<u64, CoreError> {
        self.array().map(u64::from_le_bytes)
    }
}

/// A range with its pieces: where they stand is kept, what they hold is not read.
pub(super) fn range(reader: &mut Reader<'_>) -> Result<BundleRange, CoreError> {
    let (at, bytes) = (ByteOffset(reader.u64()?), reader.u64()?);
    let [order, ..] = reader.array::<8>()?;
    let (mut former, mut new) = (Vec::new(), Vec::new());
    let mut left = bytes;
    while left > 0 {
        let len = left.min(PIECE as u64);
        for side in [&mut former, &mut new] {
            let [kind, rest @ ..] = reader.array::<PIECE_BYTES>()?;
            let stored = u32::from_le_bytes(rest);
            if !may_hold(kind, stored, len) {
                return Err(reader.filed.refused("a piece of it has a length that cannot be"));
            }
            side.push(Spot { at: reader.at(), stored, kind });
            reader.skip(u64::from(stored))?;
        }
        left -= len;
    }
    let order = if order == 0 { Order::Copy } else { Order::Primary };
    let kept = |spots| Kept::Filed(reader.filed(), spots);
    Ok(BundleRange { at, bytes, order: Some(order), former: kept(former), new: kept(new) })
}
