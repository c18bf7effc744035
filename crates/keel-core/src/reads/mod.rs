//! Reads: how a drive delivers what is asked of it. Samples, or the whole surface; classes of latency by the drive's own
//! median; errors that pass told apart from those that stay. Never more than a budget, and little from a sick drive.

pub(crate) mod latency;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use keel_source::{ByteOffset, ByteRange, Identity, ReadCause, SharedSource};
use serde::{Deserialize, Serialize};

use crate::case;
use crate::error::CoreError;
use crate::ground::{self, GroundMap};
use crate::job::Desk;
use crate::whose::{self, Samples};
pub use latency::Latency;

/// Bytes of a sample.
const SAMPLE_BYTES: u64 = 4096;
/// Bytes of a piece of the whole surface.
const PIECE_BYTES: u64 = 1 << 20;
/// Cells of the picture of a whole surface.
const CELLS: u64 = 256;
/// Cells of the picture of samples: no cell is to be without one.
const SAMPLED_CELLS: u64 = 128;
/// Reads before the median is known.
const KNOWN_AFTER: usize = 8;
/// The most latencies that the median is taken of.
const MOST_TIMES: usize = 1 << 16;
/// Requests in a row without an answer after which a drive counts as gone.
const MOST_GONE: u32 = 8;
/// Between two rounds of asking again, on a drive whose clock is the wall's.
const PAUSE: Duration = Duration::from_millis(300);
/// How often the listener hears.
const TELL_EVERY: Duration = Duration::from_millis(100);

/// How to read.
#[derive(Debug, Clone, Copy)]
pub struct ReadsOptions {
    /// Samples over the surface; `None` for every byte of it.
    pub samples: Option<u64>,
    /// The most time that it may take, by the drive's clock.
    pub budget: Duration,
    /// Failed places after which the drive is left alone.
    pub most_failed: usize,
    /// How often a failed place is asked again, with all others in between.
    pub again: u32,
}

impl ReadsOptions {
    /// A few samples, as the ladder takes them.
    #[must_use]
    pub fn sampled() -> Self {
        Self { samples: Some(256), budget: Duration::from_secs(90), most_failed: 12, again: 2 }
    }

    /// The whole surface, within `budget`.
    #[must_use]
    pub fn full(budget: Duration) -> Self {
        Self { samples: None, budget, most_failed: 64, again: 2 }
    }
}

/// A place that failed at least once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failed {
    /// What was asked for and did not come.
    pub range: ByteRange,
    /// How often it was asked for.
    pub tries: u32,
    /// True when it came at last.
    pub came: bool,
    /// True when the transfer failed and not the place.
    pub interface: bool,
    /// In the system's or the drive's words.
    pub reason: String,
}

/// One part of the surface in the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cell {
    /// Its first byte.
    pub at: ByteOffset,
    /// The worst that was seen in it.
    pub worst: Latency,
    /// The longest read in it, in microseconds.
    pub longest_us: u64,
    /// Reads that failed in it.
    pub errors: u32,
}

/// Why it ended early.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Left {
    /// So many places failed that the drive is spared.
    Spared,
    /// The time is over.
    Budget,
    /// The drive went off the link.
    LinkLost,
    /// The technician asked for it.
    Cancelled,
}

impl Left {
    /// In words.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Spared => "so many places failed that the drive was spared the rest",
            Self::Budget => "its time was over",
            Self::LinkLost => "the drive went off the link",
            Self::Cancelled => "it was stopped",
        }
    }
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Survey {
    /// Key of the drive's identity.
    pub drive: String,
    /// True for the whole surface, false for samples.
    pub full: bool,
    /// Reads that were made.
    pub asked: u64,
    /// Reads that came the first time.
    pub came: u64,
    /// Bytes that came.
    pub bytes: u64,
    /// What is usual for this drive: the median of its reads, in microseconds.
    pub median_us: u64,
    /// Reads by latency.
    pub classes: Vec<(Latency, u64)>,
    /// Places that failed.
    pub failed: Vec<Failed>,
    /// Where time and errors go.
    pub picture: Vec<Cell>,
    /// Requests that the drive did not answer at all.
    pub link_lost: u64,
    /// Transfers that failed on their way.
    pub interface_errors: u64,
    /// How long it took, by the drive's own clock where it keeps one.
    pub took_ms: u64,
    /// Why it ended early.
    pub left: Option<Left>,
}

impl Survey {
    /// Places that did not come, however often they were asked for.
    pub fn staying(&self) -> impl Iterator<Item = &Failed> {
        self.failed.iter().filter(|failed| !failed.came)
    }

