//! Files of our own, written so that nobody else's file is ever opened, truncated, replaced or removed: the name that is written
//! under is new, links are not followed, and what stands in the place is replaced only where the caller knows it for ours.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use rustix::fs::{CWD, RenameFlags, renameat_with};

/// How many names are tried before giving up.
const MOST_NAMES: u32 = 64;
/// Bytes from either end of a file by which it is known for ours.
const KNOWN_BY: u64 = 4096;

/// What may stand in the place of a file that is written.
#[derive(Clone, Copy)]
pub enum Over<'a> {
    /// Nothing.
    Nothing,
    /// A regular file that this says is one of ours, by its first and last bytes (4096 of each at most).
    Ours(&'a dyn Fn(&[u8], &[u8]) -> bool),
    /// Any regular file: the place is in a folder that is ours.
    OwnFolder,
}

/// A name beside `place` that nobody has: hidden, with our process and a number in it, ending in `.part`.
#[must_use]
pub fn name_beside(place: &Path) -> PathBuf {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_nanos());
    let (process, number) = (std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
    let name = place.file_name().unwrap_or_default().to_string_lossy();
    place.with_file_name(format!(".{name}.{process:x}-{now:x}-{number:x}.part"))
}

/// A file that is being written beside its place.
#[derive(Debug)]
pub struct OwnFile {
    file: File,
    part: PathBuf,
    is_kept: bool,
}

impl OwnFile {
    /// Begins a file for `place`, whose folder exists.
    ///
    /// # Errors
    /// As [`may_stand`], and those of creating a file.
    pub fn begin(place: &Path, over: Over<'_>) -> io::Result<Self> {
        may_stand(place, over)?;
        for _ in 0..MOST_NAMES {
            let part = name_beside(place);
            match OpenOptions::new().write(true).create_new(true).open(&part) {
                Ok(file) => return Ok(Self { file, part, is_kept: false }),
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                Err(error) => return Err(error),
            }
        }
        Err(io::Error::new(io::ErrorKind::AlreadyExists, "no name beside it is free"))
    }

    /// The file.
    pub fn file(&mut self) -> &mut File {
        &mut self.file
    }

    /// Makes the file durable and puts it in its place.
    ///
    /// # Errors
    /// As [`OwnFile::begin`]; the file beside is removed then.
    pub fn finish(mut self, place: &Path, over: Over<'_>) -> io::Result<()> {
        self.file.sync_all()?;
        put(&self.part, place, over)?;
        self.is_kept = true;
        Ok(())
    }
}

impl Drop for OwnFile {
    fn drop(&mut self) {
        if !self.is_kept {
            let _ = fs::remove_file(&self.part);
        }
    }
}

/// Puts the file at `part` in its place, and flushes the folder.
///
/// # Errors
/// As [`may_stand`], and those of renaming.
pub fn put(part: &Path, place: &Path, over: Over<'_>) -> io::Result<()> {
    may_stand(place, over)?;
    match over {
        Over::Nothing => put_new(part, place)?,
        Over::Ours(_) | Over::OwnFolder => fs::rename(part, place)?,
    }
    let folder = place.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or_else(|| Path::new("."));
    File::open(folder)?.sync_all()
}

/// Gives the file at `part` the name `place`, unless something stands there by now. Nothing is flushed.
///
/// # Errors
/// [`io::ErrorKind::AlreadyExists`] where something stands there, and those of renaming.
pub fn put_new(part: &Path, place: &Path) -> io::Result<()> {
    match renameat_with(CWD, part, CWD, place, RenameFlags::NOREPLACE) {
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {}
        other => return other.map_err(io::Error::from),
    }
    // File systems that cannot rename so make a second name, which fails where there is one; those without links are asked again.
    match fs::hard_link(part, place) {
        Ok(()) => fs::remove_file(part),
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Err(error),
        Err(_) => may_stand(place, Over::Nothing).and_then(|()| fs::rename(part, place)),
    }
}

