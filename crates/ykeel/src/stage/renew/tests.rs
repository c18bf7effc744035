use crossterm::event::KeyCode;
use keel_core::renew::GIVE_UP;
use ratatui::layout::Rect;

use crate::app::effect::Effect;
use crate::stage::StageId;
use crate::testing::{Bench, MIB, app, drag, drawn, key, line, sign, wait};

/// Selects the row that begins with these words.
fn choose(app: &mut crate::app::App, words: &str) {
    key(app, KeyCode::Home);
    for _ in 0..30 {
        let text = drawn(app, 160, 45);
        let renew = &app.drive.as_ref().unwrap().renew;
        let name = format!("{:?}", renew.row());
        if name.starts_with(words) {
            return;
        }
        assert!(!text.is_empty());
        key(app, KeyCode::Down);
    }
    panic!("no row {words}: {}", drawn(app, 160, 45));
}

#[test]
fn a_draft_shows_as_it_changes_and_is_taken_back_step_by_step() {
    let mut app = app(true);
    app.run(vec![Effect::GoTo(StageId::Renew)]);
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("FAT16") && text.contains("enter changes a row") && text.contains("writes nothing"), "{text}");
    choose(&mut app, "Table");
    key(&mut app, KeyCode::Enter);
    line(&mut app, "new gpt");
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("GPT, new") && text.contains("Lost by this draft") && text.contains("I give up what is"), "{text}");
    choose(&mut app, "Free");
    key(&mut app, KeyCode::Enter);
    (0..40).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, "fat12,size=8 MiB,label=SLIP");
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("SLIP") && text.contains("FAT12") && text.contains("held against every rule"), "{text}");
    choose(&mut app, "Entry");
    let before = app.drive.as_ref().unwrap().renew.draft.as_ref().unwrap().entries[0].sectors.0;
    sign(&mut app, '}');
    wait(&mut app);
    let after = app.drive.as_ref().unwrap().renew.draft.as_ref().unwrap().entries[0].sectors.0;
    assert!(after > before, "{before} {after}");
    // What cannot be is told, and the draft stays.
    choose(&mut app, "Table");
    key(&mut app, KeyCode::Enter);
    line(&mut app, "new apm");
    assert!(drawn(&app, 160, 45).contains("Not drafted"));
    key(&mut app, KeyCode::Esc);
    key(&mut app, KeyCode::Backspace);
    key(&mut app, KeyCode::Backspace);
    wait(&mut app);
    assert!(!app.drive.as_ref().unwrap().renew.is_asked());
    for (width, height) in [(40, 10), (80, 24), (100, 30), (250, 70)] {
        drawn(&app, width, height);
    }
}

#[test]
fn the_mouse_draws_a_volume_over_free_ground_and_drags_its_end() {
    let mut app = app(true);
    app.area = Rect::new(0, 0, 160, 45);
    app.run(vec![Effect::GoTo(StageId::Renew)]);
    wait(&mut app);
    choose(&mut app, "Table");
    key(&mut app, KeyCode::Enter);
    line(&mut app, "new gpt");
    wait(&mut app);
    let keel = app.parts().unwrap().keel;
    let row_bytes = crate::widget::keel::rows(&app, keel).unwrap().row_bytes();
    let entries = |app: &crate::app::App| app.drive.as_ref().unwrap().renew.draft.as_ref().unwrap().entries.clone();
    // From the tenth row to the sixteenth, upwards as well as downwards.
    for (from, to) in [(10, 16), (16, 10)] {
        drag(&mut app, keel.x + 3, keel.y + from, keel.y + to);
        let asks = drawn(&app, 160, 45);
        assert!(asks.contains("New volume") && asks.contains("size="), "{asks}");
        (0..60).for_each(|_| key(&mut app, KeyCode::Home));
        (0..5).for_each(|_| key(&mut app, KeyCode::Delete));
        line(&mut app, "fat16");
        wait(&mut app);
        let made = entries(&app);
        let (first, bytes) = (made[0].range(draft_sector(&app)).start.0, made[0].range(draft_sector(&app)).len());
        let near = row_bytes + 2 * MIB;
        assert!(first.abs_diff(row_bytes * 9) <= near && bytes.abs_diff(row_bytes * 7) <= near, "{first} {bytes}");
        if from == 16 {
            break;
        }
        key(&mut app, KeyCode::Backspace);
        wait(&mut app);
        assert!(entries(&app).is_empty());
    }
    // Its end is dragged to the twentieth row, and beyond the drive's, which holds it.
    let before = entries(&app)[0].ground();
    drag(&mut app, keel.x + 3, keel.y + 12, keel.y + 20);
    wait(&mut app);
    let longer = entries(&app)[0].ground();
    assert!(longer.start == before.start && longer.end > before.end, "{before:?} {longer:?}");
    drag(&mut app, keel.x + 3, keel.y + 12, keel.y + 18);
    wait(&mut app);
    let shorter = entries(&app)[0].ground();
    assert!(shorter.start == before.start && shorter.end < longer.end, "{longer:?} {shorter:?}");
    drag(&mut app, keel.x + 3, keel.y + 12, keel.bottom() + 9);
    wait(&mut app);
    let all = entries(&app)[0].ground();
    assert!(all.end > longer.end && app.drive.as_ref().unwrap().renew.draft.as_ref().unwrap().unsound().is_none(), "{all:?}");
    // Pressed and let go at one place, the row is selected and nothing changes.
    choose(&mut app, "Table");
    drag(&mut app, keel.x + 3, keel.y + 20, keel.y + 20);
    assert!(matches!(app.drive.as_ref().unwrap().renew.row(), super::Row::Entry(0)));
    assert_eq!(entries(&app)[0].ground(), all);
}

