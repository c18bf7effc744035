//! Files in pieces: where the structure of one breaks, what follows is looked for on ground that nobody holds, nearest first, by the raster of the
//! volume that stood there. Only what proves itself to its last byte when it is put together is joined; a film where each frame stands where its
//! index says, and no other place of the break would do as well.

mod film;

use std::collections::{BTreeSet, HashMap};

use keel_adrift::{Ground, Judged, KINDS, Kind, Landmark, Looked, State, judge};
use keel_source::{ByteOffset, ByteRange, Identity, LinkKind, RangeSet, ReadError, Source};

use super::Adrift;
use crate::job::Cancel;

/// Kinds that prove themselves.
const PROVEN: [&str; 11] = ["jpeg", "png", "gif", "zip", "gzip", "flac", "ogg", "pdf", "cab", "font", "dex"];
/// Films of boxes, whose index proves where each frame stands.
pub(super) const FILMS: [&str; 4] = ["mp4", "mov", "3gp", "m4a"];
/// Clusters behind a break in which a piece is looked for.
const FURTHEST: u64 = 2100;
/// Ends of a piece that are tried: clusters around the place where the structure breaks.
const MOST_ENDS: usize = 24;
/// The same where it is known how far the next piece was moved.
const MOST_ENDS_BY_LANDMARK: usize = 2048;
/// Bytes that a wrong piece may be walked over.
const BRIEF: u64 = 192 << 10;
/// Bytes at the start of a picture in which other parts than its coded data stand.
const HEADS: u64 = 128 << 10;
/// Bytes that are glanced at.
const GLANCE: usize = 4096;
/// Clusters before that place: what is not the file's own may look like it for a while.
const BEFORE: u64 = 2;
/// The most pieces.
const MOST_PIECES: usize = 4;
/// Bytes that are walked for one file.
const MOST_WALKED: u64 = 4 << 30;

/// Where pieces may lie.
pub(super) struct Loose<'a> {
    /// The drive.
    pub(super) source: &'a dyn Source,
    /// Ground that belongs to somebody: to volumes, or to files that are whole.
    pub(super) taken: &'a RangeSet,
    /// Bytes of a cluster, and the byte at which one begins.
    pub(super) raster: (u64, u64),
    /// Where files begin, whatever became of them.
    pub(super) starts: &'a BTreeSet<u64>,
    /// Stops the work.
    pub(super) cancel: &'a Cancel,
}

impl Loose<'_> {
    /// True where nobody holds any byte from `from` to `to`.
    fn is_free(&self, from: u64, to: u64) -> bool {
        let range = ByteRange::new(ByteOffset(from), ByteOffset(to.max(from)));
        self.taken.lacking(range).iter().map(|free| free.len()).sum::<u64>() == range.len()
    }
}

/// Pieces of a drive, one behind the other.
pub(super) struct Pieces<'a> {
    below: &'a dyn Source,
    pieces: Vec<ByteRange>,
    identity: Identity,
}

impl<'a> Pieces<'a> {
    pub(super) fn new(below: &'a dyn Source, pieces: Vec<ByteRange>) -> Self {
        let bytes = pieces.iter().map(|piece| piece.len()).sum();
        let mut identity = Identity::bare("pieces", bytes, LinkKind::Derived);
        (identity.logical_sector, identity.physical_sector) = (keel_source::SectorSize(1), keel_source::SectorSize(1));
        Self { below, pieces, identity }
    }
}

impl Source for Pieces<'_> {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let (mut before, mut bad) = (0, Vec::new());
        let wanted = ByteRange::sized(at, buf.len() as u64);
        for piece in &self.pieces {
            let own = ByteRange::sized(ByteOffset(before), piece.len());
            before += piece.len();
            let Some(part) = own.overlap(wanted) else { continue };
            let (from, to) = ((part.start - at) as usize, (part.end - at) as usize);
            let place = piece.start + (part.start - own.start);
            if self.below.read_at(place, buf.get_mut(from..to).unwrap_or_default()).is_err() {
                bad.push(part);
            }
        }
        let behind = ByteRange::new(ByteOffset(before).max(at), wanted.end);
        bad.extend((!behind.is_empty()).then_some(behind));
        match bad.first() {
            None => Ok(()),
            Some(first) => Err(ReadError { bad: bad.clone(), ..ReadError::of(*first, "the drive does not read it") }),
        }
    }
}

/// What is put together.
pub(super) struct Joined {
    pub(super) judged: Judged,
    pub(super) extents: Vec<(ByteOffset, u64)>,
}

