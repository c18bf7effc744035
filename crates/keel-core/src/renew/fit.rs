//! Volumes that grow into free ground, or shrink to their content: the entry and the volume in it, by the volume's own structures.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_format::resize::Resized;
use keel_format::{Deleted, Extent, Geometry, NodeKind, Severity, Volume, VolumeKind, check};
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, Window, counted, size_decimal};

use super::Size;
use super::draft::Draft;
use super::entry::{Content, Drafted, NotDrafted};
use super::step::Step;
use crate::edit::{Belongs, Edit, Intent, Order};
use crate::job::Cancel;

/// How often a size is tried that a volume says it could have, each a little larger than the one before.
const TRIES: u64 = 24;
/// The part of a volume by which it is larger.
const PART: u64 = 64;
/// Bytes of a file that are compared at once.
const PIECE: usize = 1 << 20;

/// A volume that gets another length.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Fitted {
    /// Number of its entry.
    pub slot: u32,
    /// Its kind.
    pub kind: VolumeKind,
    /// Bytes that it had.
    pub before: u64,
    /// Its ground then.
    pub range: ByteRange,
    /// Bytes of content that move.
    pub moved: u64,
    /// How it is looked into now.
    #[serde(skip)]
    pub was: Geometry,
    /// How it is looked into then.
    #[serde(skip)]
    pub geometry: Geometry,
}

impl Fitted {
    /// What becomes of it, as a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let [before, after, moved] = [self.before, self.geometry.bytes(), self.moved].map(size_decimal);
        let how = if self.geometry.bytes() > self.before { "grows" } else { "shrinks" };
        let moves = if self.moved > 0 { format!("; {moved} of its content move") } else { "; none of its content moves".into() };
        format!("the {} of entry {} {how} from {before} to {after}{moves}", self.kind.word(), self.slot)
    }
}

impl Draft {
    /// Sectors up to which an entry may reach: to the next one, or to the end of what the table can state.
    fn reach(&self, at: usize) -> u64 {
        let Some(own) = self.entries.get(at) else { return 0 };
        let starts = self.entries.iter().map(Drafted::claim).map(|claim| claim.start);
        starts.filter(|start| *start >= own.ground().end).min().unwrap_or(self.usable().end).max(own.ground().end)
    }

    /// The volume that stands in the entry of a step.
    fn standing(&self, number: u32) -> Result<(usize, Geometry), NotDrafted> {
        let at = if self.scheme.is_none() && number == 1 && !self.entries.is_empty() { 0 } else { self.entry(number)? };
        let entry = self.entries.get(at);
        let geometry = entry.filter(|entry| entry.content == Content::Stands).and_then(|entry| entry.stands.clone());
        let wrong = || {
            NotDrafted(format!("no volume that is known stands in entry {number}: there is nothing that could grow or shrink"))
        };
        geometry.map(|geometry| (at, geometry)).ok_or_else(wrong)
    }

    /// Makes an entry and the volume in it longer.
    pub(super) fn grow(&mut self, number: u32, size: Size) -> Result<(), NotDrafted> {
        let (at, geometry) = self.standing(number)?;
        let reach = self.reach(at);
        let (drive, sector, align) = (self.drive, self.sector, self.align);
        let entry = self.entries.get(at).ok_or_else(|| NotDrafted(format!("there is no entry {number}")))?;
        let (first, own) = (entry.first.0, entry.sectors.0);
        let room = reach - first;
        let whole = |sectors: u64| size_decimal(sectors * sector.bytes());
        let wanted = match size {
            Size::Least => return Err(NotDrafted("a volume grows to a size, or into the rest of what is free behind it".into())),
            // The end of the free ground, in whole steps of alignment.
            Size::Rest => ((reach / align * align).saturating_sub(first)).max(own),
            size => size
                .sectors(drive, sector)
                .unwrap_or(own)
                .next_multiple_of(align)
                .min(room.max(own))
                .max(size.sectors(drive, sector).unwrap_or(own)),
        };
        if wanted > room {
            return Err(NotDrafted(format!(
                "entry {number} cannot grow to {}: {} are free behind it, so {} at the most",
                whole(wanted),
                whole(room - own),
                whole(room)
            )));
        }
        if wanted * sector.bytes() <= geometry.bytes() {
            let has = size_decimal(geometry.bytes());
            let free = whole(room - own);
            return Err(NotDrafted(format!(
                "entry {number} does not grow: its volume has {has} already, and {free} are free behind it"
            )));
        }
        self.fit(at, wanted)
    }

