//! The log of a copy: which stretches of the source are in the copy, and which are not. Our own open format, lines of JSON,
//! documented in `docs/formats.md`. It stands beside the copy, so that every later stage knows the places that are
//! missing.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, flock};
use serde::{Deserialize, Serialize};

use crate::error::SourceError;
use crate::own::{self, Over};
use crate::{ByteOffset, ByteRange, printable};

/// Version of the format.
pub const COPY_LOG_VERSION: u32 = 1;
/// The most stretches that a map keeps apart: a bound on memory.
const MOST_STRETCHES: usize = 4 << 20;
/// The longest log that is read: a bound on memory, some eight million lines.
const LONGEST_LOG: u64 = 1 << 30;

/// What is known of a stretch of the source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CopyState {
    /// Not asked for yet.
    Untried,
    /// In the copy.
    Copied,
    /// Passed over after trouble near it; to be asked for later.
    PassedOver,
    /// Between two edges that read; to be asked for in small pieces.
    Inner,
    /// Did not read when it was asked for by itself.
    Failed,
}

impl CopyState {
    /// All of them, in the order of their numbers.
    pub const ALL: [Self; 5] = [Self::Untried, Self::Copied, Self::PassedOver, Self::Inner, Self::Failed];
}

/// By what a stretch of a copy is proven to be what was read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RangeHash {
    /// The drive said that it is a hole: zeros.
    Zeros,
    /// BLAKE3 of its bytes.
    Blake3([u8; 32]),
}

impl RangeHash {
    fn text(self) -> String {
        match self {
            Self::Zeros => "zeros".into(),
            Self::Blake3(bytes) => blake3::Hash::from_bytes(bytes).to_hex().to_string(),
        }
    }

    fn parse(text: &str) -> Option<Self> {
        match text {
            "zeros" => Some(Self::Zeros),
            hex => Some(Self::Blake3(*blake3::Hash::from_hex(hex).ok()?.as_bytes())),
        }
    }
}

/// The hashes of a copy: of stretches that do not overlap, as far as nothing was written over them since.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CopyHashes(BTreeMap<u64, (u64, RangeHash)>);

impl CopyHashes {
    /// Each stretch with its hash, ascending.
    pub fn iter(&self) -> impl Iterator<Item = (ByteRange, RangeHash)> {
        self.0.iter().map(|(start, (end, hash))| (ByteRange::new(ByteOffset(*start), ByteOffset(*end)), *hash))
    }

    /// Something else is known of `range` now: hashes that reach into it no longer hold.
    fn set(&mut self, range: ByteRange, hash: Option<RangeHash>) {
        if range.is_empty() {
            return;
        }
        let before =
            self.0.range(..range.start.0).next_back().filter(|(_, (end, _))| *end > range.start.0).map(|(start, _)| *start);
        let inside: Vec<u64> = self.0.range(range.start.0..range.end.0).map(|(start, _)| *start).collect();
        for start in before.into_iter().chain(inside) {
            self.0.remove(&start);
        }
        if let Some(hash) = hash {
            self.0.insert(range.start.0, (range.end.0, hash));
        }
    }
}

/// The map of a copy: stretches from 0 to the length, joined where neighbours are alike.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CopyMap {
    /// First byte of each stretch and its state, ascending; the first one begins at 0.
    stretches: Vec<(u64, CopyState)>,
    len: u64,
}

impl CopyMap {
    /// The map of a copy of `len` bytes that has not begun.
    #[must_use]
    pub fn new(len: u64) -> Self {
        Self { stretches: vec![(0, CopyState::Untried)], len }
    }

    /// Length in bytes.
    #[must_use]
    pub fn len(&self) -> u64 {
        self.len
    }

