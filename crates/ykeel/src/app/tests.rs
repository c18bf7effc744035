use std::sync::Arc;
use std::{fs, thread};

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use keel_core::sweep::Reach;
use keel_source::SharedSource;
use proptest::prelude::*;
use ratatui::layout::Rect;

use super::{App, Effect};
use crate::keys::{StageKey, find};
use crate::stage::{Drive, StageId, ladder, mend, plan, sweep};
use crate::testing::{Bench, MIB, app, click, click_at, drawn, key, quay, sign, wait};

/// The keys of a stage but the one that leaves.
fn bindings(stage: StageId) -> impl Iterator<Item = &'static StageKey> {
    stage.bindings().filter(|binding| !binding.long.starts_with("Leave"))
}

#[test]
fn no_key_means_two_things_in_one_stage_and_each_has_words() {
    for stage in StageId::ALL {
        let mut seen = std::collections::BTreeSet::new();
        for binding in stage.bindings() {
            assert!(!binding.long.is_empty() && !binding.keys.is_empty());
            for key in binding.keys.split(' ') {
                assert!(seen.insert(key), "{key} in {}", stage.stage().word());
            }
        }
    }
    let control = KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL);
    assert!(find(StageId::Yard.bindings(), control).is_some_and(|binding| binding.long.starts_with("Leave")));
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
fn every_stage_draws_at_every_size() {
    for open in [false, true] {
        let mut app = app(open);
        for stage in StageId::ALL {
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
fn the_small_size_keeps_what_matters() {
    let text = drawn(&app(true), 100, 30);
    for word in ["YELLOW KEEL", "READ ONLY", "9 Files", "1 Link", "? help"] {
        assert!(text.contains(word), "{word}: {text}");
    }
}

#[test]
fn a_command_is_found_by_its_words_and_run() {
    let mut app = app(true);
    key(&mut app, KeyCode::Char(':'));
    for sign in "go to the plan".chars() {
        key(&mut app, KeyCode::Char(sign));
    }
    key(&mut app, KeyCode::Enter);
    assert!(app.stage == StageId::Plan && app.popups.is_empty());
}

#[test]
fn the_mouse_chooses_stages_rows_and_ground() {
    let mut app = app(true);
    app.area = Rect::new(0, 0, 160, 45);
    click_at(&mut app, 56, 1);
    assert_eq!(app.stage, StageId::Sweep);
    click_at(&mut app, 12, 8);
    assert_eq!(app.drive.as_ref().unwrap().sweep.selected, 0);
    click_at(&mut app, 4, 1);
    assert_eq!(app.stage, StageId::Yard);
    click(&mut app, " none ", 5);
    assert_eq!(app.berth, 1);
    click(&mut app, " quay    ", 5);
    assert_eq!(app.berth, 0);
}

#[test]
fn no_action_in_any_stage_reads_the_drive_on_the_thread_that_takes_the_keys() {
    let (by_keys, armed) = (Arc::default(), Arc::default());
    let watched =
        Watched { below: quay(), key_thread: thread::current().id(), by_keys: Arc::clone(&by_keys), armed: Arc::clone(&armed) };
    let mut app = app(true);
    let finds = app.drive.as_ref().unwrap().sweep.finds.clone();
    let mut opened = Drive::new(Arc::new(watched));
    opened.sweep.finds = finds;
    opened.sweep.choose_rows();
    app.drive = Some(opened);
    armed.store(true, std::sync::atomic::Ordering::SeqCst);
    app.run(sweep::begin(Reach::Landmarks));
    wait(&mut app);
    let folder = tempfile::tempdir().unwrap();
    for stage in StageId::ALL {
        for (row, binding) in bindings(stage).enumerate() {
            app.stage = stage;
            app.run(vec![Effect::Do(binding.does)]);
            // Questions are answered: with a place of its own where a path is asked for.
            if !app.popups.is_empty() {
                let path = folder.path().join(format!("{stage:?} {row}"));
                key(&mut app, KeyCode::Home);
                (0..400).for_each(|_| key(&mut app, KeyCode::Delete));
                app.take_event(&Event::Paste(path.to_string_lossy().into_owned()));
                key(&mut app, KeyCode::Enter);
            }
            app.popups.clear();
            app.take_reports();
            let _ = drawn(&app, 160, 45);
        }
        // A copy that rests would never end.
        app.cancel();
        wait(&mut app);
        app.popups.clear();
    }
    let seen = by_keys.lock().unwrap().clone();
    assert!(seen.is_empty(), "{} reads on the key thread, the first from {}", seen.len(), seen.first().unwrap_or(&String::new()));
}

#[test]
fn x_stops_whatever_runs_and_nothing_is_called_broken_for_it() {
    let mut app = app(true);
    let before = app.drive.as_ref().unwrap().ladder.now.clone().unwrap();
    let edits = app.drive.as_ref().unwrap().plan.edits.clone();
    app.stage = StageId::Sweep;
    for _ in 0..20 {
        app.run(vec![ladder::examine_drive(), plan::examine(), mend::ask_checks()]);
        app.run(vec![Effect::GoTo(StageId::Mend)]);
        app.run(plan::stage_anew());
        key(&mut app, KeyCode::Char('x'));
        wait(&mut app);
        app.popups.clear();
        let drive = app.drive.as_ref().unwrap();
        let now = drive.ladder.now.clone().unwrap();
        assert_eq!(now.lowest_broken, before.lowest_broken, "the ladder is the former one, or the same again");
        assert_eq!(drive.plan.edits, edits, "so is the plan");
    }
}

#[test]
fn a_terminal_without_other_signs_is_drawn_with_those_of_ascii_alone() {
    let mut app = app(true);
    app.is_ascii = true;
    for stage in StageId::ALL {
        app.stage = stage;
        for (width, height) in [(80, 24), (160, 47)] {
            for over in ["", "?", "K", "J", ":"] {
                over.chars().for_each(|key| sign(&mut app, key));
                let text = drawn(&app, width, height);
                assert!(text.is_ascii(), "{stage:?} {over}: {:?}", text.chars().find(|sign| !sign.is_ascii()));
                app.popups.clear();
            }
        }
    }
}

#[test]
fn a_drive_of_no_bytes_is_shown_and_nothing_runs_on_it() {
    let bench = Bench::new();
    let path = bench.folder.path().join("dock.drive.toml");
    fs::write(&path, "version = 1\nclaimed_bytes = 0\nidentity = { model = \"Bridge\", serial = \"BL-0\" }\n").unwrap();
    let mut app = bench.app(&path);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("broken: reports 0 bytes"));
    for stage in StageId::ALL {
        app.stage = stage;
        for action in ['s', 'S', 'p', 'e', 'R', 'v', 'c', 'n'] {
            sign(&mut app, action);
            key(&mut app, KeyCode::Enter);
            key(&mut app, KeyCode::Esc);
            app.popups.clear();
            wait(&mut app);
            drawn(&app, 160, 45);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn no_sequence_of_keys_panics(steps in proptest::collection::vec((0usize..StageId::ALL.len(), 0usize..60), 1..40)) {
        let mut app = app(true);
        for (stage, row) in steps {
            // Questions are left open now and then: keys go to them.
            app.popups.truncate(row % 2);
            app.stage = StageId::ALL[stage];
            let all: Vec<&StageKey> = bindings(app.stage).collect();
            app.run(vec![Effect::Do(all[row % all.len()].does)]);
            app.take_reports();
            let _ = drawn(&app, 120, 36);
        }
        app.popups.clear();
        app.cancel();
        wait(&mut app);
    }
}

/// Two simulated drives on one bench, the first of them looked at.
fn two(more: &str) -> (Bench, Bench, App) {
    let (one, other) = (Bench::new(), Bench::new());
    let paths = [one.drive(more), other.drive("")];
    let mut app = App::new(keel_core::yard::berths(paths.to_vec()), None);
    app.theme = crate::theme::Theme::plain();
    app.area = Rect::new(0, 0, 160, 45);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    (one, other, app)
}

#[test]
fn work_goes_on_while_another_drive_is_looked_at_and_says_whose_it_is() {
    let (one, _other, mut app) = two("");
    sign(&mut app, '3');
    sign(&mut app, 'C');
    key(&mut app, KeyCode::Enter);
    // The destination is asked, the copy begins, and right away another drive is opened.
    while app.drive.as_ref().is_some_and(|drive| drive.copy.job.is_none() && drive.copy.done.is_none()) {
        app.take_reports();
    }
    sign(&mut app, '1');
    key(&mut app, KeyCode::Down);
    key(&mut app, KeyCode::Enter);
    while app.opening.is_some() {
        app.take_reports();
    }
    let looked_at = app.drive.as_ref().unwrap().source.identity().path.clone().unwrap();
    assert!(!looked_at.starts_with(one.folder.path()), "the other drive is looked at");
    wait(&mut app);
    let copied = one.folder.path().join("copies/quay.drive.toml-copy.img");
    assert!(copied.exists() || fs::read_dir(one.folder.path().join("copies")).unwrap().count() > 0, "the copy came to its end");
    // Back again: the drive is as it was left, or was let go where nothing of it was open, and its copy is known.
    sign(&mut app, '1');
    key(&mut app, KeyCode::Home);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    sign(&mut app, '3');
    let text = drawn(&app, 160, 45);
    assert!(text.contains("Everything came over") || text.contains("An earlier run copied all of it"), "{text}");
}

#[test]
fn what_a_drive_tells_behind_waits_until_it_is_looked_at() {
    let (_one, _other, mut app) = two("");
    let first = app.drive.take().unwrap();
    app.others.push(first);
    app.stage = StageId::Yard;
    app.behind(0, |app| {
        app.run(super::effect::tell("the copy is whole"));
        app.run(vec![super::effect::show("The copy stopped", "the link dropped")]);
    });
    assert!(app.told.as_ref().unwrap().starts_with("quay") && app.popups.is_empty() && app.rings);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("! The copy stopped"), "its row says that somebody is wanted: {text}");
    key(&mut app, KeyCode::Home);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("the link dropped"), "{}", drawn(&app, 160, 45));
    assert!(app.others.is_empty());
}

#[test]
fn all_drives_are_asked_and_each_row_keeps_what_was_seen() {
    let (_one, _other, mut app) = two("unreadable = [{ first_lba = 0, sectors = 64 }]");
    sign(&mut app, '1');
    wait(&mut app);
    sign(&mut app, 'A');
    wait(&mut app);
    assert!(app.others.is_empty(), "what has answered is let go");
    let seen: Vec<bool> = app.berths.iter().map(|berth| berth.sight.is_some()).collect();
    assert_eq!(seen, [true, true]);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("copy it first") && text.contains("3 Reads"), "{text}");
    let folder = app.berths[0].path.parent().unwrap().file_name().unwrap().to_string_lossy().into_owned();
    assert!(drawn(&app, 240, 60).contains(&format!("quay ({folder})")), "two of one name are told apart");
    // Another run knows it without asking, and says how old it is.
    let paths = app.berths.iter().map(|berth| berth.path.clone()).collect();
    drop(app);
    let mut again = App::new(keel_core::yard::berths(paths), None);
    again.theme = crate::theme::Theme::plain();
    let text = drawn(&again, 160, 45);
    assert!(text.contains("copy it first  (just now)"), "{text}");
}

#[test]
fn leaving_asks_where_work_goes_on_and_stays_when_it_is_left() {
    let (_one, _other, mut app) = two("");
    let front = app.drive.as_mut().unwrap();
    // A job that runs until it is stopped.
    front.ladder.survey_job = Some(keel_core::job::Job::start(|desk: &keel_core::job::Desk<_>| {
        while !desk.cancel().is_cancelled() {
            thread::sleep(std::time::Duration::from_millis(1));
        }
        let source: SharedSource = quay();
        let options = keel_core::reads::ReadsOptions::sampled();
        (keel_core::reads::survey(&source, options, &keel_core::job::Desk::new(desk.cancel().clone()).0), Some("stopped".into()))
    }));
    sign(&mut app, 'q');
    assert!(!app.quit && drawn(&app, 160, 45).contains("reading the surface"), "{}", drawn(&app, 160, 45));
    key(&mut app, KeyCode::Esc);
    assert!(!app.quit && app.popups.is_empty());
    // The list of jobs leads to it and stops it.
    sign(&mut app, 'J');
    let text = drawn(&app, 160, 45);
    assert!(text.contains("Ladder  reading the surface") && text.contains("stops it"), "{text}");
    sign(&mut app, ' ');
    assert!(app.told.as_ref().unwrap().contains("only a copy"));
    sign(&mut app, 'x');
    wait(&mut app);
    app.popups.clear();
    sign(&mut app, 'q');
    assert!(app.quit, "nothing runs any more");
}

#[test]
fn the_board_is_searched_sorted_and_never_runs_a_key_of_what_is_typed() {
    let mut app = app(false);
    sign(&mut app, '/');
    "quit q".chars().for_each(|own| sign(&mut app, own));
    assert!(!app.quit && app.board.typing);
    assert!(drawn(&app, 160, 45).contains("No drive has all of these words"));
    key(&mut app, KeyCode::Esc);
    assert!(app.board.filter.text().is_empty() && !app.board.typing);
    sign(&mut app, '/');
    app.take_event(&Event::Paste("non".into()));
    key(&mut app, KeyCode::Enter);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("with: non   1 of 2") && text.contains("does not open") && !text.contains(" quay "), "{text}");
    assert_eq!(app.berth, 1, "what is shown is selected");
    sign(&mut app, '/');
    key(&mut app, KeyCode::Esc);
    for column in ["drive", "size", "link", "client", "rungs", "next"] {
        sign(&mut app, 'o');
        assert!(app.told.as_ref().unwrap().ends_with(column));
        assert!(drawn(&app, 240, 60).contains(&format!("{column}▾")));
    }
    sign(&mut app, 'r');
    assert!(drawn(&app, 160, 45).contains("next▴"));
    click(&mut app, "drive      ", 2);
    assert!(drawn(&app, 160, 45).contains("drive▾"));
}

