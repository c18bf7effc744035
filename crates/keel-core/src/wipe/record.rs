//! How far a wipe is, written down a line at a time: what was cut off goes on from there. The format stands in `docs/formats.md`.

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};

use keel_source::{ByteOffset, ByteRange, Identity, RangeSet, SharedSource};
use serde::{Deserialize, Serialize};

use super::{NotWiped, Pace, Pattern, Sample, Verify, Wanted};
use crate::error::{CoreError, file_error};

/// The first words of a record.
const KIND: &str = "yellow-keel-wipe";
/// The longest record that is read: a bound on memory.
const LONGEST: u64 = 256 << 20;

/// Where a wipe of this drive is written down by itself.
#[must_use]
pub fn place(identity: &Identity) -> PathBuf {
    crate::case::drive_folder(identity).join("wipe.jsonl")
}

/// The first line: what the wipe shall be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Head {
    record: String,
    version: u32,
    drive: String,
    bytes: u64,
    ground: Vec<[u64; 2]>,
    pattern: Pattern,
    verify: Verify,
    by_device: bool,
    begun: String,
}

/// Any other line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum Line {
    /// Bytes that were handed over and taken, and made durable.
    Written(u64, u64),
    /// Bytes that the drive zeroed when it was asked to.
    Zeroed(u64, u64),
    /// Bytes that took no write.
    Unwritable(u64, u64),
    /// Bytes that were read back as they were written.
    Verified(u64, u64),
    /// Bytes that did not read back.
    Unreadable(u64, u64),
    /// Bytes that read back otherwise.
    Other(u64, u64),
    /// What stands somewhere.
    Sample(Sample),
    /// Speed somewhere.
    Pace(Pace),
    /// Milliseconds of a go.
    Took(u64),
    /// It came to its end.
    Ended(String),
}

/// What is known of a wipe.
#[derive(Debug)]
pub struct Record {
    head: Head,
    file: File,
    path: PathBuf,
    pub(super) written: RangeSet,
    pub(super) zeroed: RangeSet,
    pub(super) unwritable: RangeSet,
    pub(super) verified: RangeSet,
    pub(super) unreadable: RangeSet,
    pub(super) other: RangeSet,
    pub(super) samples: Vec<Sample>,
    pub(super) pace: Vec<Pace>,
    pub(super) took_ms: u64,
    ended: Option<String>,
    /// Lines that are not on disk yet.
    waiting: String,
}

impl Record {
    /// The record of `wanted`: one that was begun goes on, with the seed that it was begun with. Of one that ended a new one is begun where
    /// `anew` allows it.
    ///
    /// # Errors
    /// [`NotWiped::OtherRecord`] within [`CoreError::Wipe`], and [`CoreError::File`].
    pub fn open(source: &SharedSource, wanted: &Wanted, anew: bool) -> Result<Self, CoreError> {
        let path = &wanted.record;
        let fresh = Head {
            record: KIND.into(),
            version: 1,
            drive: source.identity().key(),
            bytes: source.len(),
            ground: wanted.ground.ranges().iter().map(|range| [range.start.0, range.end.0]).collect(),
            pattern: wanted.pattern.clone(),
            verify: wanted.verify,
            by_device: wanted.by_device,
            begun: crate::case::now(),
        };
        match read(path)? {
            None => Self::begin(path, fresh),
            Some((head, lines)) => {
                let other = differs(&head, &fresh);
                let ended = lines.iter().any(|line| matches!(line, Line::Ended(_)));
                match (other, ended) {
                    (None, false) => Self::going_on(path, head, lines),
                    _ if anew => Self::begin(path, fresh),
                    (Some(what), _) => Err(NotWiped::OtherRecord { path: path.clone(), what: what.into() }.into()),
                    (None, true) => Err(NotWiped::OtherRecord { path: path.clone(), what: "it came to its end".into() }.into()),
                }
            }
        }
    }

