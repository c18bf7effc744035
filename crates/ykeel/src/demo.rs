//! The demo yard: packed drives of the Brackwater Line, laid out into a folder.

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::Path;

use anyhow::Context;
use keel_source::pack;

use crate::app;
use crate::out::say;

/// The drives: name of the image, and its pack.
const IMAGES: &[(&str, &[u8])] = &[
    ("purser-stick.img", PURSER_STICK),
    ("ticket-office.img", include_bytes!("../../../demo/ticket-office.pack")),
    ("engine-log/surface.img", include_bytes!("../../../demo/engine-log.pack")),
    ("harbour-camera.img", include_bytes!("../../../demo/harbour-camera.pack")),
    ("winch-room/surface.img", include_bytes!("../../../demo/winch-room.pack")),
    ("galley.img", GALLEY),
    ("timetable-desk.img", include_bytes!("../../../demo/timetable-desk.pack")),
    ("chart-table.img", include_bytes!("../../../demo/chart-table.pack")),
    ("deckhand-laptop.img", include_bytes!("../../../demo/deckhand-laptop.pack")),
    ("backup-shelf.img", include_bytes!("../../../demo/backup-shelf.pack")),
    ("skipper-archive.img", include_bytes!("../../../demo/skipper-archive.pack")),
    ("stores-box.img", include_bytes!("../../../demo/stores-box.pack")),
    ("fleet-register.img", include_bytes!("../../../demo/fleet-register.pack")),
    ("harbour-office.img", include_bytes!("../../../demo/harbour-office.pack")),
    ("engine-spare.img", include_bytes!("../../../demo/engine-spare.pack")),
    ("lookout-camera.img", include_bytes!("../../../demo/lookout-camera.pack")),
    ("dry-dock.img", include_bytes!("../../../demo/dry-dock.pack")),
    ("wheelhouse.img", include_bytes!("../../../demo/wheelhouse.pack")),
    ("deck-camera.img", include_bytes!("../../../demo/deck-camera.pack")),
    ("linen-store.img", include_bytes!("../../../demo/linen-store.pack")),
    ("skipper-mirror.img", include_bytes!("../../../demo/skipper-mirror.pack")),
    ("deck-recorder.img", include_bytes!("../../../demo/deck-recorder.pack")),
    ("new-berth.img", include_bytes!("../../../demo/new-berth.pack")),
    ("lost-property.img", include_bytes!("../../../demo/lost-property.pack")),
    ("pilot-cutter.img", include_bytes!("../../../demo/pilot-cutter.pack")),
    ("tide-stick/surface.img", include_bytes!("../../../demo/tide-stick.pack")),
    ("bargain-stick/surface.img", include_bytes!("../../../demo/bargain-stick.pack")),
    // Sick drives with the surface of a sound one, or of one whose table is gone.
    ("mess-room/surface.img", PURSER_STICK),
    ("radio-room/surface.img", GALLEY),
    ("gangway/surface.img", GALLEY),
    ("boiler-room/surface.img", GALLEY),
];

/// Drives with the surface of another one have a disk signature of their own: byte 440 of an MBR, four bytes.
const SIGNATURES: &[(&str, [u8; 4])] =
    &[("radio-room/surface.img", *b"RAD1"), ("gangway/surface.img", *b"GNG1"), ("boiler-room/surface.img", *b"BLR1")];

/// The surface of the purser's stick.
const PURSER_STICK: &[u8] = include_bytes!("../../../demo/purser-stick.pack");
/// The surface of the galley's drive.
const GALLEY: &[u8] = include_bytes!("../../../demo/galley.pack");