    /// True for a map of nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Sets the state of `range`.
    pub fn set(&mut self, range: ByteRange, state: CopyState) {
        let (start, end) = (range.start.0.min(self.len), range.end.0.min(self.len));
        if start >= end || self.stretches.len() >= MOST_STRETCHES {
            return;
        }
        let from = self.stretches.partition_point(|(at, _)| *at < start);
        let to = self.stretches.partition_point(|(at, _)| *at <= end);
        let behind = self.stretches[..to].last().map_or(CopyState::Untried, |(_, state)| *state);
        let mut fresh = Vec::with_capacity(2);
        if from == 0 || self.stretches[from - 1].1 != state {
            fresh.push((start, state));
        }
        if end < self.len && behind != state {
            fresh.push((end, behind));
        }
        self.stretches.splice(from..to, fresh);
    }

    /// The state at byte `at` and the end of its stretch; `None` behind the end.
    #[must_use]
    pub fn at(&self, at: ByteOffset) -> Option<(CopyState, ByteOffset)> {
        let next = self.stretches.partition_point(|(start, _)| *start <= at.0);
        let end = self.stretches.get(next).map_or(self.len, |(start, _)| *start);
        let (_, state) = self.stretches.get(next.checked_sub(1)?)?;
        (at.0 < self.len).then_some((*state, ByteOffset(end)))
    }

    /// The stretches in one of `states`, ascending; neighbours in different ones of them are told apart.
    #[must_use]
    pub fn ranges(&self, states: &[CopyState]) -> Vec<ByteRange> {
        let ends = self.stretches.iter().skip(1).map(|(at, _)| *at).chain([self.len]);
        let all = self.stretches.iter().zip(ends).filter(|((at, state), end)| states.contains(state) && at < end);
        all.map(|((at, _), end)| ByteRange::new(ByteOffset(*at), ByteOffset(end))).collect()
    }

    /// Bytes in `state`.
    #[must_use]
    pub fn bytes(&self, state: CopyState) -> u64 {
        self.ranges(&[state]).iter().map(|range| range.len()).sum()
    }

    /// The map in `count` parts of equal length: bytes in each state, in the order of [`CopyState::ALL`]. For a picture.
    #[must_use]
    pub fn parts(&self, count: usize) -> Vec<[u64; 5]> {
        let width = self.len.div_ceil(count.max(1) as u64).max(1);
        let mut parts = vec![[0u64; 5]; usize::try_from(self.len.div_ceil(width)).unwrap_or(0)];
        let ends = self.stretches.iter().skip(1).map(|(at, _)| *at).chain([self.len]);
        for ((start, state), end) in self.stretches.iter().zip(ends) {
            let mut at = *start;
            while at < end {
                let index = at / width;
                let stop = ((index + 1) * width).min(end);
                let part = usize::try_from(index).ok().and_then(|index| parts.get_mut(index));
                if let Some(bytes) = part.and_then(|part| part.get_mut(*state as usize)) {
                    *bytes += stop - at;
                }
                at = stop;
            }
        }
        parts
    }

    /// Everything that is not in the copy, joined.
    #[must_use]
    pub fn missing(&self) -> Vec<ByteRange> {
        let open = [CopyState::Untried, CopyState::PassedOver, CopyState::Inner, CopyState::Failed];
        let mut joined: Vec<ByteRange> = Vec::new();
        for range in self.ranges(&open) {
            match joined.last_mut() {
                Some(last) if last.end == range.start => last.end = range.end,
                _ => joined.push(range),
            }
        }
        joined
    }
}

/// The first line: of which drive the copy is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CopyHead {
    /// [`COPY_LOG_VERSION`].
    pub version: u32,
    /// Key of the source's identity.
    pub source: String,
    /// Bytes of the source.
    pub bytes: u64,
    /// Logical sector size of the source, in bytes.
    pub sector: u32,
    /// Beside a copy whose log is kept elsewhere: where that is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log: Option<PathBuf>,
}

#[derive(Serialize, Deserialize)]
struct Line {
    at: u64,
    bytes: u64,
    state: CopyState,
    /// By what it is proven, where it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    hash: Option<String>,
    /// CRC-32 of `at`, `bytes`, the state's number and `hash`: a torn line is recognised.
    sum: u32,
}

fn sum(at: u64, bytes: u64, state: CopyState, hash: Option<&str>) -> u32 {
    let mut crc = crc32fast::Hasher::new();
    crc.update(&at.to_le_bytes());
    crc.update(&bytes.to_le_bytes());
    crc.update(&[state as u8]);
    crc.update(hash.unwrap_or_default().as_bytes());
    crc.finalize()
}

