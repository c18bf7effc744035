//! Reading a device past the system's memory: what comes back was asked of the drive now, in its own sectors and in no more of them
//! than were wanted.

use std::fs::{File, OpenOptions};
use std::io;
use std::ops::{Deref, DerefMut};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::sync::Mutex;

use rustix::fs::OFlags;
use rustix::io::Errno;

use crate::filling::{ReadBytes, read_full};

/// What memory begins at, in bytes, that a device is read into without a copy between.
const PAGE: usize = 4096;
/// Bytes that are read at once for buffers that do not begin so: a multiple of every sector size.
const PIECE: usize = (1 << 20) + (64 << 10);
/// Pieces of memory that are kept for the next read.
const MOST_SPARE: usize = 8;

/// Bytes that begin at a page of memory: a device fills them itself.
#[derive(Debug)]
pub struct PageBuf {
    bytes: Vec<u8>,
    start: usize,
    len: usize,
}

impl PageBuf {
    /// `len` bytes of zeros.
    #[must_use]
    pub fn new(len: usize) -> Self {
        let bytes = vec![0; len.saturating_add(PAGE)];
        // Where an address is not to be known, the bytes serve all the same: they are read by way of others.
        let start = bytes.as_ptr().align_offset(PAGE).min(PAGE);
        Self { bytes, start, len }
    }
}

impl Deref for PageBuf {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        self.bytes.get(self.start..self.start + self.len).unwrap_or_default()
    }
}

impl DerefMut for PageBuf {
    fn deref_mut(&mut self) -> &mut [u8] {
        self.bytes.get_mut(self.start..self.start + self.len).unwrap_or_default()
    }
}

/// A device that is opened past the system's memory.
pub(crate) struct Direct {
    file: File,
    /// The kernel's logical sector in bytes: what requests are multiples of.
    unit: u64,
    spare: Mutex<Vec<PageBuf>>,
}

impl Direct {
    /// Opens what `file` is opened of, whose logical sectors are `unit` bytes. `None` where the system cannot.
    pub(crate) fn open(file: &File, unit: u64) -> Option<Self> {
        Self::opened(file, unit, false)
    }

    /// The same, for writing too.
    pub(crate) fn open_to_write(file: &File, unit: u64) -> Option<Self> {
        Self::opened(file, unit, true)
    }

    fn opened(file: &File, unit: u64, writes: bool) -> Option<Self> {
        // By the descriptor: the same device, whatever stands under its path by now.
        let path = format!("/proc/self/fd/{}", file.as_raw_fd());
        let flags = OFlags::DIRECT.bits().cast_signed();
        let file = OpenOptions::new().read(true).write(writes).custom_flags(flags).open(path).ok()?;
        Some(Self { file, unit: unit.max(1), spare: Mutex::default() })
    }

    /// Writes all of `bytes` at byte `at`. `None` where place, length or memory do not begin as they must, or the system cannot: nothing
    /// is written then.
    pub(crate) fn write_bytes(&self, at: u64, bytes: &[u8]) -> Option<io::Result<()>> {
        if !self.fits(at, bytes) {
            return None;
        }
        match self.file.write_all_at(bytes, at) {
            Err(error) if error.raw_os_error() == Some(Errno::INVAL.raw_os_error()) => None,
            written => Some(written),
        }
    }

    fn fits(&self, at: u64, buf: &[u8]) -> bool {
        let page = PAGE.min(usize::try_from(self.unit).unwrap_or(PAGE)).max(512);
        at.is_multiple_of(self.unit) && (buf.len() as u64).is_multiple_of(self.unit) && buf.as_ptr().align_offset(page) == 0
    }

    /// Reads by way of memory that begins as it must, and in whole sectors.
    fn read_around(&self, at: u64, buf: &mut [u8]) -> io::Result<usize> {
        let spare = self.spare.lock().ok().and_then(|mut spare| spare.pop());
        let mut memory = spare.unwrap_or_else(|| PageBuf::new(PIECE));
        let result = self.read_by(&mut memory, at, buf);
        if let Ok(mut spare) = self.spare.lock()
            && spare.len() < MOST_SPARE
        {
            spare.push(memory);
        }
        result
    }

    fn read_by(&self, memory: &mut PageBuf, at: u64, buf: &mut [u8]) -> io::Result<usize> {
        let end = at + buf.len() as u64;
        let mut done = 0;
        while done < buf.len() {
            let here = at + done as u64;
            let start = here / self.unit * self.unit;
            let bytes = (end.div_ceil(self.unit) * self.unit - start).min(PIECE as u64);
            let piece = memory.get_mut(..usize::try_from(bytes).unwrap_or(PIECE)).unwrap_or_default();
            let filled = read_full(&self.file, start, piece)?;
            let from = usize::try_from(here - start).unwrap_or(0);
            let count = filled.saturating_sub(from).min(buf.len() - done);
            if let (Some(to), Some(from)) = (buf.get_mut(done..done + count), piece.get(from..from + count)) {
                to.copy_from_slice(from);
            }
            done += count;
            if filled < piece.len() {
                break;
            }
        }
        Ok(done)
    }
}

impl ReadBytes for Direct {
    fn read_bytes(&self, at: u64, buf: &mut [u8]) -> io::Result<usize> {
        match self.fits(at, buf) {
            true => read_full(&self.file, at, buf),
            false => self.read_around(at, buf),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    /// The same bytes as from the file, at every kind of place and length; what the file system cannot do is not tried.
    #[test]
    fn odd_places_and_lengths_come_as_they_are() {
        let folder = tempfile::tempdir_in(env!("CARGO_MANIFEST_DIR")).unwrap();
        let path = folder.path().join("drive");
        let content: Vec<u8> = (0..3_u32 << 20).map(|at| (at.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        File::create(&path).unwrap().write_all(&content).unwrap();
        let file = File::open(&path).unwrap();
        for unit in [512, 4096] {
            let Some(direct) = Direct::open(&file, unit) else { return };
            let places = [(0, 512), (1, 511), (511, 2), (4096, 4096), (4097, 1 << 20), (1_000_001, 2_000_003), (777, 0)];
            for (at, len) in places {
                let mut odd = vec![0xEE; len + 1];
                assert_eq!(direct.read_bytes(at as u64, &mut odd[1..]).unwrap(), len, "{at} {len}");
                assert!(odd[1..] == content[at..at + len], "{at} {len}");
                let mut paged = PageBuf::new(len);
                assert_eq!(direct.read_bytes(at as u64, &mut paged).unwrap(), len);
                assert!(paged[..] == content[at..at + len]);
            }
            let mut behind = vec![0; 8192];
            assert_eq!(direct.read_bytes(content.len() as u64 - 100, &mut behind).unwrap(), 100, "no more than there is");
            assert!(behind[..100] == content[content.len() - 100..]);
        }
    }

    #[test]
    fn pages_begin_where_a_device_wants_them() {
        for len in [0, 1, 512, 4096, 1 << 20] {
            let mut page = PageBuf::new(len);
            assert_eq!(page.len(), len);
            assert_eq!(page.as_ptr().align_offset(PAGE), 0);
            page.fill(7);
            assert!(page.iter().all(|byte| *byte == 7));
        }
    }
}
