//! Samples: where the index of a film (ISO/IEC 14496-12) says that each of its frames stands, and whether what stands there can be one.
//! The compressed formats carry lengths and marks of their own; content that stands elsewhere than the index says does not fit them.

use keel_source::ByteOffset;

use super::boxes;
use crate::walk::{Broken, Ground, Step, Walk};

/// The most samples of a film that are kept.
const MOST_SAMPLES: usize = 1 << 20;
/// The most samples that are asked one by one.
const MOST_ASKED: usize = 2000;
/// The most units of one sample.
const MOST_UNITS: u32 = 4096;
/// The most bytes that are read for one sample.
const MOST_READ: u64 = 64 << 20;

/// What a sample shows by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Check {
    /// Nothing.
    None,
    /// Units with their lengths before them, so many bytes each (ISO/IEC 14496-15): AVC.
    Avc(u8),
    /// The same of HEVC.
    Hevc(u8),
    /// It begins with a start code of MPEG-4 Visual (ISO/IEC 14496-2).
    Visual,
    /// A JPEG file (ITU-T T.81).
    Jpeg,
    /// Its length, and `icpf` (SMPTE RDD 36).
    Icpf,
    /// A frame of AC-3 (ETSI TS 102 366).
    Ac3,
}

/// One sample.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sample {
    /// First byte, from the start of the film.
    pub at: u64,
    /// Length in bytes.
    pub bytes: u32,
    check: Check,
}

impl Sample {
    /// The byte behind its last one.
    #[must_use]
    pub fn end(&self) -> u64 {
        self.at.saturating_add(u64::from(self.bytes))
    }

    /// True where it can be told by what stands there whether it can be this sample.
    #[must_use]
    pub fn is_told(&self) -> bool {
        self.check != Check::None && self.bytes > 0
    }

    /// Whether what stands at byte `at` of `ground` can be this sample; none where nothing tells.
    #[must_use]
    pub fn holds(&self, ground: Ground<'_>, at: ByteOffset) -> Option<bool> {
        self.is_told().then_some(())?;
        let mut walk = Walk::new(Ground { most_read: MOST_READ, ..ground }, at, u64::from(self.bytes));
        self.holds_at(&mut walk, 0).ok()
    }

    fn holds_at(&self, walk: &mut Walk<'_>, at: u64) -> Step<bool> {
        match self.check {
            Check::None => Ok(true),
            Check::Avc(width) => self.units(walk, at, width, &|head| head & 0x80 == 0 && (1..=21).contains(&(head & 0x1F))),
            Check::Hevc(width) => self.units(walk, at, width, &|head| head & 0x80 == 0 && head >> 1 <= 40),
            Check::Visual => Ok(matches!(walk.array::<4>(at)?, [0, 0, 1, 0xB0 | 0xB2 | 0xB3 | 0xB5 | 0xB6 | 0x00..=0x2F])),
            Check::Jpeg => walk.is(at, b"\xff\xd8\xff"),
            Check::Icpf => Ok(walk.be32(at)? <= self.bytes && walk.is(at + 4, b"icpf")?),
            Check::Ac3 => walk.is(at, b"\x0b\x77"),
        }
    }

    /// Units, whose lengths lead to the sample's last byte.
    fn units(&self, walk: &mut Walk<'_>, start: u64, width: u8, is_head: &dyn Fn(u8) -> bool) -> Step<bool> {
        let (end, mut at) = (start + u64::from(self.bytes), start);
        for _ in 0..MOST_UNITS {
            let len = match width {
                1 => u64::from(walk.u8(at)?),
                2 => u64::from(walk.be16(at)?),
                _ => u64::from(walk.be32(at)?),
            };
            at += u64::from(width);
            if len == 0 || at + len > end || !is_head(walk.u8(at)?) {
                return Ok(false);
            }
            at += len;
            if at == end {
                return Ok(true);
            }
            if at + u64::from(width) >= end {
                return Ok(false);
            }
        }
        Ok(false)
    }
}

/// What the asking of samples came to.
pub(crate) struct Asked {
    /// How many were asked.
    pub(crate) count: usize,
    /// The first one that does not hold, and the first byte of the last one before it that does.
    pub(crate) broken: Option<(Sample, u64)>,
    /// True where the last one that tells anything holds.
    pub(crate) last_holds: bool,
}

