//! What a SCSI drive logs of itself: log pages (SPC-4, 7.3) of `LOG SENSE`, and its informational exceptions.

use serde::{Deserialize, Serialize};

use super::{SelfTest, SelfTests, TestOutcome};

/// Page codes: error counters of writes, reads and verifies, non-medium errors, temperature, self-test results, informational exceptions.
const WRITE_ERRORS: u8 = 0x02;
const READ_ERRORS: u8 = 0x03;
const VERIFY_ERRORS: u8 = 0x05;
const NON_MEDIUM: u8 = 0x06;
const TEMPERATURE: u8 = 0x0D;
const SELF_TESTS: u8 = 0x10;
const EXCEPTIONS: u8 = 0x2F;
/// Parameters of the error counters: total errors corrected, bytes processed, errors that stayed.
const CORRECTED: u16 = 3;
const PROCESSED: u16 = 5;
const UNCORRECTED: u16 = 6;
/// `FAILURE PREDICTION THRESHOLD EXCEEDED`.
const FAILS_SOON: u8 = 0x5D;
/// The most parameters of a page that are read.
const MOST_PARAMETERS: usize = 512;

/// Counters of one kind of request.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ErrorCounters {
    /// Errors that were corrected.
    pub corrected: u64,
    /// Errors that stayed.
    pub uncorrected: u64,
    /// Bytes processed.
    pub bytes: u64,
}

/// What the pages say.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ScsiHealth {
    /// Of reads.
    pub read: Option<ErrorCounters>,
    /// Of writes.
    pub write: Option<ErrorCounters>,
    /// Of verifies.
    pub verify: Option<ErrorCounters>,
    /// Errors that are not the medium's.
    pub non_medium: Option<u64>,
    /// Temperature in degrees Celsius.
    pub celsius: Option<i64>,
    /// Reference temperature: the highest that it may have for long.
    pub reference_celsius: Option<i64>,
    /// `ADDITIONAL SENSE CODE` and its qualifier of what the drive reports of itself; none for no exception.
    pub exception: Option<(u8, u8)>,
}

impl ScsiHealth {
    /// Reads pages, each with its head of four bytes. What is no page, or one of another kind, says nothing.
    #[must_use]
    pub fn read(pages: &[Vec<u8>]) -> Self {
        let mut health = Self::default();
        for page in pages {
            match code(page) {
                Some(WRITE_ERRORS) => health.write = Some(counters(page)),
                Some(READ_ERRORS) => health.read = Some(counters(page)),
                Some(VERIFY_ERRORS) => health.verify = Some(counters(page)),
                Some(NON_MEDIUM) => {
                    health.non_medium = parameters(page).find(|(code, _)| *code == 0).map(|(_, value)| number(value));
                }
                Some(TEMPERATURE) => {
                    let celsius = |wanted: u16| {
                        let (_, value) = parameters(page).find(|(code, _)| *code == wanted)?;
                        value.get(1).filter(|celsius| **celsius != 0xFF).map(|celsius| i64::from(*celsius))
                    };
                    (health.celsius, health.reference_celsius) = (celsius(0).or(health.celsius), celsius(1));
                }
                Some(EXCEPTIONS) => {
                    if let Some((_, [sense, qualifier, rest @ ..])) = parameters(page).find(|(code, _)| *code == 0) {
                        health.exception = (*sense != 0).then_some((*sense, *qualifier));
                        let told = rest.first().filter(|celsius| **celsius != 0xFF && **celsius != 0);
                        health.celsius = health.celsius.or_else(|| told.map(|celsius| i64::from(*celsius)));
                    }
                }
                _ => {}
            }
        }
        health
    }

    /// Errors of the medium that stayed.
    #[must_use]
    pub fn uncorrected(&self) -> u64 {
        [self.read, self.write, self.verify].iter().flatten().fold(0, |sum, counters| sum.saturating_add(counters.uncorrected))
    }

    /// True where the drive itself says that it is about to fail.
    #[must_use]
    pub fn fails_soon(&self) -> bool {
        self.exception.is_some_and(|(code, _)| code == FAILS_SOON)
    }
}

/// The page's code, where it holds what its head says.
fn code(page: &[u8]) -> Option<u8> {
    page.first().filter(|_| page.len() >= 4).map(|first| first & 0x3F)
}

/// The parameters of a page: code and value.
fn parameters(page: &[u8]) -> impl Iterator<Item = (u16, &[u8])> {
    let length = page.get(2..4).and_then(<[u8]>::first_chunk).map_or(0, |field| usize::from(u16::from_be_bytes(*field)));
    let mut rest = page.get(4..(4 + length).min(page.len())).unwrap_or_default();
    let next = move || {
        let (head, behind) = rest.split_first_chunk::<4>()?;
        let (value, behind) = behind.split_at_checked(usize::from(head[3]))?;
        rest = behind;
        Some((u16::from_be_bytes([head[0], head[1]]), value))
    };
    std::iter::from_fn(next).take(MOST_PARAMETERS)
}

/// A counter of up to eight bytes; a longer one counts as the largest.
fn number(value: &[u8]) -> u64 {
    let zeros = value.iter().take_while(|byte| **byte == 0).count();
    match value.get(zeros..) {
        Some(digits) if digits.len() <= 8 => digits.iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte)),
        _ => u64::MAX,
    }
}

fn counters(page: &[u8]) -> ErrorCounters {
    let of = |wanted: u16| parameters(page).find(|(code, _)| *code == wanted).map_or(0, |(_, value)| number(value));
    ErrorCounters { corrected: of(CORRECTED), uncorrected: of(UNCORRECTED), bytes: of(PROCESSED) }
}

