//! Advisory locks: shared while a source is open, exclusive while a plan is applied.

use std::fs::File;
use std::sync::Arc;

use rustix::fs::{FlockOperation, flock};

use crate::SourceError;

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

/// An exclusive advisory lock. It converts the shared lock of the open source and falls back to it on drop: taking a
/// second one on another descriptor would collide with our own.
pub struct ExclusiveLock {
    file: Arc<File>,
}

impl ExclusiveLock {
    /// Converts the shared lock of `file`.
    ///
    /// # Errors
    /// [`SourceError::Locked`] when another process has the source open.
    pub(crate) fn take(file: &Arc<File>, name: &str) -> Result<Self, SourceError> {
        match flock(file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => Ok(Self { file: Arc::clone(file) }),
            Err(_) => {
                // A failed conversion may have dropped the shared lock: take it again.
                let _ = flock(file, FlockOperation::NonBlockingLockShared);
                Err(SourceError::Locked { name: name.into(), holder: "has it open" })
            }
        }
    }
}

impl Drop for ExclusiveLock {
    fn drop(&mut self) {
        let _ = flock(&self.file, FlockOperation::NonBlockingLockShared);
    }
}
