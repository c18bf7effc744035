//! The kernel's own log, record by record.

use std::fs::{File, OpenOptions};
use std::io::{self, ErrorKind, Read};
use std::os::unix::fs::OpenOptionsExt;
use std::time::Duration;

use rustix::fs::OFlags;
use rustix::io::Errno;
use serde::Serialize;

use crate::printable;

/// The longest record that the kernel hands out, in bytes.
const LONGEST: usize = 8192;
/// The most records that are read at once.
const MOST: usize = 200_000;

/// One record of the kernel's log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct KernelLine {
    /// Its number since the system was started.
    pub sequence: u64,
    /// When, since the system was started.
    pub at: Duration,
    /// The text, control characters made visible.
    pub text: String,
}

impl KernelLine {
    /// Reads a record as `/dev/kmsg` gives it: `priority,sequence,microseconds,flags;text`, and lines that go on with a blank.
    fn parse(record: &str) -> Option<Self> {
        let (head, text) = record.split_once(';')?;
        let mut fields = head.split(',');
        let _priority = fields.next()?;
        let sequence = fields.next()?.parse().ok()?;
        let at = Duration::from_micros(fields.next()?.parse().ok()?);
        Some(Self { sequence, at, text: printable(text.lines().next().unwrap_or_default()) })
    }
}

/// The kernel's log, from its oldest record on.
pub struct KernelLog {
    file: File,
}

impl KernelLog {
    /// Opens the log.
    ///
    /// # Errors
    /// The system's, where it is not for everybody to read.
    pub fn open() -> io::Result<Self> {
        let flags = OFlags::NONBLOCK.bits().cast_signed();
        Ok(Self { file: OpenOptions::new().read(true).custom_flags(flags).open("/dev/kmsg")? })
    }

    /// The records that came since this was asked last; at first, all that the kernel still has.
    pub fn news(&mut self) -> Vec<KernelLine> {
        lines(&mut self.file)
    }
}

fn lines(from: &mut impl Read) -> Vec<KernelLine> {
    let mut lines = Vec::new();
    let mut record = vec![0; LONGEST];
    while lines.len() < MOST {
        match from.read(&mut record) {
            Ok(0) => break,
            Ok(count) => lines.extend(KernelLine::parse(&String::from_utf8_lossy(record.get(..count).unwrap_or_default()))),
            // Records were overwritten before they were read: what comes next is the oldest that is left.
            Err(error) if error.raw_os_error() == Some(Errno::PIPE.raw_os_error()) => {}
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(_) => break,
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_record_has_its_number_time_and_first_line() {
        let line =
            KernelLine::parse("6,339,5140900,-;sd 2:0:0:0: [sdb] \u{1b}[31mAttached\n SUBSYSTEM=scsi\n DEVICE=+scsi:2:0:0:0\n")
                .unwrap();
        assert_eq!((line.sequence, line.at), (339, Duration::from_micros(5_140_900)));
        assert!(line.text.starts_with("sd 2:0:0:0: [sdb] ") && !line.text.contains('\u{1b}'));
        for broken in ["", ";", "6,1;x", "6,x,1,-;y", "no head"] {
            assert_eq!(KernelLine::parse(broken), None, "{broken}");
        }
    }

    /// Hands out one record at a time, as the kernel does, with one that was overwritten.
    struct Records(Vec<io::Result<&'static str>>);

    impl Read for Records {
        fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
            if self.0.is_empty() {
                return Err(ErrorKind::WouldBlock.into());
            }
            let record = self.0.remove(0)?;
            buf[..record.len()].copy_from_slice(record.as_bytes());
            Ok(record.len())
        }
    }

    #[test]
    fn what_was_overwritten_is_passed_over() {
        let overwritten = Err(io::Error::from_raw_os_error(Errno::PIPE.raw_os_error()));
        let mut records = Records(vec![Ok("6,1,10,-;one"), overwritten, Ok("6,9,90,-;nine"), Ok("garbage")]);
        let texts: Vec<String> = lines(&mut records).into_iter().map(|line| line.text).collect();
        assert_eq!(texts, ["one", "nine"]);
    }
}