    /// Makes an entry and the volume in it shorter.
    pub(super) fn shrink(&mut self, number: u32, size: Size) -> Result<(), NotDrafted> {
        let (at, geometry) = self.standing(number)?;
        let (drive, sector, align) = (self.drive, self.sector, self.align);
        let wanted = match size {
            Size::Rest | Size::Least => {
                return Err(NotDrafted("a volume shrinks to a size, or to the least that its content allows".into()));
            }
            size => size.sectors(drive, sector).unwrap_or(0),
        };
        let own = self.entries.get(at).map_or(0, |entry| entry.sectors.0);
        // What is cut off begins at a step of alignment, where that is no longer than the volume.
        let first = self.entries.get(at).map_or(0, |entry| entry.first.0);
        let aligned = (first + wanted).next_multiple_of(align) - first;
        let wanted = if aligned < own { aligned } else { wanted };
        if wanted * sector.bytes() >= geometry.bytes() || wanted > own {
            let has = size_decimal(geometry.bytes());
            return Err(NotDrafted(format!(
                "entry {number} does not shrink to {}: its volume has {has}",
                size_decimal(wanted * sector.bytes())
            )));
        }
        self.fit(at, wanted)
    }

    fn fit(&mut self, at: usize, sectors: u64) -> Result<(), NotDrafted> {
        let has_table = self.scheme.is_some();
        self.changed(at, |entry| {
            if has_table {
                entry.sectors.0 = sectors;
            }
            entry.fits = Some(sectors);
            Ok(Vec::new())
        })
    }
}

/// The step with the least size as a number, where it asks for that: what the volume on the drive can be made to take.
///
/// # Errors
/// [`NotDrafted`] where its structures do not tell it.
pub fn settled(source: &SharedSource, draft: &Draft, step: &Step) -> Result<Step, NotDrafted> {
    let Step::Shrink(number, Size::Least) = step else { return Ok(step.clone()) };
    let (at, geometry) = draft.standing(*number)?;
    let Some(entry) = draft.entries.get(at) else { return Ok(step.clone()) };
    let window: SharedSource = Arc::new(Window::new(SharedSource::clone(source), entry.range(draft.sector)));
    whole(&window, &geometry, *number)?;
    let said = |why: keel_format::resize::NotResized| NotDrafted(format!("entry {number}: {why}"));
    let least = geometry.least(&window).map_err(said)?;
    let (sector, align) = (draft.sector.bytes(), draft.align);
    let first = entry.first.0;
    let mut last = None;
    for index in 0..TRIES {
        let bytes = least.saturating_add(geometry.bytes() / PART * index);
        let sectors = (first + bytes.div_ceil(sector)).next_multiple_of(align) - first;
        if sectors * sector >= geometry.bytes() {
            break;
        }
        match geometry.resized(&window, sectors * sector) {
            Ok(_) => return Ok(Step::Shrink(*number, Size::Bytes(sectors * sector))),
            Err(why) => last = Some(why),
        }
    }
    let none = || NotDrafted(format!("entry {number} does not shrink: its content takes {} already", size_decimal(least)));
    Err(last.map_or_else(none, said))
}

/// That a volume was closed and is whole: only then its own counts can be followed.
fn whole(window: &SharedSource, geometry: &Geometry, number: u32) -> Result<(), NotDrafted> {
    let word = geometry.kind().word();
    let volume = geometry
        .open(SharedSource::clone(window))
        .map_err(|why| NotDrafted(format!("the {word} of entry {number} does not open: {why}")))?;
    if !volume.left_open().is_empty() {
        return Err(NotDrafted(format!(
            "the {word} of entry {number} was not closed: mount it and close it, or mend it, before it grows or shrinks"
        )));
    }
    let wrong = check::check(volume.as_ref())
        .into_iter()
        .flat_map(|rule| rule.findings)
        .find(|finding| finding.severity > Severity::Note);
    match wrong {
        Some(wrong) => Err(NotDrafted(format!("the {word} of entry {number} is not whole ({}): mend it first", wrong.what))),
        None => Ok(()),
    }
}

