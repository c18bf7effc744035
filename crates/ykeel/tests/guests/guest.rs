//! The guest: an independent kernel, under qemu.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// One machine at a time: several share the processors, and their drives' time limits with them.
static BENCH: Mutex<()> = Mutex::new(());

/// Waits until no other machine runs.
pub(crate) fn alone() -> MutexGuard<'static, ()> {
    BENCH.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The guest, built when it is not there yet (`cargo xtask test` does it before).
pub(crate) fn guest() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let folder = std::env::var_os("YKEEL_GUEST").map_or_else(|| root.join("target/guest"), PathBuf::from);
    let status = Command::new("bash").arg(root.join("xtask/guest/build.sh")).arg(&folder).status().unwrap();
    assert!(status.success(), "the guest could not be built; run the tests by `cargo xtask test`");
    folder
}