/// A log opened for going on.
pub struct CopyLog {
    path: PathBuf,
    file: File,
    /// Lines that are not written yet.
    waiting: String,
}

/// Where the log of the copy at `path` stands unless it is told otherwise: beside it.
#[must_use]
pub fn copy_log_of(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_os_string();
    name.push(".ykcopy");
    PathBuf::from(name)
}

fn failed(action: &'static str, path: &Path) -> impl FnOnce(std::io::Error) -> SourceError {
    let path = path.to_path_buf();
    move |source| SourceError::Log { action, path, source }
}

/// Of two that would write one log only the first one does.
fn only_one(file: &File, path: &Path) -> Result<(), SourceError> {
    match flock(file, FlockOperation::NonBlockingLockExclusive) {
        Err(rustix::io::Errno::WOULDBLOCK) => {
            let name = printable(&path.file_name().unwrap_or_default().to_string_lossy());
            Err(SourceError::Locked { name, holder: "writes this copy" })
        }
        // File systems without locks (some network mounts) still take a copy.
        _ => Ok(()),
    }
}

impl CopyLog {
    /// Begins the log at `path`.
    ///
    /// # Errors
    /// [`SourceError::Log`] when it exists already or cannot be written.
    pub fn create(path: &Path, head: &CopyHead) -> Result<Self, SourceError> {
        // Whole or not at all: a log without its first line would be nobody's.
        let line = format!("{}\n", serde_json::to_string(head).unwrap_or_default());
        own::write(path, line.as_bytes(), Over::Nothing).map_err(failed("create", path))?;
        let file = OpenOptions::new().append(true).open(path).map_err(failed("open", path))?;
        only_one(&file, path)?;
        Ok(Self { path: path.into(), file, waiting: String::new() })
    }

    /// Reads the log at `path`, or the one elsewhere that it names. Reading ends at the first line that is torn; what was
    /// copied behind it is copied again.
    ///
    /// # Errors
    /// [`SourceError::Log`] when it cannot be read; [`SourceError::LogHead`] when its first line is none, when it is no
    /// regular file, or too long.
    pub fn read(path: &Path) -> Result<(CopyHead, CopyMap), SourceError> {
        let (head, map, _) = Self::read_whole(path)?;
        Ok((head, map))
    }

    /// As [`CopyLog::read`], with the hashes.
    ///
    /// # Errors
    /// As [`CopyLog::read`].
    pub fn read_whole(path: &Path) -> Result<(CopyHead, CopyMap, CopyHashes), SourceError> {
        let here = Self::read_here(path)?;
        let Some(elsewhere) = here.0.log else { return Ok(here) };
        let there = Self::read_here(&elsewhere)?;
        if there.0.log.is_some() { Err(SourceError::LogHead { path: elsewhere }) } else { Ok(there) }
    }

    /// The first line of the log at `path` itself.
    ///
    /// # Errors
    /// As [`CopyLog::read`].
    pub fn head(path: &Path) -> Result<CopyHead, SourceError> {
        Ok(Self::read_here(path)?.0)
    }

    fn read_here(path: &Path) -> Result<(CopyHead, CopyMap, CopyHashes), SourceError> {
        let about = fs::metadata(path).map_err(failed("read", path))?;
        if !about.is_file() || about.len() > LONGEST_LOG {
            return Err(SourceError::LogHead { path: path.into() });
        }
        // A byte that is no text ends the reading at its line, as any other damage does.
        let bytes = fs::read(path).map_err(failed("read", path))?;
        let text = String::from_utf8_lossy(&bytes);
        let mut lines = text.split_inclusive('\n').filter(|line| line.ends_with('\n'));
        let head: Option<CopyHead> = lines.next().and_then(|line| serde_json::from_str(line).ok());
        let head =
            head.filter(|head| head.version == COPY_LOG_VERSION).ok_or_else(|| SourceError::LogHead { path: path.into() })?;
        let (mut map, mut hashes) = (CopyMap::new(head.bytes), CopyHashes::default());
        for line in lines {
            let Ok(line) = serde_json::from_str::<Line>(line) else { break };
            let own = sum(line.at, line.bytes, line.state, line.hash.as_deref());
            if line.sum != own || line.at.checked_add(line.bytes).is_none_or(|end| end > head.bytes) {
                break;
            }
            let range = ByteRange::sized(ByteOffset(line.at), line.bytes);
            map.set(range, line.state);
            hashes.set(range, line.hash.as_deref().and_then(RangeHash::parse));
        }
        Ok((head, map, hashes))
    }

