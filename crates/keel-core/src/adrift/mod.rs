//! Files that no volume holds any more: found in the sweep's own pass, judged by their structure, on the ground that nobody holds.

mod held;
mod join;
mod known;
mod name;
mod record;
mod shelf;
mod take_out;

#[cfg(test)]
mod tests;

pub use held::held;
pub use keel_adrift::{Start, Starts, State as AdriftState, words};
pub use known::Known;
pub use shelf::Shelf;
pub use take_out::{Chosen, TakeOutProgress, TakenOut, TakenOutEntry, TakenState, take_out};

use std::collections::{BTreeSet, HashMap};

use keel_adrift::{Ground, KindId, Sort, State, judge};
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, Source};
use serde::Serialize;

use crate::files;
use crate::find::Find;
use crate::job::{Cancel, Desk};

/// Bytes that a look at one start may read, however much was read for nothing before.
const LEAST_LOOK: u64 = 32 << 10;
/// Bytes read for starts that come to nothing, as a multiple of the ground: what follows is looked at more briefly.
const MOST_FOR_NOTHING: u64 = 2;
/// Bytes that may be read for nothing on any ground.
const FREE_LOOKS: u64 = 1 << 30;

/// A file adrift.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Adrift {
    /// `a1`, `a2`, … by start.
    pub id: String,
    /// Suffix of its name, by its content.
    pub kind: &'static str,
    /// What a client would call it.
    pub sort: Sort,
    /// First byte on the drive.
    pub at_byte: ByteOffset,
    /// Length in bytes; of a cut one what is left of it.
    pub bytes: u64,
    /// Its ground: first byte on the drive and length of each piece.
    pub extents: Vec<(ByteOffset, u64)>,
    /// How far it is proven.
    pub state: State,
    /// Why, as half a sentence.
    pub why: String,
    /// The name by a record that leads to its start; else by what it tells of itself, or by kind and place.
    pub name: String,
    /// Path by that record, `/`-separated.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The find whose record that is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recorded_by: Option<String>,
    /// When it was made, as it says itself.
    pub made: Option<String>,
    /// Who or what made it, as it says itself.
    pub by: Option<String>,
    /// Width and height of a picture.
    pub pixels: Option<(u32, u32)>,
    /// The find on whose ground it lies.
    pub volume: Option<String>,
    /// The file of the same content that is told instead of it.
    pub same_as: Option<String>,
}

/// Ground with the raster that a volume laid over it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Raster {
    /// The volume's ground.
    pub range: ByteRange,
    /// Bytes of a cluster.
    pub cluster: u64,
    /// A byte of the drive at which a cluster begins.
    pub first: ByteOffset,
}

/// The rasters of all volumes that open, those of older generations too.
#[must_use]
pub fn rasters(source: &SharedSource, finds: &[Find]) -> Vec<Raster> {
    let raster = |find: &Find| {
        let volume = files::open(source, find).ok()?;
        let first = volume.allocation().map_or(find.start_byte, |allocation| find.start_byte + allocation.first_at.0);
        Some(Raster { range: find.range(), cluster: u64::from(volume.summary().cluster_bytes), first })
    };
    let is_sane = |raster: &Raster| raster.cluster.is_power_of_two() && (512..=2 << 20).contains(&raster.cluster);
    finds.iter().filter_map(raster).filter(is_sane).collect()
}

/// What is done with files that are cut.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Cuts {
    /// They are told as they are.
    #[default]
    Told,
    /// What they go on in is looked for by these rasters; where no volume laid one, by clusters of 4096 bytes from the file's start on.
    Joined(Vec<Raster>),
}

/// How far the looking is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AdriftProgress {
    /// Starts looked at.
    pub done: usize,
    /// Starts in all.
    pub total: usize,
    /// Files found so far.
    pub found: usize,
}

/// What was found adrift.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AdriftFiles {
    /// The files, by their start.
    pub files: Vec<Adrift>,
    /// True when it was stopped: there may be more.
    pub cancelled: bool,
}

