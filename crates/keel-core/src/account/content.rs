//! What the volumes hold: files by sort and state, folders to depth two, a sample of pictures.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use keel_format::{Deleted, Entry, NodeKind, Volume, read_whole};
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};

use crate::files::{self, FileGround, GroundJudge, Sort};
use crate::find::{Find, outer};
use crate::job::Cancel;

/// The most folders of a volume that are told.
const MOST_BRANCHES: usize = 2000;
/// Pictures of a volume that are kept to choose a sample from; where there are more, every second one stays.
const MOST_KEPT: usize = 2048;
/// The largest picture that is read for a sample, in bytes.
const LARGEST_PICTURE: u64 = 24 << 20;
/// What of the pictures is decoded here.
const DECODED: [&str; 6] = ["jpg", "jpeg", "png", "gif", "bmp", "webp"];

/// Files of one sort: how many are how, and their bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counted {
    /// As they should be, as far as their volume's records and the drive's reads say.
    pub whole: u64,
    /// With ground that does not read, is not all their own, or is guessed; or not proven to the end.
    pub damaged: u64,
    /// Of which nothing is left but a name, or that could not be taken out.
    pub missing: u64,
    /// Bytes of all of them.
    pub bytes: u64,
    /// Bytes of those that are whole.
    pub whole_bytes: u64,
}

impl Counted {
    /// Both together.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self {
            whole: self.whole + other.whole,
            damaged: self.damaged + other.damaged,
            missing: self.missing + other.missing,
            bytes: self.bytes.saturating_add(other.bytes),
            whole_bytes: self.whole_bytes.saturating_add(other.whole_bytes),
        }
    }

    /// Files in all.
    #[must_use]
    pub fn files(self) -> u64 {
        self.whole + self.damaged + self.missing
    }
}

/// A folder of the first or second level, with what is below it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Branch {
    /// Its path, `/`-separated; empty for what lies in the root itself.
    pub path: String,
    /// Files at all depths.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// A picture, as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sample {
    /// Its name.
    pub name: String,
    /// Its content.
    pub bytes: Vec<u8>,
}

/// What a volume holds.
#[derive(Debug, Clone, PartialEq)]
pub struct VolumeAccount {
    /// Id of the find.
    pub id: String,
    /// Its label, or its id where it has none.
    pub name: String,
    /// Its kind.
    pub kind: keel_format::VolumeKind,
    /// Length in bytes.
    pub bytes: u64,
    /// First byte on the drive.
    pub start_byte: ByteOffset,
    /// True for one of an older generation.
    pub is_former: bool,
    /// True where its files can be listed.
    pub opens: bool,
    /// Files that are there (not deleted) by sort.
    pub sorts: BTreeMap<Sort, Counted>,
    /// Its folders to depth two, by path.
    pub tree: Vec<Branch>,
    /// A sample of its pictures.
    pub pictures: Vec<Sample>,
    /// Files that are damaged or missing, the first ones by path.
    pub hurt: Vec<String>,
}

/// Files named one by one in [`VolumeAccount::hurt`].
const MOST_HURT: usize = 200;
/// Pictures of a sample of one volume.
const SAMPLED: usize = 24;

pub(super) fn volumes(source: &SharedSource, finds: &[Find], bad: &RangeSet, cancel: &Cancel) -> Vec<VolumeAccount> {
    let former = finds.iter().filter(|find| find.is_former());
    outer(finds).chain(former).map(|find| volume(source, finds, find, bad, cancel)).collect()
}

