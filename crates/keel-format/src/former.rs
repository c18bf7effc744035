//! Volumes of an older generation: what is left under a volume that was made later on the same ground.

use std::ops::ControlFlow;
use std::sync::{Arc, OnceLock};

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};

use crate::bounded;
use crate::clue::Clues;
use crate::content::{ContentMatch, matches_type};
use crate::registry::FORMATS;
pub use crate::registry::Former;
use crate::{Allocation, Deleted, Extent, FormatError, FoundVolume, NodeKind, Volume, VolumeKind, Witness, WitnessKind};

/// The most files whose beginnings are looked at.
const MOST_BEGUN: usize = 256;

/// What a format answers of what is left of one of its volumes.
pub trait FormatFormer {
    /// The kind that it was.
    fn kind(&self) -> VolumeKind;

    /// Length in bytes of the ground that it is looked for on.
    fn bytes(&self) -> u64;

    /// Opens what is left of the volume whose first byte is byte 0 of `window`.
    ///
    /// # Errors
    /// [`FormatError`] when nothing of its metadata can be read any more.
    fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError>;
}

impl Former {
    /// The kind that it was.
    #[must_use]
    pub fn kind(&self) -> VolumeKind {
        self.format().kind()
    }

    /// Length in bytes of the ground that it is looked for on.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.format().bytes()
    }

    /// Opens what is left of the volume whose first byte is byte 0 of `window`.
    ///
    /// # Errors
    /// [`FormatError`] when nothing of its metadata can be read any more.
    pub fn open(&self, window: SharedSource) -> Result<Box<dyn Volume>, FormatError> {
        self.format().open(window)
    }
}

/// True for a volume that stands: a boot sector states it and its root lists, or (for a kind that is not read) a superblock.
#[must_use]
pub fn is_present(volume: &FoundVolume) -> bool {
    let boot = volume.has(WitnessKind::BootSector) || volume.has(WitnessKind::BackupBootSector);
    let core = volume.has(WitnessKind::CoreMetadata) && volume.has(WitnessKind::RootDirectory);
    boot && (core || volume.kind.why_closed().is_some())
}

fn is_readable(volume: &FoundVolume) -> bool {
    volume.kind.why_closed().is_none()
}

/// A present volume, and which of its ground it uses by its own count.
pub(crate) struct Host<'a> {
    /// The volume.
    pub(crate) volume: &'a FoundVolume,
    drive: &'a SharedSource,
    allocation: OnceLock<Option<Allocation>>,
    /// Ground (bytes of the volume) that its formatter set aside and did not clear: tables and journals that are not full yet.
    spare: OnceLock<RangeSet>,
}

impl<'a> Host<'a> {
    fn new(drive: &'a SharedSource, volume: &'a FoundVolume) -> Self {
        Self { volume, drive, allocation: OnceLock::new(), spare: OnceLock::new() }
    }

    /// The ground of the volume.
    pub(crate) fn window(&self, drive: &SharedSource) -> SharedSource {
        bounded::window(drive, self.volume.range())
    }

    /// True for ground of the volume (a byte of the drive) that it does not use: something older may be left there.
    pub(crate) fn leaves(&self, at: ByteOffset) -> bool {
        let Some(inside) = at.0.checked_sub(self.volume.start.0).filter(|_| self.volume.range().contains(at)) else {
            return false;
        };
        let open = || self.volume.geometry.open(self.window(self.drive)).ok().and_then(|volume| volume.allocation());
        let Some(allocation) = self.allocation.get_or_init(open) else { return true };
        let spare = || self.spare().lacking(ByteRange::sized(ByteOffset(inside), 1)).is_empty();
        let unit = inside.checked_sub(allocation.first_at.0).map(|bytes| bytes / allocation.unit_bytes.max(1));
        unit.is_some_and(|unit| unit >= allocation.units || !allocation.is_used(unit)) || spare()
    }

    fn spare(&self) -> &RangeSet {
        self.spare.get_or_init(|| self.volume.geometry.set_aside(self.window(self.drive)))
    }

    /// True for a volume that begins where this one does and whose boot sector (or superblock) is gone while this one's stands: this
    /// one was made later.
    ///
    /// A header behind the first KiB (ext, HFS+) stands where formatters of the other kinds write as well: where it still does, it
    /// came after them.
    fn replaces(&self, older: &FoundVolume) -> bool {
        let main = |volume: &FoundVolume| volume.has(WitnessKind::BootSector);
        let behind = |volume: &FoundVolume| volume.geometry.boot_at().0 > 0;
        let is_same = (older.kind, older.bytes) == (self.volume.kind, self.volume.bytes);
        let comes_after = !main(older) || (behind(self.volume) && !behind(older) && is_readable(older));
        older.start == self.volume.start && main(self.volume) && comes_after && !is_same
    }

    /// True for a volume that does not stand any more and of which something is left on ground that this one does not use.
    pub(crate) fn is_over(&self, older: &FoundVolume) -> bool {
        let places = older.witnesses.iter().filter(|witness| witness.weight > 0).filter_map(|witness| witness.at_byte);
        // A disk image in a file never begins where the volume does that holds it.
        (self.replaces(older) || !is_present(older))
            && self.volume.range().overlap(older.range()).is_some_and(|shared| shared.len() * 2 > older.bytes)
            && (older.start <= self.volume.start || places.into_iter().any(|at| self.leaves(at)))
    }
}

