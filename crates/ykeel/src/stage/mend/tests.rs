use crossterm::event::KeyCode;
use ratatui::layout::Rect;

use crate::app::App;
use crate::testing::{app, click, damage, drawn, key, wait};

/// The Mend stage of the small FAT16, whose boot sector has one field damaged.
fn mending(field: Option<(u64, u8)>) -> App {
    let mut app = app(true);
    if let Some((offset, byte)) = field {
        damage(&mut app, offset, byte);
    }
    key(&mut app, KeyCode::Char('6'));
    wait(&mut app);
    app
}

#[test]
fn mend_lists_structures_and_rules_and_walks_into_fields() {
    let mut app = mending(None);
    let text = drawn(&app, 160, 45);
    for what in ["FAT16 boot sector", "it has none", "as it stands", "rule: FAT copies", "rule: held once", "BPB_SecPerClus"] {
        assert!(text.contains(what), "{what}: {text}");
    }
    for size in [(100, 30), (160, 45), (250, 70)] {
        assert!(drawn(&app, size.0, size.1).contains("BPB_BytsPerSec"), "{size:?}");
    }
    key(&mut app, KeyCode::Right);
    key(&mut app, KeyCode::Down);
    key(&mut app, KeyCode::Down);
    let field = drawn(&app, 160, 45);
    assert!(field.contains("BPB_BytsPerSec, 2 bytes at offset 11") && field.contains("bytes around BPB_BytsPerSec"), "{field}");
    key(&mut app, KeyCode::End);
    assert!(drawn(&app, 160, 45).contains("Signature_word, 2 bytes at offset 510"));
    key(&mut app, KeyCode::Left);
    key(&mut app, KeyCode::End);
    let rule = drawn(&app, 160, 45);
    assert!(rule.contains("The rule: what is counted as used is held by a file."), "{rule}");
    // Behind the last volume comes the table.
    key(&mut app, KeyCode::Char('n'));
    wait(&mut app);
    let table = drawn(&app, 160, 45);
    assert!(table.contains("the table, MBR as the layout asks") && table.contains("UniqueMBRDiskSignature"), "{table}");
    key(&mut app, KeyCode::Char('n'));
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("n1 FAT16 QUAY"));
}

#[test]
fn a_damaged_field_is_marked_and_taken_as_computed_and_the_choice_can_be_changed() {
    // Two sectors a cluster instead of one: the sector parses, and is of another volume.
    let mut app = mending(Some((13, 2)));
    let text = drawn(&app, 160, 45);
    assert!(text.contains("does not hold") && text.contains("from computed") && text.contains("≠ BPB_SecPerClus"), "{text}");
    let edits = |app: &App| app.drive.as_ref().unwrap().plan.edits.iter().map(|edit| edit.structure.clone()).collect::<Vec<_>>();
    assert_eq!(edits(&app), ["FAT16 boot sector of n1"]);
    // The main one by choice: nothing is staged for it then. The same key again lets the choice go.
    key(&mut app, KeyCode::Char('m'));
    wait(&mut app);
    assert_eq!(edits(&app), Vec::<String>::new());
    key(&mut app, KeyCode::Char('m'));
    wait(&mut app);
    assert_eq!(edits(&app), ["FAT16 boot sector of n1"]);
    key(&mut app, KeyCode::Char('c'));
    assert!(app.told.as_ref().unwrap().contains("no such version here: copy"));
}

#[test]
fn the_mouse_selects_rows_and_fields_and_takes_a_column_by_a_second_click() {
    let mut app = mending(Some((13, 2)));
    app.area = Rect::new(0, 0, 160, 45);
    click(&mut app, "rule: file sizes", 40);
    assert!(drawn(&app, 160, 45).contains("The rule: every chain is as long"));
    click(&mut app, "FAT16 boot sector ", 40);
    click(&mut app, "BPB_SecPerClus", 40);
    assert!(drawn(&app, 160, 45).contains("BPB_SecPerClus, 1 byte at offset 13"));
    // The column of the main version: this field stays as it stands, and with it the whole sector.
    let edits = |app: &App| app.drive.as_ref().unwrap().plan.edits.len();
    assert_eq!(edits(&app), 1);
    click(&mut app, "≠ BPB_SecPerClus", 70);
    wait(&mut app);
    assert_eq!(edits(&app), 0);
    click(&mut app, "≠ BPB_SecPerClus", 70);
    wait(&mut app);
    assert_eq!(edits(&app), 1);
}

#[test]
fn a_rule_without_a_mending_says_so_and_leftovers_are_asked_for_and_let_be() {
    let mut app = mending(None);
    key(&mut app, KeyCode::End);
    key(&mut app, KeyCode::Char(' '));
    assert!(app.told.as_ref().unwrap().contains("nothing that could be mended"));
    key(&mut app, KeyCode::Char('E'));
    assert!(!app.drive.as_ref().unwrap().mend.also.is_empty());
    key(&mut app, KeyCode::Char('E'));
    assert!(app.drive.as_ref().unwrap().mend.also.is_empty());
}
