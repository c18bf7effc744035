//! A part of an image as a block device, for a kernel to mount: read-only, and gone with the value.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use rustix::io::Errno;

use crate::{ByteRange, SectorSize, sys};

/// How often a number that somebody else took meanwhile is asked for anew.
const TRIES: u32 = 64;

/// A loop device over a part of an image or a device. The kernel detaches it when it is dropped and nothing is mounted from it any
/// more, also when this process is killed.
pub struct LoopDevice {
    path: PathBuf,
    _open: File,
}

impl LoopDevice {
    /// A read-only loop device over `range` of the file or device at `path`, in sectors of `sector` bytes.
    ///
    /// # Errors
    /// Those of the system: no right to, no loop devices, a range that is none.
    pub fn over(path: &Path, range: ByteRange, sector: SectorSize) -> io::Result<Self> {
        let backing = File::open(path)?;
        let control = File::open("/dev/loop-control")?;
        for _ in 0..TRIES {
            let path = PathBuf::from(format!("/dev/loop{}", sys::free_loop(&control)?));
            let open = File::open(&path)?;
            match sys::bind_loop(&open, &backing, (range.start.0, range.len()), sector.0) {
                Ok(()) => return Ok(Self { path, _open: open }),
                // Somebody else was quicker.
                Err(Errno::BUSY) => {}
                Err(error) => return Err(error.into()),
            }
        }
        Err(Errno::BUSY.into())
    }

    /// Its path.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }
}

#[cfg(test)]
mod tests {
    use std::io::Read;

    use super::*;
    use crate::ByteOffset;

    #[test]
    fn a_loop_device_shows_its_part_alone_and_is_gone_with_its_value() {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("drive.img");
        std::fs::write(&image, (0..64u64 << 10).map(|at| (at / 512) as u8).collect::<Vec<_>>()).unwrap();
        let device = LoopDevice::over(&image, ByteRange::sized(ByteOffset(4096), 8192), SectorSize(512)).unwrap();
        let mut seen = Vec::new();
        File::open(device.path()).unwrap().read_to_end(&mut seen).unwrap();
        assert!(seen == (8..24u8).flat_map(|sector| [sector; 512]).collect::<Vec<_>>());
        let before = std::fs::read(&image).unwrap();
        let written = File::options().write(true).open(device.path()).and_then(|device| {
            std::os::unix::fs::FileExt::write_all_at(&device, &[7; 512], 0)?;
            device.sync_all()
        });
        assert!(written.is_err() && std::fs::read(&image).unwrap() == before, "nothing is written through it");
        let backing = format!("/sys/block/{}/loop/backing_file", device.path().file_name().unwrap().to_string_lossy());
        assert!(std::fs::read_to_string(&backing).unwrap().contains("drive.img"));
        drop(device);
        let gone = (0..100).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(20));
            !std::fs::read_to_string(&backing).unwrap_or_default().contains("drive.img")
        });
        assert!(gone);
    }
}