/// Texts: notes as the client told them, and descriptions of simulated drives.
const TEXTS: &[(&str, &str)] = &[
    ("purser-stick.note.txt", include_str!("../../../demo/purser-stick.note.txt")),
    ("ticket-office.note.txt", include_str!("../../../demo/ticket-office.note.txt")),
    ("engine-log.note.txt", include_str!("../../../demo/engine-log.note.txt")),
    ("engine-log.drive.toml", include_str!("../../../demo/engine-log.drive.toml")),
    ("harbour-camera.note.txt", include_str!("../../../demo/harbour-camera.note.txt")),
    ("winch-room.note.txt", include_str!("../../../demo/winch-room.note.txt")),
    ("winch-room.drive.toml", include_str!("../../../demo/winch-room.drive.toml")),
    ("galley.note.txt", include_str!("../../../demo/galley.note.txt")),
    ("timetable-desk.note.txt", include_str!("../../../demo/timetable-desk.note.txt")),
    ("chart-table.note.txt", include_str!("../../../demo/chart-table.note.txt")),
    ("deckhand-laptop.note.txt", include_str!("../../../demo/deckhand-laptop.note.txt")),
    ("backup-shelf.note.txt", include_str!("../../../demo/backup-shelf.note.txt")),
    ("skipper-archive.note.txt", include_str!("../../../demo/skipper-archive.note.txt")),
    ("stores-box.note.txt", include_str!("../../../demo/stores-box.note.txt")),
    ("fleet-register.note.txt", include_str!("../../../demo/fleet-register.note.txt")),
    ("harbour-office.note.txt", include_str!("../../../demo/harbour-office.note.txt")),
    ("engine-spare.note.txt", include_str!("../../../demo/engine-spare.note.txt")),
    ("lookout-camera.note.txt", include_str!("../../../demo/lookout-camera.note.txt")),
    ("dry-dock.note.txt", include_str!("../../../demo/dry-dock.note.txt")),
    ("wheelhouse.note.txt", include_str!("../../../demo/wheelhouse.note.txt")),
    ("deck-camera.note.txt", include_str!("../../../demo/deck-camera.note.txt")),
    ("new-berth.note.txt", include_str!("../../../demo/new-berth.note.txt")),
    ("lost-property.note.txt", include_str!("../../../demo/lost-property.note.txt")),
    ("pilot-cutter.note.txt", include_str!("../../../demo/pilot-cutter.note.txt")),
    ("linen-store.note.txt", include_str!("../../../demo/linen-store.note.txt")),
    ("skipper-mirror.note.txt", include_str!("../../../demo/skipper-mirror.note.txt")),
    ("deck-recorder.note.txt", include_str!("../../../demo/deck-recorder.note.txt")),
    ("tide-stick.note.txt", include_str!("../../../demo/tide-stick.note.txt")),
    ("tide-stick.drive.toml", include_str!("../../../demo/tide-stick.drive.toml")),
    ("bargain-stick.note.txt", include_str!("../../../demo/bargain-stick.note.txt")),
    ("bargain-stick.drive.toml", include_str!("../../../demo/bargain-stick.drive.toml")),
    ("mess-room.note.txt", include_str!("../../../demo/mess-room.note.txt")),
    ("mess-room.drive.toml", include_str!("../../../demo/mess-room.drive.toml")),
    ("radio-room.note.txt", include_str!("../../../demo/radio-room.note.txt")),
    ("radio-room.drive.toml", include_str!("../../../demo/radio-room.drive.toml")),
    ("gangway.note.txt", include_str!("../../../demo/gangway.note.txt")),
    ("gangway.drive.toml", include_str!("../../../demo/gangway.drive.toml")),
    ("boiler-room.note.txt", include_str!("../../../demo/boiler-room.note.txt")),
    ("boiler-room.drive.toml", include_str!("../../../demo/boiler-room.drive.toml")),
    ("car-deck.note.txt", include_str!("../../../demo/car-deck.note.txt")),
    ("car-deck.drive.toml", include_str!("../../../demo/car-deck.drive.toml")),
];

/// Lays out the demo yard in `dir` and opens it.
pub(crate) fn run(dir: &Path, fresh: bool, no_screens: bool) -> anyhow::Result<()> {
    lay_out(dir, fresh)?;
    if no_screens {
        say!("{}", dir.display());
        return Ok(());
    }
    app::open_yard(dir)
}

/// Unpacks what is not there; with `fresh` everything. Only files of the demo are touched.
fn lay_out(dir: &Path, fresh: bool) -> anyhow::Result<()> {
    for (name, packed) in IMAGES {
        let path = dir.join(name);
        if path.exists() && !fresh {
            continue;
        }
        let folder = path.parent().unwrap_or(dir);
        fs::create_dir_all(folder).with_context(|| format!("cannot create {}", folder.display()))?;
        // Whole or not at all: an interrupted layout is laid out again.
        let part = keel_source::own::name_beside(&path);
        pack::unpack(&mut &packed[..], &part).with_context(|| format!("cannot unpack {}", part.display()))?;
        if let Some((_, signature)) = SIGNATURES.iter().find(|(own, _)| own == name) {
            fs::File::options().write(true).open(&part)?.write_all_at(signature, 440)?;
        }
        fs::rename(&part, &path)?;
    }
    for (name, text) in TEXTS {
        let path = dir.join(name);
        if fresh || !path.exists() {
            fs::write(&path, text).with_context(|| format!("cannot write {}", path.display()))?;
        }
    }
    // What was written beside the surfaces of simulated drives.
    for (name, _) in TEXTS.iter().filter(|(name, _)| fresh && name.ends_with(".drive.toml")) {
        let _ = fs::remove_file(dir.join(name.replace(".toml", ".spill")));
    }
    Ok(())
}
