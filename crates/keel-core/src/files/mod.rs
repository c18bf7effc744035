//! Files: looking into a volume, and taking files out, verified.

mod about;
mod content;
mod extract;
mod ground;
mod lost;
mod manifest;
mod name;
mod path;
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
pub(crate) use name::numbered;
pub use name::safe_component;
pub use path::{Resolved, entries, resolve};
pub use query::{Query, QueryWrong};
pub use search::{Hit, Hits, Weight, search, weigh};
pub use sort::Sort;

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
    let Taken { used: mut taken, mut set_aside } = Taken::default();
    for present in finds.iter().filter(|present| present.is_outer() && present.range().overlap(find.range()).is_some()) {
        let window: SharedSource = Arc::new(Window::new(Arc::clone(source), present.range()));
        for aside in present.geometry.set_aside(window).ranges() {
            add(&mut set_aside, ByteRange::sized(present.start_byte + aside.start.0, aside.len()), find);
        }
        let volume = open(source, present).ok();
        for slack in volume.iter().flat_map(|volume| slack(volume.as_ref())) {
            add(&mut set_aside, ByteRange::sized(present.start_byte + slack.start.0, slack.len()), find);
        }
        let allocation = volume.and_then(|volume| volume.allocation());
        let Some(allocation) = allocation else {
            add(&mut taken, present.range(), find);
            continue;
        };
        // What stands before the first unit is the volume's own.
        add(&mut taken, ByteRange::sized(present.start_byte, allocation.first_at.0), find);
        for units in allocation.used() {
            let range = allocation.range(&units);
            add(&mut taken, ByteRange::sized(present.start_byte + range.start.0, range.len()), find);
        }
    }
    Some(Taken { used: taken, set_aside })
}

/// What files leave of their last clusters, in bytes of the volume: drivers write no further than a file goes.
pub(crate) fn slack(volume: &dyn Volume) -> Vec<ByteRange> {
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