/// Puts `file`, which is cut, together with what it goes on in; none where nothing proves itself.
pub(super) fn join(loose: &Loose<'_>, file: &Adrift) -> Option<Joined> {
    if FILMS.contains(&file.kind) {
        return film::join(loose, file);
    }
    let kind = KINDS.iter().find(|kind| PROVEN.contains(&kind.word) && kind.makes(file.kind))?;
    let whole = ByteOffset(loose.source.len());
    let mut search = Search { loose, kind, left: MOST_WALKED, likely: HashMap::new() };
    let mut pieces = vec![ByteRange::new(file.at_byte, whole)];
    for _ in 1..MOST_PIECES {
        match search.next(&pieces)? {
            Next::Whole(joined) => return Some(joined),
            Next::Further(more) => pieces = more,
        }
    }
    None
}

/// What a further piece comes to.
enum Next {
    /// The file is whole with it.
    Whole(Joined),
    /// The structure holds further with it.
    Further(Vec<ByteRange>),
}

/// The search for the pieces of one file.
struct Search<'a> {
    loose: &'a Loose<'a>,
    kind: &'a Kind,
    /// Bytes that may still be walked.
    left: u64,
    /// Clusters that may be the first of a piece, by their bytes of the drive.
    likely: HashMap<u64, bool>,
}

/// What is known of the pieces so far.
struct SoFar<'p> {
    before: &'p [ByteRange],
    /// The last piece, which goes on too far.
    last: ByteRange,
    /// Bytes of the pieces before it.
    ahead: u64,
    /// Bytes that were read for it.
    read: u64,
    /// Bytes up to which the structure holds.
    held: u64,
}

