//! A walk over the bytes of a file that may begin somewhere: bounds, unreadable places and the flag that stops it are minded here.

use std::borrow::Cow;
use std::io::{self, Read};

use keel_source::{ByteOffset, Cancel, ReadCause, Source};

/// Bytes read at once, and for the first looks: most starts are none.
const PAGE: u64 = 64 << 10;
const FIRST_PAGE: u64 = 4 << 10;
/// Bytes after which whole pages are read.
const FIRST_LOOKS: u64 = 16 << 10;
/// A run of bytes that nothing proves may hold a piece of another file where it is as long as this: volumes lay files out in clusters of
/// 4096 bytes and more.
const PIECE: u64 = 4096;
/// Times that the bytes of a file may be read.
const MOST_PASSES: u64 = 4;

/// Why a walk ends before its file does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Broken {
    /// The ground that the file may take ends.
    End,
    /// A place does not read.
    Unreadable,
    /// Its structure breaks, in words.
    Wrong(Cow<'static, str>),
    /// More would have to be read than a file of its length wants.
    Spent,
    /// The work was stopped.
    Stopped,
}

impl Broken {
    /// What it means, as half a sentence.
    #[must_use]
    pub fn says(&self) -> Cow<'static, str> {
        match self {
            Self::End => "its ground ends before it does".into(),
            Self::Unreadable => "the drive does not read what follows".into(),
            Self::Wrong(why) => why.clone(),
            Self::Spent => "it leads back and forth".into(),
            Self::Stopped => "the work was stopped".into(),
        }
    }
}

/// A structure that breaks, in words.
pub(crate) fn wrong<T>(why: impl Into<Cow<'static, str>>) -> Step<T> {
    Err(Broken::Wrong(why.into()))
}

/// What a step of a walk comes to.
pub type Step<T> = Result<T, Broken>;

/// Ground on which a file may lie.
#[derive(Clone, Copy)]
pub struct Ground<'a> {
    /// What it is on.
    pub source: &'a dyn Source,
    /// Behind its last byte.
    pub end: ByteOffset,
    /// The most bytes that are read for one verdict.
    pub most_read: u64,
    /// Stops the work.
    pub cancel: &'a Cancel,
}

/// Where something has to stand that can be known again, by what came before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Landmark {
    /// Its place, from the start of the file.
    pub at: u64,
    /// What stands there: one of these.
    pub marks: &'static [&'static [u8]],
}

/// The bytes from a start to the end of the ground that the file may take; offsets count from the start.
pub struct Walk<'a> {
    ground: Ground<'a>,
    start: ByteOffset,
    len: u64,
    page: Vec<u8>,
    page_at: u64,
    /// Bytes of the page that do not read.
    bad: Vec<(u64, u64)>,
    read: u64,
    /// The furthest byte that was asked for.
    reached: u64,
    held: u64,
    unproven: u64,
    suffix: Option<&'static str>,
    spoilt: Option<String>,
    landmark: Option<Landmark>,
}

impl<'a> Walk<'a> {
    /// A walk from byte `start` over at most `most` bytes.
    #[must_use]
    pub fn new(ground: Ground<'a>, start: ByteOffset, most: u64) -> Self {
        let len = ground.end.0.min(ground.source.len()).saturating_sub(start.0).min(most);
        let (page, bad) = (Vec::new(), Vec::new());
        Self {
            ground,
            start,
            len,
            page,
            page_at: 0,
            bad,
            read: 0,
            reached: 0,
            held: 0,
            unproven: 0,
            suffix: None,
            spoilt: None,
            landmark: None,
        }
    }

    /// Bytes that were read so far.
    #[must_use]
    pub fn read(&self) -> u64 {
        self.read
    }

    /// Bytes that the file may take.
    #[must_use]
    pub fn len(&self) -> u64 {
        self.len
    }

    /// True where there is no ground at all.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// The bytes up to which the structure held.
    #[must_use]
    pub fn held(&self) -> u64 {
        self.held
    }

    /// The byte behind the furthest one that was looked at.
    #[must_use]
    pub fn reached(&self) -> u64 {
        self.reached
    }

    /// The structure holds up to byte `at`.
    pub(crate) fn hold(&mut self, at: u64) {
        self.held = self.held.max(at.min(self.len));
    }

