//! The system calls that have no safe wrapper: size and sector sizes of a block device, the next data of a sparse file,
//! and the kernel's pass-through of ATA and NVMe commands that read health pages.
#![allow(unsafe_code)]

use std::ffi::c_void;
use std::fs::File;
use std::os::fd::AsRawFd;
use std::ptr;
use std::time::Duration;

use rustix::fs::{SeekFrom, seek};
use rustix::ioctl::{Getter, NoArg, Opcode, Updater, ioctl, opcode};

use crate::health::HEALTH_PAGE_BYTES;

const BLKGETSIZE64: Opcode = opcode::read::<usize>(0x12, 114);
const BLKSSZGET: Opcode = opcode::none(0x12, 104);
const BLKPBSZGET: Opcode = opcode::none(0x12, 123);

/// SCSI generic: one command with its data, from the kernel's `scsi/sg.h`.
const SG_IO: Opcode = 0x2285;
/// NVMe: one admin command, from the kernel's `linux/nvme_ioctl.h`.
const NVME_IOCTL_ADMIN_CMD: Opcode = opcode::read_write::<NvmeAdminCmd>(b'N', 0x41);
/// How long a drive may take to hand out a page.
const PAGE_TIMEOUT: Duration = Duration::from_secs(5);

/// The kernel reads the table of a drive anew, from `linux/fs.h`.
const BLKRRPART: Opcode = opcode::none(0x12, 95);
/// One partition put in or taken out, from `linux/blkpg.h`.
const BLKPG: Opcode = opcode::none(0x12, 105);
const BLKPG_ADD_PARTITION: i32 = 1;
const BLKPG_DEL_PARTITION: i32 = 2;

/// `struct blkpg_partition`.
#[repr(C)]
struct BlkpgPartition {
    start: i64,
    length: i64,
    pno: i32,
    devname: [u8; 64],
    volname: [u8; 64],
}
const _: () = assert!(size_of::<BlkpgPartition>() == 152);

/// `struct blkpg_ioctl_arg`.
#[repr(C)]
struct BlkpgIoctlArg {
    op: i32,
    flags: i32,
    datalen: i32,
    data: *mut c_void,
}

/// A reset of a SCSI device, from the kernel's `scsi/scsi_ioctl.h`, and of a USB device, from `linux/usbdevice_fs.h`.
const SG_SCSI_RESET: Opcode = 0x2284;
const USBDEVFS_RESET: Opcode = opcode::none(b'U', 20);

/// How much is reset.
#[derive(Debug, Clone, Copy)]
pub(crate) enum ResetLevel {
    /// The device alone.
    Device,
    /// Everything on its bus: for SATA, its link.
    Bus,
}

/// Resets the SCSI device `file`.
pub(crate) fn reset_device(file: &File, level: ResetLevel) -> rustix::io::Result<()> {
    let mut code: i32 = match level {
        ResetLevel::Device => 1,
        ResetLevel::Bus => 2,
    };
    // SAFETY: SG_SCSI_RESET reads one C int, which `code` is, and keeps no pointer to it.
    unsafe { ioctl(file, Updater::<SG_SCSI_RESET, i32>::new(&mut code)) }
}

/// Resets the port of the USB device whose node is `file`.
pub(crate) fn reset_usb_port(file: &File) -> rustix::io::Result<()> {
    // SAFETY: USBDEVFS_RESET takes no argument.
    unsafe { ioctl(file, NoArg::<USBDEVFS_RESET>::new()) }
}

/// Buffers of a device, from `linux/fs.h`.
const BLKFLSBUF: Opcode = opcode::none(0x12, 97);

/// Writes what the system holds of the device `file`, and forgets it.
pub(crate) fn flush_device(file: &File) -> rustix::io::Result<()> {
    rustix::fs::fsync(file)?;
    // SAFETY: BLKFLSBUF takes no argument.
    unsafe { ioctl(file, NoArg::<BLKFLSBUF>::new()) }
}

/// Has the kernel read the table of the whole drive `file` anew; `BUSY` while one of its partitions is in use.
pub(crate) fn reread_partitions(file: &File) -> rustix::io::Result<()> {
    // SAFETY: BLKRRPART takes no argument.
    unsafe { ioctl(file, NoArg::<BLKRRPART>::new()) }
}