/// Asks the samples of a film, some of them where they are many; where one does not hold, the first such one is looked for.
pub(crate) fn ask(walk: &mut Walk<'_>, samples: &[Sample]) -> Step<Asked> {
    let told: Vec<&Sample> = samples.iter().filter(|sample| sample.is_told()).collect();
    let step = told.len().div_ceil(MOST_ASKED).max(1);
    let mut asked = Asked { count: 0, broken: None, last_holds: true };
    let holds = |walk: &mut Walk<'_>, sample: &Sample| match sample.holds_at(walk, sample.at) {
        Ok(holds) => Ok(holds),
        Err(Broken::End) => Ok(false),
        // Nothing is known of what does not read.
        Err(Broken::Unreadable | Broken::Wrong(_)) => Ok(true),
        Err(broken) => Err(broken),
    };
    let (mut good, mut bad) = (None, None);
    for index in (0..told.len()).step_by(step) {
        let Some(sample) = told.get(index) else { break };
        asked.count += 1;
        if !holds(walk, sample)? {
            bad = Some(index);
            break;
        }
        good = Some(index);
    }
    let Some(bad) = bad else { return Ok(asked) };
    let from = good.map_or(0, |good| good + 1);
    let mut before = good.and_then(|good| told.get(good)).map_or(0, |sample| sample.at);
    for sample in told.get(from..=bad).unwrap_or_default() {
        if !holds(walk, sample)? {
            asked.broken = Some((**sample, before));
            break;
        }
        before = sample.at;
    }
    asked.last_holds = told.last().map_or(Ok(true), |sample| holds(walk, sample))?;
    Ok(asked)
}

/// The samples of all tracks of the index that stands from `from` to `end`, by their places.
pub(crate) fn samples(walk: &mut Walk<'_>, from: u64, end: u64) -> Step<Vec<Sample>> {
    let mut all = Vec::new();
    each_box(walk, from, end, &mut |walk, kind, at, to| {
        if kind == b"trak" {
            let mut track = Track::default();
            track.read(walk, at, to, 0)?;
            track.samples(&mut all);
        }
        Ok(())
    })?;
    all.sort_unstable_by_key(|sample: &Sample| (sample.at, sample.bytes));
    Ok(all)
}

/// What takes a box: kind, first byte behind the head, end.
type EachBox<'e> = dyn FnMut(&mut Walk<'_>, &[u8; 4], u64, u64) -> Step<()> + 'e;

/// Hands the boxes from `from` to `end` over: kind, first byte behind the head, end.
fn each_box(walk: &mut Walk<'_>, from: u64, end: u64, each: &mut EachBox<'_>) -> Step<()> {
    let mut at = from;
    while at + 8 <= end {
        let (len, kind) = (u64::from(walk.be32(at)?), walk.array::<4>(at + 4)?);
        let to = if len == 0 { end } else { at.saturating_add(len) };
        if to < at + 8 || to > end {
            return Ok(());
        }
        each(walk, &kind, at + 8, to)?;
        at = to;
    }
    Ok(())
}

/// The tables of a track.
#[derive(Default)]
struct Track {
    check: Option<Check>,
    /// Length of each sample.
    sizes: Vec<u32>,
    /// First chunk of a run, from 1, and samples of each of its chunks.
    runs: Vec<(u32, u32)>,
    /// First byte of each chunk.
    chunks: Vec<u64>,
}

impl Track {
    fn read(&mut self, walk: &mut Walk<'_>, from: u64, end: u64, depth: u32) -> Step<()> {
        each_box(walk, from, end, &mut |walk, kind, at, to| match kind {
            b"mdia" | b"minf" | b"stbl" if depth < 4 => self.read(walk, at, to, depth + 1),
            b"stsd" => {
                self.check = Some(check(walk, at, to)?);
                Ok(())
            }
            b"stsz" => self.sizes(walk, at, to),
            b"stsc" => {
                for row in 0..rows(walk, at, to, 12)? {
                    self.runs.push((walk.be32(at + 8 + 12 * row)?, walk.be32(at + 12 + 12 * row)?));
                }
                Ok(())
            }
            b"stco" => {
                for row in 0..rows(walk, at, to, 4)? {
                    self.chunks.push(u64::from(walk.be32(at + 8 + 4 * row)?));
                }
                Ok(())
            }
            b"co64" => {
                for row in 0..rows(walk, at, to, 8)? {
                    self.chunks.push(walk.be64(at + 8 + 8 * row)?);
                }
                Ok(())
            }
            _ => Ok(()),
        })
    }

