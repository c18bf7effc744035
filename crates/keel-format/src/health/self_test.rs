//! What a drive found when it tested itself: SMART self-test log (ATA8-ACS, 7.52.6.8.4, log address 06h) with the status byte of the SMART
//! data, and the NVMe device self-test log (NVM Express Base Specification, log identifier 06h).

use keel_source::SelfTestLog;
use serde::{Deserialize, Serialize};

/// Bytes of a descriptor of the ATA log, of which 21 stand behind two bytes of revision.
const ATA_DESCRIPTOR: usize = 24;
const ATA_DESCRIPTORS: usize = 21;
/// Where the ATA log says which descriptor is the newest, from 1.
const ATA_NEWEST: usize = 508;
/// Bytes of a result of the NVMe log, of which 20 stand behind four bytes.
const NVME_RESULT: usize = 28;
const NVME_RESULTS: usize = 20;

/// How a test ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TestOutcome {
    /// Without an error.
    Passed,
    /// Somebody stopped it.
    Stopped,
    /// A reset or another command cut it off.
    Interrupted,
    /// A place did not read.
    ReadFailure,
    /// Another part of the drive failed.
    Failed,
    /// It runs.
    Running,
}

impl TestOutcome {
    /// In words.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Passed => "passed",
            Self::Stopped => "stopped",
            Self::Interrupted => "cut off",
            Self::ReadFailure => "a place did not read",
            Self::Failed => "failed",
            Self::Running => "runs",
        }
    }

    fn of_ata(status: u8) -> Self {
        match status >> 4 {
            0 => Self::Passed,
            1 => Self::Stopped,
            2 => Self::Interrupted,
            7 => Self::ReadFailure,
            15 => Self::Running,
            _ => Self::Failed,
        }
    }
}

/// One test that ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct SelfTest {
    /// True for the extended test, which reads the whole surface.
    pub is_extended: bool,
    /// How it ended.
    pub outcome: TestOutcome,
    /// Power-on hours of the drive when it ended.
    pub at_hours: u64,
    /// The first sector that failed, in logical sectors, where the drive names one.
    pub first_failing_lba: Option<u64>,
}

impl SelfTest {
    /// In words.
    #[must_use]
    pub fn words(&self) -> String {
        let kind = if self.is_extended { "extended" } else { "short" };
        let at = self.first_failing_lba.map(|lba| format!(", first at LBA {lba}")).unwrap_or_default();
        format!("self-test at {} hours, {kind}: {}{at}", self.at_hours, self.outcome.word())
    }
}

/// The tests that a drive remembers.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SelfTests {
    /// One runs, and so much of it is done, in percent.
    pub running_percent: Option<u8>,
    /// Those that ended, the newest first.
    pub tests: Vec<SelfTest>,
}

impl SelfTests {
    /// Reads a log.
    #[must_use]
    pub fn read(log: &SelfTestLog) -> Self {
        match log {
            SelfTestLog::Ata { status, log } => of_ata(*status, log),
            SelfTestLog::Nvme { log } => of_nvme(log),
            SelfTestLog::Scsi { page, progress } => super::scsi::self_tests(page, *progress),
        }
    }

    /// A line for the one that runs, and for each that ended.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        let running = self.running_percent.map(|percent| format!("it tests itself: {percent} % done"));
        running.into_iter().chain(self.tests.iter().map(SelfTest::words)).collect()
    }

    /// The newest test that failed, unless the same kind passed since.
    #[must_use]
    pub fn failure(&self) -> Option<&SelfTest> {
        let failed = |test: &SelfTest| matches!(test.outcome, TestOutcome::ReadFailure | TestOutcome::Failed);
        let decided = |test: &&SelfTest| failed(test) || test.outcome == TestOutcome::Passed;
        let newest = |is_extended: bool| self.tests.iter().filter(|test| test.is_extended == is_extended).find(decided);
        [newest(true), newest(false)].into_iter().flatten().find(|test| failed(test))
    }
}

fn of_ata(status: u8, log: &[u8]) -> SelfTests {
    let running = (status >> 4 == 15).then(|| 100 - (status & 0x0F).min(10) * 10);
    let newest = log.get(ATA_NEWEST).map_or(0, |newest| usize::from(*newest));
    let mut tests = Vec::new();
    for back in 0..ATA_DESCRIPTORS {
        // Descriptor numbers go round from 1; 0 says that none was written.
        let Some(index) = newest.checked_sub(1).filter(|newest| *newest < ATA_DESCRIPTORS) else { break };
        let index = (index + ATA_DESCRIPTORS - back) % ATA_DESCRIPTORS;
        let from = 2 + index * ATA_DESCRIPTOR;
        let Some(test) = log.get(from..from + ATA_DESCRIPTOR) else { break };
        let [kind, status, low, high, _, a, b, c, d, ..] = *test else { break };
        if kind == 0 && status == 0 && low == 0 && high == 0 {
            continue;
        }
        let outcome = TestOutcome::of_ata(status);
        let lba = u64::from(u32::from_le_bytes([a, b, c, d]));
        let is_named = matches!(outcome, TestOutcome::ReadFailure | TestOutcome::Failed) && lba != u64::from(u32::MAX) && lba > 0;
        tests.push(SelfTest {
            is_extended: kind & 0x7F == 2,
            outcome,
            at_hours: u64::from(u16::from_le_bytes([low, high])),
            first_failing_lba: is_named.then_some(lba),
        });
    }
    SelfTests { running_percent: running, tests }
}

