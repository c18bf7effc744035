//! What holds of every stage: what changes the state begins nothing, and every popup says which keys it takes.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use keel_core::advice::Advice;
use keel_core::sweep::Reach;
use keel_source::{ByteOffset, Identity, ReadError, SharedSource, Source};
use ratatui::layout::{Position, Rect};

use super::*;
use crate::app::effect::{show, tell};
use crate::popup::{Answer, Ask, Commands, Popup, Text};
use crate::testing::{app, drawn, key, quay, sign, wait};

/// A drive that counts how often it is read.
struct Counted {
    below: SharedSource,
    reads: Arc<AtomicU64>,
}

impl Source for Counted {
    fn identity(&self) -> &Identity {
        self.below.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.reads.fetch_add(1, Ordering::SeqCst);
        self.below.read_at(at, buf)
    }
}

/// The bench with a drive that counts its reads; it was swept.
fn counted() -> (App, Arc<AtomicU64>) {
    let reads = Arc::new(AtomicU64::new(0));
    let mut app = app(false);
    app.drive = Some(Drive::new(Arc::new(Counted { below: quay(), reads: Arc::clone(&reads) })));
    app.stage = StageId::Ladder;
    app.run(sweep::begin(Reach::Landmarks));
    wait(&mut app);
    reads.store(0, Ordering::SeqCst);
    (app, reads)
}

#[test]
fn what_changes_the_state_reads_nothing_and_begins_no_job() {
    let (mut app, reads) = counted();
    for stage in StageId::ALL {
        app.stage = stage;
        let keys: Vec<_> = stage.bindings().collect();
        for binding in keys {
            let _effects = app.does(binding.does);
            assert!(!app.is_busy(), "{} in {stage:?} begins a job by itself", binding.keys);
        }
        for at in [(0, 0), (30, 5), (70, 12), (90, 30)] {
            let _effects = stage.stage().click(&mut app, Rect::new(29, 2, 88, 42), Position::new(at.0, at.1));
        }
        for by in [-1, 1, isize::MIN / 2, isize::MAX / 2] {
            let _effects = (stage.stage().step(&mut app, by), stage.stage().sideways(&mut app, by.signum()));
        }
        let _effects = stage.stage().entered(&mut app);
        assert!(!app.is_busy() && !app.quit, "{stage:?}");
        drawn(&app, 160, 45);
    }
    assert_eq!(reads.load(Ordering::SeqCst), 0, "neither keys nor drawing read the drive");
}

#[test]
fn every_advice_is_carried_out_by_one_stage_and_no_other() {
    let all = [
        Advice::CheckOutside,
        Advice::CheckCable,
        Advice::CopyFirst { by_page: false },
        Advice::CopyFirst { by_page: true },
        Advice::WorkOnCopy,
        Advice::PutBack,
        Advice::GoOnSweeping,
        Advice::SweepOpen(1 << 30),
        Advice::Sweep,
        Advice::Settle,
        Advice::Apply,
        Advice::ReadPlan,
        Advice::Measure,
        Advice::ReadDoubt(keel_core::ladder::RungName::Files),
        Advice::Unexplained("it appears and goes again"),
        Advice::Look,
        Advice::Prove,
        Advice::TakeOut,
    ];
    for advice in all {
        let answering: Vec<StageId> = StageId::ALL.into_iter().filter(|id| id.stage().carries_out(advice).is_some()).collect();
        let [one] = answering[..] else { panic!("{advice:?}: {answering:?}") };
        let (id, keys) = StageId::carrying_out(advice);
        assert_eq!(id, one);
        // The key that is named is one that works there.
        assert!(keys.is_empty() || one.bindings().any(|binding| binding.keys.split(' ').any(|key| key == keys)), "{advice:?}");
    }
}

/// Presses a key on a popup by itself.
fn press(popup: &mut dyn Popup, app: &App, code: KeyCode) -> Option<usize> {
    match popup.press(KeyEvent::new(code, KeyModifiers::NONE), app) {
        Answer::Close(effects) => Some(effects.len()),
        Answer::Stay(effects) => {
            assert!(effects.iter().all(|effect| !format!("{effect:?}").is_empty()));
            None
        }
    }
}

#[test]
fn popups_show_their_keys_and_take_no_others() {
    let mut bench = app(true);
    let all: Vec<(Box<dyn Popup>, &[&str])> = vec![
        (Box::new(Text::new("Told", "a text\nof two lines")), &[]),
        (Box::new(Text::help(StageId::Mend)), &[]),
        (Box::new(Commands::default()), &["runs"]),
        (Box::new(Ask::new("Copy", "Where to?", "here", |_, line| tell(line))), &["answers"]),
        (Box::new(plan::Interrupted { bundle: "quay.ykundo".into() }), &["finishes the apply", "puts everything back"]),
    ];
    for (mut popup, words) in all {
        let keys = popup.keys();
        assert_eq!(keys.iter().map(|(_, word)| *word).collect::<Vec<_>>(), words);
        let unique: BTreeSet<&str> = keys.iter().flat_map(|(keys, _)| keys.split(' ')).collect();
        assert_eq!(unique.len(), keys.iter().map(|(keys, _)| keys.split(' ').count()).sum::<usize>());
        let title = popup.title(&bench);
        for code in [KeyCode::F(5), KeyCode::Insert, KeyCode::Up, KeyCode::Down, KeyCode::PageDown] {
            assert_eq!(press(popup.as_mut(), &bench, code), None, "{title} stays for {code:?}");
        }
        bench.popups.push(popup);
        for (width, height) in [(60, 12), (100, 30), (160, 45)] {
            let text = drawn(&bench, width, height);
            if width >= 100 {
                assert!(text.contains(&title) && text.contains("esc closes"), "{text}");
                words.iter().for_each(|word| assert!(text.contains(word), "{word}: {text}"));
            }
        }
        key(&mut bench, KeyCode::Esc);
        assert!(bench.popups.is_empty(), "{title}");
    }
}

