//! The stages' own work views: each draws the middle and says what stands in *why*.

mod compare;
mod copy;
mod fathom;
pub(crate) mod files;
mod intake;
mod ladder;
mod mend;
mod outlook;
mod plan;
mod proof;
mod settled;
mod sweep;
mod yard;

use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

use crate::app::App;
use crate::keymap::Stage;
use crate::widget::{Parts, rule};

/// Draws the middle and the right side of the stage.
pub(crate) fn draw(app: &App, parts: &Parts, buf: &mut Buffer) {
    rule(buf, parts.middle, app.theme.line());
    let why = match app.stage {
        Stage::Yard => yard::draw(app, parts.middle, buf),
        Stage::Ladder => ladder::draw(app, parts.middle, buf),
        Stage::Copy => copy::draw(app, parts.middle, buf),
        Stage::Fathom => fathom::draw(app, parts.middle, buf),
        Stage::Sweep => sweep::draw(app, parts.middle, buf),
        Stage::Mend => mend::draw(app, parts.middle, buf),
        Stage::Files => files::draw(app, parts.middle, buf),
        Stage::Plan => plan::draw(app, parts.middle, buf),
    };
    why.draw(app.theme, parts.why, buf);
}

/// A click into the middle.
pub(crate) fn click(app: &mut App, area: Rect, at: Position) {
    let (x, y) = (at.x - area.x, at.y - area.y);
    match app.stage {
        Stage::Yard => yard::click(app, area, y),
        Stage::Copy | Stage::Fathom => {}
        Stage::Ladder => ladder::click(app, area, x, y),
        Stage::Sweep => sweep::click(app, area, x, y),
        Stage::Mend => {
            let Some(drive) = &mut app.drive else { return };
            if let Some(item) = mend::item_at(drive, area, at.y) {
                (drive.mend.row, drive.mend.field) = (item, None);
            } else if let Some((field, take)) = mend::field_at(drive, area, (at.x, at.y)) {
                // A first click selects the field, a second one on a column takes it from there.
                let again = drive.mend.field == Some(field);
                drive.mend.field = Some(field);
                if let Some(take) = take.filter(|_| again)
                    && drive.mend.take(take)
                {
                    drive.settle();
                }
            }
        }
        Stage::Files => files::click(app, area, x, y),
        Stage::Plan => plan::click(app, area, y),
    }
}

/// What a stage shows, for its help.
pub(crate) fn about(stage: Stage) -> &'static str {
    match stage {
        Stage::Yard => {
            "The drives on the bench, with what their owners told. Below stands the case of the selected one: what the client sees, error messages as pasted and the rungs they may come from, the checks made outside the computer, and the cheapest one that still tells something. Open a drive to see which of its rungs hold."
        }
        Stage::Ladder => {
            "The base is the drive, rung 1 to 5; each volume stands on it with rungs 6 to 9 of its own. A whole rung is sound, a thinned one doubtful, one with a gap in the middle is broken, a dotted one was not tested. Start at the lowest broken rung."
        }
        Stage::Copy => {
            "An image of a sick drive, sound parts first: large reads, then the edges of what failed, then what lies between, then once more. It can rest, be stopped, and gone on with. What did not come over is unreadable in the copy, never zeros. When it is there, w goes over to it and every stage works on the copy."
        }
        Stage::Fathom => {
            "How much the drive can really store: the address that was written against the address that was read there. An honest drive is the diagonal; one that leads back shows teeth, one that drops shows nothing behind its end. A probe writes to chosen places and puts back what stood there; a fill writes everything."
        }
        Stage::Sweep => {
            "The volumes that were found, on the keel's own scale: two that stand side by side claim the same ground. Below the list stands the layout that the evidence settles on, and why each find is in it or left out. Hold or drop finds; the rest is solved anew at once."
        }
        Stage::Mend => {
            "Each structure of the volume that stands twice, in three columns: main, copy, and computed from what the volume itself says, field by field with the witness for each. Below them the rules of the check. The evidence chooses where each is taken from; take another version for a structure or for a single field. All of it becomes edits of the plan; nothing here writes."
        }
        Stage::Files => {
            "The files of a volume or find, read without its boot sector where that is gone. Look at texts, pictures and bytes, and take files out: the manifest beside them holds length, hashes and state of each."
        }
        Stage::Plan => {
            "Every staged edit, byte by byte and in plain words, and the ladder as it is beside the ladder as it would be. Applying saves what stood there, writes copies before primaries, flushes, reads back and compares. It can be undone, also after a crash half-way."
        }
    }
}
