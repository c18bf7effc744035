//! Ground that the files of sound volumes hold: nothing on it is adrift.

use std::sync::Arc;

use keel_source::{ByteRange, RangeSet, SharedSource, Window};

use crate::files;
use crate::find::Find;
use crate::job::Cancel;

/// The ground of `source` that volumes count as used, without what their formatters set aside and did not clear, and what their files leave of
/// their last clusters. A volume that does not
/// open, that was not closed, or that does not tell what it uses holds nothing here: what it counts as free may be in use, and the
/// other way round.
#[must_use]
pub fn held(source: &SharedSource, finds: &[Find], cancel: &Cancel) -> RangeSet {
    let mut all = Vec::new();
    for find in finds.iter().filter(|find| find.is_outer()) {
        if cancel.is_cancelled() {
            break;
        }
        let Ok(volume) = files::open(source, find) else { continue };
        if !volume.left_open().is_empty() {
            continue;
        }
        let Some(allocation) = volume.allocation() else { continue };
        let on_drive = |range: ByteRange| ByteRange::sized(find.start_byte + range.start.0, range.len());
        let mut used: Vec<ByteRange> = allocation.used().iter().map(|units| on_drive(allocation.range(units))).collect();
        // What stands before the first unit is the volume's own.
        used.push(ByteRange::sized(find.start_byte, allocation.first_at.0));
        let own: RangeSet = used.into_iter().collect();
        // What its formatter set aside and did not clear, and what its files leave of their last clusters, may hold what stood there before.
        let window: SharedSource = Arc::new(Window::new(SharedSource::clone(source), find.range()));
        let aside = find.geometry.set_aside(window);
        let slack = files::slack(volume.as_ref());
        let free: RangeSet = aside.ranges().iter().copied().chain(slack).map(on_drive).collect();
        all.extend(own.ranges().iter().flat_map(|range| free.lacking(*range)));
    }
    all.into_iter().collect()
}
