//! Where bytes come from: raw images (also sparse, also split), Linux block devices, simulated drives, windows on
//! another source and copy-on-write overlays.
//!
//! Everything above reads through [`Source`], which has no way to write. Writing is a trait of its own,
//! [`WriteTarget`], opened only with [`Leave`] for that very drive.
//!
//! ```
//! use keel_source::{ByteOffset, MemorySource, Source};
//! let drive = MemorySource::new("example", vec![7u8; 4096], 512);
//! let mut sector = [0u8; 512];
//! drive.read_at(ByteOffset(512), &mut sector).unwrap();
//! assert_eq!(sector, [7u8; 512]);
//! ```
#![deny(unsafe_code)]

mod attached;
mod block;
mod budget;
mod cancel;
mod copy_log;
mod deadline;
mod device_events;
mod direct;
mod end;
mod error;
mod file;
mod filling;
mod hand_on;
mod health;
mod holders;
mod identity;
mod kernel_log;
mod leave;
mod lock;
mod looped;
mod masked;
mod memory;
mod nodes;
mod open;
mod overlay;
pub mod own;
pub mod pack;
mod payload;
mod position;
mod ranges;
mod resectored;
mod returning;
mod scsi;
mod simulated;
mod split;
mod stored;
mod sys;
mod target;
mod text;
mod window;

pub use attached::{
    Attachment, Bridge, KernelCounts, LinkRate, Settings, SettingsWanted, Transport, alignment_of, attachment_at, attachment_of,
};
pub use budget::{Budget, Budgeted, Call, Passing, Spent};
pub use cancel::Cancel;
pub use copy_log::{COPY_LOG_VERSION, CopyHashes, CopyHead, CopyLog, CopyMap, CopyState, RangeHash, copy_log_of};
pub use device_events::DeviceEvents;
pub use direct::PageBuf;
pub use end::{EndMeans, EndOrder, FurtherEnd, Lasts};
pub use error::{ReadCause, ReadError, SourceError};
pub use file::FileSource;
pub use health::{
    ErrorLog, HEALTH_PAGE_BYTES, HealthPage, NoHealth, NotReady, NvmeIdentify, OwnSize, SelfTestLog, SelfTestOrder,
};
pub use holders::{mount_points_of, mounts_at, own_medium, use_of_numbers};
pub use identity::{Identity, LinkKind};
pub use kernel_log::{KernelLine, KernelLog};
pub use leave::Leave;
pub use lock::ExclusiveLock;
pub use looped::LoopDevice;
pub use masked::Masked;
pub use memory::MemorySource;
pub use nodes::{Node, NodeWanted, Renewal, Renewed};
pub use open::{OpenOptions, Opened, open};
pub use overlay::Overlay;
pub use payload::{Generate, PIECE, Payload, Zeros};
pub use position::{ByteOffset, ByteRange, Lba, SectorCount, SectorSize};
pub use ranges::RangeSet;
pub use resectored::Resectored;
pub use returning::Returning;
pub use simulated::SimulatedDrive;
pub use split::SplitSource;
pub use stored::Stored;
pub use target::{MemoryTarget, WriteTarget, is_writing};
pub use text::{counted, printable, size_decimal};
pub use window::Window;

use std::sync::Arc;
use std::time::Duration;

/// A drive or a part of one, read-only. Every implementation may be read from several threads at once.
pub trait Source: Send + Sync {
    /// Who this drive is: model, serial, claimed size, sector sizes.
    fn identity(&self) -> &Identity;

    /// Length in bytes. A read at or past it is an error.
    fn len(&self) -> u64 {
        self.identity().bytes
    }

    /// True for a source of no bytes at all.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Logical sector size in bytes: the unit of an LBA.
    fn sector_size(&self) -> SectorSize {
        self.identity().logical_sector
    }

    /// Fills `buf` from byte `at` on.
    ///
    /// # Errors
    /// [`ReadError`] names the exact unreadable bytes; everything else of `buf` *is* delivered, the unreadable places
    /// are zeroed. A read past the end delivers what there is and reports the rest.
    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError>;

