//! Films in pieces: the index says where each frame stands, and a frame shows by itself whether it does. How far a piece was moved follows
//! from the frames behind the break, or from where the index is found; at which cluster it breaks from the frames around it, and from what
//! lies between.

use keel_adrift::{Ground, KindId, Outline, Sample, State, judge, outline};
use keel_source::{ByteOffset, ByteRange, Source as _};

use super::{Adrift, FURTHEST, Joined, Loose, MOST_PIECES, MOST_WALKED, Pieces};

/// Bytes of a frame that show that it stands.
const HEAD: u64 = 5;
/// Frames behind a break that have to stand where they would.
const WITNESSES: usize = 3;
/// The most clusters at which a break is tried.
const MOST_BREAKS: u64 = 4096;

/// The film with everything that is known of it.
struct Film<'a> {
    loose: &'a Loose<'a>,
    /// First byte on the drive.
    start: u64,
    samples: Vec<Sample>,
    /// Its length in bytes.
    end: u64,
}

/// A break: the first byte behind it in the film, and how far what follows was moved.
#[derive(Clone, Copy)]
struct Break {
    at: u64,
    moved: u64,
}

/// Puts a film together; none where nothing shows how, or more than one way would do.
pub(super) fn join(loose: &Loose<'_>, file: &Adrift) -> Option<Joined> {
    let (film, moved) = film(loose, file.at_byte)?;
    let mut breaks: Vec<Break> = Vec::new();
    while breaks.len() + 1 < MOST_PIECES {
        let now = breaks.last().map_or(0, |last| last.moved);
        let Some(broken) = film.broken(breaks.last().map_or(0, |last| last.at), now) else { break };
        let moved = film.moved(&broken, now, moved)?;
        let at = film.place(&broken, now, moved)?;
        breaks.push(Break { at, moved });
    }
    // Without a frame that shows anything the index alone tells how far its own piece was moved.
    if let Some(moved) = moved
        && breaks.last().is_none_or(|last| last.moved != moved)
    {
        let now = breaks.last().map_or(0, |last| last.moved);
        let tail = Broken { good: film.samples.first().map_or(0, |sample| sample.at), next: film.end };
        breaks.push(Break { at: film.place(&tail, now, moved)?, moved });
    }
    film.put_together(&breaks)
}

/// What surrounds a break, in bytes of the film: behind the head of the last frame that stands, and the first frame that does not.
struct Broken {
    good: u64,
    next: u64,
}

/// The film that begins at byte `at`, and how far its index was moved, where that is not where it should be.
fn film<'a>(loose: &'a Loose<'a>, at: ByteOffset) -> Option<(Film<'a>, Option<u64>)> {
    let len = loose.source.len();
    let ground = Ground { source: loose.source, end: ByteOffset(len), most_read: MOST_WALKED, cancel: loose.cancel };
    let film = |samples, end| Film { loose, start: at.0, samples, end };
    let lacks = match outline(ground, at)? {
        Outline::Indexed(samples, end) => return Some((film(samples, end), None)),
        Outline::Lacks(lacks) => lacks,
    };
    // The boxes lead to where no box stands: it stands clusters further on.
    let (cluster, should) = (loose.raster.0, at.0.checked_add(lacks)?);
    for gap in 1..=FURTHEST {
        if loose.cancel.is_cancelled() {
            return None;
        }
        let moved = gap * cluster;
        let here = should.checked_add(moved).filter(|here| here.saturating_add(16) < len)?;
        let mut head = [0; 8];
        let is_read = loose.source.read_at(ByteOffset(here), &mut head).is_ok();
        if !is_read || !matches!(&head[4..], b"moov" | b"free" | b"skip" | b"udta" | b"meta" | b"uuid") {
            continue;
        }
        let pieces = vec![ByteRange::sized(at, lacks), ByteRange::new(ByteOffset(here), ByteOffset(len))];
        let source = Pieces::new(loose.source, pieces);
        let ground = Ground { source: &source, end: ByteOffset(source.len()), most_read: MOST_WALKED, cancel: loose.cancel };
        if let Some(Outline::Indexed(samples, end)) = outline(ground, ByteOffset(0)) {
            return Some((film(samples, end), Some(moved)));
        }
    }
    None
}

