//! Compressed files: what the attribute `com.apple.decmpfs` says, and unpacking by zlib, LZVN and LZFSE.

use std::io::Read;

use keel_source::{ByteOffset, ByteRange};

use crate::{FormatError, Problem, StreamReader, View};

/// The attribute that says how a file is compressed.
pub(super) const ATTRIBUTE: &str = "com.apple.decmpfs";
/// `compression_magic`, as it stands on the drive.
const MAGIC: &[u8; 4] = b"fpmc";
/// Bytes that every chunk unpacks to, save the last.
const CHUNK: u64 = 0x1_0000;
/// The largest compressed chunk that is read: a chunk that does not pack is kept a little larger than it is.
const LARGEST_CHUNK: usize = 0x2_0000;
/// The most chunks of one file: 64 GiB of content.
const MOST_CHUNKS: u32 = 1 << 20;

/// The methods.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Method {
    Zlib,
    Lzvn,
    Lzfse,
    Plain,
}

/// What the attribute says.
#[derive(Debug, Clone)]
pub struct Compression {
    method: Method,
    in_resource_fork: bool,
    /// Length of the content in bytes.
    pub bytes: u64,
    content: Vec<u8>,
}

impl Compression {
    /// Reads the attribute's value.
    ///
    /// # Errors
    /// [`FormatError`] for a wrong magic or a type that is not known here.
    pub fn parse(view: View<'_>) -> Result<Self, FormatError> {
        if view.slice(0, 4, "compression_magic")? != MAGIC {
            return Err(view.wrong(0, "compression_magic", u64::from(view.u32(0, "compression_magic")?), "cmpf"));
        }
        let code = view.u32(4, "compression_type")?;
        let (method, in_resource_fork) = match code {
            3 => (Method::Zlib, false),
            4 => (Method::Zlib, true),
            7 => (Method::Lzvn, false),
            8 => (Method::Lzvn, true),
            9 => (Method::Plain, false),
            10 => (Method::Plain, true),
            11 => (Method::Lzfse, false),
            12 => (Method::Lzfse, true),
            _ => return Err(view.wrong(4, "compression_type", u64::from(code), "3, 4 or 7 to 12")),
        };
        let content = view.bytes().get(16..).unwrap_or_default().to_vec();
        Ok(Self { method, in_resource_fork, bytes: view.u64(8, "uncompressed_size")?, content })
    }

    /// True when the packed content stands in the resource fork.
    #[must_use]
    pub fn is_in_resource_fork(&self) -> bool {
        self.in_resource_fork
    }

    /// The content as a stream; `resource` is the resource fork.
    ///
    /// # Errors
    /// [`FormatError`] when the table of chunks cannot be read.
    pub fn open(self, at: ByteOffset, resource: Option<Box<dyn StreamReader>>) -> Result<Box<dyn StreamReader>, FormatError> {
        if !self.in_resource_fork {
            let unpacked = unpack(self.method, &self.content, usize::try_from(self.bytes.min(CHUNK)).unwrap_or(0));
            let unpacked = unpacked
                .ok_or_else(|| FormatError::new("compressed content", at, Problem::Coding("the packed content is damaged")))?;
            return Ok(Box::new(crate::MemoryStream(unpacked)));
        }
        let missing = || FormatError::new("compressed content", at, Problem::Missing("resource fork"));
        let mut resource = resource.ok_or_else(missing)?;
        let chunks =
            if self.method == Method::Zlib { zlib_chunks(resource.as_mut(), at)? } else { plain_chunks(resource.as_mut(), at)? };
        Ok(Box::new(Packed { method: self.method, bytes: self.bytes, resource, chunks, last: None }))
    }
}

/// Unpacks one chunk to at most `limit` bytes. A first byte of 0xFF (zlib) or 0x06 (LZVN) marks content kept as it is.
fn unpack(method: Method, packed: &[u8], limit: usize) -> Option<Vec<u8>> {
    let (first, rest) = packed.split_first()?;
    match method {
        Method::Plain => Some(packed.get(1..).unwrap_or_default().to_vec()),
        Method::Zlib if *first & 0x0F == 0x0F => Some(rest.to_vec()),
        Method::Lzvn if *first == 0x06 => Some(rest.to_vec()),
        Method::Lzfse if *first == 0xFF => Some(rest.to_vec()),
        Method::Zlib => {
            let mut out = Vec::new();
            flate2::read::ZlibDecoder::new(packed).take(limit as u64).read_to_end(&mut out).ok()?;
            Some(out)
        }
        Method::Lzvn => {
            // The packed chunk stands alone here; the decoder wants the frame around it.
            let mut framed = b"bvxn".to_vec();
            framed.extend(u32::try_from(limit).ok()?.to_le_bytes());
            framed.extend(u32::try_from(packed.len()).ok()?.to_le_bytes());
            framed.extend(packed);
            framed.extend(b"bvx$");
            lzfse(&framed, limit)
        }
        Method::Lzfse => lzfse(packed, limit),
    }
}