/// The terminals that the screens are for.
const SIZES: [(u16, u16); 5] = [(80, 24), (100, 30), (120, 35), (160, 47), (200, 60)];

/// A drive with a long name, 24 volumes on its ladder, 200 finds and many edits, all of them with long names.
fn crowded() -> App {
    let mut app = app(true);
    let drive = app.drive.as_mut().unwrap();
    let one = drive.sweep.finds[0].clone();
    let name = |number: u64| format!("Überfahrten und Fahrpläne der Brackwater Line, Band {number}");
    drive.sweep.finds = (0..200u64)
        .map(|number| {
            let start = (1 << 20) + number * 100 * 1024 / 512 * 512;
            keel_core::sweep::Find {
                id: format!("n{}", number + 1),
                label: Some(name(number)),
                start_byte: keel_source::ByteOffset(start),
                start_lba: keel_source::Lba(start / 512),
                bytes: 90 << 10,
                sectors: keel_source::SectorCount(180),
                ..one.clone()
            }
        })
        .collect();
    drive.sweep.choose_rows();
    let ladder = drive.ladder.now.as_mut().unwrap();
    let volume = ladder.volumes[0].clone();
    ladder.volumes = (0..24)
        .map(|number| {
            let mut volume =
                keel_core::ladder::VolumeLadder { id: format!("n{number}"), label: Some(name(number)), ..volume.clone() };
            for rung in &mut volume.rungs {
                rung.note = "a note that is much longer than a rung has room for".into();
            }
            volume
        })
        .collect();
    app.run(plan::stage_anew());
    wait(&mut app);
    for berth in &mut app.berths {
        berth.path = std::path::PathBuf::from(format!("/bench/{}", name(7)));
        berth.symptom = Some("a text of the client that is as long as such texts are, and then some more of it".into());
    }
    app
}

