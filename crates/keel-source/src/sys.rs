//! The system calls that have no safe wrapper: size and sector sizes of a block device, and the next data of a
//! sparse file.
#![allow(unsafe_code)]

use std::fs::File;

use rustix::fs::{SeekFrom, seek};
use rustix::ioctl::{Getter, Opcode, ioctl, opcode};

const BLKGETSIZE64: Opcode = opcode::read::<usize>(0x12, 114);
const BLKSSZGET: Opcode = opcode::none(0x12, 104);
const BLKPBSZGET: Opcode = opcode::none(0x12, 123);

/// Size of the block device in bytes.
pub(crate) fn device_bytes(file: &File) -> rustix::io::Result<u64> {
    // SAFETY: BLKGETSIZE64 writes one u64 through the pointer that `Getter` provides, and reads nothing.
    unsafe { ioctl(file, Getter::<BLKGETSIZE64, u64>::new()) }
}

/// Logical sector size of the block device in bytes.
pub(crate) fn device_logical_sector(file: &File) -> rustix::io::Result<u32> {
    // SAFETY: BLKSSZGET writes one C int through the pointer that `Getter` provides, and reads nothing.
    unsafe { ioctl(file, Getter::<BLKSSZGET, i32>::new()) }.map(i32::unsigned_abs)
}

/// Physical sector size of the block device in bytes.
pub(crate) fn device_physical_sector(file: &File) -> rustix::io::Result<u32> {
    // SAFETY: BLKPBSZGET writes one C unsigned int through the pointer that `Getter` provides, and reads nothing.
    unsafe { ioctl(file, Getter::<BLKPBSZGET, u32>::new()) }
}

/// The next range of `file` at or after `from` that is not a hole, cut at `len`. `None` when only a hole follows.
/// A file system without hole information answers with all the rest.
pub(crate) fn next_data(file: &File, from: u64, len: u64) -> Option<(u64, u64)> {
    if from >= len {
        return None;
    }
    match seek(file, SeekFrom::Data(from)) {
        Ok(start) if start >= len => None,
        Ok(start) => {
            let end = seek(file, SeekFrom::Hole(start)).unwrap_or(len);
            Some((start, end.clamp(start, len)))
        }
        Err(rustix::io::Errno::NXIO) => None,
        Err(_) => Some((from, len)),
    }
}