fn of_nvme(log: &[u8]) -> SelfTests {
    let number = |bytes: &[u8], at: usize| {
        bytes.get(at..at + 8).and_then(<[u8]>::first_chunk).map_or(0, |field| u64::from_le_bytes(*field))
    };
    let running =
        log.first().filter(|operation| **operation & 0x0F != 0).and_then(|_| log.get(1)).map(|done| (done & 0x7F).min(100));
    let results = (0..NVME_RESULTS).filter_map(|index| log.get(4 + index * NVME_RESULT..4 + (index + 1) * NVME_RESULT));
    let tests = results.filter_map(|result| {
        let (status, valid) = (*result.first()?, *result.get(2)?);
        // Test code 0 is none: nothing was written here.
        if status >> 4 == 0 {
            return None;
        }
        let outcome = match status & 0x0F {
            0 => TestOutcome::Passed,
            1 => TestOutcome::Stopped,
            2..=4 | 8 => TestOutcome::Interrupted,
            5 | 6 => TestOutcome::Failed,
            7 => TestOutcome::ReadFailure,
            // 0Fh: nothing stands here.
            _ => return None,
        };
        Some(SelfTest {
            is_extended: status >> 4 == 2,
            outcome,
            at_hours: number(result, 4),
            first_failing_lba: (valid & 2 != 0).then(|| number(result, 16)),
        })
    });
    SelfTests { running_percent: running, tests: tests.collect() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ata(status: u8, newest: u8, descriptors: &[(usize, [u8; 9])]) -> SelfTests {
        let mut log = vec![0u8; 512];
        log[508] = newest;
        for (index, bytes) in descriptors {
            log[2 + index * 24..2 + index * 24 + 9].copy_from_slice(bytes);
        }
        SelfTests::read(&SelfTestLog::Ata { status, log })
    }

    #[test]
    fn the_newest_test_comes_first_and_names_the_sector_that_failed() {
        let found = ata(
            0,
            2,
            &[
                (0, [2, 0x74, 0x10, 0x27, 0, 0x00, 0x50, 0x00, 0x01]),
                (1, [1, 0x00, 0x11, 0x27, 0, 0xFF, 0xFF, 0xFF, 0xFF]),
                (20, [2, 0x10, 0x01, 0x00, 0, 0, 0, 0, 0]),
            ],
        );
        assert_eq!(found.running_percent, None);
        let told: Vec<(bool, TestOutcome, u64, Option<u64>)> =
            found.tests.iter().map(|test| (test.is_extended, test.outcome, test.at_hours, test.first_failing_lba)).collect();
        assert_eq!(
            told,
            [
                (false, TestOutcome::Passed, 10_001, None),
                (true, TestOutcome::ReadFailure, 10_000, Some(0x0100_5000)),
                (true, TestOutcome::Stopped, 1, None)
            ]
        );
        assert_eq!(
            found.failure().unwrap().first_failing_lba,
            Some(0x0100_5000),
            "a short test says nothing of the whole surface"
        );
        let cured = ata(0, 2, &[(0, [2, 0x70, 1, 0, 0, 1, 0, 0, 0]), (1, [2, 0x00, 2, 0, 0, 0, 0, 0, 0])]);
        assert_eq!(cured.failure(), None, "the same test passed since");
    }

    #[test]
    fn one_that_runs_says_how_far_it_is() {
        assert_eq!(ata(0xF7, 0, &[]).words(), ["it tests itself: 30 % done"]);
        assert_eq!(ata(0xFF, 0, &[]).running_percent, Some(0));
        let mut log = vec![0u8; 564];
        (log[0], log[1]) = (2, 42);
        for result in log[4..].chunks_mut(28).skip(3) {
            result[0] = 0x1F;
        }
        log[4] = 0x27;
        log[6] = 2;
        log[8] = 99;
        log[20..28].copy_from_slice(&123_456_789_012_u64.to_le_bytes());
        let found = SelfTests::read(&SelfTestLog::Nvme { log });
        assert_eq!(found.running_percent, Some(42));
        assert_eq!(found.tests.len(), 1);
        assert_eq!((found.tests[0].is_extended, found.tests[0].at_hours), (true, 99));
        assert_eq!(found.failure().unwrap().first_failing_lba, Some(123_456_789_012));
    }

    #[test]
    fn logs_of_any_bytes_and_lengths_are_read() {
        for length in [0, 1, 3, 30, 509, 512, 564] {
            for byte in [0u8, 1, 2, 0x0F, 0x70, 0xFF] {
                let log = vec![byte; length];
                let _ = SelfTests::read(&SelfTestLog::Ata { status: byte, log: log.clone() }).failure();
                let _ = SelfTests::read(&SelfTestLog::Nvme { log }).failure();
            }
        }
        assert_eq!(ata(0, 0, &[(0, [2, 0x70, 1, 0, 0, 1, 0, 0, 0])]).tests, [], "none was written");
    }
}