    /// The byte from which on nothing comes that was asked for, where everything before it does: the drive may store no more than
    /// that, or a part of it may be gone. None where errors and good reads lie mixed, or too few places speak for it.
    #[must_use]
    pub fn ends_at(&self) -> Option<ByteOffset> {
        const LEAST: usize = 3;
        let asked = || self.picture.iter().filter(|cell| cell.worst != Latency::Unread);
        let good = asked().filter(|cell| cell.worst < Latency::Passing).count();
        let behind = asked().skip_while(|cell| cell.worst != Latency::Failed).collect::<Vec<_>>();
        let all_fail = behind.iter().all(|cell| cell.worst == Latency::Failed);
        // One that was spared was not asked to its end.
        let to_the_end = self.picture.last().is_some_and(|cell| cell.worst == Latency::Failed);
        let first = self.staying().map(|failed| failed.range.start).min().filter(|_| to_the_end)?;
        (all_fail && behind.len() >= LEAST && good >= LEAST && good + behind.len() == asked().count()).then_some(first)
    }

    /// Reads in this class.
    #[must_use]
    pub fn count(&self, latency: Latency) -> u64 {
        self.classes.iter().find(|(class, _)| *class == latency).map_or(0, |(_, count)| *count)
    }
}

/// How far it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadsProgress {
    /// Bytes of the surface behind it.
    pub done: u64,
    /// Bytes of the surface.
    pub total: u64,
    /// Where the drive reads.
    pub at: ByteOffset,
    /// Reads that failed.
    pub errors: u64,
    /// What the surface holds and how long it took, as far as it was read.
    pub ground: Arc<GroundMap>,
}

/// Where the last survey of a drive is kept.
#[must_use]
pub fn survey_path(identity: &Identity) -> PathBuf {
    case::drive_folder(identity).join("reads.json")
}

/// Keeps a survey for the report.
///
/// # Errors
/// [`CoreError::File`] when it cannot be written.
pub fn keep(source: &SharedSource, survey: &Survey) -> Result<(), CoreError> {
    whose::keep(&survey_path(source.identity()), source, survey, Samples::Taken)
}

/// The kept survey of a drive.
#[must_use]
pub fn known(source: &SharedSource) -> Option<Survey> {
    let (survey, own) = whose::kept::<Survey>(&survey_path(source.identity()), source)?;
    (own && survey.drive == source.identity().key()).then_some(survey)
}

/// One read and what came of it.
struct Asked {
    range: ByteRange,
    took_us: u64,
    failed: Option<usize>,
}

/// Surveys `source`. A source of no bytes gives an empty survey.
#[must_use]
pub fn survey(source: &SharedSource, options: ReadsOptions, desk: &Desk<ReadsProgress>) -> Survey {
    let mut run = Run {
        source,
        options,
        desk,
        begun: Instant::now(),
        clock: source.elapsed().unwrap_or_default(),
        told: None,
        asked: Vec::new(),
        times: Vec::new(),
        gone_in_a_row: 0,
        at: ByteOffset(0),
        ground: GroundMap::new(source.len()),
        survey: Survey {
            drive: source.identity().key(),
            full: options.samples.is_none(),
            asked: 0,
            came: 0,
            bytes: 0,
            median_us: 0,
            classes: Vec::new(),
            failed: Vec::new(),
            picture: Vec::new(),
            link_lost: 0,
            interface_errors: 0,
            took_ms: 0,
            left: None,
        },
    };
    match options.samples {
        Some(samples) => run.sample(samples),
        None => run.whole(),
    }
    run.ask_again();
    if options.samples.is_none() {
        run.tell(run.at);
        // Where it cannot be kept, whoever reads the drive next sees it again.
        let _ = ground::keep(source, &run.ground);
    }
    run.end()
}

struct Run<'a> {
    source: &'a SharedSource,
    options: ReadsOptions,
    desk: &'a Desk<ReadsProgress>,
    begun: Instant,
    clock: Duration,
    told: Option<Instant>,
    asked: Vec<Asked>,
    times: Vec<u64>,
    gone_in_a_row: u32,
    /// Where it reads.
    at: ByteOffset,
    ground: GroundMap,
    survey: Survey,
}