    /// Opens the log at `path` for going on: it is written anew, short, so that a torn end does not stay.
    ///
    /// # Errors
    /// As [`CopyLog::read`], and when it cannot be written.
    pub fn go_on(path: &Path) -> Result<(Self, CopyHead, CopyMap), SourceError> {
        // Held until the new one stands in its place, which is held as well.
        let former = File::open(path).map_err(failed("open", path))?;
        only_one(&former, path)?;
        let (head, map, hashes) = Self::read_whole(path)?;
        // A name that nobody has: beside the log lie the image and whatever else is on the bench.
        let part = own::name_beside(path);
        let mut log = Self::create(&part, &head)?;
        let all = [CopyState::Copied, CopyState::PassedOver, CopyState::Inner, CopyState::Failed];
        for state in all {
            map.ranges(&[state]).into_iter().for_each(|range| log.note(range, state, None));
        }
        hashes.iter().for_each(|(range, hash)| log.note(range, CopyState::Copied, Some(hash)));
        log.flush()?;
        own::put(&part, path, Over::OwnFolder).map_err(failed("rename", &part))?;
        log.path = path.into();
        Ok((log, head, map))
    }

    /// Notes the state of a stretch, and by what it is proven; it is durable after the next [`CopyLog::flush`].
    pub fn note(&mut self, range: ByteRange, state: CopyState, hash: Option<RangeHash>) {
        let hash = hash.map(RangeHash::text);
        let sum = sum(range.start.0, range.len(), state, hash.as_deref());
        let line = Line { at: range.start.0, bytes: range.len(), state, hash, sum };
        self.waiting.push_str(&serde_json::to_string(&line).unwrap_or_default());
        self.waiting.push('\n');
    }