/// Whether a file may be put at `place`.
///
/// # Errors
/// [`io::ErrorKind::AlreadyExists`] where something stands there that may not be replaced: a link, a folder, a device, or a file
/// that is not ours.
pub fn may_stand(place: &Path, over: Over<'_>) -> io::Result<()> {
    let refused = |why: &str| Err(io::Error::new(io::ErrorKind::AlreadyExists, why.to_string()));
    let stands = match fs::symlink_metadata(place) {
        Ok(stands) => stands,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(error) => return Err(error),
    };
    if stands.is_symlink() {
        return refused("a link stands there: it is not followed, and not replaced");
    }
    if !stands.is_file() {
        return refused("what stands there is no file");
    }
    match over {
        Over::Nothing => refused("it exists already: another name keeps both"),
        Over::OwnFolder => Ok(()),
        Over::Ours(is_ours) => match is_ours(&head(place)?, &tail(place, stands.len())?) {
            true => Ok(()),
            false => refused("another file stands there, which is not ours: another name keeps both"),
        },
    }
}

fn head(place: &Path) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    File::open(place)?.take(KNOWN_BY).read_to_end(&mut bytes)?;
    Ok(bytes)
}

fn tail(place: &Path, len: u64) -> io::Result<Vec<u8>> {
    use std::io::{Seek, SeekFrom};
    let mut file = File::open(place)?;
    file.seek(SeekFrom::Start(len.saturating_sub(KNOWN_BY)))?;
    let mut bytes = Vec::new();
    file.take(KNOWN_BY).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Writes `bytes` to `place` so that a crash leaves what stood there or the new file, never half of one.
///
/// # Errors
/// As [`OwnFile::begin`] and [`OwnFile::finish`].
pub fn write(place: &Path, bytes: &[u8], over: Over<'_>) -> io::Result<()> {
    let mut own = OwnFile::begin(place, over)?;
    own.file().write_all(bytes)?;
    own.finish(place, over)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(folder: &Path) -> Vec<String> {
        let mut names: Vec<String> =
            fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        names
    }

    #[test]
    fn no_neighbour_is_opened_truncated_or_removed() {
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().join("S.ykundo");
        // The names that a careless writer would take for its own.
        for name in ["S.part", "S.ykundo.part", ".S.ykundo.part", "S.tmp"] {
            fs::write(folder.path().join(name), b"somebody's only copy").unwrap();
        }
        write(&place, b"ours", Over::Nothing).unwrap();
        assert_eq!(fs::read(&place).unwrap(), b"ours");
        for name in ["S.part", "S.ykundo.part", ".S.ykundo.part", "S.tmp"] {
            assert_eq!(fs::read(folder.path().join(name)).unwrap(), b"somebody's only copy", "{name}");
        }
        assert_eq!(names(folder.path()).len(), 5, "nothing of ours is left beside it");
    }

    #[test]
    fn what_is_not_ours_stays_and_links_are_not_followed() {
        let folder = tempfile::tempdir().unwrap();
        let (image, link, report) =
            (folder.path().join("drive.img"), folder.path().join("link.pdf"), folder.path().join("report.pdf"));
        fs::write(&image, b"a drive").unwrap();
        std::os::unix::fs::symlink(&image, &link).unwrap();
        let ours = |head: &[u8], _: &[u8]| head.starts_with(b"%OURS");
        for over in [Over::Nothing, Over::Ours(&ours)] {
            for place in [&image, &link, &folder.path().to_path_buf()] {
                let error = write(place, b"%OURS new", over).unwrap_err();
                assert_eq!(error.kind(), io::ErrorKind::AlreadyExists, "{place:?}");
            }
        }
        assert_eq!(fs::read(&image).unwrap(), b"a drive");
        write(&report, b"%OURS old", Over::Nothing).unwrap();
        write(&report, b"%OURS new", Over::Ours(&ours)).unwrap();
        assert_eq!(fs::read(&report).unwrap(), b"%OURS new");
        assert!(write(&report, b"%OURS other", Over::Nothing).is_err());
        assert_eq!(names(folder.path()), ["drive.img", "link.pdf", "report.pdf"]);
    }

    #[test]
    fn a_file_that_is_given_up_leaves_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().join("sweep.json");
        let mut own = OwnFile::begin(&place, Over::OwnFolder).unwrap();
        own.file().write_all(b"half").unwrap();
        drop(own);
        assert!(names(folder.path()).is_empty());
        // Something that came into the place meanwhile stays.
        let mut own = OwnFile::begin(&place, Over::Nothing).unwrap();
        own.file().write_all(b"ours").unwrap();
        fs::write(&place, b"theirs").unwrap();
        assert!(own.finish(&place, Over::Nothing).is_err());
        assert_eq!(fs::read(&place).unwrap(), b"theirs");
        assert_eq!(names(folder.path()), ["sweep.json"]);
    }
}
