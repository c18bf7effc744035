//! Intake, copy and capacity through the keys, without a terminal.

use std::fs;
use std::path::PathBuf;
use std::sync::OnceLock;

use crossterm::event::KeyCode;
use keel_core::ladder::RungName;
use keel_core::yard;
use ratatui::layout::Rect;

use super::super::App;
use super::super::tests::{drawn, key, settle};
use crate::keymap::Stage;
use crate::theme::Theme;
use crate::widget::course;

const MIB: u64 = 1 << 20;

struct Bench {
    folder: tempfile::TempDir,
}

impl Bench {
    fn new() -> Self {
        static STATE: OnceLock<tempfile::TempDir> = OnceLock::new();
        keel_core::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        Self { folder: tempfile::tempdir().unwrap() }
    }

    /// A simulated drive of 24 MiB that never repeats.
    fn drive(&self, more: &str) -> PathBuf {
        let bytes: Vec<u8> = (0..24 * MIB / 8).flat_map(|at| (at * 0x9E37_79B9 + 1).to_le_bytes()).collect();
        fs::write(self.folder.path().join("surface.img"), bytes).unwrap();
        let serial = self.folder.path().file_name().unwrap().to_string_lossy().into_owned();
        let path = self.folder.path().join("quay.drive.toml");
        let text = format!(
            "version = 1\nclaimed_bytes = {}\nidentity = {{ model = \"Mudlark\", serial = \"{serial}\" }}\n\
             backing = [{{ file = \"surface.img\" }}]\nclock = {{ read_us = 100, bytes_per_second = 50000000 }}\n{more}\n",
            24 * MIB
        );
        fs::write(&path, text).unwrap();
        path
    }

    fn app(&self, drive: &std::path::Path) -> App {
        let mut app = App::new(yard::berths(vec![drive.to_path_buf()]), None);
        app.theme = Theme::plain();
        app.area = Rect::new(0, 0, 160, 45);
        app.look_up_case();
        app
    }
}

fn sign(app: &mut App, sign: char) {
    key(app, KeyCode::Char(sign));
}

fn line(app: &mut App, text: &str) {
    text.chars().for_each(|own| sign(app, own));
    key(app, KeyCode::Enter);
}

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
    let case = app.case.clone().unwrap();
    assert_eq!(case.record.told.symptoms, ["comes_and_goes"]);
    sign(&mut app, 'c');
    let first = case.next_check().unwrap().id;
    sign(&mut app, 'n');
    key(&mut app, KeyCode::Enter);
    let case = app.case.clone().unwrap();
    assert_eq!(case.record.checks[0].check, first);
    assert_ne!(case.next_check().unwrap().id, first, "the check that was made is not proposed again");
    sign(&mut app, 't');
    line(&mut app, "error code 483");
    assert!(app.told.as_ref().unwrap().contains("the drive itself reported"));
    let text = drawn(&app, 160, 45);
    assert!(text.contains("sees  errors while reading") && text.contains("at fault may be") && text.contains("▶ next"), "{text}");
    // A symptom and a check are taken back the same way.
    sign(&mut app, 'i');
    key(&mut app, KeyCode::Down);
    sign(&mut app, ' ');
    key(&mut app, KeyCode::Esc);
    sign(&mut app, 'c');
    let row = keel_core::intake::CHECKS.iter().position(|check| check.id == first).unwrap();
    (0..20).for_each(|_| key(&mut app, KeyCode::Up));
    (0..row).for_each(|_| key(&mut app, KeyCode::Down));
    key(&mut app, KeyCode::Backspace);
    key(&mut app, KeyCode::Esc);
    let case = app.case.clone().unwrap();
    assert!(case.record.checks.is_empty() && !case.record.told.symptoms.contains(&"comes_and_goes".into()));
    assert!(keel_core::case::verify(&case.folder, &case.record.journal).unwrap().whole);
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
    assert_eq!(app.stage, Stage::Ladder);
    assert!(drawn(&app, 160, 45).contains("the drive is being asked, rung by rung"));
    settle(&mut app);
    let ladder = app.drive.as_ref().unwrap().ladder.clone().unwrap();
    assert_eq!(ladder.lowest_broken.unwrap().rung, RungName::Reads);
    let (stage, advice) = course::recommended(&app);
    assert!(stage == Stage::Copy && advice.contains("copy it first"), "{advice}");
    app.drive.as_mut().unwrap().rung = 3;
    let text = drawn(&app, 160, 45);
    assert!(text.contains("cannot be read") && text.contains("samples, first sector at the top"), "{text}");
    // The whole surface, on request.
    sign(&mut app, 'R');
    settle(&mut app);
    let survey = app.drive.as_ref().unwrap().survey.clone().unwrap();
    assert!(survey.full && survey.staying().count() > 0);
}