/// Puts partition `number` on bytes `start` and `bytes` of the whole drive `file` into the kernel's list.
pub(crate) fn add_partition(file: &File, number: u32, (start, bytes): (u64, u64)) -> rustix::io::Result<()> {
    change_partition(file, BLKPG_ADD_PARTITION, number, (start, bytes))
}

/// Takes partition `number` of the whole drive `file` out of the kernel's list; `BUSY` while it is in use.
pub(crate) fn remove_partition(file: &File, number: u32) -> rustix::io::Result<()> {
    change_partition(file, BLKPG_DEL_PARTITION, number, (0, 0))
}

fn change_partition(file: &File, op: i32, number: u32, (start, bytes): (u64, u64)) -> rustix::io::Result<()> {
    let whole = |value: u64| i64::try_from(value).map_err(|_| rustix::io::Errno::INVAL);
    let pno = i32::try_from(number).map_err(|_| rustix::io::Errno::INVAL)?;
    let (start, length) = (whole(start)?, whole(bytes)?);
    let mut partition = BlkpgPartition { start, length, pno, devname: [0; 64], volname: [0; 64] };
    let datalen = i32::try_from(size_of::<BlkpgPartition>()).map_err(|_| rustix::io::Errno::INVAL)?;
    let mut argument = BlkpgIoctlArg { op, flags: 0, datalen, data: (&raw mut partition).cast() };
    // SAFETY: BLKPG reads one `blkpg_ioctl_arg`, which `argument` is laid out as, and through its pointer one `blkpg_partition`, which
    // outlives the call and is as long as `datalen` says.
    unsafe { ioctl(file, Updater::<BLKPG, BlkpgIoctlArg>::new(&mut argument)) }
}

/// Loop devices: status, from the kernel's `linux/loop.h`.
const LOOP_GET_STATUS64: Opcode = 0x4C05;

/// `struct loop_info64`.
#[repr(C)]
struct LoopInfo64 {
    lo_device: u64,
    lo_inode: u64,
    lo_rdevice: u64,
    lo_offset: u64,
    lo_sizelimit: u64,
    lo_number: u32,
    lo_encrypt_type: u32,
    lo_encrypt_key_size: u32,
    lo_flags: u32,
    lo_file_name: [u8; 64],
    lo_crypt_name: [u8; 64],
    lo_encrypt_key: [u8; 32],
    lo_init: [u64; 2],
}
const _: () = assert!(size_of::<LoopInfo64>() == 232);

/// `struct loop_config`.
#[repr(C)]
struct LoopConfig {
    fd: u32,
    block_size: u32,
    info: LoopInfo64,
    reserved: [u64; 8],
}
const _: () = assert!(size_of::<LoopConfig>() == 304);

/// `LOOP_CONFIGURE` and `LOOP_CTL_GET_FREE`.
const LOOP_CONFIGURE: Opcode = 0x4C0A;
const LOOP_CTL_GET_FREE: Opcode = 0x4C82;
/// `LO_FLAGS_READ_ONLY`, and `LO_FLAGS_AUTOCLEAR`: detached by the kernel when nobody has it open any more.
const LO_FLAGS_READ_ONLY: u32 = 1;
const LO_FLAGS_AUTOCLEAR: u32 = 4;

/// The number of a loop device that nobody uses, from `/dev/loop-control` opened as `control`.
pub(crate) fn free_loop(control: &File) -> rustix::io::Result<u32> {
    struct GetFree;
    // SAFETY: the request takes no argument and writes nothing: it answers with a number, or an error.
    unsafe impl rustix::ioctl::Ioctl for GetFree {
        type Output = u32;
        const IS_MUTATING: bool = false;

        fn opcode(&self) -> Opcode {
            LOOP_CTL_GET_FREE
        }

        fn as_ptr(&mut self) -> *mut c_void {
            ptr::null_mut()
        }

        unsafe fn output_from_ptr(out: rustix::ioctl::IoctlOutput, _: *mut c_void) -> rustix::io::Result<u32> {
            u32::try_from(out).map_err(|_| rustix::io::Errno::INVAL)
        }
    }
    // SAFETY: as above.
    unsafe { ioctl(control, GetFree) }
}