/// The tests of page 10h; `progress` is `PROGRESS INDICATION` of the one that runs, of 65536.
pub(super) fn self_tests(page: &[u8], progress: Option<u16>) -> SelfTests {
    let mut tests = Vec::new();
    let results = parameters(page).filter(|(code, _)| (1..=20).contains(code)).filter_map(|(_, value)| value.first_chunk::<16>());
    for [first, _, high, low, lba @ .., _, _, _, _] in results.take_while(|_| code(page) == Some(SELF_TESTS)) {
        let (kind, result) = (first >> 5, first & 0x0F);
        let hours = u16::from_be_bytes([*high, *low]);
        if kind == 0 && hours == 0 && result == 0 {
            continue;
        }
        let outcome = match result {
            0 => TestOutcome::Passed,
            1 | 2 => TestOutcome::Stopped,
            // Which of its parts failed stands in the number of the segment.
            3..=6 => TestOutcome::Failed,
            7 => TestOutcome::ReadFailure,
            15 => TestOutcome::Running,
            _ => TestOutcome::Interrupted,
        };
        let lba = u64::from_be_bytes(*lba);
        let failed = matches!(outcome, TestOutcome::ReadFailure | TestOutcome::Failed);
        tests.push(SelfTest {
            is_extended: matches!(kind, 2 | 6),
            // A place that it names is one that did not read.
            outcome: if failed && lba != u64::MAX { TestOutcome::ReadFailure } else { outcome },
            at_hours: u64::from(hours),
            first_failing_lba: (failed && lba != u64::MAX).then_some(lba),
        });
    }
    let runs = tests.first().is_some_and(|test| test.outcome == TestOutcome::Running);
    tests.retain(|test| test.outcome != TestOutcome::Running);
    let percent = progress.map(|progress| u8::try_from(u32::from(progress) * 100 / 65_536).unwrap_or(99));
    SelfTests { running_percent: percent.or(runs.then_some(0)), tests }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn page(code: u8, parameters: &[(u16, &[u8])]) -> Vec<u8> {
        let mut body = Vec::new();
        for (code, value) in parameters {
            body.extend(code.to_be_bytes());
            body.extend([3, value.len() as u8]);
            body.extend(*value);
        }
        let mut page = vec![code, 0];
        page.extend((body.len() as u16).to_be_bytes());
        page.extend(body);
        page
    }

    #[test]
    fn pages_say_what_the_standard_puts_there() {
        let read = page(0x03, &[(3, &[0, 0, 1, 0]), (5, &[0, 0, 0, 0, 0x10, 0, 0, 0]), (6, &[0, 0, 0, 7])]);
        let write = page(0x02, &[(6, &[2])]);
        let warm = page(0x0D, &[(0, &[0, 41]), (1, &[0, 65])]);
        let exceptions = page(0x2F, &[(0, &[0x5D, 0x10, 44, 0])]);
        let other = page(0x06, &[(0, &[0, 0, 0, 12])]);
        let health = ScsiHealth::read(&[read, write, warm, exceptions, other]);
        assert_eq!(health.read, Some(ErrorCounters { corrected: 256, uncorrected: 7, bytes: 1 << 28 }));
        assert_eq!((health.uncorrected(), health.non_medium), (9, Some(12)));
        assert_eq!((health.celsius, health.reference_celsius, health.verify), (Some(41), Some(65), None));
        assert!(health.fails_soon());
        let calm = ScsiHealth::read(&[page(0x2F, &[(0, &[0, 0, 38, 0])]), page(0x0D, &[(0, &[0, 0xFF])])]);
        assert_eq!((calm.celsius, calm.exception, calm.fails_soon()), (Some(38), None, false));
    }

    #[test]
    fn tests_that_ended_and_one_that_runs_are_told_apart() {
        let result = |first: u8, hours: u16, lba: u64| {
            let mut value = vec![first, 0];
            value.extend(hours.to_be_bytes());
            value.extend(lba.to_be_bytes());
            value.extend([3, 0x11, 0, 0]);
            value
        };
        let results = [result(0x2F, 0, u64::MAX), result(0x47, 900, 77), result(0x20, 800, u64::MAX), vec![0; 16]];
        let parameters: Vec<(u16, &[u8])> =
            results.iter().enumerate().map(|(at, value)| (at as u16 + 1, value.as_slice())).collect();
        let tests = self_tests(&page(0x10, &parameters), Some(0x8000));
        assert_eq!((tests.running_percent, tests.tests.len()), (Some(50), 2));
        assert_eq!((tests.tests[0].is_extended, tests.tests[0].outcome), (true, TestOutcome::ReadFailure));
        assert_eq!((tests.tests[0].at_hours, tests.tests[0].first_failing_lba), (900, Some(77)));
        assert_eq!((tests.tests[1].outcome, tests.tests[1].first_failing_lba), (TestOutcome::Passed, None));
        assert_eq!(self_tests(&page(0x11, &parameters), None), SelfTests::default(), "another page");
    }

    #[test]
    fn bytes_that_are_no_pages_say_nothing_and_lengths_that_lie_are_bounded() {
        let whole = page(0x03, &[(3, &[1, 2, 3, 4]), (6, &[9])]);
        for cut in 0..whole.len() {
            let _ = ScsiHealth::read(&[whole[..cut].to_vec()]);
        }
        let mut lies = whole.clone();
        (lies[2], lies[3], lies[7]) = (0xFF, 0xFF, 0xFF);
        assert_eq!(ScsiHealth::read(&[lies]).read, Some(ErrorCounters::default()));
        let long = page(0x06, &[(0, &[1; 12])]);
        assert_eq!(ScsiHealth::read(&[long]).non_medium, Some(u64::MAX));
        assert_eq!(ScsiHealth::read(&[vec![0; 64], vec![0xFF; 64], Vec::new()]).uncorrected(), 0);
    }
}