fn volume(source: &SharedSource, finds: &[Find], find: &Find, bad: &RangeSet, cancel: &Cancel) -> VolumeAccount {
    let mut account = VolumeAccount {
        id: find.id.clone(),
        name: find.name().to_string(),
        kind: find.kind,
        bytes: find.bytes,
        start_byte: find.start_byte,
        is_former: find.is_former(),
        opens: false,
        sorts: BTreeMap::new(),
        tree: Vec::new(),
        pictures: Vec::new(),
        hurt: Vec::new(),
    };
    let Ok(opened) = files::open(source, find) else { return account };
    let volume: &dyn Volume = opened.as_ref();
    let taken = files::taken(source, finds, find);
    let judge = taken.as_ref().map_or_else(|| GroundJudge::new(volume), |taken| GroundJudge::under(volume, taken));
    let own_bad: Vec<ByteRange> = bad.ranges().iter().filter_map(|range| range.overlap(find.range())).collect();
    let own_bad: Vec<ByteRange> =
        own_bad.iter().map(|range| ByteRange::sized(ByteOffset(range.start - find.start_byte), range.len())).collect();
    let mut tree: BTreeMap<String, Branch> = BTreeMap::new();
    let mut pictures = Thinned::default();
    let walked = volume.walk(Deleted::Hide, &mut |found| {
        let entry = found.entry;
        if entry.kind == NodeKind::File {
            let counted = counted(entry, state(volume, &judge, entry, &own_bad));
            let sort = account.sorts.entry(Sort::of(&entry.name)).or_default();
            *sort = sort.and(counted);
            grow(&mut tree, found.folder, entry.bytes);
            if counted.whole == 0 && account.hurt.len() < MOST_HURT {
                account.hurt.push(found.path());
            }
            if counted.whole == 1 && is_shown(entry) {
                pictures.add(entry.clone());
            }
        }
        if cancel.is_cancelled() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    account.opens = walked.is_ok();
    account.tree = tree.into_values().collect();
    account.pictures = sample(volume, &pictures.kept);
    account
}

/// A file, counted by its state.
fn counted(entry: &Entry, ground: FileGround) -> Counted {
    let mut own = Counted { bytes: entry.bytes, ..Counted::default() };
    match ground {
        FileGround::Whole => (own.whole, own.whole_bytes) = (1, own.bytes),
        FileGround::Guessed | FileGround::PartlyOverwritten => own.damaged = 1,
        FileGround::Gone => own.missing = 1,
    }
    own
}

/// What is left of a file: by its ground, and by what of that reads.
fn state(volume: &dyn Volume, judge: &GroundJudge<'_>, entry: &Entry, bad: &[ByteRange]) -> FileGround {
    let ground = judge.of(entry);
    if ground != FileGround::Whole || bad.is_empty() {
        return ground;
    }
    let extents = volume.extents(entry.id).unwrap_or_default();
    let ranges = extents.iter().filter_map(|extent| Some(ByteRange::sized(extent.volume_at?, extent.bytes)));
    let fails = |range: ByteRange| bad.iter().any(|bad| bad.overlap(range).is_some());
    if ranges.into_iter().any(fails) { FileGround::PartlyOverwritten } else { ground }
}

/// Counts a file in the folders that are told.
pub(super) fn grow(tree: &mut BTreeMap<String, Branch>, folder: &str, bytes: u64) {
    let parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).take(2).collect();
    for depth in usize::from(!parts.is_empty())..=parts.len() {
        let path = parts.get(..depth).unwrap_or_default().join("/");
        if !tree.contains_key(&path) && tree.len() >= MOST_BRANCHES {
            continue;
        }
        let branch = tree.entry(path.clone()).or_insert_with(|| Branch { path, ..Branch::default() });
        branch.files += 1;
        branch.bytes = branch.bytes.saturating_add(bytes);
    }
}

fn is_shown(entry: &Entry) -> bool {
    (1..=LARGEST_PICTURE).contains(&entry.bytes) && is_decoded(&entry.name)
}

/// True for a name of a picture that is decoded here.
pub(super) fn is_decoded(name: &str) -> bool {
    let ending = name.rsplit_once('.').map(|(_, ending)| ending.to_ascii_lowercase()).unwrap_or_default();
    DECODED.contains(&ending.as_str())
}

/// Some of many, evenly.
pub(super) struct Thinned<T> {
    pub(super) kept: Vec<T>,
    step: usize,
    seen: usize,
}

impl<T> Default for Thinned<T> {
    fn default() -> Self {
        Self { kept: Vec::new(), step: 1, seen: 0 }
    }
}

impl<T> Thinned<T> {
    pub(super) fn add(&mut self, one: T) {
        if self.seen.is_multiple_of(self.step) {
            self.kept.push(one);
        }
        self.seen += 1;
        if self.kept.len() >= MOST_KEPT {
            let mut index = 0;
            self.kept.retain(|_| {
                index += 1;
                index % 2 == 1
            });
            self.step *= 2;
        }
    }
}

/// Places of a sample among `count`.
pub(super) fn places(count: usize) -> impl Iterator<Item = usize> {
    let wanted = count.min(SAMPLED);
    (0..wanted).map(move |index| index * count / wanted.max(1))
}

fn sample(volume: &dyn Volume, pictures: &[Entry]) -> Vec<Sample> {
    let read = |entry: &Entry| {
        let mut stream = volume.open(entry.id, "").ok()?;
        let (bytes, is_read) = read_whole(stream.as_mut(), LARGEST_PICTURE as usize);
        is_read.then(|| Sample { name: entry.name.clone(), bytes })
    };
    places(pictures.len()).filter_map(|at| pictures.get(at).and_then(read)).collect()
}

/// Reads a picture that was taken out.
pub(super) fn sample_of(path: &std::path::Path, name: &str) -> Option<Sample> {
    let metadata = std::fs::symlink_metadata(path).ok().filter(std::fs::Metadata::is_file)?;
    let bytes = (metadata.len() <= LARGEST_PICTURE).then(|| std::fs::read(path).ok()).flatten()?;
    Some(Sample { name: name.to_string(), bytes })
}
