//! What the kernel's log says of a drive: its lines, decoded into what happened, with the time and the sector.

mod decode;
#[cfg(test)]
mod tests;

use std::collections::BTreeMap;
use std::time::Duration;

use keel_format::{Finding, Severity};
use keel_source::{ByteOffset, KernelLine, KernelLog, SharedSource, counted};
use serde::Serialize;

use crate::rung::RungName;

/// The sector of the kernel's block layer, in bytes, whatever the drive's.
const KERNEL_SECTOR: u64 = 512;
/// The most lines that are kept of one drive.
const MOST_KEPT: usize = 2000;
/// The most places that are told one by one.
const MOST_PLACES: usize = 16;

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Happened {
    /// The drive was met.
    Arrived,
    /// It was pulled, or fell off.
    Left,
    /// The link went down.
    LinkDown,
    /// The link or the device was reset.
    Reset,
    /// A request was not answered in time.
    Timeout,
    /// The transfer failed, not the place.
    Interface,
    /// The link was slowed down.
    Slowed,
    /// The port or a hub turned its power off: too much current.
    OverCurrent,
    /// It does not introduce itself.
    NoAnswer,
    /// The system gave it up.
    GivenUp,
    /// A place does not read.
    MediumError,
    /// A place does not take a write.
    WriteError,
    /// It claims another length than before.
    CapacityChanged,
    /// No table was read from it.
    NoTable,
    /// There is no medium.
    NoMedium,
    /// It takes no writes.
    WriteProtected,
}

impl Happened {
    /// In words.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Arrived => "was plugged in",
            Self::Left => "went off the link",
            Self::LinkDown => "link down",
            Self::Reset => "was reset",
            Self::Timeout => "did not answer in time",
            Self::Interface => "a transfer failed on its way",
            Self::Slowed => "the link was slowed down",
            Self::OverCurrent => "over-current: the port cut its power",
            Self::NoAnswer => "does not introduce itself",
            Self::GivenUp => "the system gave it up",
            Self::MediumError => "a place does not read",
            Self::WriteError => "a place does not take a write",
            Self::CapacityChanged => "its length changed",
            Self::NoTable => "no table could be read from it",
            Self::NoMedium => "there is no medium",
            Self::WriteProtected => "takes no writes",
        }
    }

    /// The rung that it speaks of.
    #[must_use]
    pub fn rung(self) -> RungName {
        match self {
            Self::MediumError | Self::WriteError => RungName::Reads,
            Self::CapacityChanged => RungName::Capacity,
            Self::NoTable => RungName::Table,
            _ => RungName::Link,
        }
    }

    fn severity(self) -> Severity {
        match self {
            Self::Arrived | Self::Left | Self::NoTable | Self::WriteProtected => Severity::Note,
            Self::OverCurrent | Self::GivenUp | Self::NoMedium | Self::NoAnswer => Severity::Broken,
            _ => Severity::Doubt,
        }
    }
}

/// A line of the log that concerns a drive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct KernelWord {
    /// What happened.
    pub what: Happened,
    /// When, in microseconds since the system was started; none for a line that was pasted without its time.
    pub at_us: Option<u64>,
    /// Where on the drive, in bytes.
    pub at_byte: Option<ByteOffset>,
    /// The line.
    pub line: String,
}

/// What the kernel said of a drive since it was plugged in.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct KernelWords {
    /// Line by line, the oldest first.
    pub words: Vec<KernelWord>,
    /// They were pasted: of whatever drive, and of whenever.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub are_pasted: bool,
    /// Why the log could not be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unread: Option<String>,
}

impl KernelWords {
    /// Reads the kernel's log for what it says of `source`. Nothing for what is no device.
    #[must_use]
    pub fn of(source: &SharedSource) -> Self {
        let Some(attachment) = source.attachment() else { return Self::default() };
        match KernelLog::open() {
            Ok(mut log) => Self { words: concerning(&attachment.names, &log.news()), ..Self::default() },
            Err(error) => {
                let unread = format!("the kernel's log is not for this user to read ({error}): run as root, or with CAP_SYSLOG");
                Self { unread: Some(unread), ..Self::default() }
            }
        }
    }