/// Judges every one of `starts` that lies on ground which is not in `held`; what lies inside of a whole file is part of that.
#[must_use]
pub fn adrift(
    source: &SharedSource,
    starts: &[Start],
    (held, finds): (&RangeSet, &[Find]),
    cuts: &Cuts,
    desk: &Desk<AdriftProgress>,
) -> AdriftFiles {
    let free: Vec<ByteRange> = held.lacking(ByteRange::sized(ByteOffset(0), source.len()));
    let ground: u64 = free.iter().map(|range| range.len()).sum();
    let spare = ground.saturating_mul(MOST_FOR_NOTHING).saturating_add(FREE_LOOKS);
    let mut out = within(source.as_ref(), starts, (&free, finds), spare, desk);
    number(&mut out.files);
    record::name_by_records(source, finds, &mut out.files, desk.cancel());
    if let Cuts::Joined(rasters) = cuts {
        join_all(source.as_ref(), &mut out.files, (held, rasters), desk);
    }
    out.cancelled |= desk.cancel().is_cancelled();
    tell_same_apart(source.as_ref(), &mut out.files, desk.cancel());
    out
}

/// True for a file whose ground is nobody else's: text and what proves nothing may as well be a part of another file, where it does not begin at a
/// cluster or is short.
fn is_owner(file: &Adrift, cluster: u64) -> bool {
    let may_be_part = file.state == State::Plausible
        && (!file.at_byte.0.is_multiple_of(cluster) || (file.kind == "txt" && file.bytes < cluster));
    file.state != State::Cut && !may_be_part
}

/// Joins what is cut and proves itself when it is put together; what lies inside of that is part of it.
fn join_all(source: &dyn Source, files: &mut Vec<Adrift>, (held, rasters): (&RangeSet, &[Raster]), desk: &Desk<AdriftProgress>) {
    const CLUSTER: u64 = 4096;
    let own = files.iter().filter(|file| is_owner(file, CLUSTER)).map(|file| ByteRange::sized(file.at_byte, file.bytes));
    let mut taken: RangeSet = held.ranges().iter().copied().chain(own).collect();
    let (total, count, mut parts) = (files.len(), files.len(), RangeSet::default());
    let starts: BTreeSet<u64> = files.iter().map(|file| file.at_byte.0).collect();
    let mut cut: Vec<&mut Adrift> = files.iter_mut().filter(|file| file.state == State::Cut).collect();
    // What lies between the pieces of a film is known best when everything else has been put together.
    cut.sort_by_key(|file| (join::FILMS.contains(&file.kind), file.at_byte));
    for (done, file) in cut.into_iter().enumerate() {
        if desk.cancel().is_cancelled() {
            return;
        }
        desk.tell(AdriftProgress { done, total, found: count });
        let laid = rasters.iter().find(|raster| {
            raster.range.contains(file.at_byte) && file.at_byte.0.abs_diff(raster.first.0).is_multiple_of(raster.cluster)
        });
        let raster = laid.map_or((CLUSTER, file.at_byte.0), |raster| (raster.cluster, raster.first.0));
        let loose = join::Loose { source, taken: &taken, raster, starts: &starts, cancel: desk.cancel() };
        if let Some(joined) = join::join(&loose, file) {
            file.why = format!("joined from {} pieces; {}", joined.extents.len(), joined.judged.why);
            (file.state, file.bytes, file.kind) = (joined.judged.state, joined.judged.bytes, joined.judged.suffix);
            file.pixels = joined.judged.facts.pixels;
            if file.path.is_none() {
                file.name = name::name(&joined.judged.facts, file.kind, file.at_byte);
            }
            (file.made, file.by) = (joined.judged.facts.made, joined.judged.facts.by);
            joined.extents.iter().for_each(|(at, bytes)| taken.add(ByteRange::sized(*at, *bytes)));
            joined.extents.iter().for_each(|(at, bytes)| parts.add(ByteRange::sized(*at, *bytes)));
            file.extents = joined.extents;
        }
    }
    files.retain(|file| file.extents.len() > 1 || !parts.contains(file.at_byte));
}

