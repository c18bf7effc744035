//! The drive as it was before the plans that were applied to it, from what their undo bundles keep.

use std::sync::Arc;

use keel_source::{Overlay, SharedSource};

use crate::bundle::{Bundle, Condition, Side, condition};

/// The most bytes of one plan that are laid over a drive to show it as it was.
const MOST_LAID: u64 = 256 << 20;

/// The drive as it was.
pub(super) struct View {
    pub(super) source: SharedSource,
    /// Places that were written since.
    pub(super) places: u64,
}

/// The drive with what stood there before; none where nothing was applied that still stands, or it is too much. `bundles`: oldest first.
pub(super) fn view(source: &SharedSource, bundles: &[Bundle]) -> Option<View> {
    let (mut view, mut places) = (None, 0);
    // The last one first: what it put there is what stands, and what it found is what the one before it left.
    for bundle in bundles.iter().rev().filter(|bundle| bundle.is_of(source)) {
        let stands = view.as_ref().unwrap_or(source);
        if !condition(stands, bundle).is_ok_and(|condition| condition == Condition::Applied) {
            continue;
        }
        if bundle.ranges.iter().map(|range| range.bytes).sum::<u64>() > MOST_LAID {
            return None;
        }
        let mut overlay = Overlay::new(SharedSource::clone(stands));
        for range in &bundle.ranges {
            overlay.lay(range.at, &range.all(Side::Former).ok()?);
        }
        places += u64::try_from(bundle.ranges.len()).unwrap_or(u64::MAX);
        view = Some(Arc::new(overlay) as SharedSource);
    }
    view.map(|source| View { source, places })
}
