//! The kernel's settings for a drive, changed for as long as somebody works on it and put back afterwards: also after a run that was
//! ended before it could.

use std::path::PathBuf;

use keel_source::{Identity, SettingsWanted, SharedSource};
use serde::{Deserialize, Serialize};

use crate::case::{self, drive_folder};
use crate::error::CoreError;

/// What stood before, and when: the system forgets what it was told when it starts anew, and so do we.
#[derive(Serialize, Deserialize)]
struct Kept {
    boot: String,
    before: SettingsWanted,
}

fn kept_at(identity: &Identity) -> PathBuf {
    drive_folder(identity).join("settings.json")
}

fn boot() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_string()
}

/// Settings that hold until this is let go of.
#[must_use]
pub struct Held {
    source: SharedSource,
}

impl Drop for Held {
    fn drop(&mut self) {
        put_back(&self.source);
    }
}

/// Changes what is `wanted` for `source`; `None` where that is nothing.
///
/// # Errors
/// [`CoreError::File`] where the way back cannot be kept, or the system does not take it: nothing is changed then.
pub fn hold(source: &SharedSource, wanted: SettingsWanted) -> Result<Option<Held>, CoreError> {
    put_back(source);
    if wanted.is_empty() {
        return Ok(None);
    }
    let identity = source.identity();
    let path = kept_at(identity);
    let now = source.attachment().map(|attachment| attachment.settings).unwrap_or_default();
    let before = SettingsWanted {
        timeout_s: now.timeout_s.filter(|_| wanted.timeout_s.is_some()),
        queue_depth: now.queue_depth.filter(|_| wanted.queue_depth.is_some()),
        read_ahead_kib: now.read_ahead_kib.filter(|_| wanted.read_ahead_kib.is_some()),
    };
    let kept = serde_json::to_vec(&Kept { boot: boot(), before }).unwrap_or_default();
    case::write_whole(&path, &kept)?;
    if let Err(error) = source.set_settings(wanted) {
        let _ = std::fs::remove_file(&path);
        let path = identity.path.clone().unwrap_or_default();
        return Err(CoreError::File { action: "change the system's settings of", path, source: error });
    }
    Ok(Some(Held { source: SharedSource::clone(source) }))
}

/// Puts back what an earlier run changed for `source` and left.
pub fn put_back(source: &SharedSource) {
    let path = kept_at(source.identity());
    let kept = std::fs::read(&path).ok().and_then(|bytes| serde_json::from_slice::<Kept>(&bytes).ok());
    let Some(kept) = kept else { return };
    let is_done = kept.boot != boot() || source.set_settings(kept.before).is_ok();
    if is_done {
        let _ = std::fs::remove_file(&path);
    }
}

#[cfg(test)]
mod tests {
    use std::sync::{Arc, Mutex};

    use keel_source::{ByteOffset, MemorySource, ReadError, Source};

    use super::*;

    /// A drive whose settings are kept in memory.
    struct Set(MemorySource, Mutex<SettingsWanted>);

    impl Source for Set {
        fn identity(&self) -> &Identity {
            self.0.identity()
        }

        fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
            self.0.read_at(at, buf)
        }

        fn set_settings(&self, wanted: SettingsWanted) -> std::io::Result<()> {
            if wanted.queue_depth.is_some() {
                return Err(std::io::ErrorKind::PermissionDenied.into());
            }
            let mut now = self.1.lock().unwrap();
            now.timeout_s = wanted.timeout_s.or(now.timeout_s);
            drop(now);
            Ok(())
        }
    }

    const SLOW: SettingsWanted = SettingsWanted { timeout_s: Some(5), queue_depth: None, read_ahead_kib: None };

    fn drive(name: &str) -> (Arc<Set>, SharedSource) {
        static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
        case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        let set = Arc::new(Set(MemorySource::new(name, vec![0; 4096], 512), Mutex::default()));
        (Arc::clone(&set), set)
    }

    #[test]
    fn nothing_asked_for_is_nothing_held_and_what_is_refused_leaves_nothing_behind() {
        let (set, source) = drive("settings-none");
        assert!(hold(&source, SettingsWanted::default()).unwrap().is_none());
        assert!(hold(&source, SettingsWanted { queue_depth: Some(1), ..SettingsWanted::default() }).is_err());
        assert!(!kept_at(source.identity()).exists() && set.1.lock().unwrap().is_empty());
        let held = hold(&source, SLOW).unwrap();
        assert_eq!(set.1.lock().unwrap().timeout_s, Some(5));
        drop(held);
        assert!(!kept_at(source.identity()).exists());
    }

    #[test]
    fn what_a_run_that_was_ended_left_is_put_back_by_the_next_one_of_the_same_boot() {
        let (set, source) = drive("settings-left");
        let left = |boot: String| {
            let kept = Kept { boot, before: SettingsWanted { timeout_s: Some(30), ..SettingsWanted::default() } };
            case::write_whole(&kept_at(source.identity()), &serde_json::to_vec(&kept).unwrap()).unwrap();
        };
        left("another boot".into());
        put_back(&source);
        assert!(set.1.lock().unwrap().is_empty() && !kept_at(source.identity()).exists(), "the system forgot it itself");
        left(boot());
        put_back(&source);
        assert_eq!(set.1.lock().unwrap().timeout_s, Some(30));
        assert!(!kept_at(source.identity()).exists());
    }
}