fn lzfse(packed: &[u8], limit: usize) -> Option<Vec<u8>> {
    // A few packed bytes may stand for gigabytes: no more is unpacked than is wanted.
    let mut out = Vec::new();
    let mut decoder = lzfse_rust::LzfseRingDecoder::default();
    decoder.reader_bytes(packed).take(limit as u64 + 1).read_to_end(&mut out).ok()?;
    (out.len() <= limit).then_some(out)
}

fn read_exact(stream: &mut dyn StreamReader, at: u64, len: usize, place: ByteOffset) -> Result<Vec<u8>, FormatError> {
    let mut bytes = vec![0; len];
    let bad: u64 = stream.read(at, &mut bytes).iter().map(|range| range.len()).sum();
    match bad {
        0 => Ok(bytes),
        bytes => Err(FormatError::new("compressed content", place, Problem::Unreadable { bytes })),
    }
}

/// Offset and length of each chunk of a zlib resource fork: a resource header, then a count and a table.
fn zlib_chunks(resource: &mut dyn StreamReader, at: ByteOffset) -> Result<Vec<(u64, u32)>, FormatError> {
    let head = read_exact(resource, 0, 4, at)?;
    let data = u64::from(View::new("resource header", at, &head).u32(0, "data offset")?.swap_bytes());
    // The data begins with its own length; the table counts from behind it.
    let base = data + 4;
    let count = View::new("chunk table", at, &read_exact(resource, base, 4, at)?).u32(0, "count")?;
    if count > MOST_CHUNKS {
        return Err(FormatError::value("chunk table", at, "count", u64::from(count), "at most 1048576 chunks"));
    }
    let table = read_exact(resource, base + 4, count as usize * 8, at)?;
    let view = View::new("chunk table", at, &table);
    (0..count as usize)
        .map(|index| Ok((base + u64::from(view.u32(index * 8, "offset")?), view.u32(index * 8 + 4, "length")?)))
        .collect()
}

/// Offset and length of each chunk of the other methods: the fork begins with the offsets, the last one its end.
fn plain_chunks(resource: &mut dyn StreamReader, at: ByteOffset) -> Result<Vec<(u64, u32)>, FormatError> {
    let first = View::new("chunk table", at, &read_exact(resource, 0, 4, at)?).u32(0, "offset")?;
    if first < 8 || !first.is_multiple_of(4) || first / 4 > MOST_CHUNKS {
        return Err(FormatError::value("chunk table", at, "offset", u64::from(first), "the end of the table of offsets"));
    }
    let table = read_exact(resource, 0, first as usize, at)?;
    let offsets: Vec<u32> = table.as_chunks::<4>().0.iter().map(|word| u32::from_le_bytes(*word)).collect();
    Ok(offsets.iter().zip(offsets.iter().skip(1)).map(|(from, to)| (u64::from(*from), to.saturating_sub(*from))).collect())
}

/// A file that is unpacked chunk by chunk from its resource fork.
struct Packed {
    method: Method,
    bytes: u64,
    resource: Box<dyn StreamReader>,
    chunks: Vec<(u64, u32)>,
    last: Option<(usize, Vec<u8>)>,
}

impl Packed {
    fn chunk(&mut self, index: usize) -> Option<&[u8]> {
        if self.last.as_ref().is_none_or(|(last, _)| *last != index) {
            let (at, len) = *self.chunks.get(index)?;
            let len = usize::try_from(len).ok().filter(|len| *len <= LARGEST_CHUNK)?;
            let packed = read_exact(self.resource.as_mut(), at, len, ByteOffset(0)).ok()?;
            let left = self.bytes.saturating_sub(index as u64 * CHUNK).min(CHUNK);
            let wanted = usize::try_from(left).ok()?;
            let unpacked = unpack(self.method, &packed, wanted).filter(|bytes| bytes.len() == wanted)?;
            self.last = Some((index, unpacked));
        }
        self.last.as_ref().map(|(_, bytes)| bytes.as_slice())
    }
}

impl StreamReader for Packed {
    fn bytes(&self) -> u64 {
        self.bytes
    }

    fn read(&mut self, at: u64, buf: &mut [u8]) -> Vec<ByteRange> {
        buf.fill(0);
        let mut bad = Vec::new();
        let mut done = 0usize;
        while done < buf.len() {
            let here = at.saturating_add(done as u64);
            let inside = usize::try_from(here % CHUNK).unwrap_or(0);
            let count = (buf.len() - done).min(CHUNK as usize - inside);
            let index = usize::try_from(here / CHUNK).unwrap_or(usize::MAX);
            let piece = self.chunk(index).and_then(|bytes| bytes.get(inside..)).filter(|bytes| bytes.len() >= count);
            match (piece, buf.get_mut(done..done + count)) {
                (Some(bytes), Some(out)) => out.iter_mut().zip(bytes).for_each(|(slot, byte)| *slot = *byte),
                _ => bad.push(ByteRange::sized(ByteOffset(here), count as u64)),
            }
            done += count;
        }
        bad
    }
}
