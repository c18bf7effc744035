use std::path::PathBuf;
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use keel_core::yard::Berth;
use keel_format::table::mbr::make::{NewEntry, mbr_sector};
use keel_source::{MemorySource, SharedSource};
use proptest::prelude::*;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::drive::Drive;
use super::*;
use crate::keymap::{Action, BINDINGS, Stage};
use crate::theme::Theme;

/// A small FAT16 and an NTFS-typed entry without a volume, on an MBR.
fn drive() -> SharedSource {
    let mut bytes = vec![0u8; 24 << 20];
    let entry = |os_type, starting_lba, size_in_lba| NewEntry { os_type, boot_indicator: 0, starting_lba, size_in_lba };
    bytes[..512].copy_from_slice(&mbr_sector(&[], 7, &[entry(0x06, 2048, 16_384), entry(0x07, 20_480, 8192)]));
    let geometry = keel_format::fat::FatGeometry {
        kind: keel_format::VolumeKind::Fat16,
        bytes_per_sector: 512,
        sectors_per_cluster: 1,
        reserved_sectors: 1,
        fats: 2,
        fat_sectors: 64,
        root_entries: 512,
        root_cluster: 0,
        total_sectors: 16_384,
        media: 0xF8,
        serial: 7,
        fs_info: 0,
        backup: 0,
    };
    let start = 1 << 20;
    bytes[start..start + 512].copy_from_slice(&keel_format::fat::make::boot_sector(&geometry, 2048, b"QUAY       "));
    for copy in 0..2 {
        let at = start + geometry.fat_at(copy).0 as usize;
        bytes[at..at + 4].copy_from_slice(&[0xF8, 0xFF, 0xFF, 0xFF]);
    }
    let root = start + geometry.root_at().0 as usize;
    bytes[root..root + 11].copy_from_slice(b"QUAY       ");
    bytes[root + 11] = 0x08;
    bytes[root + 32..root + 43].copy_from_slice(b"NOTES   TXT");
    bytes[root + 43] = 0x20;
    Arc::new(MemorySource::new("quay \u{1b}[31mred", bytes, 512))
}

fn app(open: bool) -> App {
    let berth = Berth {
        path: PathBuf::from("/bench/quay.img"),
        identity: Some(drive().identity().clone()),
        problem: None,
        disk_identifier: None,
        same_identifier: Vec::new(),
        symptom: Some("told \u{7}".into()),
        interrupted: None,
        probe_interrupted: None,
        case: None,
    };
    let broken = Berth {
        path: PathBuf::from("/bench/none.img"),
        identity: None,
        problem: Some("cannot open".into()),
        disk_identifier: None,
        same_identifier: Vec::new(),
        symptom: None,
        interrupted: None,
        probe_interrupted: None,
        case: None,
    };
    let mut app = App::new(vec![berth, broken], None);
    app.theme = Theme::plain();
    if open {
        app.drive = Some(Drive::new(drive()));
        app.stage = Stage::Ladder;
        app.run_effect(Effect::Sweep(keel_core::sweep::Reach::Landmarks));
        settle(&mut app);
    }
    app
}

/// Lets the jobs end and their reports in.
pub(super) fn settle(app: &mut App) {
    for _ in 0..20_000 {
        app.take_reports();
        if !app.is_busy() {
            return;
        }
        thread::sleep(Duration::from_millis(1));
    }
    panic!("a job did not end");
}

pub(super) fn drawn(app: &App, width: u16, height: u16) -> String {
    let area = Rect::new(0, 0, width, height);
    let mut buf = Buffer::empty(area);
    draw(app, area, &mut buf);
    let lines: Vec<String> =
        (0..height).map(|y| (0..width).map(|x| buf[(x, y)].symbol()).collect::<String>().trim_end().to_string()).collect();
    lines.join("\n")
}

pub(super) fn key(app: &mut App, code: KeyCode) {
    app.take_event(&Event::Key(KeyEvent::new(code, KeyModifiers::NONE)));
}