#[test]
fn a_long_text_scrolls_to_its_end_and_back() {
    let mut bench = app(true);
    let lines: Vec<String> = (0..200).map(|number| format!("line {number} of the tide table")).collect();
    bench.run(vec![show("Tides", lines.join("\n"))]);
    assert!(drawn(&bench, 160, 45).contains("line 0 ") && drawn(&bench, 160, 45).contains("more"));
    key(&mut bench, KeyCode::PageDown);
    assert!(!drawn(&bench, 160, 45).contains("line 0 "));
    key(&mut bench, KeyCode::End);
    let end = drawn(&bench, 160, 45);
    assert!(end.contains("line 199 ") && !end.contains(" more "), "{end}");
    key(&mut bench, KeyCode::Up);
    assert!(drawn(&bench, 160, 45).contains("1 more"), "one key is one line, also at the end");
    key(&mut bench, KeyCode::Home);
    assert!(drawn(&bench, 160, 45).contains("line 0 "));
    key(&mut bench, KeyCode::Enter);
    assert!(bench.popups.is_empty());
}

#[test]
fn commands_are_found_by_any_of_their_words_in_any_stage() {
    let mut bench = app(true);
    for (words, stage) in [("undo", StageId::Plan), ("quit", StageId::Ladder), ("capacity prove", StageId::Fathom)] {
        bench.stage = StageId::Ladder;
        sign(&mut bench, ':');
        words.chars().for_each(|own| sign(&mut bench, own));
        let text = drawn(&bench, 160, 45);
        assert!(text.contains(&format!("search: {words}")), "{text}");
        key(&mut bench, KeyCode::Enter);
        assert_eq!(bench.stage, stage, "{words}");
        bench.popups.clear();
    }
    assert!(bench.quit, "what works here is done at once");
    sign(&mut bench, ':');
    "no such thing".chars().for_each(|own| sign(&mut bench, own));
    key(&mut bench, KeyCode::Down);
    key(&mut bench, KeyCode::Enter);
    assert!(bench.popups.is_empty());
}

#[test]
fn what_is_pasted_goes_to_the_question_and_nowhere_else() {
    use crossterm::event::Event;
    let mut bench = app(true);
    let before = bench.stage;
    bench.take_event(&Event::Paste("8q\nq\u{3}".into()));
    assert!(!bench.quit && bench.stage == before && bench.popups.is_empty());
    assert!(bench.told.as_ref().unwrap().contains("not taken for keys"));
    bench.stage = StageId::Yard;
    sign(&mut bench, 't');
    bench.take_event(&Event::Paste("The parameter is incorrect.\nq\n".into()));
    let text = drawn(&bench, 160, 45);
    assert!(text.contains("› The parameter is incorrect. q▏"), "{text}");
    assert!(!bench.quit);
}

#[test]
fn a_letter_means_the_same_in_every_stage_or_nothing() {
    let mut meanings: BTreeMap<char, BTreeSet<(&str, StageId)>> = BTreeMap::new();
    for stage in StageId::ALL {
        for binding in stage.bindings() {
            let letters = binding.keys.split(' ').filter_map(|key| Some(key).filter(|key| key.len() == 1)?.chars().next());
            for letter in letters.filter(char::is_ascii_alphabetic) {
                let means = binding.long.split([' ', ':']).next().unwrap_or_default();
                meanings.entry(letter).or_default().insert((means, stage));
            }
        }
    }
    for (letter, meant) in &meanings {
        let words: BTreeSet<&str> = meant.iter().map(|(word, _)| *word).collect();
        assert!(words.len() == 1, "{letter} means {meant:?}");
    }
    assert!(meanings[&'o'].len() > 1 && meanings[&'p'].len() > 1, "the same letters are used again: {meanings:?}");
}

#[test]
fn every_list_is_written_to_a_file_and_its_selected_line_goes_to_the_clipboard() {
    let mut app = app(true);
    let folder = tempfile::tempdir().unwrap();
    let mut written = 0;
    for stage in StageId::ALL {
        app.run(vec![Effect::GoTo(stage)]);
        wait(&mut app);
        let Some(table) = stage.stage().table(&app) else { continue };
        assert!(table.rows.iter().all(|row| row.len() == table.columns.len()), "{stage:?}");
        if table.rows.is_empty() {
            continue;
        }
        written += 1;
        let path = folder.path().join(format!("{stage:?}.csv"));
        app.run(vec![Effect::Export(path.clone())]);
        wait(&mut app);
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.starts_with(&table.columns.join(",")) && text.lines().count() > table.rows.len(), "{stage:?}: {text}");
        // What is there stays.
        app.run(vec![Effect::Export(path)]);
        wait(&mut app);
        assert!(drawn(&app, 160, 45).contains("The list was not written"));
        key(&mut app, KeyCode::Esc);
        sign(&mut app, 'Y');
        if table.selected.is_some() {
            assert_eq!(app.clip.take(), table.selected_line(), "{stage:?}");
        }
    }
    assert!(written >= 4, "{written}");
    app.run(vec![Effect::GoTo(StageId::Sweep)]);
    sign(&mut app, 'X');
    assert!(drawn(&app, 160, 45).contains("-sweep.csv"), "{}", drawn(&app, 160, 45));
}
