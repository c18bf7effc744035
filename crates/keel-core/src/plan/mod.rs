//! The plan: staged edits, applied under safety rules and undone from a bundle.

mod apply;
mod recover;

#[cfg(test)]
mod tests;

pub use crate::bundle::{
    BUNDLE_VERSION, Bundle, BundleRange, Condition, MAGIC, ReadNow, Side, TRAILER, condition, condition_of, interrupted,
};
pub use crate::leave::Confirmation;
pub(crate) use apply::WRITTEN;
pub use apply::{Applied, ApplyOptions, Step, apply, bundle_place, save_as};
pub use recover::{Direction, recover, recover_target, source_of};

use std::sync::Arc;

use keel_source::SharedSource;
use serde::Serialize;

use crate::edit::Edit;

/// All staged edits of one drive.
#[derive(Debug, Clone, Serialize)]
pub struct Plan {
    /// The edits, in the order in which they are written.
    pub edits: Arc<[Edit]>,
    /// The confirmation code of the drive.
    pub code: String,
    /// True when the drive fails reads: it is to be copied first.
    pub copy_first: bool,
    /// What would stand lower by it than it does now: such a plan is not applied.
    pub lowers: Vec<String>,
    /// The words that have to be typed before it is applied: something is lost by it.
    pub words: Option<&'static str>,
}

impl Plan {
    /// A plan of `edits` for `source`; `copy_first` when its reads fail, which does not count where it is a copy itself.
    #[must_use]
    pub fn new(source: &SharedSource, edits: impl Into<Arc<[Edit]>>, copy_first: bool) -> Self {
        Self {
            edits: edits.into(),
            code: source.identity().code(),
            copy_first: copy_first && source.missing().is_empty(),
            lowers: Vec::new(),
            words: None,
        }
    }

    /// The same plan, of which it is known what would stand lower by it.
    #[must_use]
    pub fn lowering(mut self, lowers: Vec<String>) -> Self {
        self.lowers = lowers;
        self
    }

    /// The same plan, which wants these words.
    #[must_use]
    pub fn wanting(mut self, words: Option<&'static str>) -> Self {
        self.words = words;
        self
    }

    /// Bytes that it changes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.edits.iter().map(|edit| edit.after.len()).sum()
    }
}
