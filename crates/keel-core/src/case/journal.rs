//! The journal of a case: `journal.jsonl`, a line an event, each with the hash of the line before. The format stands in
//! `docs/formats.md`.

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::path::Path;

use keel_source::counted;
use rustix::fs::{FlockOperation, flock};
use serde::{Deserialize, Serialize};

use crate::error::{CoreError, file_error};

/// The longest journal that is read: a bound on memory.
const LONGEST: u64 = 256 << 20;
/// What stands for the line before the first one.
const NOTHING_BEFORE: &str = "0000000000000000000000000000000000000000000000000000000000000000";

/// Now, in UTC, to the second.
#[must_use]
pub fn now() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// This moment, fit for a file name.
#[must_use]
pub fn stamp() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H-%M-%S%.3f").to_string()
}

/// One line.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct JournalLine {
    /// Number, from 0.
    pub number: u64,
    /// When, in UTC.
    pub at: String,
    /// What happened.
    pub event: String,
    /// More of it.
    pub detail: serde_json::Value,
    /// BLAKE3 of the line before without its end, in hexadecimal; zeros before the first one.
    pub before: String,
}

/// The end of the journal, kept in `case.toml`: lines that are cut off behind it are missed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seal {
    /// Lines.
    pub lines: u64,
    /// BLAKE3 of the last one.
    pub last: String,
}

/// What a verification says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Verified {
    /// Lines that hold, from the first one on.
    pub lines: u64,
    /// True when all of them hold and none is missing.
    pub whole: bool,
    /// What is wrong, in words.
    pub problem: Option<String>,
}

fn hash(line: &str) -> String {
    blake3::hash(line.as_bytes()).to_hex().to_string()
}

fn read(path: &Path) -> Result<String, CoreError> {
    if fs::metadata(path).map_err(file_error("read", path))?.len() > LONGEST {
        return Err(CoreError::Case { path: path.into(), reason: "it is longer than any journal gets".into() });
    }
    // A byte that is no text makes its own line wrong, and no other.
    let bytes = fs::read(path).map_err(file_error("read", path))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// Appends an event, durable when this returns. The new end comes back.
pub(super) fn append(path: &Path, event: &str, detail: &serde_json::Value) -> Result<Seal, CoreError> {
    let mut file = OpenOptions::new().append(true).create(true).open(path).map_err(file_error("open", path))?;
    // Two programs may work on one case: one line after the other.
    let _ = flock(&file, FlockOperation::LockExclusive);
    let text = read(path)?;
    let whole: Vec<&str> = text.split_inclusive('\n').collect();
    // A line that a crash cut stays, and says so to the verification; the next one begins anew.
    let torn = whole.last().is_some_and(|line| !line.ends_with('\n'));
    let last = whole.last().map(|line| hash(line.trim_end_matches('\n')));
    let line = JournalLine {
        number: whole.len() as u64,
        at: now(),
        event: event.into(),
        detail: detail.clone(),
        before: last.unwrap_or_else(|| NOTHING_BEFORE.into()),
    };
    let line = serde_json::to_string(&line).unwrap_or_default();
    let start = if torn { "\n" } else { "" };
    file.write_all(format!("{start}{line}\n").as_bytes()).map_err(file_error("write", path))?;
    file.sync_data().map_err(file_error("flush", path))?;
    if whole.is_empty()
        && let Some(folder) = path.parent()
    {
        File::open(folder).and_then(|folder| folder.sync_all()).map_err(file_error("flush", folder))?;
    }
    Ok(Seal { lines: whole.len() as u64 + 1, last: hash(&line) })
}

/// The lines that can be read, in their order.
///
/// # Errors
/// [`CoreError::File`] when the journal cannot be read.
pub fn lines(folder: &Path) -> Result<Vec<JournalLine>, CoreError> {
    let text = read(&folder.join("journal.jsonl"))?;
    Ok(text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect())
}

/// Whether every line stands as it was written, and none is missing up to the end that `seal` names. A line that came after
/// the seal, in the moment of a crash, is no damage.
///
/// # Errors
/// [`CoreError::File`] when the journal cannot be read.
pub fn verify(folder: &Path, seal: &Seal) -> Result<Verified, CoreError> {
    let text = read(&folder.join("journal.jsonl"))?;
    let (mut before, mut sealed, mut count) = (NOTHING_BEFORE.to_string(), seal.lines == 0, 0);
    let broken = |lines, problem: String| Ok(Verified { lines, whole: false, problem: Some(problem) });
    // Lines end with one byte: any other end is part of the line, and changes it.
    for (line, end) in text.split_inclusive('\n').map(|line| line.strip_suffix('\n').map_or((line, false), |line| (line, true))) {
        if !end {
            return broken(count, format!("line {} is cut off", count + 1));
        }
        let Ok(parsed) = serde_json::from_str::<JournalLine>(line) else {
            return broken(count, format!("line {} is none", count + 1));
        };
        if parsed.number != count {
            let what = if parsed.number < count { "is there twice, or" } else { "stands where another one was taken out:" };
            return broken(count, format!("line {} {what} it has the number {} (from 0)", count + 1, parsed.number));
        }
        // Written as it is written here: no blank or order of its own.
        if serde_json::to_string(&parsed).is_ok_and(|written| written != line) {
            return broken(count, format!("line {} was changed", count + 1));
        }
        if parsed.before != before {
            return broken(count, format!("line {count} was changed, or lines are missing behind it"));
        }
        before = hash(line);
        count += 1;
        sealed |= count == seal.lines && before == seal.last;
    }
    if !sealed {
        let problem = if count < seal.lines {
            format!("{} missing at the end", counted(seal.lines - count, "line is", "lines are"))
        } else {
            format!("line {} is not the one that the case names", seal.lines)
        };
        return broken(count, problem);
    }
    Ok(Verified { lines: count, whole: true, problem: None })
}
