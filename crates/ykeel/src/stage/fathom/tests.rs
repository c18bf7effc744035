use std::fs;

use crossterm::event::KeyCode;
use keel_core::ladder::RungName;

use crate::testing::{Bench, MIB, drawn, key, line, sign, wait};

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
    wait(&mut app);
    sign(&mut app, '4');
    sign(&mut app, 'u');
    assert!(app.told.as_ref().unwrap().contains("no probe of this drive was interrupted"));
    sign(&mut app, 'f');
    line(&mut app, "WRONG");
    assert!(drawn(&app, 160, 45).contains("Nothing was written"));
    key(&mut app, KeyCode::Esc);
    sign(&mut app, 'f');
    let code = app.drive.as_ref().unwrap().source.identity().code();
    line(&mut app, &code);
    assert!(drawn(&app, 160, 45).contains("MEASURING, WRITES"));
    sign(&mut app, 'q');
    assert!(!app.quit, "a drive that is written is not left");
    wait(&mut app);
    let opened = app.drive.as_ref().unwrap();
    assert_eq!((opened.source.len(), opened.claimed.len()), (stored, 24 * MIB));
    assert_eq!(opened.fathom.verdict.as_ref().unwrap().proven_bytes, stored);
    assert_eq!(fs::read(bench.folder.path().join("surface.img")).unwrap(), before);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("true end 9.4 MB") && text.contains('┴') && text.contains("trust this drive with nothing"), "{text}");
    assert_eq!(opened.ladder.now.as_ref().unwrap().lowest_broken.as_ref().unwrap().rung, RungName::Capacity);
    for (width, height) in [(40, 10), (100, 30), (250, 70)] {
        drawn(&app, width, height);
    }
}