impl Film<'_> {
    fn ground(&self) -> Ground<'_> {
        let end = ByteOffset(self.loose.source.len());
        Ground { source: self.loose.source, end, most_read: MOST_WALKED, cancel: self.loose.cancel }
    }

    /// Whether a frame stands where it should, moved so far; none where nothing tells.
    fn stands(&self, sample: &Sample, moved: u64) -> Option<bool> {
        sample.holds(self.ground(), ByteOffset(self.start.checked_add(sample.at)?.checked_add(moved)?))
    }

    /// The first frame from byte `from` on that does not stand, moved so far.
    fn broken(&self, from: u64, moved: u64) -> Option<Broken> {
        let mut good = from.max(self.samples.first().map_or(0, |sample| sample.at));
        for sample in self.samples.iter().filter(|sample| sample.at >= from) {
            if self.loose.cancel.is_cancelled() {
                return None;
            }
            match self.stands(sample, moved) {
                Some(false) => return Some(Broken { good, next: sample.at }),
                // Its head stands; a break may go through the rest of it.
                Some(true) => good = sample.at + HEAD.min(u64::from(sample.bytes)),
                None => {}
            }
        }
        None
    }

    /// Frames behind the one that a break goes through.
    fn witnesses(&self, broken: &Broken) -> Vec<&Sample> {
        let behind = self.samples.iter().filter(|sample| sample.at > broken.next && sample.is_told());
        behind.take(WITNESSES).collect()
    }

    /// How far what follows a break was moved: the least by which the frames behind it stand. `index` is how far the index was.
    fn moved(&self, broken: &Broken, now: u64, index: Option<u64>) -> Option<u64> {
        let cluster = self.loose.raster.0;
        let witnesses = self.witnesses(broken);
        let stand = |moved: u64| witnesses.iter().all(|sample| self.stands(sample, moved) == Some(true));
        if witnesses.is_empty() {
            // The break goes through the last frame.
            return index.filter(|index| *index > now);
        }
        if let Some(index) = index.filter(|index| *index > now && stand(*index)) {
            return Some(index);
        }
        let moves = (1..=FURTHEST).map(|gap| now + gap * cluster);
        moves.take_while(|_| !self.loose.cancel.is_cancelled()).find(|moved| stand(*moved))
    }

    /// The byte of the film at which it breaks: the one cluster at which the frames around it hold and every piece lies on ground that nobody
    /// holds; of several the one where another file begins. None where still more than one would do.
    fn place(&self, broken: &Broken, now: u64, moved: u64) -> Option<u64> {
        let (cluster, first) = self.loose.raster;
        let mut moved_ones = self.samples.iter().filter(|sample| sample.at >= broken.next && sample.is_told());
        let behind = moved_ones.find(|sample| self.stands(sample, moved) == Some(true)).map_or(self.end, |sample| sample.at);
        let (from, to) = (self.start + broken.good + now, self.start + behind + now);
        let begin = from.saturating_sub(first % cluster).next_multiple_of(cluster) + first % cluster;
        let fits = |place: &u64| {
            let (head, tail) = ((from, *place), (place + (moved - now), to + (moved - now)));
            let is_own = |(from, to): (u64, u64)| self.loose.is_free(from, to) && !self.is_blank(from, to);
            is_own(head) && is_own(tail) && self.frames_hold(broken.good, behind, (*place, now, moved))
        };
        let places = (begin..=to).step_by(usize::try_from(cluster).ok()?).take(usize::try_from(MOST_BREAKS).ok()?);
        let all: Vec<u64> = places.filter(fits).collect();
        let place = match all.as_slice() {
            [only] => *only,
            several => {
                // Something else begins in the midst of it.
                let mut begins = several.iter().filter(|place| self.loose.starts.contains(place));
                *begins.next().filter(|_| begins.next().is_none())?
            }
        };
        Some(place - self.start - now)
    }

    /// True where a whole cluster of zeros lies between two bytes of the drive: packed frames have none.
    fn is_blank(&self, from: u64, to: u64) -> bool {
        let (cluster, first) = self.loose.raster;
        let begin = from.saturating_sub(first % cluster).next_multiple_of(cluster) + first % cluster;
        let Ok(step) = usize::try_from(cluster) else { return false };
        let mut buf = vec![0; step];
        let is_blank = |at: u64| self.loose.source.read_at(ByteOffset(at), &mut buf).is_ok() && buf.iter().all(|byte| *byte == 0);
        (begin..to).step_by(step).take_while(|at| at + cluster <= to).any(is_blank)
    }

    /// Whether the frames between bytes `good` and `behind` of the film hold with a break at a byte of the drive.
    fn frames_hold(&self, good: u64, behind: u64, (place, now, moved): (u64, u64, u64)) -> bool {
        let between = self.samples.iter().filter(|sample| sample.at >= good && sample.at < behind && sample.is_told());
        let broken_at = place - self.start - now;
        between.into_iter().all(|sample| {
            if sample.end() <= broken_at {
                return self.stands(sample, now) != Some(false);
            }
            if sample.at >= broken_at {
                return self.stands(sample, moved) != Some(false);
            }
            let pieces = vec![
                ByteRange::new(ByteOffset(self.start + sample.at + now), ByteOffset(place)),
                ByteRange::new(ByteOffset(place + (moved - now)), ByteOffset(self.loose.source.len())),
            ];
            let source = Pieces::new(self.loose.source, pieces);
            let ground = Ground { source: &source, end: ByteOffset(source.len()), ..self.ground() };
            sample.holds(ground, ByteOffset(0)) != Some(false)
        })
    }

    /// The film with these breaks, if it is one then.
    fn put_together(&self, breaks: &[Break]) -> Option<Joined> {
        let mut pieces = Vec::new();
        let (mut from, mut moved) = (0, 0);
        for own in breaks {
            pieces.push(ByteRange::sized(ByteOffset(self.start + from + moved), own.at.checked_sub(from)?));
            (from, moved) = (own.at, own.moved);
        }
        pieces.push(ByteRange::sized(ByteOffset(self.start + from + moved), self.end.checked_sub(from)?));
        let is_free = |piece: &ByteRange| self.loose.is_free(piece.start.0, piece.end.0);
        if pieces.len() < 2 || pieces.iter().any(|piece| piece.is_empty() || !is_free(piece)) {
            return None;
        }
        let source = Pieces::new(self.loose.source, pieces.clone());
        let ground = Ground { source: &source, end: ByteOffset(source.len()), ..self.ground() };
        let judged = judge(ground, KindId::named("movie")?.kind(), ByteOffset(0)).file?;
        let extents = pieces.iter().map(|piece| (piece.start, piece.len())).collect();
        (judged.state != State::Cut && judged.bytes == self.end).then_some(Joined { judged, extents })
    }
}
