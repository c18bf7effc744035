//! Advisory locks: shared while a source is open, exclusive while a plan is applied.

use std::fs::File;
use std::sync::Arc;

use rustix::fs::{FlockOperation, flock};

use crate::{SourceError, holders};

/// Takes the shared lock that every opened source holds.
///
/// # Errors
/// [`SourceError::Locked`] when another process is applying a plan to the source.
pub(crate) fn lock_shared(file: &File, name: &str) -> Result<(), SourceError> {
    match flock(file, FlockOperation::NonBlockingLockShared) {
        Err(rustix::io::Errno::WOULDBLOCK) => Err(SourceError::Locked { name: name.into(), holder: "is applying a plan to it" }),
        // File systems without locks (some network mounts) still let us read.
        _ => Ok(()),
    }
}

/// An exclusive advisory lock. It converts the shared locks of the open source and falls back to them on drop: taking a
/// second one on another descriptor would collide with our own.
pub struct ExclusiveLock {
    files: Vec<Arc<File>>,
}

impl ExclusiveLock {
    /// Converts the shared locks of `files`: the source itself, and what it lies on.
    ///
    /// # Errors
    /// [`SourceError::Locked`] when another process has one of them open.
    pub(crate) fn take(files: &[Arc<File>], name: &str) -> Result<Self, SourceError> {
        // What was converted already falls back when this is dropped.
        let mut lock = Self { files: Vec::with_capacity(files.len()) };
        for file in files {
            if flock(file, FlockOperation::NonBlockingLockExclusive).is_err() {
                // A failed conversion may have dropped the shared lock: take it again.
                let _ = flock(file, FlockOperation::NonBlockingLockShared);
                return Err(SourceError::Locked { name: name.into(), holder: "has it open" });
            }
            lock.files.push(Arc::clone(file));
        }
        Ok(lock)
    }
}

impl Drop for ExclusiveLock {
    fn drop(&mut self) {
        for file in &self.files {
            let _ = flock(file, FlockOperation::NonBlockingLockShared);
        }
    }
}

/// Opens and locks what the block device `device` lies on: the whole drive of a partition, the members of a mapper or array, the file
/// behind a loop device. Work on any of them is work on the others. What cannot be opened is left out.
///
/// # Errors
/// As [`lock_shared`].
pub(crate) fn lock_beneath(device: u64, name: &str) -> Result<Vec<Arc<File>>, SourceError> {
    let mut locked = Vec::new();
    for path in holders::beneath(device) {
        let Ok(file) = File::open(path) else { continue };
        lock_shared(&file, name)?;
        locked.push(Arc::new(file));
    }
    Ok(locked)
}