#[test]
fn every_stage_draws_at_every_size() {
    for open in [false, true] {
        let mut app = app(open);
        for stage in Stage::ALL {
            app.stage = stage;
            for (width, height) in [(0, 0), (1, 1), (40, 10), (100, 30), (160, 45), (250, 70)] {
                app.area = Rect::new(0, 0, width, height);
                let text = drawn(&app, width, height);
                assert!(!text.chars().any(|sign| sign.is_control() && sign != '\n'), "{text}");
            }
        }
    }
}

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
fn the_small_size_keeps_what_matters() {
    let text = drawn(&app(true), 100, 30);
    for word in ["YELLOW KEEL", "READ ONLY", "9 Files", "1 Link", "Why", "? help"] {
        assert!(text.contains(word), "{word}: {text}");
    }
}

#[test]
fn dropping_a_find_changes_the_layout() {
    let mut app = app(true);
    app.stage = Stage::Sweep;
    assert!(drawn(&app, 160, 45).contains("1 finds"), "{}", drawn(&app, 160, 45));
    app.drive.as_mut().unwrap().untold = 40;
    assert!(drawn(&app, 160, 45).contains("1 of 41 finds"), "what is not told is counted, as on the command line");
    app.drive.as_mut().unwrap().untold = 0;
    key(&mut app, KeyCode::Char('d'));
    settle(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("dropped by the technician"), "{text}");
    key(&mut app, KeyCode::Char('d'));
    settle(&mut app);
    assert!(!drawn(&app, 160, 45).contains("dropped by"), "let back");
}

#[test]
fn the_wrong_code_writes_nothing_and_a_question_can_be_left() {
    let mut app = app(true);
    app.stage = Stage::Plan;
    app.ask(popup::Question::Code, String::new());
    for sign in "wrong".chars() {
        key(&mut app, KeyCode::Char(sign));
    }
    assert!(drawn(&app, 160, 45).contains("› wrong"));
    key(&mut app, KeyCode::Enter);
    assert!(drawn(&app, 160, 45).contains("That is not the code"));
    key(&mut app, KeyCode::Esc);
    assert!(app.popups.is_empty() && app.drive.as_ref().is_some_and(|drive| drive.writing.is_none()));
}

#[test]
fn a_command_is_found_by_its_words_and_run() {
    let mut app = app(true);
    key(&mut app, KeyCode::Char(':'));
    for sign in "go to the plan".chars() {
        key(&mut app, KeyCode::Char(sign));
    }
    key(&mut app, KeyCode::Enter);
    assert!(app.stage == Stage::Plan && app.popups.is_empty());
}

#[test]
fn the_mouse_chooses_stages_rows_and_ground() {
    use crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
    let mut app = app(true);
    app.area = Rect::new(0, 0, 160, 45);
    let click = |app: &mut App, column, row| {
        app.take_event(&Event::Mouse(MouseEvent {
            kind: MouseEventKind::Down(MouseButton::Left),
            column,
            row,
            modifiers: KeyModifiers::NONE,
        }));
    };
    click(&mut app, 56, 1);
    assert_eq!(app.stage, Stage::Sweep);
    click(&mut app, 12, 8);
    assert_eq!(app.drive.as_ref().unwrap().find, 0);
    click(&mut app, 4, 1);
    assert_eq!(app.stage, Stage::Yard);
    click(&mut app, 40, 9);
    assert_eq!(app.berth, 1);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn no_sequence_of_actions_panics(actions in proptest::collection::vec(0usize..BINDINGS.len(), 1..40)) {
        let mut app = app(true);
        for index in actions {
            let action = BINDINGS[index].action;
            // Saving asks for a path first, and quitting ends the walk; everything else may come in any order.
            if action != Action::Quit {
                app.act(action);
            }
            app.popups.clear();
            app.take_reports();
            let _ = drawn(&app, 120, 36);
        }
        settle(&mut app);
    }
}

/// The drive of the tests with 200 finds that overlap one another in several lanes.
fn crowded() -> App {
    let mut app = app(true);
    app.stage = Stage::Sweep;
    let drive = app.drive.as_mut().unwrap();
    let one = drive.finds[0].clone();
    drive.finds = (0..200u64)
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
    drive.settle();
    settle(&mut app);
    app
}

