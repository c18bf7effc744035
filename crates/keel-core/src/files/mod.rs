//! Files: looking into a volume, and taking files out, verified.

mod about;
mod content;
mod extract;
mod ground;
mod lost;
mod manifest;
mod name;
mod path;
pub(crate) mod put;
mod query;
mod search;
mod sort;
mod taken_before;

#[cfg(test)]
mod tests;

pub use crate::find::open;
pub use about::{About, Encoding, Listed, about, decoded};
pub use content::{Content, Form, Page, PageRow, ROW, page};
pub use extract::{ExtractProgress, take_out};
pub use ground::{FileGround, GroundJudge};
pub use lost::{Lost, take_lost};
pub use manifest::{Extracted, ManifestEntry, Outcome, Part, SortCount};
pub use name::safe_component;
pub use path::{Resolved, entries, resolve};
pub use query::{Query, QueryWrong, Tells, Told};
pub use search::{Hit, Hits, Weight, search, weigh};
pub use sort::Sort;
pub(crate) use taken_before::is_same;

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_format::{Deleted, NodeKind, Volume};
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, Window};

use crate::find::Find;

/// The most files of a present volume whose last clusters are looked at.
const MOST_SLACK: usize = 200_000;

/// Ground of an older generation that present volumes have now, in bytes of the older volume.
#[derive(Debug, Clone, Default)]
pub struct Taken {
    /// What they use. What a present volume does not tell of itself counts as used.
    pub used: RangeSet,
    /// The part of it that was set aside without being cleared, by their formatters or behind the ends of their files: what stood
    /// there may stand there still.
    pub set_aside: RangeSet,
}

/// The ground of an older generation that the present volumes have now; none for a find of the present.
#[must_use]
pub fn taken(source: &SharedSource, finds: &[Find], find: &Find) -> Option<Taken> {
    if !find.is_former() {
        return None;
    }
    let (mut used, mut set_aside) = (RangeSet::default(), RangeSet::default());
    for present in finds.iter().filter(|present| present.is_outer() && present.range().overlap(find.range()).is_some()) {
        let own = used_by(source, present, open(source, present).ok().as_deref());
        own.set_aside.ranges().iter().for_each(|aside| add(&mut set_aside, *aside, find));
        match own.used {
            Some(ranges) => ranges.ranges().iter().for_each(|range| add(&mut used, *range, find)),
            None => add(&mut used, present.range(), find),
        }
    }
    Some(Taken { used, set_aside })
}

/// What a present volume uses, in bytes of the drive.
pub(crate) struct UsedBy {
    /// What it counts as used, and what stands before its first unit; none where it does not tell.
    pub(crate) used: Option<RangeSet>,
    /// What its formatter set aside and did not clear, and what its files leave of their last clusters.
    pub(crate) set_aside: RangeSet,
}

/// What the find `present` uses; `volume` is what it opens as.
pub(crate) fn used_by(source: &SharedSource, present: &Find, volume: Option<&dyn Volume>) -> UsedBy {
    let on_drive = |range: ByteRange| ByteRange::sized(present.start_byte + range.start.0, range.len());
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), present.range()));
    let aside = present.geometry.set_aside(window);
    let slack = volume.map(slack).unwrap_or_default();
    let used = volume.and_then(Volume::allocation).map(|allocation| {
        let before = ByteRange::sized(ByteOffset(0), allocation.first_at.0);
        let units = allocation.used();
        units.iter().map(|units| allocation.range(units)).chain([before]).map(on_drive).collect()
    });
    UsedBy { used, set_aside: aside.ranges().iter().copied().chain(slack).map(on_drive).collect() }
}

/// What files leave of their last clusters, in bytes of the volume: drivers write no further than a file goes.
fn slack(volume: &dyn Volume) -> Vec<ByteRange> {
    let mut slack = Vec::new();
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        let of_file = found.entry.kind == NodeKind::File && found.entry.bytes > 0;
        let last = of_file.then(|| volume.extents(found.entry.id).ok()?.last().copied()).flatten();
        let range = last.and_then(|last| {
            let used = found.entry.bytes.checked_sub(last.stream_at).filter(|used| *used < last.bytes)?;
            Some(ByteRange::sized(last.volume_at? + used, last.bytes - used))
        });
        slack.extend(range);
        if slack.len() < MOST_SLACK { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    slack
}

/// Adds ground of the drive to `taken`, in bytes of the volume of `find`.
fn add(taken: &mut RangeSet, range: ByteRange, find: &Find) {
    if let Some(part) = range.overlap(find.range()) {
        taken.add(ByteRange::sized(ByteOffset(part.start - find.start_byte), part.len()));
    }
}