/// Binds the loop device `device` to `bytes` bytes of `backing` from byte `offset` on, read-only, in sectors of `sector` bytes; it is
/// detached when the last of those who have it open closes it.
pub(crate) fn bind_loop(device: &File, backing: &File, (offset, bytes): (u64, u64), sector: u32) -> rustix::io::Result<()> {
    let mut config = LoopConfig {
        fd: backing.as_raw_fd().cast_unsigned(),
        block_size: sector,
        info: LoopInfo64 {
            lo_device: 0,
            lo_inode: 0,
            lo_rdevice: 0,
            lo_offset: offset,
            lo_sizelimit: bytes,
            lo_number: 0,
            lo_encrypt_type: 0,
            lo_encrypt_key_size: 0,
            lo_flags: LO_FLAGS_READ_ONLY | LO_FLAGS_AUTOCLEAR,
            lo_file_name: [0; 64],
            lo_crypt_name: [0; 64],
            lo_encrypt_key: [0; 32],
            lo_init: [0; 2],
        },
        reserved: [0; 8],
    };
    // SAFETY: LOOP_CONFIGURE reads one `struct loop_config`, which this is, and keeps no pointer to it.
    unsafe { ioctl(device, Updater::<LOOP_CONFIGURE, LoopConfig>::new(&mut config)) }
}

/// `struct sg_io_hdr`.
#[repr(C)]
struct SgIoHdr {
    interface_id: i32,
    dxfer_direction: i32,
    cmd_len: u8,
    mx_sb_len: u8,
    iovec_count: u16,
    dxfer_len: u32,
    dxferp: *mut c_void,
    cmdp: *mut u8,
    sbp: *mut u8,
    timeout: u32,
    flags: u32,
    pack_id: i32,
    usr_ptr: *mut c_void,
    status: u8,
    masked_status: u8,
    msg_status: u8,
    sb_len_wr: u8,
    host_status: u16,
    driver_status: u16,
    resid: i32,
    duration: u32,
    info: u32,
}

/// `struct nvme_admin_cmd`.
#[repr(C)]
#[derive(Default)]
struct NvmeAdminCmd {
    opcode: u8,
    flags: u8,
    rsvd1: u16,
    nsid: u32,
    cdw2: u32,
    cdw3: u32,
    metadata: u64,
    addr: u64,
    metadata_len: u32,
    data_len: u32,
    cdw10: u32,
    cdw11: u32,
    cdw12: u32,
    cdw13: u32,
    cdw14: u32,
    cdw15: u32,
    timeout_ms: u32,
    result: u32,
}