impl Search<'_> {
    fn look(&mut self, pieces: &[ByteRange], most_read: u64) -> Option<Looked> {
        if self.left == 0 || self.loose.cancel.is_cancelled() {
            return None;
        }
        let source = Pieces::new(self.loose.source, pieces.to_vec());
        let most_read = most_read.min(self.left);
        let ground = Ground { source: &source, end: ByteOffset(source.len()), most_read, cancel: self.loose.cancel };
        let looked = judge(ground, self.kind, ByteOffset(0));
        self.left = self.left.saturating_sub(looked.read.max(1));
        Some(looked)
    }

    /// The nearest piece that makes the file whole; else the one with which the structure holds furthest.
    fn next(&mut self, pieces: &[ByteRange]) -> Option<Next> {
        let looked = self.look(pieces, u64::MAX)?;
        let (last, before) = pieces.split_last()?;
        let so_far = SoFar {
            before,
            last: *last,
            ahead: before.iter().map(|piece| piece.len()).sum(),
            read: looked.read,
            held: looked.file.as_ref().map_or(0, |judged| judged.bytes),
        };
        let gaps = self.gaps(&so_far, looked.landmark);
        let most_ends = if gaps.is_some() { MOST_ENDS_BY_LANDMARK } else { MOST_ENDS };
        let gaps = gaps.unwrap_or_else(|| (1..=FURTHEST).collect());
        let ends = self.ends(&so_far, looked.reached, most_ends);
        // Where another file begins, or nobody else's ground does, a piece most likely ends.
        let is_shown = |end: &u64| self.loose.starts.contains(end) || self.loose.taken.contains(ByteOffset(*end));
        let (shown, others): (Vec<u64>, Vec<u64>) = ends.into_iter().partition(is_shown);
        let mut best: Option<(u64, Vec<ByteRange>)> = None;
        for ends in [shown, others] {
            for gap in &gaps {
                for end in &ends {
                    match self.attempt(&so_far, *end, *gap)? {
                        Attempt::Nothing => {}
                        Attempt::Whole(joined) => return Some(Next::Whole(joined)),
                        Attempt::Further(held, own) if best.as_ref().is_none_or(|(most, _)| held > *most) => {
                            best = Some((held, own));
                        }
                        Attempt::Further(..) => {}
                    }
                }
            }
        }
        best.map(|(_, own)| Next::Further(own))
    }

    /// Clusters between the pieces, by where the next part stands that has to; none where none has to, or none stands.
    fn gaps(&self, so_far: &SoFar<'_>, landmark: Option<Landmark>) -> Option<Vec<u64>> {
        let landmark = landmark.filter(|landmark| landmark.at >= so_far.held)?;
        let cluster = self.loose.raster.0;
        let should = so_far.last.start.0.checked_add(landmark.at.checked_sub(so_far.ahead)?)?;
        let longest = landmark.marks.iter().map(|mark| mark.len()).max().unwrap_or(0);
        let stands = |gap: &u64| {
            let mut there = vec![0; longest];
            let at = ByteOffset(should.saturating_add(gap * cluster));
            let is_read = at.0.saturating_add(longest as u64) <= self.loose.source.len()
                && self.loose.source.read_at(at, &mut there).is_ok();
            is_read && landmark.marks.iter().any(|mark| there.starts_with(mark))
        };
        let gaps: Vec<u64> = (1..=FURTHEST).take_while(|_| !self.loose.cancel.is_cancelled()).filter(stands).collect();
        (!gaps.is_empty()).then_some(gaps)
    }

    /// Where the last piece may end, as bytes of the drive: at clusters around the place where the structure breaks.
    fn ends(&self, so_far: &SoFar<'_>, reached: u64, most: usize) -> Vec<u64> {
        let (cluster, first) = self.loose.raster;
        let on_drive = |byte: u64| so_far.last.start.0.saturating_add(byte.saturating_sub(so_far.ahead));
        let from = (on_drive(so_far.held) / cluster).saturating_sub(BEFORE) * cluster;
        let until = on_drive(reached).saturating_add(cluster);
        let step = usize::try_from(cluster).unwrap_or(usize::MAX);
        let ends = (from..=until).step_by(step).map(|end| end / cluster * cluster + first % cluster);
        ends.filter(|end| *end > so_far.last.start.0).take(most).collect()
    }

    /// Tries a piece that begins `gap` clusters behind the end of the last one; none where no more may be walked.
    fn attempt(&mut self, so_far: &SoFar<'_>, end: u64, gap: u64) -> Option<Attempt> {
        let (cluster, _) = self.loose.raster;
        let start = ByteOffset(end.checked_add(gap * cluster)?);
        if start.0 >= self.loose.source.len() || self.loose.taken.contains(start) || !self.is_likely(so_far, start) {
            return Some(Attempt::Nothing);
        }
        // A piece goes on to the end of the ground that nobody holds.
        let rest = ByteRange::new(start, ByteOffset(self.loose.source.len()));
        let Some(free) = self.loose.taken.lacking(rest).into_iter().next() else { return Some(Attempt::Nothing) };
        let mut own = so_far.before.to_vec();
        own.extend([ByteRange::new(so_far.last.start, ByteOffset(end)), free]);
        // What is not the file's own breaks soon; only what does not is walked to its end.
        let mut looked = self.look(&own, so_far.read.saturating_add(BRIEF))?;
        if looked.is_spent {
            looked = self.look(&own, u64::MAX)?;
        }
        let Some(judged) = looked.file else { return Some(Attempt::Nothing) };
        if judged.state == State::Whole {
            let extents = cut_to(&own, judged.bytes);
            // What ends before the piece is whole without it.
            return (extents.len() == own.len()).then_some(Attempt::Whole(Joined { judged, extents }));
        }
        let further = judged.bytes.saturating_sub(so_far.ahead + (end - so_far.last.start.0));
        let holds = judged.state == State::Cut && further > 2 * cluster;
        Some(if holds { Attempt::Further(judged.bytes, own) } else { Attempt::Nothing })
    }

    /// Whether what stands at a cluster may go on with the file, at a glance.
    fn is_likely(&mut self, so_far: &SoFar<'_>, start: ByteOffset) -> bool {
        let is_scan = self.kind.word == "jpeg" && so_far.held > HEADS;
        let source = self.loose.source;
        *self.likely.entry(start.0).or_insert_with(|| {
            let mut head = [0; GLANCE];
            let len = usize::try_from(source.len() - start.0).unwrap_or(GLANCE).min(GLANCE);
            let head = head.get_mut(..len).unwrap_or_default();
            source.read_at(start, head).is_ok() && is_packed(head) && (!is_scan || may_be_scan(head))
        })
    }
}

/// What one attempt comes to.
enum Attempt {
    /// Nothing.
    Nothing,
    /// The file is whole.
    Whole(Joined),
    /// It holds further, to so many bytes.
    Further(u64, Vec<ByteRange>),
}

/// True where packed data may begin: not with zeros.
fn is_packed(head: &[u8]) -> bool {
    let front = head.get(..64).unwrap_or(head);
    front.iter().any(|byte| *byte != 0)
}

/// True where the coded data of a picture may stand (ITU-T T.81): no marker is among them but those that restart them, or the end.
fn may_be_scan(head: &[u8]) -> bool {
    head.windows(2).all(|pair| pair[0] != 0xFF || matches!(pair[1], 0 | 0xD0..=0xD9 | 0xFF | 0xC4 | 0xDA))
}

/// The first `bytes` bytes of `pieces`.
fn cut_to(pieces: &[ByteRange], bytes: u64) -> Vec<(ByteOffset, u64)> {
    let (mut left, mut extents) = (bytes, Vec::new());
    for piece in pieces {
        let own = piece.len().min(left);
        left -= own;
        extents.extend((own > 0).then_some((piece.start, own)));
    }
    extents
}