#[test]
fn at_no_size_is_text_cut_without_a_mark_or_written_over_other_text() {
    use ratatui::buffer::Buffer;
    let mut bench = crowded();
    for stage in StageId::ALL {
        bench.stage = stage;
        let effects = stage.stage().entered(&mut bench);
        bench.run(effects);
        wait(&mut bench);
        bench.popups.clear();
        for (width, height) in SIZES {
            let area = Rect::new(0, 0, width, height);
            bench.area = area;
            let mut buf = Buffer::empty(area);
            let written = crate::widget::written::by(|| super::draw(&bench, area, &mut buf));
            let shown = |x: u16, y: u16, text: &str| -> String {
                let wide = u16::try_from(crate::widget::columns(text)).unwrap();
                (x..(x + wide).min(width)).map(|at| buf[(at, y)].symbol()).collect()
            };
            for (x, y, text) in written.iter().filter(|(_, _, text)| text.chars().any(char::is_alphanumeric)) {
                let now = shown(*x, *y, text);
                // Spaces leave room for others; signs that are two columns wide are compared by their beginnings alone.
                let narrow = crate::widget::columns(text) == text.chars().count();
                let same = !narrow || text.chars().zip(now.chars()).all(|(wanted, there)| wanted == ' ' || wanted == there);
                assert!(
                    same,
                    "{stage:?} at {width}x{height}: {text:?} at {x},{y} is written over: {now:?}\n{}",
                    drawn(&bench, width, height)
                );
            }
            let screen = drawn(&bench, width, height);
            assert!(screen.contains("? help"), "{stage:?} at {width}x{height}: {screen}");
        }
    }
}

