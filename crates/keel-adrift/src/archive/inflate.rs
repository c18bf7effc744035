//! Deflated data (RFC 1951), followed to their end without keeping what they hold.

use std::io::Read;

use flate2::{Decompress, FlushDecompress, Status};

use crate::walk::{Broken, Step, Walk, wrong};

/// What deflated data come to.
pub(crate) struct Inflated {
    /// The place behind them.
    pub(crate) end: u64,
    /// Bytes that they hold.
    pub(crate) bytes: u64,
    /// CRC-32 of those.
    pub(crate) crc32: u32,
}

/// Follows deflated data from `at`, which end before `end`; `zlib` where they carry a head and a checksum of their own (RFC 1950).
pub(crate) fn inflate(walk: &mut Walk<'_>, at: u64, end: u64, zlib: bool) -> Step<Inflated> {
    let (mut packed, mut plain) = (vec![0; 16 << 10], vec![0; 64 << 10]);
    let (mut inflater, mut hasher) = (Decompress::new(zlib), crc32fast::Hasher::new());
    let mut stream = walk.stream(at, end);
    let (mut have, mut used) = (0, 0);
    loop {
        if used == have {
            match stream.read(&mut packed) {
                Ok(count) => (have, used) = (count, 0),
                Err(_) => return Err(stream.broken.take().unwrap_or(Broken::End)),
            }
            if have == 0 {
                return Err(Broken::End);
            }
        }
        let (read, made) = (inflater.total_in(), inflater.total_out());
        let status = inflater.decompress(packed.get(used..have).unwrap_or_default(), &mut plain, FlushDecompress::None);
        let (read, made) = (inflater.total_in() - read, inflater.total_out() - made);
        used += usize::try_from(read).unwrap_or(0);
        hasher.update(plain.get(..usize::try_from(made).unwrap_or(0)).unwrap_or_default());
        match status {
            Ok(Status::StreamEnd) => {
                let end = at + inflater.total_in();
                return Ok(Inflated { end, bytes: inflater.total_out(), crc32: hasher.finalize() });
            }
            Ok(_) if read > 0 || made > 0 => {}
            _ => return wrong("its packed data break"),
        }
    }
}
