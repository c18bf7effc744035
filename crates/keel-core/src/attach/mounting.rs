//! Mounting read-only: without programs, devices or rights of other users on it.

use std::ffi::CString;
use std::fs;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use keel_format::{Driver, VolumeKind};
use keel_source::printable;
use rustix::io::Errno;
use rustix::mount::MountFlags;

use crate::CoreError;
use crate::error::file_error;

/// A folder below `parent` that nobody else sees into, under a name that nobody has and that begins with `name`.
pub(crate) fn private_folder(parent: &Path, name: &str) -> Result<PathBuf, CoreError> {
    let mut number = 0u32;
    loop {
        let folder = parent.join(format!("{name}-{:x}-{number:x}", std::process::id()));
        match fs::DirBuilder::new().mode(0o700).create(&folder) {
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists && number < 64 => number += 1,
            other => return other.map(|()| folder.clone()).map_err(file_error("create", &folder)),
        }
    }
}

/// Runs a program of the operating system: of drivers that are programs.
fn command(program: &str, arguments: &[&str]) -> Result<String, String> {
    let output = Command::new(program).args(arguments).output().map_err(|error| format!("{program}: {error}"))?;
    match output.status.success() {
        true => Ok(String::from_utf8_lossy(&output.stdout).trim().to_string()),
        false => Err(printable(String::from_utf8_lossy(&output.stderr).trim())),
    }
}

/// Mounts `device`, which holds a volume of `kind`, at `folder`, by the first driver that takes it; its name comes back, or why none did.
pub(crate) fn mount_any(kind: VolumeKind, device: &str, folder: &Path) -> Result<&'static str, String> {
    let mut why = Vec::new();
    for driver in kind.facts().drivers {
        match mount(driver, device, folder) {
            Ok(()) => return Ok(driver.name),
            Err(error) => why.push(format!("{}: {error}", driver.name)),
        }
    }
    if why.is_empty() {
        why.push(format!("{} is not mounted by kernels", kind.word()));
    }
    Err(why.join("; "))
}

/// Mounts `device` read-only: by the kernel's own driver, or by the program of a driver that is one.
fn mount(driver: &Driver, device: &str, folder: &Path) -> Result<(), String> {
    if driver.is_program {
        let (options, point) = (format!("ro,nosuid,nodev,noexec,{}", driver.options), folder.to_string_lossy());
        return command("mount", &["-t", driver.name, "-o", options.trim_end_matches(','), device, &point]).map(|_| ());
    }
    let flags = MountFlags::RDONLY | MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
    let data = CString::new(driver.options).map_err(|_| "its options hold a zero".to_string())?;
    rustix::mount::mount(device, folder, driver.name, flags, data.as_c_str()).map_err(|errno| match errno {
        Errno::NODEV => "this kernel has no such driver".to_string(),
        other => std::io::Error::from(other).to_string(),
    })
}