fn draft_sector(app: &crate::app::App) -> keel_source::SectorSize {
    app.drive.as_ref().unwrap().source.sector_size()
}

/// A drive on which the stage is open, its image, and what that held.
fn renewing(bench: &Bench) -> (crate::app::App, std::path::PathBuf, Vec<u8>) {
    let drive = bench.drive("");
    let image = bench.folder.path().join("surface.img");
    let before = std::fs::read(&image).unwrap();
    let mut app = bench.app(&drive);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    sign(&mut app, '9');
    wait(&mut app);
    (app, image, before)
}

#[test]
fn a_draft_becomes_a_plan_which_wants_its_words_and_is_undone() {
    let bench = Bench::new();
    let (mut app, image, before) = renewing(&bench);
    choose(&mut app, "Recipe");
    key(&mut app, KeyCode::Enter);
    line(&mut app, "nothing");
    assert!(drawn(&app, 160, 45).contains("is no recipe"));
    key(&mut app, KeyCode::Esc);
    choose(&mut app, "Table");
    key(&mut app, KeyCode::Enter);
    line(&mut app, "new mbr");
    wait(&mut app);
    choose(&mut app, "Free");
    key(&mut app, KeyCode::Enter);
    (0..40).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, "fat16,label=QUAY");
    wait(&mut app);
    sign(&mut app, 'p');
    wait(&mut app);
    assert_eq!(app.stage, StageId::Plan);
    let drive = app.drive.as_ref().unwrap();
    let wants = drive.staged_plan().words;
    assert!(!drive.plan.edits.is_empty());
    let code = drive.source.identity().code();
    sign(&mut app, 'a');
    if wants.is_some() {
        line(&mut app, GIVE_UP);
    }
    line(&mut app, &code);
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("Applied"), "{text}");
    assert!(std::fs::read(&image).unwrap() != before);
    key(&mut app, KeyCode::Esc);
    wait(&mut app);
    sign(&mut app, '8');
    sign(&mut app, 'u');
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert!(std::fs::read(&image).unwrap() == before, "the bundle leads back");
}

#[test]
fn ground_is_overwritten_from_the_screens_only_with_words_and_code() {
    let bench = Bench::new();
    let (mut app, image, before) = renewing(&bench);
    let asked = |app: &mut crate::app::App, what: &str| {
        choose(app, "Wipe");
        key(app, KeyCode::Enter);
        (0..60).for_each(|_| key(app, KeyCode::Backspace));
        line(app, what);
    };
    asked(&mut app, "everything");
    assert!(drawn(&app, 160, 45).contains("Not overwritten"));
    key(&mut app, KeyCode::Esc);
    asked(&mut app, "0..1MiB 5a");
    line(&mut app, "overwrite it");
    assert!(drawn(&app, 160, 45).contains("Nothing was written"));
    key(&mut app, KeyCode::Esc);
    assert!(std::fs::read(&image).unwrap() == before);
    asked(&mut app, "0..1MiB 5a device");
    assert!(drawn(&app, 160, 45).contains("another pattern has to be written"));
    key(&mut app, KeyCode::Esc);
    asked(&mut app, "0..1MiB zeros device sample");
    let text = drawn(&app, 160, 45);
    assert!(text.contains("made zeros by the drive itself") && text.contains("a sample is read back"), "{text}");
    key(&mut app, KeyCode::Esc);
    asked(&mut app, "0..1MiB 5a");
    let code = app.drive.as_ref().unwrap().source.identity().code();
    line(&mut app, &format!("overwrite it {code}"));
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("are written over"), "{text}");
    let after = std::fs::read(&image).unwrap();
    assert!(after[..1 << 20].iter().all(|byte| *byte == 0x5A) && after[1 << 20..] == before[1 << 20..]);
}