#[test]
fn on_a_small_terminal_the_right_side_is_a_key_away_and_below_it_only_leaving_works() {
    let mut bench = app(true);
    bench.area = Rect::new(0, 0, 80, 24);
    let text = drawn(&bench, 80, 24);
    assert!(!text.contains("Why") && text.contains("9 Files") && text.contains("1 Link"), "{text}");
    sign(&mut bench, '.');
    assert!(drawn(&bench, 80, 24).contains("Why"));
    sign(&mut bench, '.');
    assert!(!drawn(&bench, 80, 24).contains("Why"));
    bench.area = Rect::new(0, 0, 79, 24);
    for code in ['s', '8', 'S', 'i', ':'] {
        sign(&mut bench, code);
    }
    assert!(bench.stage == StageId::Ladder && bench.popups.is_empty() && !bench.is_busy());
    sign(&mut bench, 'q');
    assert!(bench.quit);
}

#[test]
fn another_card_in_the_same_reader_has_no_copy_and_was_not_swept() {
    let bench = Bench::new();
    let drive = bench.drive("");
    let mut app = bench.app(&drive);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    for (stage, begin, confirms) in [('3', 'C', true), ('5', 's', false)] {
        sign(&mut app, stage);
        sign(&mut app, begin);
        if confirms {
            key(&mut app, KeyCode::Enter);
        }
        wait(&mut app);
    }
    drop(app);
    let opened = |bench: &Bench| {
        let mut app = bench.app(&drive);
        key(&mut app, KeyCode::Enter);
        wait(&mut app);
        let drive = app.drive.take().unwrap();
        (drive.copy.is_there(), drive.copy.dest.is_some(), drive.ladder.was_swept)
    };
    assert_eq!(opened(&bench), (true, true, true), "the same drive is known again");
    let other: Vec<u8> = (0..24 * MIB / 8).flat_map(|at: u64| (at * 0x517C_C1B7 + 5).to_le_bytes()).collect();
    fs::write(bench.folder.path().join("surface.img"), other).unwrap();
    assert_eq!(opened(&bench), (false, false, false));
}
