use crossterm::event::KeyCode;
use keel_source::ByteOffset;

use crate::stage::StageId;
use crate::testing::{MIB, app, drawn, key, line, sign, wait};

#[test]
fn the_keel_is_walked_in_every_stage_and_the_right_side_says_what_is_there() {
    for stage in StageId::ALL.into_iter().filter(|stage| *stage != StageId::Yard) {
        let mut app = app(true);
        app.stage = stage;
        sign(&mut app, 'K');
        key(&mut app, KeyCode::Home);
        let text = drawn(&app, 160, 45);
        assert!(text.contains("What lies here") && text.contains("byte 0 (0x0)") && text.contains("now: no entry"), "{text}");
        // From boundary to boundary: the first entry begins at 1 MiB and holds the volume that was found.
        key(&mut app, KeyCode::Right);
        assert_eq!(app.drive.as_ref().unwrap().place.at, ByteOffset(MIB), "{stage:?}");
        let text = drawn(&app, 160, 45);
        assert!(text.contains("now: FAT16, LBA 2048 to 18431") && text.contains("n1 FAT16 QUAY"), "{text}");
        key(&mut app, KeyCode::End);
        assert_eq!(app.drive.as_ref().unwrap().place.at, ByteOffset(24 * MIB - 1));
        key(&mut app, KeyCode::Left);
        assert_eq!(app.drive.as_ref().unwrap().place.at, ByteOffset(20_480 * 512 + 8192 * 512), "the end of the second entry");
        app.area = ratatui::layout::Rect::new(0, 0, 160, 45);
        key(&mut app, KeyCode::Down);
        assert!(app.drive.as_ref().unwrap().place.at.0 > (20_480 + 8192) * 512);
        sign(&mut app, '+');
        assert_eq!(app.drive.as_ref().unwrap().zoom, 1);
        key(&mut app, KeyCode::Esc);
        assert!(app.popups.is_empty());
    }
}

#[test]
fn a_place_that_is_typed_is_gone_to_and_one_that_is_none_says_so() {
    let mut app = app(true);
    sign(&mut app, 'g');
    line(&mut app, "lba 2048");
    assert_eq!(app.drive.as_ref().unwrap().place.at, ByteOffset(MIB));
    assert!(drawn(&app, 160, 45).contains("byte 1048576 (0x100000)"));
    sign(&mut app, 'g');
    line(&mut app, "a long way");
    assert!(drawn(&app, 160, 45).contains("`a long way` is no place"));
    key(&mut app, KeyCode::Esc);
    // What lies there is selected in the stage.
    app.stage = StageId::Sweep;
    sign(&mut app, 'g');
    line(&mut app, "2 MiB");
    key(&mut app, KeyCode::Enter);
    assert!(app.popups.is_empty() && app.drive.as_ref().unwrap().sweep.selected == 0);
}

#[test]
fn the_bytes_show_their_structure_and_pointers_are_followed_and_come_back_from() {
    let mut app = app(true);
    app.stage = StageId::Sweep;
    sign(&mut app, 'b');
    wait(&mut app);
    let text = drawn(&app, 160, 47);
    assert!(text.contains("FAT boot sector") && text.contains("BPB_SecPerClus") && text.contains("LBA 2048"), "{text}");
    // Down to the field that says where the root directory is, and there.
    let row = |app: &crate::app::App| {
        let structure = app.drive.as_ref().unwrap().place.view.clone().unwrap().structure.unwrap();
        structure.fields.iter().position(|field| field.name == "BPB_RootEntCnt").unwrap()
    };
    for _ in 0..row(&app) {
        key(&mut app, KeyCode::Down);
    }
    assert!(drawn(&app, 160, 47).contains("the root directory; enter follows"));
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    let root = app.drive.as_ref().unwrap().place.at;
    assert_eq!(root.0, MIB + (1 + 128) * 512);
    assert!(drawn(&app, 160, 47).contains("QUAY"), "the root begins with the label");
    key(&mut app, KeyCode::Backspace);
    wait(&mut app);
    assert_eq!(app.drive.as_ref().unwrap().place.at, ByteOffset(MIB));
    // On a small terminal the structure stands below the bytes.
    let text = drawn(&app, 80, 24);
    assert!(text.contains("FAT boot sector") && text.contains("BS_jmpBoot") && text.contains("eb "), "{text}");
    // Sector by sector, and nothing behind the end.
    key(&mut app, KeyCode::PageDown);
    wait(&mut app);
    assert_eq!(app.drive.as_ref().unwrap().place.at, ByteOffset(MIB + 512));
    key(&mut app, KeyCode::End);
    wait(&mut app);
    assert_eq!(app.drive.as_ref().unwrap().place.view.as_ref().unwrap().bytes.len(), 512);
}

#[test]
fn what_is_searched_for_is_found_again_and_again_and_back() {
    let mut app = app(true);
    sign(&mut app, 'g');
    line(&mut app, "0");
    sign(&mut app, 'b');
    wait(&mut app);
    sign(&mut app, '/');
    line(&mut app, "quay");
    wait(&mut app);
    let at = |app: &crate::app::App| app.drive.as_ref().unwrap().place.at.0;
    let label = MIB + 43;
    assert_eq!(at(&app), label, "the label in the boot sector");
    sign(&mut app, 'n');
    wait(&mut app);
    assert_eq!(at(&app), MIB + (1 + 128) * 512, "the label in the root");
    sign(&mut app, 'n');
    wait(&mut app);
    assert!(app.told.as_ref().unwrap().contains("does not stand there"), "{:?}", app.told);
    sign(&mut app, 'N');
    wait(&mut app);
    assert_eq!(at(&app), label);
    sign(&mut app, '/');
    for _ in 0..10 {
        key(&mut app, KeyCode::Backspace);
    }
    line(&mut app, "hex: 5x");
    wait(&mut app);
    assert!(app.told.as_ref().unwrap().contains("are no bytes"));
    // Whose a place is.
    sign(&mut app, 'o');
    wait(&mut app);
    assert!(app.drive.as_ref().unwrap().place.owner.is_some());
}

#[test]
fn a_mark_goes_to_the_case_with_its_note_and_is_taken_away_again() {
    let bench = crate::testing::Bench::new();
    let mut app = bench.app(&bench.drive(""));
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    app.popups.clear();
    sign(&mut app, 'g');
    line(&mut app, "3 MiB");
    sign(&mut app, 'b');
    wait(&mut app);
    sign(&mut app, 'm');
    line(&mut app, "a ticket begins here");
    wait(&mut app);
    let case = app.case.clone().unwrap();
    assert_eq!(
        case.record.marks.iter().map(|mark| (mark.at.0, mark.note.as_str())).collect::<Vec<_>>(),
        [(3 * MIB, "a ticket begins here")]
    );
    assert!(drawn(&app, 160, 45).contains("mark: a ticket begins here"));
    key(&mut app, KeyCode::Esc);
    assert!(drawn(&app, 160, 45).contains('•'), "the keel shows it");
    sign(&mut app, 'g');
    line(&mut app, "3 MiB");
    sign(&mut app, 'b');
    wait(&mut app);
    sign(&mut app, 'm');
    line(&mut app, "");
    wait(&mut app);
    assert!(app.case.clone().unwrap().record.marks.is_empty());
}
