use crossterm::event::KeyCode;
use keel_core::ladder::RungName;
use keel_core::sweep::Reach;

use crate::stage::{StageId, sweep};
use crate::testing::{Bench, app, drawn, key, sign, wait};
use crate::widget::course;

#[test]
fn the_ladder_shows_shape_before_colour() {
    let mut app = app(true);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("sound: MBR, 2 entries") && text.contains("entry 1") && text.contains("QUAY"), "{text}");
    assert!(text.contains("quay ␛[31mred"), "control characters are visible: {text}");
    assert!(text.contains("╟━") && text.contains("┄ untested") && text.contains("╴"), "{text}");
    assert!(
        text.contains("▲7 Boot sector") && text.contains("p2, 7 Boot sector: broken"),
        "the lowest broken rung is chosen: {text}"
    );
    key(&mut app, KeyCode::Left);
    assert!(drawn(&app, 160, 45).contains("QUAY, 7 Boot sector: sound"));
}

#[test]
fn the_rungs_of_the_drive_come_one_by_one_and_the_course_says_what_is_next() {
    let bench = Bench::new();
    let drive =
        bench.drive("unreadable = [{ first_lba = 0, sectors = 64 }]\n[health.ata]\nattributes = [{ id = 197, raw = 4 }]\n");
    let mut app = bench.app(&drive);
    key(&mut app, KeyCode::Enter);
    assert!(drawn(&app, 160, 45).contains("opening"), "the yard stays until the drive answers");
    while app.drive.is_none() {
        app.take_opening();
    }
    assert_eq!(app.stage, StageId::Ladder);
    assert!(drawn(&app, 160, 45).contains("the drive is being asked, rung by rung"));
    wait(&mut app);
    let ladder = app.drive.as_ref().unwrap().ladder.now.clone().unwrap();
    assert_eq!(ladder.lowest_broken.unwrap().rung, RungName::Reads);
    let (stage, advice) = course::recommended(&app);
    assert!(stage == StageId::Copy && advice.contains("copy it first"), "{advice}");
    app.drive.as_mut().unwrap().ladder.rung = 3;
    let text = drawn(&app, 160, 45);
    assert!(text.contains("cannot be read") && text.contains("samples, first sector at the top"), "{text}");
    // The whole surface, on request.
    sign(&mut app, 'R');
    wait(&mut app);
    let survey = app.drive.as_ref().unwrap().ladder.survey.clone().unwrap();
    assert!(survey.full && survey.staying().count() > 0);
}

#[test]
fn a_drive_whose_asking_is_stopped_is_left_alone_until_it_is_asked_for() {
    let bench = Bench::new();
    let drive = bench.drive("");
    let slow = std::fs::read_to_string(&drive).unwrap().replace("read_us = 100,", "read_us = 20000, waits = true,");
    std::fs::write(&drive, slow).unwrap();
    let mut app = bench.app(&drive);
    key(&mut app, KeyCode::Enter);
    while app.drive.is_none() {
        app.take_opening();
    }
    // Its own rungs first, then its landmarks: nothing else begins where they are stopped.
    sign(&mut app, 'x');
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("the asking was stopped") && app.drive.as_ref().unwrap().ladder.now.is_none(), "{text}");
    app.run(sweep::begin(Reach::Landmarks));
    sign(&mut app, 'x');
    wait(&mut app);
    assert!(app.drive.as_ref().unwrap().ladder.now.is_none());
    assert!(course::recommended(&app).1.contains("5, then s"));
}

#[test]
fn volumes_attach_and_detach_from_the_ladder_and_a_drive_that_no_kernel_mounts_says_so() {
    let bench = Bench::new();
    let drive = bench.drive("");
    let mut app = bench.app(&drive);
    key(&mut app, KeyCode::Enter);
    while app.drive.is_none() {
        app.take_opening();
    }
    wait(&mut app);
    for (sign_of, words) in [('U', "No volume was found yet"), ('Q', "It can be pulled now")] {
        sign(&mut app, sign_of);
        wait(&mut app);
        let text = drawn(&app, 160, 45);
        let told = app.told.clone().unwrap_or_default();
        assert!(text.contains(words) || told.contains(words), "{words}: {told}\n{text}");
        key(&mut app, KeyCode::Esc);
    }
    sign(&mut app, ';');
    assert!(drawn(&app, 160, 45).contains("its whole surface, hours"));
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("The drive does not test itself"), "a simulated drive has no tests of its own");
}

#[test]
fn the_end_of_a_drive_is_opened_by_its_code_and_told_back() {
    let bench = Bench::new();
    let drive = bench.drive("");
    let mut app = bench.app(&drive);
    let open = |app: &mut crate::app::App| {
        while app.drive.is_none() {
            app.take_opening();
        }
        wait(app);
    };
    let len = |app: &crate::app::App| app.drive.as_ref().unwrap().source.len();
    key(&mut app, KeyCode::Enter);
    open(&mut app);
    sign(&mut app, '>');
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("Nothing is hidden"));
    key(&mut app, KeyCode::Esc);
    let shown = len(&app);
    let text = std::fs::read_to_string(&drive).unwrap();
    let hides = text.replace("version = 1\n", &format!("version = 1\nnative_bytes = {}\n", shown * 2));
    std::fs::write(&drive, hides).unwrap();
    app.run(vec![crate::app::Effect::OpenAnew(drive.clone())]);
    open(&mut app);
    sign(&mut app, '>');
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("Open what is hidden"));
    "AAA-AAA".chars().for_each(|letter| sign(&mut app, letter));
    key(&mut app, KeyCode::Enter);
    assert!(app.told.clone().unwrap().contains("none of the two codes") && len(&app) == shown);
    sign(&mut app, '>');
    wait(&mut app);
    let code = app.drive.as_ref().unwrap().source.identity().code();
    code.chars().for_each(|letter| sign(&mut app, letter));
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    open(&mut app);
    assert!(drawn(&app, 160, 45).contains("until its power is cut"));
    assert_eq!(len(&app), shown * 2, "it was opened anew");
    key(&mut app, KeyCode::Esc);
    sign(&mut app, '>');
    wait(&mut app);
    let code = app.drive.as_ref().unwrap().source.identity().code();
    assert!(drawn(&app, 160, 45).contains(&code), "its former end");
    code.chars().for_each(|letter| sign(&mut app, letter));
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    open(&mut app);
    assert_eq!(len(&app), shown);
}

#[test]
fn a_drive_behind_whose_end_was_set_is_opened_again_when_it_is_looked_at() {
    let bench = Bench::new();
    let drive = bench.drive("");
    let mut app = bench.app(&drive);
    let open = |app: &mut crate::app::App| {
        while app.opening.is_some() {
            app.take_opening();
        }
        wait(app);
    };
    let len = |app: &crate::app::App| app.drive.as_ref().unwrap().source.len();
    key(&mut app, KeyCode::Enter);
    open(&mut app);
    let shown = len(&app);
    app.others.push(app.drive.take().unwrap());
    let text = std::fs::read_to_string(&drive).unwrap();
    std::fs::write(&drive, text.replace(&format!("claimed_bytes = {shown}"), &format!("claimed_bytes = {}", shown * 2))).unwrap();
    // What its job told comes while it is behind.
    app.behind(0, |app| app.run(vec![crate::app::Effect::OpenAnew(drive.clone())]));
    assert!(app.opening.is_none() && app.others[0].is_stale, "nothing moves while something else is looked at");
    app.run(vec![crate::app::Effect::Open(drive.clone(), None)]);
    open(&mut app);
    assert_eq!((len(&app), app.others.len()), (shown * 2, 0));
}
