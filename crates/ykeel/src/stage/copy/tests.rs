use std::fs;

use crossterm::event::KeyCode;

use crate::stage::StageId;
use crate::testing::{Bench, drawn, key, line, sign, wait};

#[test]
fn a_copy_runs_rests_is_compared_and_worked_on() {
    let bench = Bench::new();
    let drive = bench.drive("unreadable = [{ first_lba = 20000, sectors = 8 }]\n");
    let mut app = bench.app(&drive);
    sign(&mut app, 'i');
    sign(&mut app, ' ');
    key(&mut app, KeyCode::Esc);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    sign(&mut app, '3');
    assert!(drawn(&app, 160, 45).contains("C begins a copy"));
    key(&mut app, KeyCode::Enter);
    assert!(app.told.as_ref().unwrap().contains("no copy of this drive is known"));
    sign(&mut app, 'o');
    assert!(app.drive.as_ref().unwrap().copy.volumes_first);
    sign(&mut app, 'o');
    sign(&mut app, 'C');
    key(&mut app, KeyCode::Enter);
    for (width, height) in [(40, 10), (100, 30), (160, 45), (250, 70)] {
        app.take_reports();
        drawn(&app, width, height);
    }
    sign(&mut app, ' ');
    sign(&mut app, ' ');
    wait(&mut app);
    let done = app.drive.as_ref().unwrap().copy.done.clone().unwrap();
    assert_eq!((done.bytes - done.copied_bytes, done.missing.len()), (8 * 512, 1));
    let text = drawn(&app, 160, 45);
    let places: Vec<&str> = text.lines().filter(|line| line.contains("×× ")).collect();
    assert_eq!(places.len(), 1, "one row of the keel has what did not come over: {text}");
    assert!(places[0].contains("━━━━━━━━━━"), "and the time that it took: {}", places[0]);
    assert!(text.contains("┃┃ ") && text.contains("1 ms") && text.contains("4.0 kB failed"), "{text}");
    assert!(text.contains("4096 bytes are missing, in 1 place.") && text.contains("● once more"), "{text}");
    // The place that is missing is selected: the keel zooms on it, and its bytes are shown.
    assert_eq!(app.stage.stage().selection(app.drive.as_ref().unwrap()), Some(done.missing[0]));
    sign(&mut app, 'b');
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("does not read"), "{}", drawn(&app, 160, 45));
    key(&mut app, KeyCode::Esc);
    sign(&mut app, 'H');
    wait(&mut app);
    assert_eq!(app.drive.as_ref().unwrap().copy.verified.as_ref().unwrap().verified_bytes, done.copied_bytes);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    let source = app.drive.as_ref().unwrap().source.clone();
    assert_eq!((source.missing().len(), app.stage), (1, StageId::Ladder));
    assert_eq!(app.case.as_ref().unwrap().record.copy, source.identity().path);
    // On the copy there is nothing to measure.
    sign(&mut app, '4');
    sign(&mut app, 'f');
    assert!(app.told.as_ref().unwrap().contains("no capacity to measure"));
    sign(&mut app, 'P');
    // For whom, then where.
    key(&mut app, KeyCode::Enter);
    let report = bench.folder.path().join("r.pdf");
    (0..200).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, report.to_str().unwrap());
    wait(&mut app);
    assert!(fs::read(report).unwrap().starts_with(b"%PDF"));
}
