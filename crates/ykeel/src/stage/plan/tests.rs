use crossterm::event::KeyCode;

use crate::stage::StageId;
use crate::testing::{app, damage, drawn, key, sign};

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
