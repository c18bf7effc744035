use crossterm::event::KeyCode;
use ratatui::layout::Rect;

use crate::app::App;
use crate::stage::{StageId, plan};
use crate::testing::{app, drawn, key, sign, wait};

#[test]
fn dropping_a_find_changes_the_layout() {
    let mut app = app(true);
    app.stage = StageId::Sweep;
    assert!(drawn(&app, 160, 45).contains("1 find, 2 in the layout"), "{}", drawn(&app, 160, 45));
    app.drive.as_mut().unwrap().sweep.untold = 40;
    assert!(drawn(&app, 160, 45).contains("1 of 41 finds"), "what is not told is counted, as on the command line");
    app.drive.as_mut().unwrap().sweep.untold = 0;
    key(&mut app, KeyCode::Char('d'));
    let text = drawn(&app, 160, 45);
    assert!(text.contains("1 find, being laid out") && !text.contains("nothing can be mended"), "{text}");
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("dropped by the technician"), "{text}");
    key(&mut app, KeyCode::Char('d'));
    wait(&mut app);
    assert!(!drawn(&app, 160, 45).contains("dropped by"), "let back");
}

/// The drive of the tests with 200 finds that overlap one another in several lanes.
fn crowded() -> App {
    let mut app = app(true);
    app.stage = StageId::Sweep;
    let drive = app.drive.as_mut().unwrap();
    let one = drive.sweep.finds[0].clone();
    drive.sweep.finds = (0..200u64)
        .map(|number| {
            let mut find = one.clone();
            let start = (1 << 20) + number * 100 * 1024 / 512 * 512;
            find.id = format!("n{}", number + 1);
            find.label = Some(format!("BERTH{number}"));
            find.start_byte = keel_source::ByteOffset(start);
            find.start_lba = keel_source::Lba(start / 512);
            find.bytes = (80 + number % 3 * 60) << 10;
            find.sectors = keel_source::SectorCount(find.bytes / 512);
            find
        })
        .collect();
    drive.sweep.choose_rows();
    app.run(plan::stage_anew());
    wait(&mut app);
    app
}

#[test]
fn a_drive_with_200_finds_stays_readable() {
    let mut app = crowded();
    for (width, height) in [(160, 45), (120, 30)] {
        app.area = Rect::new(0, 0, width, height);
        key(&mut app, KeyCode::Home);
        let top = drawn(&app, width, height);
        assert!(top.contains("200 finds") && top.contains("n1 ") && top.contains("BERTH0"), "{top}");
        key(&mut app, KeyCode::End);
        let bottom = drawn(&app, width, height);
        assert!(bottom.contains("n200") && bottom.contains("Why n200"), "{bottom}");
        // The layout follows the selection: what is said of the find is on the screen.
        let said = bottom.lines().any(|line| line.contains("n200 overlaps") || line.contains(" n200") && line.contains('…'));
        assert!(said, "{bottom}");
    }
}

#[test]
fn the_type_of_an_entry_goes_round_those_that_fit_its_kind() {
    let mut app = app(true);
    app.stage = StageId::Sweep;
    let now = |app: &App| app.drive.as_ref().unwrap().plan.layout.as_ref().unwrap().entries[0].type_code.to_string();
    let mut seen = vec![now(&app)];
    for _ in 0..3 {
        sign(&mut app, 'y');
        wait(&mut app);
        seen.push(now(&app));
    }
    assert_eq!(seen, ["0x06", "0xEF", "0x0E", "0x01"]);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("technician"), "{text}");
}

#[test]
fn finds_are_narrowed_down_ordered_and_walked_as_they_are_shown() {
    let mut app = crowded();
    sign(&mut app, '/');
    "berth17".chars().for_each(|own| sign(&mut app, own));
    let text = drawn(&app, 160, 45);
    assert!(text.contains("11 of 200  / berth17"), "{text}");
    key(&mut app, KeyCode::Enter);
    let selected = |app: &App| app.drive.as_ref().unwrap().selected_find().unwrap().label.clone().unwrap();
    assert_eq!(selected(&app), "BERTH17", "what is not shown is not selected");
    key(&mut app, KeyCode::Down);
    assert_eq!(selected(&app), "BERTH170");
    sign(&mut app, 'r');
    key(&mut app, KeyCode::Home);
    assert_eq!(selected(&app), "BERTH179");
    (0..4).for_each(|_| sign(&mut app, 'o'));
    assert!(app.told.as_ref().unwrap().contains("finds by size"));
    sign(&mut app, '/');
    key(&mut app, KeyCode::Esc);
    assert!(!drawn(&app, 160, 45).contains(" of 200  /"));
}

#[test]
fn an_entry_is_set_by_hand_with_what_speaks_against_it() {
    let mut app = app(true);
    app.stage = StageId::Sweep;
    sign(&mut app, 'z');
    assert!(drawn(&app, 160, 45).contains("start 2048 length 16384 type"), "{}", drawn(&app, 160, 45));
    (0..80).for_each(|_| key(&mut app, KeyCode::Backspace));
    crate::testing::line(&mut app, "start 2050");
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("Set by hand") && text.contains("− n1 begins at sector 2048"), "{text}");
    sign(&mut app, 'z');
    (0..80).for_each(|_| key(&mut app, KeyCode::Backspace));
    crate::testing::line(&mut app, "length 90000");
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("What was set by hand is refused"), "{}", drawn(&app, 160, 45));
    sign(&mut app, 'z');
    (0..80).for_each(|_| key(&mut app, KeyCode::Backspace));
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert!(!drawn(&app, 160, 45).contains("by hand is refused"));
}

#[test]
fn another_scheme_than_a_sound_tables_is_asked_for_in_words() {
    let mut app = app(true);
    app.stage = StageId::Sweep;
    // The table of this drive is a sound MBR: going over to it is nothing new, going over to a GPT is.
    sign(&mut app, 'T');
    wait(&mut app);
    assert!(app.popups.is_empty());
    sign(&mut app, 'T');
    assert!(drawn(&app, 160, 45).contains("A sound MBR stands on this drive"), "{}", drawn(&app, 160, 45));
    crate::testing::line(&mut app, "yes");
    assert!(app.told.as_ref().unwrap().contains("stays as it is"));
    sign(&mut app, 'T');
    crate::testing::line(&mut app, "another table");
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("layout: GPT"), "{}", drawn(&app, 160, 45));
}
