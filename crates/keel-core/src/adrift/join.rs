//! Files in pieces: where the structure of one breaks, what follows is looked for on ground that nobody holds, nearest first, by the raster of the
//! volume that stood there. Only what proves itself to its last byte when it is put together is joined.

use keel_adrift::{Ground, Judged, KINDS, Kind, State, judge};
use keel_source::{ByteOffset, ByteRange, Identity, LinkKind, RangeSet, ReadError, Source};

use super::Adrift;
use crate::job::Cancel;

/// Kinds that prove themselves.
const PROVEN: [&str; 11] = ["jpeg", "png", "gif", "zip", "gzip", "flac", "ogg", "pdf", "cab", "font", "dex"];
/// Clusters behind a break in which a piece is looked for.
const FURTHEST: u64 = 2100;
/// Ends of a piece that are tried: clusters around the place where the structure breaks.
const MOST_ENDS: usize = 24;
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
    /// Stops the work.
    pub(super) cancel: &'a Cancel,
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
    let kind = KINDS.iter().find(|kind| PROVEN.contains(&kind.word) && kind.makes(file.kind))?;
    let whole = ByteOffset(loose.source.len());
    let (mut pieces, mut left) = (vec![ByteRange::new(file.at_byte, whole)], MOST_WALKED);
    for _ in 1..MOST_PIECES {
        let (held, reached) = walked(loose, kind, &pieces, &mut left)?;
        let best = next(loose, kind, &pieces, (held, reached), &mut left)?;
        match best {
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

/// How far the structure of `pieces` holds, and how far it was looked at.
fn walked(loose: &Loose<'_>, kind: &Kind, pieces: &[ByteRange], left: &mut u64) -> Option<(u64, u64)> {
    let looked = look(loose, kind, pieces, left)?;
    Some((looked.0.map_or(0, |judged| judged.bytes), looked.1))
}

fn look(loose: &Loose<'_>, kind: &Kind, pieces: &[ByteRange], left: &mut u64) -> Option<(Option<Judged>, u64)> {
    if *left == 0 || loose.cancel.is_cancelled() {
        return None;
    }
    let source = Pieces::new(loose.source, pieces.to_vec());
    let ground = Ground { source: &source, end: ByteOffset(source.len()), most_read: *left, cancel: loose.cancel };
    let looked = judge(ground, kind, ByteOffset(0));
    *left = left.saturating_sub(looked.read.max(1));
    Some((looked.file, looked.reached))
}

/// The nearest piece that makes the file whole; else the one with which the structure holds furthest.
fn next(loose: &Loose<'_>, kind: &Kind, pieces: &[ByteRange], (held, reached): (u64, u64), left: &mut u64) -> Option<Next> {
    let (last, before) = pieces.split_last()?;
    let (cluster, first) = loose.raster;
    let ahead: u64 = before.iter().map(|piece| piece.len()).sum();
    // The end of the last piece, as a byte of the drive: at a cluster, around the place where the structure breaks.
    let on_drive = |byte: u64| last.start.0.saturating_add(byte.saturating_sub(ahead));
    let from = (on_drive(held) / cluster).saturating_sub(BEFORE) * cluster;
    let until = on_drive(reached).saturating_add(cluster);
    let ends = (from..=until).step_by(usize::try_from(cluster).ok()?).map(|end| end / cluster * cluster + first % cluster);
    let ends: Vec<u64> = ends.filter(|end| *end > last.start.0).take(MOST_ENDS).collect();
    let mut best: Option<(u64, Vec<ByteRange>)> = None;
    for gap in 1..=FURTHEST {
        for end in &ends {
            let start = ByteOffset(end.checked_add(gap * cluster)?);
            if start.0 >= loose.source.len() || loose.taken.contains(start) || is_blank(loose.source, start) {
                continue;
            }
            // A piece goes on to the end of the ground that nobody holds.
            let rest = ByteRange::new(start, ByteOffset(loose.source.len()));
            let Some(free) = loose.taken.lacking(rest).into_iter().next() else { continue };
            let mut own = before.to_vec();
            own.extend([ByteRange::new(last.start, ByteOffset(*end)), free]);
            let (judged, _) = look(loose, kind, &own, left)?;
            let Some(judged) = judged else { continue };
            if judged.state == State::Whole {
                let extents = cut_to(&own, judged.bytes);
                // What ends before the piece is whole without it.
                return (extents.len() == own.len()).then_some(Next::Whole(Joined { judged, extents }));
            }
            let further = judged.bytes.saturating_sub(ahead + (end - last.start.0));
            if judged.state == State::Cut && further > 2 * cluster && best.as_ref().is_none_or(|(most, _)| judged.bytes > *most) {
                best = Some((judged.bytes, own));
            }
        }
    }
    best.map(|(_, own)| Next::Further(own))
}

/// True where zeros stand, or nothing reads: packed data have none at their start.
fn is_blank(source: &dyn Source, at: ByteOffset) -> bool {
    let mut head = [0; 64];
    let len = usize::try_from(source.len() - at.0).unwrap_or(head.len()).min(head.len());
    let head = head.get_mut(..len).unwrap_or_default();
    source.read_at(at, head).is_err() || head.iter().all(|byte| *byte == 0)
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
