//! Ground that the files of sound volumes hold: nothing on it is adrift.

use keel_source::{RangeSet, SharedSource};

use crate::files;
use crate::find::Find;
use crate::job::Cancel;

/// The ground of `source` that volumes count as used, without what their formatters set aside and did not clear, and what their files
/// leave of their last clusters: what stood there before may stand there still. A volume that does not open, that was not closed, or that
/// does not tell what it uses holds nothing here: what it counts as free may be in use, and the other way round.
#[must_use]
pub fn held(source: &SharedSource, finds: &[Find], cancel: &Cancel) -> RangeSet {
    let of = |find: &Find| {
        let volume = files::open(source, find).ok().filter(|volume| !cancel.is_cancelled() && volume.left_open().is_empty())?;
        let own = files::used_by(source, find, Some(volume.as_ref()));
        Some(own.used?.ranges().iter().flat_map(|range| own.set_aside.lacking(*range)).collect::<Vec<_>>())
    };
    finds.iter().filter(|find| find.is_outer()).filter_map(of).flatten().collect()
}