    fn sizes(&mut self, walk: &mut Walk<'_>, at: u64, to: u64) -> Step<()> {
        let (each, count) = (walk.be32(at + 4)?, walk.be32(at + 8)?);
        let count = usize::try_from(count).unwrap_or(usize::MAX).min(MOST_SAMPLES);
        if each > 0 {
            self.sizes = vec![each; count];
            return Ok(());
        }
        let room = usize::try_from(to.saturating_sub(at + 12) / 4).unwrap_or(0);
        for row in 0..count.min(room) as u64 {
            self.sizes.push(walk.be32(at + 12 + 4 * row)?);
        }
        Ok(())
    }

    /// Its samples, chunk by chunk.
    fn samples(&self, all: &mut Vec<Sample>) {
        let check = self.check.unwrap_or(Check::None);
        let mut sizes = self.sizes.iter();
        let mut runs = self.runs.iter().peekable();
        let mut each = 0;
        for (chunk, number) in self.chunks.iter().zip(1u32..) {
            while let Some((_, own)) = runs.next_if(|(first, _)| *first <= number) {
                each = *own;
            }
            let mut at = *chunk;
            for _ in 0..each {
                let Some(bytes) = sizes.next().filter(|_| all.len() < MOST_SAMPLES) else { return };
                all.push(Sample { at, bytes: *bytes, check });
                at = at.saturating_add(u64::from(*bytes));
            }
        }
    }
}

/// Rows of a table whose box ends at `to`.
fn rows(walk: &mut Walk<'_>, at: u64, to: u64, width: u64) -> Step<u64> {
    let room = to.saturating_sub(at + 8) / width;
    Ok(u64::from(walk.be32(at + 4)?).min(room).min(MOST_SAMPLES as u64))
}

/// What the samples of a track show, by the first description of them.
fn check(walk: &mut Walk<'_>, at: u64, to: u64) -> Step<Check> {
    let (len, kind) = (u64::from(walk.be32(at + 8)?), walk.array::<4>(at + 12)?);
    let end = at.saturating_add(8 + len).min(to);
    // Behind the fields of what is seen stand more boxes.
    let more = at + 8 + 86;
    let mut width = None;
    if matches!(&kind, b"avc1" | b"avc3" | b"hvc1" | b"hev1") {
        each_box(walk, more, end, &mut |walk, kind, at, _| {
            match kind {
                b"avcC" => width = Some((walk.u8(at + 4)? & 3) + 1),
                b"hvcC" => width = Some((walk.u8(at + 21)? & 3) + 1),
                _ => {}
            }
            Ok(())
        })?;
    }
    Ok(match (&kind, width) {
        (b"avc1" | b"avc3", Some(width)) if width != 3 => Check::Avc(width),
        (b"hvc1" | b"hev1", Some(width)) if width != 3 => Check::Hevc(width),
        (b"mp4v", _) => Check::Visual,
        (b"jpeg" | b"mjpa", _) => Check::Jpeg,
        (b"apch" | b"apcn" | b"apcs" | b"apco" | b"ap4h" | b"ap4x", _) => Check::Icpf,
        (b"ac-3", _) => Check::Ac3,
        _ => Check::None,
    })
}

/// How the boxes at the top of a film lie.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outline {
    /// They lead from one to the next, and an index is among them: the samples by their places, and the byte behind the last box.
    Indexed(Vec<Sample>, u64),
    /// At this byte should stand a box, and none does; no index was met before.
    Lacks(u64),
}

/// The outline of the film that begins at byte `start` of `ground`; none where none does, or it is not to be known.
#[must_use]
pub fn outline(ground: Ground<'_>, start: ByteOffset) -> Option<Outline> {
    let mut walk = Walk::new(ground, start, u64::MAX);
    boxes::outline(&mut walk).ok().flatten()
}