#[test]
fn a_copy_runs_rests_is_compared_and_worked_on() {
    let bench = Bench::new();
    let drive = bench.drive("unreadable = [{ first_lba = 20000, sectors = 8 }]\n");
    let mut app = bench.app(&drive);
    sign(&mut app, 'i');
    sign(&mut app, ' ');
    key(&mut app, KeyCode::Esc);
    key(&mut app, KeyCode::Enter);
    settle(&mut app);
    sign(&mut app, '3');
    assert!(drawn(&app, 160, 45).contains("s begins a copy"));
    sign(&mut app, 'w');
    assert!(app.told.as_ref().unwrap().contains("no copy of this drive is known"));
    sign(&mut app, 'o');
    assert!(app.drive.as_ref().unwrap().copy.volumes_first);
    sign(&mut app, 'o');
    sign(&mut app, 's');
    key(&mut app, KeyCode::Enter);
    for (width, height) in [(40, 10), (100, 30), (160, 45), (250, 70)] {
        app.take_reports();
        drawn(&app, width, height);
    }
    sign(&mut app, ' ');
    sign(&mut app, ' ');
    settle(&mut app);
    let done = app.drive.as_ref().unwrap().copy.done.clone().unwrap();
    assert_eq!((done.bytes - done.copied_bytes, done.missing.len()), (8 * 512, 1));
    let text = drawn(&app, 160, 45);
    assert!(text.contains("4096 bytes are missing in 1 places") && text.contains("● once more"), "{text}");
    sign(&mut app, 'v');
    settle(&mut app);
    assert_eq!(app.drive.as_ref().unwrap().copy.verified.as_ref().unwrap().verified_bytes, done.copied_bytes);
    sign(&mut app, 'w');
    settle(&mut app);
    let source = app.drive.as_ref().unwrap().source.clone();
    assert_eq!((source.missing().len(), app.stage), (1, Stage::Ladder));
    assert_eq!(app.case.as_ref().unwrap().record.copy, source.identity().path);
    // On the copy there is nothing to measure.
    sign(&mut app, '4');
    sign(&mut app, 'p');
    assert!(app.told.as_ref().unwrap().contains("no capacity to measure"));
    sign(&mut app, 'P');
    let report = bench.folder.path().join("r.pdf");
    (0..200).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, report.to_str().unwrap());
    settle(&mut app);
    assert!(fs::read(report).unwrap().starts_with(b"%PDF"));
}

#[test]
fn a_drive_that_lies_is_measured_and_every_stage_sees_what_it_stores() {
    let bench = Bench::new();
    let stored = 9 * MIB + 512;
    let drive = bench.drive("");
    let text = fs::read_to_string(&drive).unwrap();
    // The surface of a liar is no longer than what it stores.
    fs::File::options().write(true).open(bench.folder.path().join("surface.img")).unwrap().set_len(stored).unwrap();
    fs::write(&drive, format!("{text}capacity = {{ real_bytes = {stored}, lie = \"drops\", answers = \"ones\" }}\n")).unwrap();
    let before = fs::read(bench.folder.path().join("surface.img")).unwrap();
    let mut app = bench.app(&drive);
    key(&mut app, KeyCode::Enter);
    settle(&mut app);
    sign(&mut app, '4');
    sign(&mut app, 'u');
    assert!(app.told.as_ref().unwrap().contains("no probe of this drive was interrupted"));
    sign(&mut app, 'p');
    line(&mut app, "WRONG");
    assert!(drawn(&app, 160, 45).contains("Nothing was written"));
    key(&mut app, KeyCode::Esc);
    sign(&mut app, 'p');
    let code = app.drive.as_ref().unwrap().source.identity().code();
    line(&mut app, &code);
    assert!(drawn(&app, 160, 45).contains("MEASURING, WRITES"));
    app.act(crate::keymap::Action::Quit);
    assert!(!app.quit, "a drive that is written is not left");
    settle(&mut app);
    let opened = app.drive.as_ref().unwrap();
    assert_eq!((opened.source.len(), opened.claimed.len()), (stored, 24 * MIB));
    assert_eq!(opened.fathom.verdict.as_ref().unwrap().proven_bytes, stored);
    assert_eq!(fs::read(bench.folder.path().join("surface.img")).unwrap(), before);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("true end 9.4 MB") && text.contains('┴') && text.contains("trust this drive with nothing"), "{text}");
    assert_eq!(opened.ladder.as_ref().unwrap().lowest_broken.as_ref().unwrap().rung, RungName::Capacity);
    for (width, height) in [(40, 10), (100, 30), (250, 70)] {
        drawn(&app, width, height);
    }
}

#[test]
fn a_drive_of_no_bytes_is_shown_and_nothing_runs_on_it() {
    let bench = Bench::new();
    let path = bench.folder.path().join("dock.drive.toml");
    fs::write(&path, "version = 1\nclaimed_bytes = 0\nidentity = { model = \"Bridge\", serial = \"BL-0\" }\n").unwrap();
    let mut app = bench.app(&path);
    key(&mut app, KeyCode::Enter);
    settle(&mut app);
    assert!(drawn(&app, 160, 45).contains("broken: reports 0 bytes"));
    for stage in Stage::ALL {
        app.stage = stage;
        for action in ['s', 'S', 'p', 'e', 'R', 'v', 'c', 'n'] {
            sign(&mut app, action);
            key(&mut app, KeyCode::Enter);
            key(&mut app, KeyCode::Esc);
            app.popups.clear();
            settle(&mut app);
            drawn(&app, 160, 45);
        }
    }
}
