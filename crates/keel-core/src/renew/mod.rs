//! Renew: a drive made ready for use again. A [`Draft`] is the table as it shall be, changed a [`Step`] at a time; [`stage`] makes edits
//! of it, [`gate`] says what would be lost, [`proof`] looks into the drive as it would be. The plan writes and undoes them as any other.

mod asked;
mod convert;
mod draft;
mod entry;
mod fit;
mod flags;
mod gate;
mod proof;
mod recipe;
mod size;
mod stage;
mod step;
mod take;
pub mod which;

pub use asked::{ENTRY_WORDS, TABLE_WORDS, of_entry, of_line, of_table};
pub use draft::Draft;
pub use entry::{Content, Drafted, NotDrafted};
pub use fit::{Fitted, settled};
pub use flags::of as flags_of;
pub use gate::{GIVE_UP, Gate, Lost, gate};
pub use proof::{Proved, again, prove};
pub use recipe::{OwnRecipe, RECIPES, Recipe, Way};
pub use size::{Size, SizeWrong};
pub use stage::{Beside, Made, Staged, stage};
pub use step::{Flag, NewTable, Step, StepWrong, Wish, flags as flags_typed, kind_word, makeable, numbered};

use keel_source::{LinkKind, SharedSource};

/// Bytes of a step of alignment, where the drive asks for nothing else.
pub const ALIGN: u64 = 1 << 20;

/// Bytes of a step of alignment on `source`: [`ALIGN`], or what the drive's optimal input and output and erase size ask for.
#[must_use]
pub fn align_of(source: &SharedSource) -> u64 {
    let path = source.identity().path.as_deref().filter(|_| source.identity().link == LinkKind::BlockDevice);
    path.map_or(ALIGN, |path| keel_source::alignment_of(path, ALIGN))
}
