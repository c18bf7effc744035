//! Going to a place that is typed.

use keel_core::place;
use keel_source::ByteOffset;

use super::Walk;
use super::state::{jump_to, move_to};
use crate::app::effect::{Effect, Effects, show};
use crate::popup::Ask;
use crate::stage::Drive;

/// What may be typed.
const HOW: &str = "A byte (1048576, 0x100000, 1.5 GB, 64 MiB), a sector (lba 2048), or a share of the drive (37.5 %).";

/// Asks for a place and walks there.
pub(crate) fn ask_place(_drive: &mut Drive) -> Effects {
    vec![ask(|at| vec![move_to(at), Effect::Over(Box::new(Walk))])]
}

/// Asks for a place and shows its bytes; the bytes lie open already.
pub(super) fn ask_jump() -> Effect {
    ask(jump_to)
}

fn ask(then: fn(ByteOffset) -> Effects) -> Effect {
    Effect::Over(Box::new(Ask::new("Go to a place", HOW, "", move |app, line| {
        let Some(drive) = &app.drive else { return Vec::new() };
        match place::named(line, drive.source.len(), drive.source.sector_size()) {
            Ok(at) => then(at),
            Err(wrong) => vec![show("No such place", wrong.to_string())],
        }
    })))
}
