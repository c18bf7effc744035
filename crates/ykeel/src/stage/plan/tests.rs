use std::fs;

use crossterm::event::KeyCode;
use ratatui::layout::Rect;

use super::Interrupted;
use crate::app::{App, Effect};
use crate::stage::StageId;
use crate::testing::{Bench, app, click, damage, drawn, key, line, sign, wait};

#[test]
fn the_wrong_code_writes_nothing_and_a_question_can_be_left() {
    let mut app = app(true);
    app.stage = StageId::Plan;
    damage(&mut app, 13, 2);
    assert_eq!(app.drive.as_ref().unwrap().plan.edits.len(), 1);
    sign(&mut app, 'a');
    for sign in "wrong".chars() {
        key(&mut app, KeyCode::Char(sign));
    }
    assert!(drawn(&app, 160, 45).contains("› wrong"));
    key(&mut app, KeyCode::Enter);
    assert!(drawn(&app, 160, 45).contains("That is not the code"));
    key(&mut app, KeyCode::Esc);
    assert!(app.popups.is_empty() && app.drive.as_ref().is_some_and(|drive| drive.plan.writing.is_none()));
}

/// A bench whose drive is an image on this disk, with one repair staged.
fn on_disk(bench: &Bench) -> (App, std::path::PathBuf, Vec<u8>) {
    let image = bench.filled();
    let mut bytes = fs::read(&image).unwrap();
    // Its boot sector is gone: it is computed from the volume.
    bytes[..512].fill(0);
    fs::write(&image, &bytes).unwrap();
    let mut app = bench.app(&image);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    app.popups.clear();
    sign(&mut app, 's');
    wait(&mut app);
    sign(&mut app, '8');
    wait(&mut app);
    assert!(!app.drive.as_ref().unwrap().plan.edits.is_empty(), "{}", drawn(&app, 160, 45));
    (app, image, bytes)
}

#[test]
fn a_plan_is_applied_proven_and_put_back_byte_for_byte() {
    let bench = Bench::new();
    let (mut app, image, before) = on_disk(&bench);
    sign(&mut app, 'u');
    assert!(app.told.as_ref().unwrap().contains("no undo bundle"));
    sign(&mut app, 'a');
    let code = app.drive.as_ref().unwrap().source.identity().code();
    assert!(drawn(&app, 160, 45).contains(&format!("Type the code of this drive: {code}")));
    line(&mut app, &code);
    assert!(app.is_writing());
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("read back and compared") && fs::read(&image).unwrap() != before, "{text}");
    app.popups.clear();
    let plan = &app.drive.as_ref().unwrap().plan;
    assert!(plan.applied && plan.edits.is_empty() && !plan.proof.is_empty() && plan.bundle.is_some());
    let text = drawn(&app, 160, 45);
    assert!(text.contains("proof: before the apply → now") && text.contains("files listed"), "{text}");
    // Undone: asked for first, and left where the question is left.
    sign(&mut app, 'u');
    assert!(drawn(&app, 160, 45).contains("Every byte that the apply changed is put back"));
    key(&mut app, KeyCode::Esc);
    wait(&mut app);
    assert_ne!(fs::read(&image).unwrap(), before);
    sign(&mut app, 'u');
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("Every byte stands as before the apply"));
    assert_eq!(fs::read(&image).unwrap(), before);
    assert!(!app.drive.as_ref().unwrap().plan.applied);
}

#[test]
fn a_repaired_copy_is_saved_and_the_drive_left_alone() {
    let bench = Bench::new();
    let (mut app, image, before) = on_disk(&bench);
    sign(&mut app, 'I');
    assert!(drawn(&app, 160, 45).contains("locker-repaired.img"));
    let out = bench.folder.path().join("repaired.img");
    (0..60).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, out.to_str().unwrap());
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("The repaired copy is whole"));
    let saved = fs::read(&out).unwrap();
    let different: Vec<usize> = (0..saved.len()).filter(|at| saved[*at] != before[*at]).collect();
    assert!(!different.is_empty() && different.iter().all(|at| *at < 512));
    assert_eq!(fs::read(&image).unwrap(), before);
    // A place that is taken is not written over.
    app.popups.clear();
    sign(&mut app, 'I');
    (0..60).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, image.to_str().unwrap());
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("Not saved") && fs::read(&image).unwrap() == before);
}

#[test]
fn the_bytes_of_an_edit_scroll_and_clicks_choose_edits() {
    let mut app = app(true);
    damage(&mut app, 13, 2);
    app.stage = StageId::Plan;
    app.area = Rect::new(0, 0, 160, 45);
    let before = app.drive.as_ref().unwrap().plan.line;
    key(&mut app, KeyCode::Right);
    assert_eq!(app.drive.as_ref().unwrap().plan.line, before + 8);
    (0..50).for_each(|_| key(&mut app, KeyCode::Right));
    let plan = &app.drive.as_ref().unwrap().plan;
    assert_eq!(plan.line as u64, plan.edits[0].after.len().div_ceil(16) - 1, "its last line at most");
    click(&mut app, "FAT16 boot sector", 40);
    assert_eq!(app.drive.as_ref().unwrap().plan.line, 0);
}

#[test]
fn an_interrupted_apply_is_finished_or_put_back_only_after_a_second_key() {
    let mut app = app(true);
    for (first, says) in [('f', "Finish the apply"), ('r', "Undo")] {
        app.run(vec![Effect::Over(Box::new(Interrupted { bundle: "none.ykundo".into() }))]);
        sign(&mut app, 'z');
        assert!(drawn(&app, 160, 45).contains("An apply was interrupted"), "another key does nothing");
        sign(&mut app, first);
        assert!(drawn(&app, 160, 45).contains(says) && !app.is_busy());
        key(&mut app, KeyCode::Enter);
        wait(&mut app);
        let text = drawn(&app, 160, 45);
        assert!(text.contains("Not done"), "a bundle that is not there is said to be: {text}");
        app.popups.clear();
    }
}

#[test]
fn an_edit_is_dropped_and_taken_back_and_the_list_is_narrowed_down() {
    let bench = Bench::new();
    let (mut app, _, _) = on_disk(&bench);
    let counts = |app: &App| {
        let plan = &app.drive.as_ref().unwrap().plan;
        (plan.edits.len(), plan.dropped.len())
    };
    let (all, none) = counts(&app);
    assert_eq!(none, 0);
    sign(&mut app, 'd');
    wait(&mut app);
    let (left, dropped) = counts(&app);
    assert!(dropped > 0 && left + dropped == all, "{left} {dropped} {all}");
    let text = drawn(&app, 160, 45);
    assert!(text.contains(&format!("{dropped} dropped")) && text.contains("×"), "{text}");
    key(&mut app, KeyCode::End);
    assert!(drawn(&app, 160, 45).contains("Dropped: it is not written"), "{}", drawn(&app, 160, 45));
    sign(&mut app, 'd');
    wait(&mut app);
    assert_eq!(counts(&app), (all, 0));
    sign(&mut app, '/');
    "no such structure".chars().for_each(|own| sign(&mut app, own));
    assert!(drawn(&app, 160, 45).contains(&format!("0 of {all}  / no such structure")));
    key(&mut app, KeyCode::Esc);
    sign(&mut app, 'o');
    assert!(app.told.as_ref().unwrap().contains("edits by place"));
}