/// The ground of an entry as it was and as it becomes.
fn both(entry: &Drafted, draft: &Draft) -> Option<(ByteRange, u64)> {
    let sectors = entry.fits?;
    let bytes = sectors * draft.sector.bytes();
    let start = entry.first.offset(draft.sector);
    let was = entry.stands.as_ref().map_or(0, Geometry::bytes);
    let longest = bytes.max(was).max(entry.sectors.bytes(draft.sector));
    Some((ByteRange::sized(start, longest), bytes))
}

/// The edits of the volume in an entry that gets another length; they rest on those of `table`.
///
/// # Errors
/// [`NotDrafted`] where the volume is not whole, or its structures do not allow it.
pub(super) fn stage(
    source: &SharedSource,
    draft: &Draft,
    entry: &Drafted,
    table: &[String],
) -> Result<Option<(Fitted, Vec<Edit>)>, NotDrafted> {
    let (Some((ground, bytes)), Some(geometry)) = (both(entry, draft), &entry.stands) else { return Ok(None) };
    let number = entry.number.unwrap_or(entry.slot);
    let ground = ByteRange::new(ground.start, ground.end.min(ByteOffset(source.len())));
    let window: SharedSource = Arc::new(Window::new(SharedSource::clone(source), ground));
    whole(&window, geometry, number)?;
    let resized = geometry.resized(&window, bytes).map_err(|why| NotDrafted(format!("entry {number}: {why}")))?;
    let Resized { geometry: becomes, parts, moved } = resized;
    let range = ByteRange::sized(ground.start, bytes);
    let fitted = Fitted {
        slot: entry.slot,
        kind: geometry.kind(),
        before: geometry.bytes(),
        range,
        moved,
        was: geometry.clone(),
        geometry: becomes,
    };
    let group = format!("length/{} {}", entry.slot, geometry.kind().word());
    let belongs = Belongs { group, needs: table.to_vec() };
    let reason = fitted.sentence();
    let edit = |part: keel_format::make::Part| {
        let at = ground.start + part.at.0;
        let mut before = vec![0; part.bytes.held().map_or(0, <[u8]>::len)];
        if source.read_at(at, &mut before).is_err() {
            before.clear();
        }
        Edit {
            structure: format!("{} {}", geometry.kind().word(), part.what),
            at_byte: at,
            before,
            after: part.bytes,
            intent: Intent::Repair,
            belongs: belongs.clone(),
            order: if part.is_copy { Order::Copy } else { Order::Primary },
            reason: reason.clone(),
        }
    };
    Ok(Some((fitted.clone(), parts.into_iter().map(edit).collect())))
}