impl Run<'_> {
    fn took(&self) -> Duration {
        self.source.elapsed().map_or_else(|| self.begun.elapsed(), |now| now.saturating_sub(self.clock))
    }

    fn tell(&self, at: ByteOffset) {
        let errors = self.survey.failed.len() as u64;
        let (total, ground) = (self.source.len(), Arc::new(self.ground.clone()));
        self.desk.tell(ReadsProgress { done: at.0, total, at, errors, ground });
    }

    /// Asks for `range` once. False when the survey has to end.
    fn ask(&mut self, range: ByteRange, buf: &mut [u8]) -> bool {
        self.at = range.start;
        if self.told.is_none_or(|told| told.elapsed() >= TELL_EVERY) {
            self.told = Some(Instant::now());
            self.tell(range.start);
        }
        self.survey.left = if self.desk.cancel().is_cancelled() {
            Some(Left::Cancelled)
        } else if self.took() >= self.options.budget {
            Some(Left::Budget)
        } else if self.survey.failed.len() >= self.options.most_failed {
            Some(Left::Spared)
        } else {
            None
        };
        if self.survey.left.is_some() {
            return false;
        }
        let piece = buf.get_mut(..usize::try_from(range.len()).unwrap_or(0)).unwrap_or_default();
        let before = self.took();
        let read = self.source.read_once(range.start, piece);
        let took_us = u64::try_from(self.took().saturating_sub(before).as_micros()).unwrap_or(u64::MAX);
        self.survey.asked += 1;
        if !read.as_ref().is_err_and(|error| error.cause == ReadCause::LinkLost) {
            self.gone_in_a_row = 0;
        }
        let failed = match read {
            Ok(()) => {
                self.survey.came += 1;
                self.survey.bytes += range.len();
                self.ground.see(range.start, piece);
                self.ground.time(range, took_us);
                if self.times.len() < MOST_TIMES {
                    self.times.push(took_us);
                }
                None
            }
            Err(error) if error.cause == ReadCause::LinkLost => {
                self.survey.link_lost += 1;
                // A drive that is off the link is no place that fails; a few tries tell whether it comes back.
                self.gone_in_a_row += 1;
                if self.gone_in_a_row >= MOST_GONE {
                    self.survey.left = Some(Left::LinkLost);
                    return false;
                }
                return true;
            }
            Err(error) => {
                self.survey.interface_errors += u64::from(error.cause == ReadCause::Interface);
                let start = error.bad.iter().map(|bad| bad.start).min().unwrap_or(range.start).max(range.start);
                let sector = self.source.sector_size().bytes();
                let range = ByteRange::new(start, range.end.min(start + sector.max(SAMPLE_BYTES)));
                let interface = error.cause == ReadCause::Interface;
                self.ground.fail(range);
                self.survey.failed.push(Failed { range, tries: 1, came: false, interface, reason: error.reason });
                Some(self.survey.failed.len() - 1)
            }
        };
        self.asked.push(Asked { range, took_us, failed });
        true
    }

    /// Evenly spread places, the first and the last sector among them.
    fn sample(&mut self, samples: u64) {
        let len = self.source.len();
        let bytes = SAMPLE_BYTES.min(len);
        if bytes == 0 {
            return;
        }
        let mut buf = vec![0; usize::try_from(bytes).unwrap_or(0)];
        let (span, sector) = (u128::from(len - bytes), self.source.sector_size().bytes());
        let mut last = None;
        let all = samples.max(2);
        // The last one comes second: a drive that is spared soon has said then whether it still reads at its end.
        for index in [0, all - 1].into_iter().chain(1..all - 1) {
            let at = u64::try_from(span * u128::from(index) / u128::from(all - 1)).unwrap_or(0) / sector * sector;
            if last.replace(at) != Some(at) && !self.ask(ByteRange::sized(ByteOffset(at), bytes), &mut buf) {
                return;
            }
        }
    }

    /// Every byte, holes skipped; behind a place that failed it goes on with the next piece.
    fn whole(&mut self) {
        let mut buf = vec![0; PIECE_BYTES as usize];
        let mut at = ByteOffset(0);
        while let Some(data) = self.source.next_data(at) {
            self.ground.see_hole(ByteRange::new(at, data.start.max(at)));
            at = data.start;
            while at < data.end {
                let end = ByteOffset((at.0 / PIECE_BYTES + 1).saturating_mul(PIECE_BYTES)).min(data.end);
                if !self.ask(ByteRange::new(at, end), &mut buf) {
                    return;
                }
                at = end;
            }
        }
        self.ground.see_hole(ByteRange::new(at, ByteOffset(self.source.len()).max(at)));
    }

    /// Asks for what failed again, round by round, so that time and other places lie between two tries.
    fn ask_again(&mut self) {
        if matches!(self.survey.left, Some(Left::Cancelled | Left::LinkLost)) {
            return;
        }
        let mut buf = vec![0; SAMPLE_BYTES.max(self.source.sector_size().bytes()) as usize];
        for _ in 0..self.options.again {
            if self.source.elapsed().is_none() && self.survey.failed.iter().any(|failed| !failed.came) {
                std::thread::sleep(PAUSE);
            }
            for index in 0..self.survey.failed.len() {
                if self.desk.cancel().is_cancelled() || self.took() >= self.options.budget * 2 {
                    return;
                }
                let Some(failed) = self.survey.failed.get_mut(index).filter(|failed| !failed.came) else { continue };
                failed.tries += 1;
                let piece = buf.get_mut(..usize::try_from(failed.range.len()).unwrap_or(0)).unwrap_or_default();
                let read = self.source.read_once(failed.range.start, piece);
                failed.came = read.is_ok();
            }
        }
    }

    fn end(mut self) -> Survey {
        let len = self.source.len();
        self.times.sort_unstable();
        let median = self.times.get(self.times.len() / 2).copied().unwrap_or(0);
        let known = self.times.len() >= KNOWN_AFTER;
        let cell_bytes = len.div_ceil(if self.survey.full { CELLS } else { SAMPLED_CELLS }).max(1);
        let cells = len.div_ceil(cell_bytes);
        let mut picture: Vec<Cell> = (0..cells)
            .map(|index| Cell { at: ByteOffset(index * cell_bytes), worst: Latency::Unread, longest_us: 0, errors: 0 })
            .collect();
        let mut classes: Vec<(Latency, u64)> = Latency::ALL.iter().map(|class| (*class, 0)).collect();
        for asked in &self.asked {
            let failed = asked.failed.and_then(|index| self.survey.failed.get(index));
            let class = match failed {
                Some(failed) if failed.came => Latency::Passing,
                Some(_) => Latency::Failed,
                None if known => Latency::of(asked.took_us, median),
                None => Latency::Usual,
            };
            if let Some((_, count)) = classes.iter_mut().find(|(own, _)| *own == class) {
                *count += 1;
            }
            let place = failed.map_or(asked.range.start, |failed| failed.range.start);
            let cell = usize::try_from(place.0 / cell_bytes).ok().and_then(|index| picture.get_mut(index));
            if let Some(cell) = cell {
                cell.worst = cell.worst.max(class);
                cell.longest_us = cell.longest_us.max(asked.took_us);
                cell.errors += u32::from(failed.is_some());
            }
        }
        self.survey.median_us = median;
        self.survey.classes = classes;
        self.survey.picture = picture;
        self.survey.took_ms = u64::try_from(self.took().as_millis()).unwrap_or(u64::MAX);
        self.survey
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_read_is_late_by_what_is_usual_and_never_for_a_few_milliseconds() {
        // On a fast drive a hundred times the usual is still no time.
        assert_eq!(Latency::of(4_999, 40), Latency::Usual);
        assert_eq!(Latency::of(5_001, 40), Latency::Late);
        assert_eq!(Latency::of(50_001, 40), Latency::Slow);
        assert_eq!(Latency::of(500_001, 40), Latency::Stuck);
        // On a slow one it is counted in its own times.
        assert_eq!(Latency::of(59_000, 20_000), Latency::Usual);
        assert_eq!(Latency::of(61_000, 20_000), Latency::Late);
        assert_eq!(Latency::of(300_000, 20_000), Latency::Slow);
        assert_eq!(Latency::of(2_100_000, 20_000), Latency::Stuck);
        assert_eq!(Latency::of(u64::MAX, u64::MAX), Latency::Usual);
        assert_eq!(Latency::of(0, 0), Latency::Usual);
    }

    #[test]
    fn every_class_has_a_sign_and_words_of_its_own() {
        let signs: std::collections::BTreeSet<char> = Latency::ALL.into_iter().map(Latency::sign).collect();
        let words: std::collections::BTreeSet<&str> = Latency::ALL.into_iter().map(Latency::word).collect();
        assert_eq!((signs.len(), words.len()), (Latency::ALL.len(), Latency::ALL.len()));
        assert!(Latency::ALL.is_sorted());
    }

    #[test]
    fn what_did_not_come_is_told_apart_from_what_came_later() {
        let failed = |came| Failed {
            range: ByteRange::sized(ByteOffset(0), 512),
            tries: 2,
            came,
            interface: false,
            reason: String::new(),
        };
        let survey = Survey {
            drive: String::new(),
            full: true,
            asked: 3,
            came: 1,
            bytes: 512,
            median_us: 100,
            classes: vec![(Latency::Usual, 1), (Latency::Failed, 1)],
            failed: vec![failed(true), failed(false)],
            picture: Vec::new(),
            link_lost: 0,
            interface_errors: 0,
            took_ms: 1,
            left: None,
        };
        assert_eq!((survey.staying().count(), survey.count(Latency::Failed), survey.count(Latency::Slow)), (1, 1, 0));
    }
}
