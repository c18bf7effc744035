//! The log of a program: a line for each thing that was done, with its time, in a file that the technician named. What was drawn is not
//! in it. The format stands in `docs/formats.md`.

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Mutex;

use keel_source::own::{self, Over};
use keel_source::printable;

use crate::case::now;
use crate::error::{CoreError, file_error};

/// The first line of every log: what does not begin with it is somebody else's and stays as it is.
const HEADER: &str = "# Yellow Keel log, version 1\n";
/// The longest line, in bytes.
const LONGEST: usize = 4096;

/// An open log.
#[derive(Debug)]
pub struct Log {
    file: Mutex<File>,
}

impl Log {
    /// Opens the log at `path`, or begins one. Links are not followed, and nothing but a log of ours is written to.
    ///
    /// # Errors
    /// [`CoreError::File`] for a path that cannot be written, or holds something else.
    pub fn open(path: &Path) -> Result<Self, CoreError> {
        let failed = |error| file_error("log to", path)(error);
        let foreign = || failed(io::Error::other("it holds something else than a log of Yellow Keel, and is left as it is"));
        match path.symlink_metadata() {
            // A device or a pipe is not even opened.
            Ok(found) if !found.is_file() => return Err(foreign()),
            Ok(_) => {}
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                own::write(path, HEADER.as_bytes(), Over::Nothing).map_err(failed)?;
            }
            Err(error) => return Err(failed(error)),
        }
        let flags = i32::try_from(rustix::fs::OFlags::NOFOLLOW.bits()).unwrap_or(0);
        let mut file = OpenOptions::new().read(true).append(true).custom_flags(flags).open(path).map_err(failed)?;
        let mut head = vec![0; HEADER.len()];
        if file.read_exact(&mut head).is_err() || head != HEADER.as_bytes() {
            return Err(foreign());
        }
        Ok(Self { file: Mutex::new(file) })
    }

    /// Writes a line: time, event, and what belongs to it. A log that takes no more stops no work.
    pub fn line(&self, event: &str, detail: &str) {
        let detail: String = printable(detail).chars().take(LONGEST / 4).collect();
        let line = format!("{}  {event:<12} {detail}\n", now());
        if let Ok(mut file) = self.file.lock() {
            let _ = file.write_all(line.as_bytes());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_log_goes_on_where_it_was_and_holds_nothing_that_steers_a_terminal() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("keel.log");
        Log::open(&path).unwrap().line("command", "ladder quay.img");
        Log::open(&path).unwrap().line("open", "a\u{1b}[2Jb\nc");
        let text = std::fs::read_to_string(&path).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!((lines.len(), lines[0]), (3, HEADER.trim_end()));
        assert!(lines[1].ends_with("command      ladder quay.img") && lines[2].ends_with("a␛[2Jb␊c"), "{text}");
        Log::open(&path).unwrap().line("long", &"x".repeat(100_000));
        assert!(std::fs::metadata(&path).unwrap().len() < 3000);
    }

    #[test]
    fn nothing_but_a_log_is_written_to() {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("quay.img");
        for bytes in [&b""[..], b"x", &[0u8; 4096], b"# Yellow Keel log, version 2\nlater"] {
            std::fs::write(&image, bytes).unwrap();
            assert!(Log::open(&image).is_err());
            assert_eq!(std::fs::read(&image).unwrap(), bytes, "it stands as it was");
        }
        let link = folder.path().join("link.log");
        std::os::unix::fs::symlink(&image, &link).unwrap();
        assert!(Log::open(&link).is_err() && Log::open(folder.path()).is_err() && Log::open(Path::new("/dev/null")).is_err());
        assert!(Log::open(&folder.path().join("no/such/folder.log")).is_err());
    }
}