#[test]
fn a_drive_with_200_finds_stays_readable() {
    let mut app = crowded();
    for (width, height) in [(160, 45), (100, 30)] {
        app.area = Rect::new(0, 0, width, height);
        app.act(Action::First);
        let top = drawn(&app, width, height);
        assert!(top.contains("200 finds") && top.contains("n1 ") && top.contains("BERTH0"), "{top}");
        app.act(Action::Last);
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
    app.stage = Stage::Sweep;
    let now = |app: &App| app.drive.as_ref().unwrap().layout.as_ref().unwrap().entries[0].type_code.to_string();
    let mut seen = vec![now(&app)];
    for _ in 0..3 {
        app.act(Action::ChangeType);
        settle(&mut app);
        seen.push(now(&app));
    }
    assert_eq!(seen, ["0x06", "0xEF", "0x0E", "0x01"]);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("technician"), "{text}");
}

/// The Mend stage of the small FAT16, whose boot sector has one field damaged.
fn mending(field: Option<(usize, u8)>) -> App {
    let mut app = app(true);
    if let (Some((offset, byte)), Some(drive)) = (field, &app.drive) {
        let mut overlay = keel_source::Overlay::new(Arc::clone(&drive.source));
        overlay.lay(keel_source::ByteOffset((1 << 20) + offset as u64), &[byte]);
        let finds = drive.finds.clone();
        let mut damaged = Drive::new(Arc::new(overlay));
        damaged.finds = finds;
        damaged.settle();
        app.drive = Some(damaged);
        settle(&mut app);
    }
    key(&mut app, KeyCode::Char('6'));
    settle(&mut app);
    app
}

fn click(app: &mut App, needle: &str, column: u16) {
    let text = drawn(app, 160, 45);
    let row = text.lines().position(|line| line.contains(needle)).unwrap_or_else(|| panic!("no {needle}: {text}"));
    let mouse = crossterm::event::MouseEvent {
        kind: crossterm::event::MouseEventKind::Down(crossterm::event::MouseButton::Left),
        column,
        row: u16::try_from(row).unwrap(),
        modifiers: KeyModifiers::NONE,
    };
    app.take_event(&Event::Mouse(mouse));
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
    settle(&mut app);
    let table = drawn(&app, 160, 45);
    assert!(table.contains("the table, MBR as the layout asks") && table.contains("UniqueMBRDiskSignature"), "{table}");
    key(&mut app, KeyCode::Char('n'));
    settle(&mut app);
    assert!(drawn(&app, 160, 45).contains("n1 FAT16 QUAY"));
}

#[test]
fn a_damaged_field_is_marked_and_taken_as_computed_and_the_choice_can_be_changed() {
    // Two sectors a cluster instead of one: the sector parses, and is of another volume.
    let mut app = mending(Some((13, 2)));
    let text = drawn(&app, 160, 45);
    assert!(text.contains("does not hold") && text.contains("from computed") && text.contains("≠ BPB_SecPerClus"), "{text}");
    let edits = |app: &App| app.drive.as_ref().unwrap().edits.iter().map(|edit| edit.structure.clone()).collect::<Vec<_>>();
    assert_eq!(edits(&app), ["FAT16 boot sector of n1"]);
    // The main one by choice: nothing is staged for it then. The same key again lets the choice go.
    key(&mut app, KeyCode::Char('m'));
    settle(&mut app);
    assert_eq!(edits(&app), Vec::<String>::new());
    key(&mut app, KeyCode::Char('m'));
    settle(&mut app);
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
    assert!(drawn(&app, 160, 45).contains("BPB_SecPerClus, 1 bytes at offset 13"));
    // The column of the main version: this field stays as it stands, and with it the whole sector.
    let edits = |app: &App| app.drive.as_ref().unwrap().edits.len();
    assert_eq!(edits(&app), 1);
    click(&mut app, "≠ BPB_SecPerClus", 64);
    settle(&mut app);
    assert_eq!(edits(&app), 0);
    click(&mut app, "≠ BPB_SecPerClus", 64);
    settle(&mut app);
    assert_eq!(edits(&app), 1);
}

