//! Files: looking into a volume, and taking files out, verified.

mod extract;
mod ground;
mod lost;
mod name;
mod path;

#[cfg(test)]
mod tests;

pub use extract::{ExtractProgress, Extracted, ManifestEntry, Outcome, Part, extract};
pub use ground::{FileGround, GroundJudge};
pub use lost::{Lost, take_lost};
pub use name::safe_component;
pub use path::{Resolved, entries, resolve};

use std::sync::Arc;

use keel_format::Volume;
use keel_source::{SharedSource, Window};

use crate::CoreError;
use crate::sweep::Find;

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
