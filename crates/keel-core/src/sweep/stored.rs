//! Volumes on a drive that stores less than it claims: those whose used ground lies before the true end are taken in what is
//! left for them, of the others it is told what survives.

use std::ops::ControlFlow;

use keel_format::{Deleted, Geometry, NodeKind};
use keel_source::{ByteOffset, SectorCount, SharedSource};

use crate::find::{Behind, Find};

/// The most files that are counted.
const MOST_FILES: u64 = 200_000;

/// Why nothing is fitted where the rest may be somewhere.
const CUT_SHORT: &str = "an image that was cut short, or a drive that does not show all of itself; its entry stays as it is";

/// Tells of `finds` that reach behind the end what survives. On a drive that was shown to store less than it claims they
/// are fitted to it where that can be done; what is shorter for another reason (an image that was cut, a capacity that is
/// clipped) is left as it is: its rest may be somewhere.
pub(super) fn fit(source: &SharedSource, finds: &mut [Find]) {
    let is_nowhere = source.identity().bytes > source.len();
    let sector = source.sector_size().bytes();
    for find in finds.iter_mut().filter(|find| find.is_outer() && find.range().end.0 > source.len()) {
        let room = (ByteOffset(source.len()) - find.start_byte) / sector * sector;
        let missing_bytes = find.range().end.0 - source.len();
        let mut behind = Behind { made_bytes: find.bytes, missing_bytes, whole_files: 0, cut_files: 0, is_nowhere, why: None };
        match fitted(source, find, room, &mut behind) {
            Ok(geometry) if is_nowhere => {
                find.bytes = geometry.bytes();
                find.geometry = geometry;
                find.sectors = SectorCount(find.bytes.div_ceil(sector));
            }
            Err(why) if is_nowhere => behind.why = Some(why),
            Ok(_) | Err(_) => behind.why = Some(CUT_SHORT.into()),
        }
        find.behind = Some(behind);
    }
}

/// The geometry of `find` in `room` bytes, or why there is none. The files are counted either way.
fn fitted(source: &SharedSource, find: &Find, room: u64, behind: &mut Behind) -> Result<Geometry, String> {
    let volume =
        crate::find::open(source, find).map_err(|error| format!("it cannot be looked into: {}", crate::chain(&error)))?;
    let mut counted = 0;
    let walked = volume.walk(Deleted::Hide, &mut |found| {
        if found.entry.kind == NodeKind::Directory {
            return ControlFlow::Continue(());
        }
        let ends = volume.extents(found.entry.id).unwrap_or_default();
        let end = ends.iter().filter_map(|extent| Some(extent.volume_at?.0.saturating_add(extent.bytes))).max().unwrap_or(0);
        if end > room {
            behind.cut_files += 1;
        } else {
            behind.whole_files += 1;
        }
        counted += 1;
        if counted >= MOST_FILES { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    walked.map_err(|error| format!("it does not list: {}", crate::chain(&error)))?;
    let allocation = volume.allocation().ok_or("what it uses cannot be told")?;
    let used = allocation.used();
    let moves = |at: u64| at >= find.bytes.saturating_sub(find.geometry.moving_end());
    let beyond = used.iter().map(|units| allocation.range(units)).find(|range| range.end.0 > room && !moves(range.start.0));
    if let Some(range) = beyond {
        return Err(format!("ground that it uses lies behind the end, at byte {} of it", range.start.0.max(room)));
    }
    find.geometry.shortened(room).ok_or_else(|| find.kind.facts().uncut.into())
}
