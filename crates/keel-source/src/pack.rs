//! The pack: a sparse image in a small file, for demo drives and test fixtures. Its format stands in
//! `docs/formats.md`.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::Path;

use flate2::Compression;
use flate2::read::ZlibDecoder;
use flate2::write::ZlibEncoder;

/// First eight bytes of a pack.
pub const MAGIC: &[u8; 8] = b"YKPACK\r\n";
/// Version of the format.
pub const VERSION: u32 = 1;
/// Zeros of this many bytes, aligned, are left out.
const GRAIN: usize = 4096;
/// The most stretches of data a pack may have.
const MOST_STRETCHES: u32 = 1 << 20;
/// Bytes written at once when unpacking.
const STEP: u64 = 1 << 20;

fn invalid(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

/// Packs the image at `image`: its data without holes and zeros, compressed.
///
/// # Errors
/// Those of reading the image and writing to `out`.
pub fn pack(image: &Path, out: &mut dyn Write) -> io::Result<()> {
    let file = File::open(image)?;
    let len = file.metadata()?.len();
    let mut stretches: Vec<(u64, u64)> = Vec::new();
    let mut buf = vec![0; GRAIN];
    let mut at = 0;
    while let Some((start, end)) = crate::sys::next_data(&file, at, len) {
        at = start / GRAIN as u64 * GRAIN as u64;
        while at < end {
            let count = usize::try_from(len - at).unwrap_or(GRAIN).min(GRAIN);
            file.read_exact_at(&mut buf[..count], at)?;
            if buf[..count].iter().any(|byte| *byte != 0) {
                match stretches.last_mut() {
                    Some((last, bytes)) if *last + *bytes == at => *bytes += count as u64,
                    _ => stretches.push((at, count as u64)),
                }
            }
            at += count as u64;
        }
    }
    out.write_all(MAGIC)?;
    out.write_all(&VERSION.to_le_bytes())?;
    out.write_all(&u32::try_from(stretches.len()).map_err(|_| invalid("too many stretches"))?.to_le_bytes())?;
    out.write_all(&len.to_le_bytes())?;
    let mut body = ZlibEncoder::new(out, Compression::best());
    for (start, bytes) in &stretches {
        body.write_all(&start.to_le_bytes())?;
        body.write_all(&bytes.to_le_bytes())?;
    }
    for (start, bytes) in stretches {
        let mut data = vec![0; usize::try_from(bytes).map_err(|_| invalid("a stretch is too long"))?];
        file.read_exact_at(&mut data, start)?;
        body.write_all(&data)?;
    }
    body.finish()?;
    Ok(())
}

/// Unpacks `packed` into a new sparse image at `image`.
///
/// # Errors
/// [`io::ErrorKind::InvalidData`] for a pack that is none or is damaged; those of writing the image.
pub fn unpack(packed: &mut dyn Read, image: &Path) -> io::Result<()> {
    let mut head = [0; 24];
    packed.read_exact(&mut head)?;
    let number = |from: usize| u32::from_le_bytes([head[from], head[from + 1], head[from + 2], head[from + 3]]);
    if &head[..8] != MAGIC || number(8) != VERSION {
        return Err(invalid("not a pack of version 1"));
    }
    let count = number(12);
    let len = u64::from(number(16)) | u64::from(number(20)) << 32;
    if count > MOST_STRETCHES {
        return Err(invalid("more stretches than a pack can have"));
    }
    let mut body = ZlibDecoder::new(packed);
    let mut stretches = Vec::new();
    for _ in 0..count {
        let (mut start, mut bytes) = ([0; 8], [0; 8]);
        body.read_exact(&mut start)?;
        body.read_exact(&mut bytes)?;
        let (start, bytes) = (u64::from_le_bytes(start), u64::from_le_bytes(bytes));
        if start.checked_add(bytes).is_none_or(|end| end > len) {
            return Err(invalid("a stretch reaches behind the end of the image"));
        }
        stretches.push((start, bytes));
    }
    let file = File::create(image)?;
    file.set_len(len)?;
    let mut buf = vec![0; usize::try_from(STEP).unwrap_or(1)];
    for (mut at, mut left) in stretches {
        while left > 0 {
            let piece = &mut buf[..usize::try_from(left.min(STEP)).unwrap_or(1)];
            body.read_exact(piece)?;
            file.write_all_at(piece, at)?;
            at += piece.len() as u64;
            left -= piece.len() as u64;
        }
    }
    Ok(())
}
