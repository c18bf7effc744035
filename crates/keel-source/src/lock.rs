//! Advisory locks: shared while a source is open, exclusive while a plan is applied.

use std::fs::File;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::fs::{FlockOperation, flock};

use crate::{SourceError, holders};

/// How long somebody else's lock is waited for: a program that is being started holds what its parent held until it begins.
const PATIENCE: Duration = Duration::from_millis(300);
/// Between two tries.
const PAUSE: Duration = Duration::from_millis(10);

/// Takes a lock at once or within [`PATIENCE`].
fn patiently(file: &File, lock: FlockOperation) -> Result<(), rustix::io::Errno> {
    let since = Instant::now();
    loop {
        match flock(file, lock) {
            Err(rustix::io::Errno::WOULDBLOCK) if since.elapsed() < PATIENCE => std::thread::sleep(PAUSE),
            other => return other,
        }
    }
}

/// Takes the shared lock that every opened source holds.
///
/// # Errors
/// [`SourceError::Locked`] when another process is applying a plan to the source.
pub(crate) fn lock_shared(file: &File, name: &str) -> Result<(), SourceError> {
    match patiently(file, FlockOperation::NonBlockingLockShared) {
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
            if patiently(file, FlockOperation::NonBlockingLockExclusive).is_err() {
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

#[cfg(test)]
mod tests {
    use super::*;

    fn opened(path: &std::path::Path) -> Arc<File> {
        Arc::new(File::open(path).unwrap())
    }

    #[test]
    fn a_lock_that_goes_within_a_moment_is_waited_for_and_one_that_stays_is_told() {
        let place = tempfile::NamedTempFile::new().unwrap();
        let (own, other) = (opened(place.path()), opened(place.path()));
        lock_shared(&own, "quay.img").unwrap();
        lock_shared(&other, "quay.img").unwrap();
        // As a program that is being started does it.
        let briefly = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(80));
            drop(other);
        });
        let lock = ExclusiveLock::take(&[Arc::clone(&own)], "quay.img").unwrap();
        briefly.join().unwrap();
        let late = opened(place.path());
        let since = Instant::now();
        let error = lock_shared(&late, "quay.img").unwrap_err();
        assert!(matches!(error, SourceError::Locked { holder: "is applying a plan to it", .. }), "{error}");
        assert!(since.elapsed() >= PATIENCE);
        drop(lock);
        lock_shared(&late, "quay.img").unwrap();
        let error = ExclusiveLock::take(&[Arc::clone(&own)], "quay.img").err().unwrap();
        assert!(matches!(error, SourceError::Locked { holder: "has it open", .. }), "{error}");
        // What was shared before is shared still.
        drop(late);
        assert!(flock(opened(place.path()), FlockOperation::NonBlockingLockExclusive).is_err());
    }
}