/// What a command carries.
pub(crate) enum Transfer<'a> {
    /// From the drive.
    In(&'a mut [u8]),
    /// To the drive.
    Out(&'a [u8]),
    /// Nothing.
    Nothing,
}

/// How a command that was passed through came back.
#[derive(Debug)]
pub(crate) struct Passed {
    /// SCSI status byte: 0 is good, 2 has sense data.
    pub(crate) status: u8,
    /// The adapter's status, from the kernel's `scsi/scsi_status.h`.
    pub(crate) host_status: u16,
    /// Sense data, as long as it is.
    pub(crate) sense: Vec<u8>,
    /// Bytes that were not transferred.
    pub(crate) residual: i32,
}

/// Passes one SCSI command to the drive, which may take `limit`. An error says that it was not carried out at all.
pub(crate) fn scsi_command(
    file: &File,
    command: &mut [u8],
    transfer: Transfer<'_>,
    limit: Duration,
) -> rustix::io::Result<Passed> {
    // From the kernel's `scsi/sg.h`: SG_DXFER_FROM_DEV, SG_DXFER_TO_DEV and SG_DXFER_NONE.
    let (data, length, direction) = match transfer {
        Transfer::In(data) => (data.as_mut_ptr(), data.len(), -3),
        Transfer::Out(data) => (data.as_ptr().cast_mut(), data.len(), -2),
        Transfer::Nothing => (ptr::null_mut(), 0, -1),
    };
    let mut sense = [0u8; 64];
    let length = u32::try_from(length).map_err(|_| rustix::io::Errno::INVAL)?;
    let mut header = SgIoHdr {
        interface_id: i32::from(b'S'),
        dxfer_direction: direction,
        cmd_len: u8::try_from(command.len()).map_err(|_| rustix::io::Errno::INVAL)?,
        mx_sb_len: 64,
        iovec_count: 0,
        dxfer_len: length,
        dxferp: data.cast(),
        cmdp: command.as_mut_ptr(),
        sbp: sense.as_mut_ptr(),
        timeout: u32::try_from(limit.as_millis()).unwrap_or(u32::MAX),
        flags: 0,
        pack_id: 0,
        usr_ptr: ptr::null_mut(),
        status: 0,
        masked_status: 0,
        msg_status: 0,
        sb_len_wr: 0,
        host_status: 0,
        driver_status: 0,
        resid: 0,
        duration: 0,
        info: 0,
    };
    // SAFETY: SG_IO reads and writes one `sg_io_hdr`, which `header` is laid out as. Its three pointers lead to the data of `transfer`,
    // `command` and `sense`, which outlive the call and are as long as the lengths beside them say; data that goes out is only read.
    unsafe { ioctl(file, Updater::<SG_IO, SgIoHdr>::new(&mut header)) }?;
    let written = sense.get(..usize::from(header.sb_len_wr)).unwrap_or(&sense);
    Ok(Passed { status: header.status, host_status: header.host_status, sense: written.to_vec(), residual: header.resid })
}

/// Reads log page 02h of an NVMe drive.
pub(crate) fn nvme_health_log(file: &File) -> rustix::io::Result<Box<[u8; HEALTH_PAGE_BYTES]>> {
    let log = nvme_log(file, 0x02, HEALTH_PAGE_BYTES)?;
    log.into_boxed_slice().try_into().map_err(|_| rustix::io::Errno::IO)
}

/// Reads the first `bytes` bytes, a multiple of four, of log page `page` of an NVMe drive.
pub(crate) fn nvme_log(file: &File, page: u8, bytes: usize) -> rustix::io::Result<Vec<u8>> {
    let mut log = vec![0u8; bytes];
    let length = u32::try_from(bytes).map_err(|_| rustix::io::Errno::INVAL)?;
    let mut command = NvmeAdminCmd {
        opcode: 0x02,
        nsid: u32::MAX,
        addr: log.as_mut_ptr() as u64,
        data_len: length,
        cdw10: u32::from(page) | (length / 4 - 1) << 16,
        timeout_ms: PAGE_TIMEOUT.as_millis() as u32,
        ..NvmeAdminCmd::default()
    };
    // SAFETY: the call reads and writes one `nvme_admin_cmd`, which `command` is laid out as. `addr` leads to `log`, which
    // outlives the call and holds `data_len` bytes.
    unsafe { ioctl(file, Updater::<NVME_IOCTL_ADMIN_CMD, NvmeAdminCmd>::new(&mut command)) }?;
    Ok(log)
}

/// Identify data of an NVMe drive: structure `cns`, 4096 bytes.
pub(crate) fn nvme_identify(file: &File, cns: u32) -> rustix::io::Result<Vec<u8>> {
    let mut data = vec![0u8; 4096];
    let mut command = NvmeAdminCmd {
        opcode: 0x06,
        addr: data.as_mut_ptr() as u64,
        data_len: 4096,
        cdw10: cns,
        timeout_ms: PAGE_TIMEOUT.as_millis() as u32,
        ..NvmeAdminCmd::default()
    };
    // SAFETY: the call reads and writes one `nvme_admin_cmd`, which `command` is laid out as. `addr` leads to `data`, which
    // outlives the call and holds `data_len` bytes.
    unsafe { ioctl(file, Updater::<NVME_IOCTL_ADMIN_CMD, NvmeAdminCmd>::new(&mut command)) }?;
    Ok(data)
}

/// NVMe Device Self-test with self-test code `code`, for all name spaces.
pub(crate) fn nvme_self_test(file: &File, code: u32) -> rustix::io::Result<()> {
    let timeout_ms = PAGE_TIMEOUT.as_millis() as u32;
    let mut command = NvmeAdminCmd { opcode: 0x14, nsid: u32::MAX, cdw10: code, timeout_ms, ..NvmeAdminCmd::default() };
    // SAFETY: the call reads and writes one `nvme_admin_cmd`, which `command` is laid out as; the command carries no data.
    unsafe { ioctl(file, Updater::<NVME_IOCTL_ADMIN_CMD, NvmeAdminCmd>::new(&mut command)) }?;
    Ok(())
}

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

/// Device and inode number of the file behind a loop device, and the device that this file is; 0 for one that is none.
pub(crate) fn loop_backing(file: &File) -> rustix::io::Result<((u64, u64), u64)> {
    // SAFETY: LOOP_GET_STATUS64 writes one `loop_info64`, which `LoopInfo64` is laid out as, through the pointer that `Getter`
    // provides, and reads nothing.
    let info = unsafe { ioctl(file, Getter::<LOOP_GET_STATUS64, LoopInfo64>::new()) }?;
    Ok(((info.lo_device, info.lo_inode), info.lo_rdevice))
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