/// What stands against a volume that gets another length, by a look at every file of it in `source` and in the drive as it would be:
/// the same files, and the same bytes wherever anything of a file moves or is written over.
pub(super) fn against(
    source: &SharedSource,
    view: &SharedSource,
    fitted: &Fitted,
    edits: &[Edit],
    cancel: &Cancel,
) -> Vec<String> {
    let name = format!("the {} of entry {}", fitted.kind.word(), fitted.slot);
    let window = |source: &SharedSource, bytes: u64| -> SharedSource {
        Arc::new(Window::new(SharedSource::clone(source), ByteRange::sized(fitted.range.start, bytes)))
    };
    let (now, then) = (window(source, fitted.before), window(view, fitted.range.len()));
    let (now, then) = match (fitted.was.open_until(now, cancel), fitted.geometry.open_until(then, cancel)) {
        (Ok(now), Ok(then)) => (now, then),
        (Err(why), _) => return vec![format!("{name} does not open: {why}")],
        (_, Err(why)) => return vec![format!("{name} would not open: {why}")],
    };
    let wrong =
        check::check(then.as_ref()).into_iter().flat_map(|rule| rule.findings).find(|finding| finding.severity > Severity::Note);
    if let Some(wrong) = wrong {
        return vec![format!("{name} would not be whole: {}", wrong.what)];
    }
    let (before, after) = match (files(now.as_ref()), files(then.as_ref())) {
        (Ok(before), Ok(after)) => (before, after),
        (Err(why), _) | (_, Err(why)) => return vec![format!("the files of {name} cannot be listed: {why}")],
    };
    if before.len() != after.len() {
        let [was, becomes] = [before.len(), after.len()].map(|count| counted(count, "file", "files"));
        return vec![format!("{name} lists {was} and would list {becomes}")];
    }
    let written: RangeSet = edits.iter().map(Edit::range).collect();
    let is_written = |extent: &Extent| {
        let Some(at) = extent.volume_at else { return false };
        let range = ByteRange::sized(fitted.range.start + at.0, extent.bytes);
        written.lacking(range).iter().map(|left| left.len()).sum::<u64>() < range.len()
    };
    for (path, file) in &before {
        if cancel.is_cancelled() {
            break;
        }
        let Some(other) = after.get(path) else {
            return vec![format!("{path} of {name} would not be there")];
        };
        let untouched = file.extents == other.extents && !file.extents.is_empty() && !file.extents.iter().any(is_written);
        if file.is_other_than(other) || !(untouched || same((now.as_ref(), file), (then.as_ref(), other))) {
            return vec![format!("{path} of {name} would not read as it does")];
        }
    }
    Vec::new()
}

/// What a volume lists under a path.
struct File {
    id: keel_format::NodeId,
    kind: NodeKind,
    bytes: u64,
    extents: Vec<Extent>,
}

impl File {
    /// A folder is what it lists: its own bytes name the places of what moves.
    fn is_other_than(&self, other: &Self) -> bool {
        self.kind != other.kind || self.kind != NodeKind::Directory && self.bytes != other.bytes
    }
}

fn files(volume: &dyn Volume) -> Result<BTreeMap<String, File>, keel_format::FormatError> {
    let mut files = BTreeMap::new();
    let mut twice = 0u64;
    volume.walk(Deleted::Hide, &mut |found| {
        let entry = found.entry;
        let extents = if entry.kind == NodeKind::File { volume.extents(entry.id).unwrap_or_default() } else { Vec::new() };
        let mut path = found.path();
        // Damaged folders may hold a name twice: none of them is left out.
        if files.contains_key(&path) {
            twice += 1;
            path = format!("{path}\u{0}{twice}");
        }
        files.insert(path, File { id: entry.id, kind: entry.kind, bytes: entry.bytes, extents });
        ControlFlow::Continue(())
    })?;
    Ok(files)
}

/// True when both read the same, or neither reads.
fn same((now, file): (&dyn Volume, &File), (then, other): (&dyn Volume, &File)) -> bool {
    let (id, other) = (file.id, other.id);
    let (Ok(mut one), Ok(mut two)) = (now.streams(id), then.streams(other)) else {
        return now.streams(id).is_err() == then.streams(other).is_err();
    };
    if file.kind == NodeKind::Directory {
        [&mut one, &mut two].into_iter().for_each(|streams| streams.retain(|stream| !stream.name.is_empty()));
    }
    one == two
        && one.iter().all(|stream| {
            let (one, two) = (now.open(id, &stream.name), then.open(other, &stream.name));
            match (one, two) {
                (Ok(mut one), Ok(mut two)) => {
                    let (mut here, mut there) = (vec![0; PIECE], vec![0; PIECE]);
                    (0..stream.bytes).step_by(PIECE).all(|at| {
                        let len = usize::try_from(stream.bytes - at).unwrap_or(PIECE).min(PIECE);
                        let (here, there) = (here.get_mut(..len).unwrap_or_default(), there.get_mut(..len).unwrap_or_default());
                        one.read(at, here) == two.read(at, there) && here == there
                    })
                }
                (one, two) => one.is_err() && two.is_err(),
            }
        })
}