    /// What a pasted piece of such a log says: of whatever drive.
    #[must_use]
    pub fn pasted(text: &str) -> Self {
        let words = text.lines().take(MOST_KEPT).filter_map(decode::pasted).collect();
        Self { words, are_pasted: true, unread: None }
    }

    /// What they come to on `rung`: one finding for each place and each sort, with how often and when.
    #[must_use]
    pub fn findings(&self, rung: RungName) -> Vec<Finding> {
        let mut sorts: BTreeMap<(Happened, Option<ByteOffset>), Vec<&KernelWord>> = BTreeMap::new();
        for word in self.words.iter().filter(|word| word.what.rung() == rung && word.what != Happened::Arrived) {
            sorts.entry((word.what, word.at_byte)).or_default().push(word);
        }
        let places = sorts.keys().filter(|(_, at)| at.is_some()).count();
        let mut findings = Vec::new();
        let mut left = MOST_PLACES;
        for ((what, at), words) in &sorts {
            if at.is_some() {
                if left == 0 {
                    continue;
                }
                left -= 1;
            }
            let Some(last) = words.last() else { continue };
            let times = if words.len() > 1 { format!(", {} times", words.len()) } else { String::new() };
            let said = format!("{}{times}", what.word());
            let when = last.at_us.map(|at| format!(" at {}", clock(Duration::from_micros(at)))).unwrap_or_default();
            let who = if self.are_pasted { "a log as pasted" } else { "the kernel" };
            let how = format!("{who}{when}: {}", last.line);
            findings.push(match at {
                Some(at) => Finding::at(what.severity(), *at, said, how),
                None => Finding::of_all(what.severity(), said, how),
            });
        }
        if places > MOST_PLACES {
            let more = counted(places - MOST_PLACES, "more place", "more places");
            findings.push(Finding::of_all(Severity::Doubt, format!("{more} that do not read"), "the kernel's log"));
        }
        findings
    }

    /// What the kernel said of the bytes from `from` to `to`.
    #[must_use]
    pub fn of_place(&self, from: ByteOffset, to: ByteOffset) -> Option<&KernelWord> {
        self.words.iter().rev().find(|word| word.at_byte.is_some_and(|at| at >= from && at < to))
    }
}

/// Time since the system was started, as `1:02:03.4`.
fn clock(at: Duration) -> String {
    let seconds = at.as_secs();
    format!("{}:{:02}:{:02}.{}", seconds / 3600, seconds / 60 % 60, seconds % 60, at.subsec_millis() / 100)
}

/// The kernel's log while a drive is worked on.
pub struct KernelWatch {
    log: KernelLog,
    names: Vec<String>,
}

impl KernelWatch {
    /// Listens from now on for what concerns `source`; none for what is no device, and where the log is not for this user.
    #[must_use]
    pub fn begin(source: &SharedSource) -> Option<Self> {
        let names = source.attachment()?.names;
        let mut log = KernelLog::open().ok()?;
        let _ = log.news();
        Some(Self { log, names })
    }

    /// What was said since this was asked last.
    pub fn news(&mut self) -> Vec<KernelWord> {
        concerning(&self.names, &self.log.news())
    }
}

/// The lines that concern the drive that the kernel calls by `names`, since it was plugged in last.
#[must_use]
pub fn concerning(names: &[String], lines: &[KernelLine]) -> Vec<KernelWord> {
    let mut words: Vec<KernelWord> = Vec::new();
    for line in lines {
        if decode::begins_anew(names, &line.text) {
            words.clear();
        }
        if let Some((what, at_byte)) = decode::of(names, &line.text).filter(|_| words.len() < MOST_KEPT) {
            let at_us = u64::try_from(line.at.as_micros()).ok();
            words.push(KernelWord { what, at_us, at_byte, line: line.text.clone() });
        }
    }
    words
}
