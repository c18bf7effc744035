//! What the kinds that are recognised and not read have in common.

use crate::kind::{Holds, KeptOfDeleted, KindFacts, MbrTypes, Promise};
use crate::table::gpt::BASIC_DATA;

/// Why an encrypted volume is closed.
pub(super) const ENCRYPTED: &str = "the volume is encrypted: it opens with its key, once its entry is back";
/// Why most of these kinds are closed.
pub(super) const NOT_READ: &str = "volumes of this kind are recognised, with start and length, and not read yet";

/// A kind that is recognised and not read; what differs is said by each.
pub(super) const CLOSED: KindFacts = KindFacts {
    word: "",
    letters: "",
    texture: "▒▒",
    mbr: MbrTypes::new(0x07, &[]),
    gpt: (BASIC_DATA, &[]),
    apm: &[],
    promised: Promise::None,
    drivers: &[],
    alike: &[],
    closed: Some(NOT_READ),
    deleted: KeptOfDeleted::NOTHING,
    uncut: "what such a volume holds cannot be told: it cannot be cut here",
    holds: Holds::Files,
    make: None,
    resize: None,
};
