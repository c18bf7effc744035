//! What fills memory from a place of a file or a device on.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;

/// Something that fills memory from a place on: a file, or a device past the system's memory.
pub(crate) trait ReadBytes {
    /// Fills `buf` from byte `at` on, as far as there is something; answers with how much that was.
    fn read_bytes(&self, at: u64, buf: &mut [u8]) -> io::Result<usize>;
}

impl ReadBytes for File {
    fn read_bytes(&self, at: u64, buf: &mut [u8]) -> io::Result<usize> {
        read_full(self, at, buf)
    }
}

/// Fills `buf` from byte `at` of `file` on, as far as there is something; answers with how much that was.
pub(crate) fn read_full(file: &File, at: u64, buf: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buf.len() {
        match file.read_at(&mut buf[filled..], at + filled as u64) {
            Ok(0) => break,
            Ok(count) => filled += count,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}