/// What was found, with the volumes of an older generation that what was seen speaks for and that no present volume reaches. What
/// is left of one is told once: as that, and not as a volume that hardly stands.
#[must_use]
pub fn told_apart(drive: &SharedSource, clues: &Clues, found: &[FoundVolume]) -> Vec<FoundVolume> {
    let present: Vec<FoundVolume> = found.iter().filter(|volume| may_host(volume, found)).cloned().collect();
    let all: Vec<Host<'_>> = present.iter().map(|volume| Host::new(drive, volume)).collect();
    let is_replaced = |volume: &FoundVolume| all.iter().any(|host| host.replaces(volume));
    let hosts: Vec<Host<'_>> =
        present.iter().filter(|volume| !is_replaced(volume)).map(|volume| Host::new(drive, volume)).collect();
    let older = infer(drive, clues, found, &hosts);
    let is_told = |volume: &FoundVolume| {
        let same = |former: &FoundVolume| (former.kind, former.start) == (volume.kind, volume.start);
        let hardly = !is_present(volume) || is_replaced(volume);
        // Of a volume of which neither metadata nor a root is left nothing comes back.
        let nothing = || {
            let left = volume.has(WitnessKind::CoreMetadata) || volume.has(WitnessKind::RootDirectory);
            !left && is_readable(volume) && hosts.iter().any(|host| host.is_over(volume))
        };
        !(hardly && (older.iter().any(same) || nothing()))
    };
    let kept: Vec<FoundVolume> = found.iter().filter(|volume| is_told(volume)).cloned().collect();
    kept.into_iter().chain(older).collect()
}

/// True for a present volume under which an older one may be looked for. A superblock of a kind that is not read proves little: it
/// may be what formatters left of something older. It does not stand against a volume that reads, unless it is where that one's
/// boot sector would be.
fn may_host(volume: &FoundVolume, found: &[FoundVolume]) -> bool {
    let main = volume.witnesses.iter().find(|witness| witness.kind == WitnessKind::BootSector && witness.weight > 0);
    let main = main.and_then(|witness| witness.at_byte);
    let reads = |other: &FoundVolume| other.has(WitnessKind::CoreMetadata) && other.has(WitnessKind::RootDirectory);
    let against = |other: &&FoundVolume| {
        let elsewhere = main != Some(other.start + other.geometry.boot_at().0);
        is_readable(other) && reads(other) && elsewhere && other.range().overlap(volume.range()).is_some()
    };
    is_present(volume) && (is_readable(volume) || !found.iter().any(|other| against(&other)))
}

fn infer(drive: &SharedSource, clues: &Clues, found: &[FoundVolume], hosts: &[Host<'_>]) -> Vec<FoundVolume> {
    FORMATS.iter().flat_map(|format| (format.former)(drive, clues, found, hosts)).collect()
}

/// What is left as a volume to be told: with how many files it names, and how many of those that were looked at begin as their
/// types promise. None where it names nothing. It begins at the first and ends at or before the second of `ends`; `(at, count,
/// said)` is what speaks for it: where, how many, and a sentence.
pub(crate) fn told(
    drive: &SharedSource,
    (start, end): (ByteOffset, ByteOffset),
    what: Former,
    (at, count, said): (ByteOffset, usize, String),
) -> Option<FoundVolume> {
    let kind = what.kind();
    let bytes = what.bytes().min(end.0.checked_sub(start.0)?);
    let window = bounded::window(drive, ByteRange::sized(start, bytes));
    let volume = what.open(window).ok()?;
    let (mut names, mut begun, mut asked, mut newest) = (0u64, 0i32, 0, None);
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        let is_file = found.entry.kind == NodeKind::File;
        names += u64::from(is_file);
        newest = newest.max(found.entry.times.modified);
        let places = |extents: Vec<Extent>| extents.iter().any(|extent| extent.volume_at.is_some());
        if is_file && asked < MOST_BEGUN && volume.extents(found.entry.id).is_ok_and(places) {
            asked += 1;
            let head = volume.open(found.entry.id, "").map(|mut stream| crate::read_whole(stream.as_mut(), 512).0);
            begun += i32::from(matches_type(&found.entry.name, &head.unwrap_or_default()) == ContentMatch::Match);
        }
        ControlFlow::Continue(())
    });
    if names == 0 {
        return None;
    }
    let files_say = format!("what is left names {names} files; {begun} of {asked} looked at begin as their types promise");
    let weight = |count: usize| i32::try_from(count.min(15)).unwrap_or(15);
    Some(FoundVolume {
        kind,
        start,
        bytes,
        label: volume.summary().label.clone(),
        witnesses: vec![
            Witness::at(WitnessKind::References, at, 15 + weight(count), said).start(start),
            Witness::at(WitnessKind::RootDirectory, at, begun.min(20), files_say),
        ],
        geometry: what.into(),
        newest,
    })
}

/// A former volume as a geometry.
impl From<Former> for crate::Geometry {
    fn from(former: Former) -> Self {
        Self::Former(Arc::new(former))
    }
}