    fn begin(path: &Path, head: Head) -> Result<Self, CoreError> {
        if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            fs::create_dir_all(folder).map_err(file_error("create", folder))?;
        }
        let mut file = File::create(path).map_err(file_error("create", path))?;
        let line = serde_json::to_string(&head).unwrap_or_default();
        file.write_all(format!("{line}\n").as_bytes()).map_err(file_error("write", path))?;
        file.sync_all().map_err(file_error("flush", path))?;
        Ok(Self::of(path, head, file))
    }

    fn going_on(path: &Path, head: Head, lines: Vec<Line>) -> Result<Self, CoreError> {
        let file = OpenOptions::new().append(true).open(path).map_err(file_error("open", path))?;
        let mut record = Self::of(path, head, file);
        // A line that a crash cut stays as it is; the next one begins anew.
        record.waiting.push('\n');
        lines.into_iter().for_each(|line| record.know(line));
        Ok(record)
    }

    fn of(path: &Path, head: Head, file: File) -> Self {
        let none = RangeSet::default;
        Self {
            head,
            file,
            path: path.into(),
            written: none(),
            zeroed: none(),
            unwritable: none(),
            verified: none(),
            unreadable: none(),
            other: none(),
            samples: Vec::new(),
            pace: Vec::new(),
            took_ms: 0,
            ended: None,
            waiting: String::new(),
        }
    }

    fn know(&mut self, line: Line) {
        let range = |from, to| ByteRange::new(ByteOffset(from), ByteOffset(to));
        match line {
            Line::Written(from, to) => self.written.add(range(from, to)),
            Line::Zeroed(from, to) => self.zeroed.add(range(from, to)),
            Line::Unwritable(from, to) => self.unwritable.add(range(from, to)),
            Line::Verified(from, to) => self.verified.add(range(from, to)),
            Line::Unreadable(from, to) => self.unreadable.add(range(from, to)),
            Line::Other(from, to) => self.other.add(range(from, to)),
            Line::Sample(sample) => {
                self.samples.retain(|known| known.at != sample.at);
                self.samples.push(sample);
            }
            Line::Pace(pace) => self.pace.push(pace),
            Line::Took(ms) => self.took_ms += ms,
            Line::Ended(at) => self.ended = Some(at),
        }
    }

    /// What is written.
    #[must_use]
    pub fn pattern(&self) -> &Pattern {
        &self.head.pattern
    }

    /// When it was begun.
    pub(super) fn begun(&self) -> &str {
        &self.head.begun
    }

    /// When it came to its end.
    pub(super) fn ended(&self) -> Option<&str> {
        self.ended.as_deref()
    }

    /// Bytes of `range` that are neither written nor given up yet.
    pub(super) fn to_write(&self, range: ByteRange) -> Vec<ByteRange> {
        let mut done = self.written.clone();
        [&self.zeroed, &self.unwritable].into_iter().flat_map(RangeSet::ranges).for_each(|range| done.add(*range));
        done.lacking(range)
    }

    /// Bytes of `range` that were not read back yet; what took no write is not asked for.
    pub(super) fn to_verify(&self, range: ByteRange) -> Vec<ByteRange> {
        let mut done = self.verified.clone();
        let known = [&self.unwritable, &self.unreadable, &self.other];
        known.into_iter().flat_map(RangeSet::ranges).for_each(|range| done.add(*range));
        done.lacking(range)
    }

    /// Notes a line; it is on disk after the next [`Record::flush`].
    pub(super) fn note(&mut self, line: Line) {
        self.waiting.push_str(&serde_json::to_string(&line).unwrap_or_default());
        self.waiting.push('\n');
        self.know(line);
    }

    /// Puts everything that was noted on disk.
    pub(super) fn flush(&mut self) -> Result<(), CoreError> {
        if self.waiting.is_empty() {
            return Ok(());
        }
        self.file.write_all(self.waiting.as_bytes()).map_err(file_error("write", &self.path))?;
        self.file.sync_data().map_err(file_error("flush", &self.path))?;
        self.waiting.clear();
        Ok(())
    }
}

/// The head and the lines of a record; none where there is no file.
fn read(path: &Path) -> Result<Option<(Head, Vec<Line>)>, CoreError> {
    let about = match fs::metadata(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        other => other.map_err(file_error("read", path))?,
    };
    let none = || CoreError::from(NotWiped::OtherRecord { path: path.into(), what: "it is no record of a wipe".into() });
    if about.len() > LONGEST || !about.is_file() {
        return Err(none());
    }
    let text = String::from_utf8_lossy(&fs::read(path).map_err(file_error("read", path))?).into_owned();
    let mut lines = text.lines();
    let head: Option<Head> = lines.next().and_then(|line| serde_json::from_str(line).ok());
    let head = head.filter(|head| head.record == KIND && head.version == 1).ok_or_else(none)?;
    Ok(Some((head, lines.filter_map(|line| serde_json::from_str(line).ok()).collect())))
}

/// What of a record is not what is wanted now.
fn differs(head: &Head, wanted: &Head) -> Option<&'static str> {
    let pattern = match (&head.pattern, &wanted.pattern) {
        // It goes on with its own seed.
        (Pattern::Random(_), Pattern::Random(_)) => true,
        (one, other) => one == other,
    };
    if (&head.drive, head.bytes) != (&wanted.drive, wanted.bytes) {
        return Some("of another drive");
    }
    if head.ground != wanted.ground {
        return Some("of other ground");
    }
    if !pattern || head.by_device != wanted.by_device {
        return Some("with another pattern");
    }
    (head.verify != wanted.verify).then_some("with another verification")
}
