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