/// Judges those of `starts` that lie on `free` ground; at most `spare` bytes are read for nothing before looks get brief.
fn within(
    source: &dyn Source,
    starts: &[Start],
    (free, finds): (&[ByteRange], &[Find]),
    mut spare: u64,
    desk: &Desk<AdriftProgress>,
) -> AdriftFiles {
    let mut out = AdriftFiles::default();
    let mut ranges = free.iter().peekable();
    // Everything before it is part of a file.
    let mut behind = ByteOffset(0);
    for (done, start) in starts.iter().enumerate() {
        if done.is_multiple_of(256) {
            if desk.cancel().is_cancelled() {
                out.cancelled = true;
                break;
            }
            desk.tell(AdriftProgress { done, total: starts.len(), found: out.files.len() });
        }
        while ranges.next_if(|range| range.end <= start.at).is_some() {}
        let Some(range) = ranges.peek().filter(|range| range.contains(start.at)) else { continue };
        if start.at < behind {
            continue;
        }
        let kind = start.kind.kind();
        let ground = Ground { source, end: range.end, most_read: spare.max(LEAST_LOOK), cancel: desk.cancel() };
        let looked = judge(ground, kind, start.at);
        let Some(file) = looked.file else {
            spare = spare.saturating_sub(looked.read);
            continue;
        };
        if file.state == State::Cut {
            spare = spare.saturating_sub(looked.read);
        } else {
            behind = start.at + file.bytes;
        }
        let found = Adrift {
            id: String::new(),
            kind: file.suffix,
            sort: sort_of(file.suffix, start.kind),
            at_byte: start.at,
            bytes: file.bytes,
            extents: vec![(start.at, file.bytes)],
            state: file.state,
            why: file.why,
            name: name::name(&file.facts, file.suffix, start.at),
            path: None,
            recorded_by: None,
            made: file.facts.made,
            by: file.facts.by,
            pixels: file.facts.pixels,
            volume: volume_of(finds, start.at),
            same_as: None,
        };
        out.files.push(found);
    }
    out.cancelled |= desk.cancel().is_cancelled();
    out
}

/// The most is known of what its content is, not of the container that it comes in.
fn sort_of(suffix: &str, kind: KindId) -> Sort {
    match suffix {
        "wav" | "rmi" | "sf2" | "m4a" | "wma" | "ogg" | "opus" | "oga" => Sort::Sound,
        "webp" | "heic" | "avif" | "svg" | "ani" => Sort::Pictures,
        "docx" | "xlsx" | "pptx" | "odt" | "ods" | "odp" | "odg" | "epub" => Sort::Documents,
        "ole" => Sort::Data,
        _ => kind.kind().sort,
    }
}

fn volume_of(finds: &[Find], at: ByteOffset) -> Option<String> {
    finds.iter().filter(|find| find.is_outer()).find(|find| find.range().contains(at)).map(|find| find.id.clone())
}

/// Files begin where they begin: of two at one place the better one stays.
fn number(files: &mut Vec<Adrift>) {
    files.sort_by_key(|file| (file.at_byte, file.state, std::cmp::Reverse(file.bytes)));
    files.dedup_by_key(|file| file.at_byte);
    files.iter_mut().zip(1..).for_each(|(file, number)| file.id = format!("a{number}"));
}

/// Says of files with the same content which one is told: the first. Only what has kind and length in common is read for it.
fn tell_same_apart(source: &dyn Source, files: &mut [Adrift], cancel: &Cancel) {
    let mut alike: HashMap<(&str, u64), Vec<usize>> = HashMap::new();
    for (index, file) in files.iter().enumerate().filter(|(_, file)| file.state != State::Cut) {
        alike.entry((file.kind, file.bytes)).or_default().push(index);
    }
    let mut seen: HashMap<blake3::Hash, String> = HashMap::new();
    let mut groups: Vec<Vec<usize>> = alike.into_values().filter(|group| group.len() > 1).collect();
    groups.sort_unstable();
    for index in groups.into_iter().flatten() {
        if cancel.is_cancelled() {
            return;
        }
        let Some(file) = files.get_mut(index) else { continue };
        let mut hasher = blake3::Hasher::new();
        let whole = each_piece(source, &file.extents, &mut |piece, is_read| {
            hasher.update(piece);
            is_read && !cancel.is_cancelled()
        });
        if whole {
            let first = seen.entry(hasher.finalize()).or_insert_with(|| file.id.clone());
            file.same_as = (*first != file.id).then(|| first.clone());
        }
    }
}

/// Hands the bytes of `extents` over, piece by piece, each with whether it was read; ends where the receiver answers false. True when it went
/// to the end.
fn each_piece(source: &dyn Source, extents: &[(ByteOffset, u64)], each: &mut dyn FnMut(&[u8], bool) -> bool) -> bool {
    const STEP: u64 = 1 << 20;
    let mut buf = vec![0; STEP as usize];
    for (at, bytes) in extents {
        for from in (0..*bytes).step_by(STEP as usize) {
            let piece = buf.get_mut(..usize::try_from((bytes - from).min(STEP)).unwrap_or(0)).unwrap_or_default();
            let is_read = source.read_at(*at + from, piece).is_ok();
            if !each(piece, is_read) {
                return false;
            }
        }
    }
    true
}
