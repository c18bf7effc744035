//! Where taken-out files are put: folders and names below a target of this system. Nothing that stands there is followed or replaced.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use keel_source::own;

use super::manifest::MOST_NAMESAKES;
use super::name::numbered;
use crate::error::CoreError;

/// Signs of a name that the name of an unfinished file begins with: it has room for no more with signs of four bytes.
const LONGEST_STEM: usize = 48;

/// Makes the folder at `full`, whose own folder stands; a link or file in the way is not followed.
pub(crate) fn make_folder(full: &Path) -> io::Result<()> {
    match fs::create_dir(full) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            let real = fs::symlink_metadata(full).is_ok_and(|metadata| metadata.is_dir());
            let in_the_way = || io::Error::new(io::ErrorKind::AlreadyExists, format!("{} is in the way", full.display()));
            if real { Ok(()) } else { Err(in_the_way()) }
        }
        made => made,
    }
}

/// Creates a file that was not there in `folder` below `to`, under a name that says that it is not finished.
pub(crate) fn create(to: &Path, folder: &Path, name: &str) -> io::Result<(File, PathBuf)> {
    let stem: String = name.chars().take(LONGEST_STEM).collect();
    for number in 1..MOST_NAMESAKES {
        let relative = folder.join(format!("{stem}.{number}.unfinished"));
        match File::create_new(to.join(&relative)) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            result => return result.map(|file| (file, relative)),
        }
    }
    Err(io::ErrorKind::AlreadyExists.into())
}

/// Gives a finished file its name, or one with a number where that is taken.
pub(crate) fn finish(to: &Path, part: &Path, folder: &Path, name: &str) -> io::Result<PathBuf> {
    for number in 1..MOST_NAMESAKES {
        let relative = folder.join(if number == 1 { name.to_string() } else { numbered(name, number) });
        match own::put_new(&to.join(part), &to.join(&relative)) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            result => return result.map(|()| relative),
        }
    }
    Err(io::ErrorKind::AlreadyExists.into())
}

/// Whether `wanted` bytes are free at `to`; where the system does not say, they are.
pub(crate) fn has_room(to: &Path, wanted: u64) -> Result<(), CoreError> {
    let Ok(about) = rustix::fs::statvfs(to) else { return Ok(()) };
    let free = about.f_bavail.saturating_mul(about.f_frsize);
    if wanted > free { Err(CoreError::NoRoom { path: to.into(), wanted, free }) } else { Ok(()) }
}
