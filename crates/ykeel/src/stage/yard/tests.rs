use crossterm::event::KeyCode;

use crate::testing::{Bench, drawn, key, line, sign, wait};

#[test]
fn the_intake_opens_a_case_and_the_next_check_moves_on() {
    let bench = Bench::new();
    let mut app = bench.app(&bench.drive(""));
    assert!(drawn(&app, 160, 45).contains("no case is open"));
    sign(&mut app, 'i');
    assert!(drawn(&app, 160, 45).contains("What the client sees"));
    key(&mut app, KeyCode::Down);
    sign(&mut app, ' ');
    key(&mut app, KeyCode::Esc);
    wait(&mut app);
    let case = app.case.clone().unwrap();
    assert_eq!(case.record.told.symptoms, ["comes_and_goes"]);
    sign(&mut app, 'B');
    let first = case.next_check().unwrap().id;
    sign(&mut app, 'n');
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    let case = app.case.clone().unwrap();
    assert_eq!(case.record.checks[0].check, first);
    assert_ne!(case.next_check().unwrap().id, first, "the check that was made is not proposed again");
    sign(&mut app, 't');
    line(&mut app, "error code 483");
    wait(&mut app);
    assert!(app.told.as_ref().unwrap().contains("the drive itself reported"));
    let text = drawn(&app, 160, 45);
    assert!(text.contains("sees  errors while reading") && text.contains("at fault may be") && text.contains("▶ next"), "{text}");
    // A symptom and a check are taken back the same way.
    sign(&mut app, 'i');
    key(&mut app, KeyCode::Down);
    sign(&mut app, ' ');
    key(&mut app, KeyCode::Esc);
    sign(&mut app, 'B');
    let row = keel_core::intake::CHECKS.iter().position(|check| check.id == first).unwrap();
    (0..20).for_each(|_| key(&mut app, KeyCode::Up));
    (0..row).for_each(|_| key(&mut app, KeyCode::Down));
    key(&mut app, KeyCode::Backspace);
    key(&mut app, KeyCode::Esc);
    wait(&mut app);
    let case = app.case.clone().unwrap();
    assert!(case.record.checks.is_empty() && !case.record.told.symptoms.contains(&"comes_and_goes".into()));
    assert!(keel_core::case::verify(&case.folder, &case.record.journal).unwrap().whole);
}