    /// Asks the drive once, for the copy of a sick one: nothing is repeated, and after an error nothing from the first bad
    /// byte to the end of the request counts as delivered.
    ///
    /// # Errors
    /// [`ReadError`] with one range, from the first byte that was not delivered to the end.
    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read_at(at, buf)
    }

    /// Places that are known to be missing from the copy of another drive, ascending; empty for everything that is no copy.
    fn missing(&self) -> &[ByteRange] {
        &[]
    }

    /// How long everything read so far took, on a drive that keeps a clock of its own.
    fn elapsed(&self) -> Option<Duration> {
        None
    }

    /// The health pages that the drive keeps of itself, as bytes.
    ///
    /// # Errors
    /// [`NoHealth`]: sources that are no drives keep none, and some drives and bridges do not hand theirs out.
    fn health_page(&self) -> Result<HealthPage, NoHealth> {
        Err(NoHealth::NotKept)
    }

    /// What the drive remembers of the tests that it made of itself.
    ///
    /// # Errors
    /// As [`Source::health_page`].
    fn self_test_log(&self) -> Result<SelfTestLog, NoHealth> {
        Err(NoHealth::NotKept)
    }

    /// The errors that the drive remembers.
    ///
    /// # Errors
    /// As [`Source::health_page`].
    fn error_log(&self) -> Result<ErrorLog, NoHealth> {
        Err(NoHealth::NotKept)
    }

    /// Has the drive test itself, or stop that. It goes on while the drive is read, and by itself.
    ///
    /// # Errors
    /// As [`Source::health_page`].
    fn self_test(&self, order: SelfTestOrder) -> Result<(), NoHealth> {
        let _ = order;
        Err(NoHealth::NotKept)
    }

    /// Why the drive does not deliver, where it says so; none for one that is ready, or says nothing of it.
    fn not_ready(&self) -> Option<NotReady> {
        None
    }

    /// What the drive itself says of its size: an enclosure's bridge may show less of it, and so may the drive.
    fn own_size(&self) -> OwnSize {
        OwnSize::default()
    }

    /// Has the drive show another number of bytes, and the system look again; the bytes that are shown then. The source itself stays as
    /// it was opened.
    ///
    /// # Errors
    /// [`SourceError::NoLeave`] without leave for this drive, [`SourceError::Mounted`] while it is in use, [`SourceError::NotSet`] with what
    /// drive or system answer; for what is no drive, that it has no such thing.
    fn set_end(&self, order: EndOrder, leave: &Leave) -> Result<u64, SourceError> {
        let _ = (order, leave);
        Err(SourceError::NotSet {
            name: self.identity().name.clone(),
            reason: "it has no maximum address that can be set".into(),
        })
    }

    /// How it is attached, for a device of this system.
    fn attachment(&self) -> Option<Attachment> {
        None
    }

    /// Changes what the kernel reads this device with; [`Attachment::settings`] tells what stands there.
    ///
    /// # Errors
    /// What the system answers: nothing is changed then. For what is no whole device, that there is nothing to change.
    fn set_settings(&self, wanted: SettingsWanted) -> std::io::Result<()> {
        let _ = wanted;
        Err(std::io::ErrorKind::Unsupported.into())
    }

    /// The partitions of this device as the kernel knows them, ascending.
    fn nodes(&self) -> Vec<Node> {
        Vec::new()
    }

    /// Writes what the system still holds of this device, and stops it, so that it can be pulled; what was done, in words.
    ///
    /// # Errors
    /// What the system or the drive answers; for what is no device, that there is nothing to stop.
    fn stop(&self) -> std::io::Result<Vec<String>> {
        Err(std::io::ErrorKind::Unsupported.into())
    }

    /// Has the kernel know the partitions of this device as they are `wanted`, after its table was written.
    ///
    /// # Errors
    /// What the system answers; for what is no whole device, that there is nothing to do.
    fn renew_nodes(&self, wanted: &[NodeWanted]) -> std::io::Result<Renewed> {
        let _ = wanted;
        Err(std::io::ErrorKind::Unsupported.into())
    }

    /// Looks for the same drive again after it dropped off the link: the system may have given it another name, and it may
    /// claim another length. The caller compares the identities.
    ///
    /// # Errors
    /// [`SourceError`] when it is not there.
    fn look_up_anew(&self) -> Result<SharedSource, SourceError> {
        Err(SourceError::Gone { name: self.identity().name.clone() })
    }

    /// The next range at or after `from` that can hold something other than zeros: holes of sparse files are skipped.
    /// `None` when only holes follow. The default knows of no holes.
    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        (from.0 < self.len()).then(|| ByteRange::new(from, ByteOffset(self.len())))
    }

    /// What those who read from here may spend; none where nobody bounds them.
    fn budget(&self) -> Option<&Budget> {
        None
    }

    /// A mark that differs whenever the bytes may have changed since it was last asked for; none where that cannot be
    /// known. What was read under a mark needs no reading again while it stays.
    fn change_mark(&self) -> Option<String> {
        None
    }

    /// Opens the same bytes for writing, with leave for this drive, under an exclusive lock.
    ///
    /// # Errors
    /// [`SourceError`] where the source cannot be written (an overlay, a window), is locked by another process, is in use by the
    /// operating system, is not any more what stands under its path, or where the leave is for another drive.
    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        let _ = leave;
        Err(SourceError::NotWritable { name: self.identity().name.clone() })
    }
}

/// A shared handle on a source: what the stages hand around.
pub type SharedSource = Arc<dyn Source>;

#[cfg(test)]
mod tests;