    /// One of `marks` has to stand at `at`.
    pub(crate) fn expect(&mut self, at: u64, marks: &'static [&'static [u8]]) {
        self.landmark = Some(Landmark { at, marks });
    }

    /// What had to stand somewhere, by the last part that told.
    pub(crate) fn landmark(&self) -> Option<Landmark> {
        self.landmark
    }

    /// What the file is called by what was seen so far.
    pub(crate) fn name(&mut self, suffix: &'static str) {
        self.suffix = Some(suffix);
    }

    /// The suffix by what was seen.
    pub(crate) fn suffix(&self) -> Option<&'static str> {
        self.suffix
    }

    /// What was walked inside of a part says nothing of how far the whole holds.
    pub(crate) fn fall_back(&mut self, held: u64) {
        self.held = held;
    }

    /// A run of `bytes` bytes is told by a length alone: nothing proves what it holds.
    pub(crate) fn trust(&mut self, bytes: u64) {
        self.unproven = self.unproven.max(bytes);
    }

    /// The structure reaches to its end, and a part of what it leads to is not the file's: `why`, as half a sentence.
    pub(crate) fn spoil(&mut self, why: String) {
        self.spoilt = Some(why);
    }

    /// What is not the file's own in it.
    pub(crate) fn spoilt(&self) -> Option<&str> {
        self.spoilt.as_deref()
    }

    /// True where another file's piece could stand inside of what was walked over without being noticed.
    pub(crate) fn is_doubtful(&self) -> bool {
        self.unproven >= PIECE
    }

    /// Reads bytes from `at` on.
    pub(crate) fn fill(&mut self, at: u64, buf: &mut [u8]) -> Step<()> {
        let end = at.checked_add(buf.len() as u64).filter(|end| *end <= self.len).ok_or(Broken::End)?;
        self.reached = self.reached.max(end);
        let mut done = at;
        while done < end {
            self.turn_to(done)?;
            let inside = usize::try_from(done - self.page_at).unwrap_or(usize::MAX);
            let there = self.page.get(inside..).unwrap_or_default();
            let wanted = buf.get_mut(usize::try_from(done - at).unwrap_or(usize::MAX)..).unwrap_or_default();
            let count = there.len().min(wanted.len());
            if count == 0 {
                return Err(Broken::End);
            }
            if let (Some(to), Some(from)) = (wanted.get_mut(..count), there.get(..count)) {
                to.copy_from_slice(from);
            }
            let next = done + count as u64;
            if self.bad.iter().any(|(from, to)| *from < next && done < *to) {
                return Err(Broken::Unreadable);
            }
            done = next;
        }
        Ok(())
    }

    /// Has the page that holds byte `at`.
    fn turn_to(&mut self, at: u64) -> Step<()> {
        if at >= self.page_at && at - self.page_at < self.page.len() as u64 {
            return Ok(());
        }
        if self.ground.cancel.is_cancelled() {
            return Err(Broken::Stopped);
        }
        let size = if self.read < FIRST_LOOKS { FIRST_PAGE } else { PAGE };
        let page_at = at / size * size;
        let len = (self.len - page_at).min(size);
        self.read += len;
        if self.read > self.ground.most_read.min(self.len.saturating_mul(MOST_PASSES).saturating_add(16 * PAGE)) {
            return Err(Broken::Spent);
        }
        self.page.resize(usize::try_from(len).unwrap_or(0), 0);
        (self.page_at, self.bad) = (page_at, Vec::new());
        if let Err(error) = self.ground.source.read_at(self.start + page_at, &mut self.page) {
            if error.cause == ReadCause::Stopped {
                self.page.clear();
                return Err(Broken::Stopped);
            }
            let inside = |at: ByteOffset| at.0.saturating_sub(self.start.0);
            self.bad = error.bad.iter().map(|range| (inside(range.start), inside(range.end))).collect();
        }
        Ok(())
    }

    /// `N` bytes at `at`.
    pub(crate) fn array<const N: usize>(&mut self, at: u64) -> Step<[u8; N]> {
        let mut bytes = [0; N];
        self.fill(at, &mut bytes)?;
        Ok(bytes)
    }

    /// `len` bytes at `at`, at most a MiB.
    pub(crate) fn bytes(&mut self, at: u64, len: u64) -> Step<Vec<u8>> {
        if len > 1 << 20 {
            return wrong("a part of it is longer than any is");
        }
        if at.checked_add(len).is_none_or(|end| end > self.len) {
            return Err(Broken::End);
        }
        let mut bytes = vec![0; usize::try_from(len).unwrap_or(0)];
        self.fill(at, &mut bytes)?;
        Ok(bytes)
    }

    pub(crate) fn u8(&mut self, at: u64) -> Step<u8> {
        self.array::<1>(at).map(|[byte]| byte)
    }

    pub(crate) fn be16(&mut self, at: u64) -> Step<u16> {
        self.array(at).map(u16::from_be_bytes)
    }

    pub(crate) fn be32(&mut self, at: u64) -> Step<u32> {
        self.array(at).map(u32::from_be_bytes)
    }

    pub(crate) fn be64(&mut self, at: u64) -> Step<u64> {
        self.array(at).map(u64::from_be_bytes)
    }

    pub(crate) fn le16(&mut self, at: u64) -> Step<u16> {
        self.array(at).map(u16::from_le_bytes)
    }

    pub(crate) fn le32(&mut self, at: u64) -> Step<u32> {
        self.array(at).map(u32::from_le_bytes)
    }

    pub(crate) fn le64(&mut self, at: u64) -> Step<u64> {
        self.array(at).map(u64::from_le_bytes)
    }

    /// True where `bytes` stand at `at`.
    pub(crate) fn is(&mut self, at: u64, bytes: &[u8]) -> Step<bool> {
        let mut there = vec![0; bytes.len()];
        self.fill(at, &mut there)?;
        Ok(there == bytes)
    }

    /// True where the ground reaches to byte `end`.
    pub(crate) fn reaches(&self, end: u64) -> Step<()> {
        if end <= self.len { Ok(()) } else { Err(Broken::End) }
    }

    /// True where nothing but zeros stand from `at` to `end`.
    pub(crate) fn is_blank(&mut self, at: u64, end: u64) -> Step<bool> {
        let mut all = true;
        self.pieces(at, end, &mut |piece| all &= piece.iter().all(|byte| *byte == 0))?;
        Ok(all)
    }

    /// CRC-32 (ISO 3309) of the bytes from `at` to `end`.
    pub(crate) fn crc32(&mut self, at: u64, end: u64) -> Step<u32> {
        let mut hasher = crc32fast::Hasher::new();
        self.pieces(at, end, &mut |piece| hasher.update(piece))?;
        Ok(hasher.finalize())
    }

    /// Hands the bytes from `at` to `end` over, piece by piece.
    pub(crate) fn pieces(&mut self, at: u64, end: u64, each: &mut dyn FnMut(&[u8])) -> Step<()> {
        self.reaches(end)?;
        let mut buf = vec![0; 16 << 10];
        let mut at = at;
        while at < end {
            let count = usize::try_from(end - at).unwrap_or(usize::MAX).min(buf.len());
            let piece = buf.get_mut(..count).unwrap_or_default();
            self.fill(at, piece)?;
            each(piece);
            at += count as u64;
        }
        Ok(())
    }

    /// The first place from `at` to `end` where `bytes` stand.
    pub(crate) fn find(&mut self, at: u64, end: u64, bytes: &[u8]) -> Step<Option<u64>> {
        let (end, mut at) = (end.min(self.len), at);
        let mut buf = vec![0; 16 << 10];
        while at.saturating_add(bytes.len() as u64) <= end {
            let count = usize::try_from(end - at).unwrap_or(usize::MAX).min(buf.len());
            let piece = buf.get_mut(..count).unwrap_or_default();
            self.fill(at, piece)?;
            if let Some(found) = piece.windows(bytes.len().max(1)).position(|window| window == bytes) {
                return Ok(Some(at + found as u64));
            }
            at += (count - bytes.len() + 1) as u64;
        }
        Ok(None)
    }

    /// The bytes from `at` to `end` as a stream.
    pub(crate) fn stream(&mut self, at: u64, end: u64) -> Stream<'_, 'a> {
        let end = end.min(self.len);
        Stream { walk: self, at, end, broken: None }
    }
}

/// Part of a walk, as a stream; why it broke off is kept beside.
pub(crate) struct Stream<'w, 'a> {
    walk: &'w mut Walk<'a>,
    pub(crate) at: u64,
    end: u64,
    pub(crate) broken: Option<Broken>,
}

impl Read for Stream<'_, '_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let count = usize::try_from(self.end.saturating_sub(self.at)).unwrap_or(usize::MAX).min(buf.len());
        let wanted = buf.get_mut(..count).unwrap_or_default();
        match self.walk.fill(self.at, wanted) {
            Ok(()) => {
                self.at += count as u64;
                Ok(count)
            }
            Err(broken) => {
                self.broken = Some(broken);
                Err(io::ErrorKind::UnexpectedEof.into())
            }
        }
    }
}