#[test]
fn a_rule_without_a_mending_says_so_and_leftovers_are_asked_for_and_let_be() {
    let mut app = mending(None);
    key(&mut app, KeyCode::End);
    key(&mut app, KeyCode::Char('r'));
    assert!(app.told.as_ref().unwrap().contains("nothing that could be mended"));
    key(&mut app, KeyCode::Char('E'));
    assert!(!app.drive.as_ref().unwrap().mend.also.is_empty());
    key(&mut app, KeyCode::Char('E'));
    assert!(app.drive.as_ref().unwrap().mend.also.is_empty());
}

/// A drive that knows who reads it.
struct Watched {
    below: SharedSource,
    key_thread: thread::ThreadId,
    /// Reads by the key thread, once it is forbidden.
    by_keys: Arc<std::sync::Mutex<Vec<String>>>,
    armed: Arc<std::sync::atomic::AtomicBool>,
}

impl keel_source::Source for Watched {
    fn identity(&self) -> &keel_source::Identity {
        self.below.identity()
    }

    fn read_at(&self, at: keel_source::ByteOffset, buf: &mut [u8]) -> Result<(), keel_source::ReadError> {
        if self.armed.load(std::sync::atomic::Ordering::SeqCst) && thread::current().id() == self.key_thread {
            self.by_keys.lock().unwrap().push(std::backtrace::Backtrace::force_capture().to_string());
        }
        self.below.read_at(at, buf)
    }
}

#[test]
fn no_action_in_any_stage_reads_the_drive_on_the_thread_that_takes_the_keys() {
    let (by_keys, armed) = (Arc::default(), Arc::default());
    let watched =
        Watched { below: drive(), key_thread: thread::current().id(), by_keys: Arc::clone(&by_keys), armed: Arc::clone(&armed) };
    let mut app = app(true);
    let finds = app.drive.as_ref().unwrap().finds.clone();
    let mut opened = Drive::new(Arc::new(watched));
    opened.finds = finds;
    app.drive = Some(opened);
    armed.store(true, std::sync::atomic::Ordering::SeqCst);
    app.run_effect(Effect::Sweep(keel_core::sweep::Reach::Landmarks));
    settle(&mut app);
    let folder = tempfile::tempdir().unwrap();
    for stage in Stage::ALL {
        for binding in BINDINGS.iter().filter(|binding| binding.action != Action::Quit) {
            app.stage = stage;
            app.act(binding.action);
            // Questions are answered: with a place of its own where a path is asked for.
            let path = folder.path().join(format!("{stage:?} {:?}", binding.action)).to_string_lossy().into_owned();
            if let Some(popup::Popup::Ask { line, .. }) = app.popups.last_mut() {
                *line = path;
                key(&mut app, KeyCode::Enter);
            }
            app.popups.clear();
            app.take_reports();
            let _ = drawn(&app, 160, 45);
        }
        // A copy that rests would never end.
        app.act(Action::Cancel);
        settle(&mut app);
        app.popups.clear();
    }
    let seen = by_keys.lock().unwrap().clone();
    assert!(seen.is_empty(), "{} reads on the key thread, the first from {}", seen.len(), seen.first().unwrap_or(&String::new()));
}

#[test]
fn x_stops_whatever_runs_and_nothing_is_called_broken_for_it() {
    let mut app = app(true);
    let before = app.drive.as_ref().unwrap().ladder.clone().unwrap();
    let edits = app.drive.as_ref().unwrap().edits.clone();
    app.stage = Stage::Sweep;
    for _ in 0..20 {
        app.run_effect(Effect::ExamineDrive);
        app.run_effect(Effect::LookAtStructures);
        app.run_effect(Effect::AskChecks);
        app.drive.as_mut().unwrap().settle();
        key(&mut app, KeyCode::Char('x'));
        settle(&mut app);
        app.popups.clear();
        let drive = app.drive.as_ref().unwrap();
        let now = drive.ladder.clone().unwrap();
        assert_eq!(now.lowest_broken, before.lowest_broken, "the ladder is the former one, or the same again");
        assert_eq!(drive.edits, edits, "so is the plan");
    }
}