    /// Makes everything noted durable. The copy itself is to be flushed before.
    ///
    /// # Errors
    /// [`SourceError::Log`] when it cannot be written.
    pub fn flush(&mut self) -> Result<(), SourceError> {
        self.file.write_all(self.waiting.as_bytes()).map_err(failed("write", &self.path))?;
        self.file.sync_data().map_err(failed("flush", &self.path))?;
        self.waiting.clear();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const STATES: [CopyState; 5] =
        [CopyState::Untried, CopyState::Copied, CopyState::PassedOver, CopyState::Inner, CopyState::Failed];

    fn head() -> CopyHead {
        CopyHead { version: COPY_LOG_VERSION, source: "BL-0412".into(), bytes: 1000, sector: 512, log: None }
    }

    proptest! {
        #[test]
        fn a_map_is_what_was_set_last(sets in proptest::collection::vec((0u64..1100, 0u64..400, 0usize..5), 0..40)) {
            let (mut plain, mut map) = ([CopyState::Untried; 1000], CopyMap::new(1000));
            for (at, len, state) in sets {
                let state = STATES[state];
                map.set(ByteRange::sized(ByteOffset(at), len), state);
                for slot in plain.iter_mut().skip(at as usize).take(len as usize) {
                    *slot = state;
                }
            }
            for state in STATES {
                let ranges = map.ranges(&[state]);
                let told: Vec<u64> = ranges.iter().flat_map(|range| range.start.0..range.end.0).collect();
                let wanted: Vec<u64> = (0..1000).filter(|at| plain[*at as usize] == state).collect();
                prop_assert_eq!(told, wanted);
                prop_assert!(ranges.windows(2).all(|pair| pair[0].end < pair[1].start), "alike neighbours are joined");
            }
            for at in (0..1000).step_by(37) {
                let (state, end) = map.at(ByteOffset(at)).unwrap();
                prop_assert!(plain[at as usize..end.0 as usize].iter().all(|byte| *byte == state));
                prop_assert!(plain.get(end.0 as usize).is_none_or(|byte| *byte != state));
            }
            prop_assert!(map.at(ByteOffset(1000)).is_none());
            let missing: u64 = map.missing().iter().map(|range| range.len()).sum();
            prop_assert_eq!(missing, 1000 - map.bytes(CopyState::Copied));
        }

        #[test]
        fn a_log_that_is_cut_anywhere_gives_what_was_noted_before_the_cut(cut in 0usize..600) {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("c.ykcopy");
            let mut log = CopyLog::create(&path, &head()).unwrap();
            for step in 0..8u64 {
                log.note(ByteRange::sized(ByteOffset(step * 100), 100), CopyState::Copied, None);
            }
            log.flush().unwrap();
            let whole = fs::read(&path).unwrap();
            let lines = |bytes: &[u8]| bytes.iter().filter(|byte| **byte == b'\n').count();
            let kept = &whole[..cut.min(whole.len())];
            fs::write(&path, kept).unwrap();
            match CopyLog::read(&path) {
                Ok((head_read, map)) => {
                    prop_assert_eq!(head_read, head());
                    prop_assert_eq!(map.bytes(CopyState::Copied), (lines(kept) as u64 - 1) * 100);
                }
                Err(error) => {
                    prop_assert_eq!(lines(kept), 0);
                    prop_assert!(error.to_string().contains("no log of a copy"), "{}", error);
                }
            }
        }
    }

    #[test]
    fn going_on_keeps_the_map_and_drops_a_torn_end() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("c.ykcopy");
        let mut log = CopyLog::create(&path, &head()).unwrap();
        log.note(ByteRange::sized(ByteOffset(0), 300), CopyState::Copied, None);
        log.note(ByteRange::sized(ByteOffset(300), 50), CopyState::Failed, None);
        log.flush().unwrap();
        let mut text = fs::read_to_string(&path).unwrap();
        text.push_str("{\"at\":350,\"bytes\":600,\"state\":\"copied\",\"sum\":1}\n{\"at\":9");
        fs::write(&path, text).unwrap();
        let held = CopyLog::go_on(&path).err().map(|error| error.to_string());
        assert!(held.is_some_and(|told| told.contains("writes this copy")), "of two that would write it only the first one does");
        drop(log);
        let (mut log, _, map) = CopyLog::go_on(&path).unwrap();
        assert_eq!((map.bytes(CopyState::Copied), map.bytes(CopyState::Failed)), (300, 50));
        log.note(ByteRange::sized(ByteOffset(350), 650), CopyState::Copied, None);
        log.flush().unwrap();
        let (_, map) = CopyLog::read(&path).unwrap();
        assert_eq!(map.missing(), [ByteRange::sized(ByteOffset(300), 50)]);
        assert!(CopyLog::create(&path, &head()).is_err(), "a log is not begun over another one");
    }

    #[test]
    fn a_log_elsewhere_is_followed_once_and_only_to_a_regular_file() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let pointer = |name: &str, to: &str| {
            CopyLog::create(&at(name), &CopyHead { log: Some(at(to)), ..head() }).unwrap();
        };
        let mut log = CopyLog::create(&at("real"), &head()).unwrap();
        log.note(ByteRange::sized(ByteOffset(0), 10), CopyState::Copied, None);
        log.flush().unwrap();
        pointer("one", "real");
        pointer("two", "one");
        pointer("itself", "itself");
        pointer("folder", ".");
        pointer("gone", "nowhere");
        let (of, map) = CopyLog::read(&at("one")).unwrap();
        assert_eq!((of, map.bytes(CopyState::Copied)), (head(), 10));
        for name in ["two", "itself", "folder"] {
            assert!(matches!(CopyLog::read(&at(name)), Err(SourceError::LogHead { .. })), "{name}");
        }
        assert!(matches!(CopyLog::read(&at("gone")), Err(SourceError::Log { .. })));
    }
}
