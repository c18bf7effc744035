//! Files that no volume holds: known by their content, measured by their own structure.
//!
//! A *start* is a place where a file of some kind may begin ([`Starts`], looked for sector by sector). The kind's reader walks the file's
//! structure from there on ([`judge`]) and says how long it is and how far that is proven. Nothing is believed: every offset and length is
//! held against the ground that the file may take, and what a reader reads is bounded.

mod archive;
mod data;
mod date;
mod document;
mod film;
mod judged;
mod kind;
mod look;
mod picture;
mod sound;
mod start;
mod walk;

pub use film::{Outline, Sample, outline};
pub use judged::{Facts, Judged, State};
pub use kind::{KINDS, Kind, KindId, Sort, words};
pub use look::{Looked, judge, proves_itself};
pub use start::{MOST_STARTS, Start, Starts};
pub use walk::{Broken, Ground, Landmark, Step, Walk};
