//! Files: looking into a volume, and taking files out, verified.

mod extract;
mod ground;
mod lost;
mod name;
mod path;

#[cfg(test)]
mod tests;

pub use extract::{ExtractProgress, Extracted, ManifestEntry, Outcome, Part, extract, extract_judged};
pub use ground::{FileGround, GroundJudge};
pub use lost::{Lost, take_lost};
pub use name::safe_component;
pub use path::{Resolved, entries, resolve};

use std::sync::Arc;

use keel_format::Volume;
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, Window};

use crate::CoreError;
use crate::sweep::Find;

/// The ground of an older generation that the present volumes use now, in bytes of the older volume; none for a find of the
/// present. What a present volume does not tell of itself counts as used.
#[must_use]
pub fn taken(source: &SharedSource, finds: &[Find], find: &Find) -> Option<RangeSet> {
    if !find.is_former() {
        return None;
    }
    let mut taken = RangeSet::default();
    for present in finds.iter().filter(|present| present.is_outer() && present.range().overlap(find.range()).is_some()) {
        let allocation = open(source, present).ok().and_then(|volume| volume.allocation());
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
    Some(taken)
}

/// Adds ground of the drive to `taken`, in bytes of the volume of `find`.
fn add(taken: &mut RangeSet, range: ByteRange, find: &Find) {
    if let Some(part) = range.overlap(find.range()) {
        taken.add(ByteRange::sized(ByteOffset(part.start - find.start_byte), part.len()));
    }
}

/// Opens the volume of a find for looking into it.
///
/// # Errors
/// [`CoreError::Format`] when its core metadata cannot be read.
pub fn open(source: &SharedSource, find: &Find) -> Result<Arc<dyn Volume>, CoreError> {
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), find.range()));
    if let Some(why) = find.kind.why_closed() {
        return Err(CoreError::Nothing(why));
    }
    Ok(Arc::from(find.geometry.open(window)?))
}
