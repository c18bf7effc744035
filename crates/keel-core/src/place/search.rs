//! Search for bytes or text over the surface, forward and back.

use std::time::{Duration, Instant};

use keel_source::{Budgeted, ByteOffset, SharedSource};
use serde::Serialize;

use crate::job::Desk;

/// Bytes read at once: the cancel flag is tested as often.
const CHUNK: u64 = 1 << 20;
/// The longest pattern, in bytes.
const LONGEST: usize = 4096;
/// How often progress is told.
const TELL: Duration = Duration::from_millis(50);

/// Which way is searched.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// Towards the end of the drive.
    Forward,
    /// Towards its start.
    Back,
}

/// What is searched for: one of some runs of bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    forms: Vec<Vec<u8>>,
    /// Letters without regard to their case, of the Latin alphabet without marks.
    any_case: bool,
}

/// Why something cannot be searched for.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatternWrong {
    /// There is nothing in it.
    #[error("nothing to search for")]
    Empty,
    /// It is too long.
    #[error("{0} bytes are more than is searched for at once ({LONGEST})")]
    TooLong(usize),
    /// It says that it is bytes and is none.
    #[error("`{0}` are no bytes: type them as hex: eb 52 90")]
    NoBytes(String),
}

impl Pattern {
    /// What a technician types: `hex: eb 52 90` for bytes, everything else is text, which is searched for as UTF-8 and as UTF-16 in both
    /// orders, without regard to case.
    ///
    /// # Errors
    /// [`PatternWrong`].
    pub fn typed(text: &str) -> Result<Self, PatternWrong> {
        let pattern = match text.strip_prefix("hex:") {
            Some(digits) => Self { forms: vec![bytes_of(digits)?], any_case: false },
            None => {
                let wide = |order: fn(u16) -> [u8; 2]| text.encode_utf16().flat_map(order).collect::<Vec<u8>>();
                let mut forms = vec![text.as_bytes().to_vec(), wide(u16::to_le_bytes), wide(u16::to_be_bytes)];
                forms.iter_mut().for_each(|form| form.make_ascii_lowercase());
                Self { forms, any_case: true }
            }
        };
        match pattern.longest() {
            0 => Err(PatternWrong::Empty),
            length if length > LONGEST => Err(PatternWrong::TooLong(length)),
            _ => Ok(pattern),
        }
    }

    fn longest(&self) -> usize {
        self.forms.iter().map(Vec::len).max().unwrap_or(0)
    }

    /// The first place in `bytes` from which one of the forms stands, or the last one; only places before `end` count.
    fn find(&self, bytes: &mut [u8], end: usize, way: Way) -> Option<(usize, usize)> {
        if self.any_case {
            bytes.make_ascii_lowercase();
        }
        // Between zeros UTF-16 reads either way: it is then taken to begin with its first letter, as the second form does.
        let reads_as_second = |form: &Vec<u8>, at: usize| {
            let second = self.forms.get(1).filter(|second| *second != form);
            form.first() == Some(&0)
                && second.is_some_and(|second| bytes.get(at + 1..).is_some_and(|rest| rest.starts_with(second)))
        };
        let place = |form: &Vec<u8>| {
            let room = bytes.get(..end.saturating_add(form.len().saturating_sub(1)).min(bytes.len()))?;
            let at = match way {
                Way::Forward => memchr::memmem::find_iter(room, form).find(|at| !reads_as_second(form, *at)),
                Way::Back => memchr::memmem::rfind_iter(room, form).find(|at| !reads_as_second(form, *at)),
            };
            Some((at?, form.len()))
        };
        let places = self.forms.iter().filter_map(place);
        match way {
            Way::Forward => places.min(),
            Way::Back => places.max(),
        }
    }
}

fn bytes_of(digits: &str) -> Result<Vec<u8>, PatternWrong> {
    let wrong = || PatternWrong::NoBytes(digits.trim().to_string());
    let plain: String = digits.chars().filter(|sign| !sign.is_whitespace() && *sign != ',').collect();
    if !plain.len().is_multiple_of(2) || !plain.is_ascii() {
        return Err(wrong());
    }
    let (pairs, _) = plain.as_bytes().as_chunks::<2>();
    let byte = |pair: &[u8; 2]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    pairs.iter().map(|pair| byte(pair).ok_or_else(wrong)).collect()
}

/// How far a search is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SearchProgress {
    /// Where it looks.
    pub at: ByteOffset,
    /// Bytes that were looked at.
    pub done: u64,
    /// Bytes to look at, as far as nothing is found before.
    pub total: u64,
}

/// What a search came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Found {
    /// Where it stands; `None` where it does not from there on.
    pub at: Option<ByteOffset>,
    /// How many bytes long it is there.
    pub bytes: usize,
    /// Bytes on the way that do not read: it may stand there.
    pub unread: u64,
    /// It was stopped before it came to the end.
    pub stopped: bool,
}

/// Searches `source` from byte `from` on for `pattern`: the next place that begins at `from` or behind it, or the last one that begins
/// before it. Holes hold zeros and are skipped, unless zeros are what is searched for.
#[must_use]
pub fn search(source: &SharedSource, pattern: &Pattern, from: ByteOffset, way: Way, desk: &Desk<SearchProgress>) -> Found {
    let source = &Budgeted::until(SharedSource::clone(source), desk.cancel());
    let end = source.len();
    let from = ByteOffset(from.0.min(end));
    let total = if way == Way::Forward { end - from.0 } else { from.0 };
    let behind = pattern.longest() as u64;
    let of_zeros = pattern.forms.iter().any(|form| form.iter().all(|byte| *byte == 0));
    let (mut at, mut unread, mut told) = (from.0, 0, Instant::now());
    let none = |unread, stopped| Found { at: None, bytes: 0, unread, stopped };
    while (way == Way::Forward && at < end) || (way == Way::Back && at > 0) {
        if desk.cancel().is_cancelled() {
            return none(unread, true);
        }
        if told.elapsed() > TELL {
            told = Instant::now();
            desk.tell(SearchProgress { at: ByteOffset(at), done: at.abs_diff(from.0), total });
        }
        // A pattern that begins just before data ends in it.
        if let (Way::Forward, false) = (way, of_zeros) {
            let data = source.next_data(ByteOffset(at)).map_or(end, |data| data.start.0);
            at = at.max(data.saturating_sub(behind));
        }
        let (first, last) = match way {
            Way::Forward => (at, at.saturating_add(CHUNK).min(end)),
            Way::Back => (at.saturating_sub(CHUNK), at),
        };
        let len = last.saturating_add(behind).min(end) - first;
        let mut bytes = vec![0; usize::try_from(len).unwrap_or(0)];
        if let Err(error) = source.read_at(ByteOffset(first), &mut bytes) {
            unread += error.bad.iter().map(|bad| bad.len()).sum::<u64>();
        }
        if desk.cancel().is_cancelled() {
            return none(unread, true);
        }
        if let Some((inside, bytes)) = pattern.find(&mut bytes, usize::try_from(last - first).unwrap_or(0), way) {
            return Found { at: Some(ByteOffset(first + inside as u64)), bytes, unread, stopped: false };
        }
        at = if way == Way::Forward { last } else { first };
    }
    none(unread, false)
}
