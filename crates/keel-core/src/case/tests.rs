use std::fs;

use keel_source::LinkKind;

use super::*;
use crate::intake::Outcome;

fn state() {
    static STATE: OnceLock<tempfile::TempDir> = OnceLock::new();
    keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
}

#[test]
fn a_case_keeps_what_was_told_and_checked_and_its_journal_proves_it() {
    state();
    let folder = tempfile::tempdir().unwrap();
    let drive = folder.path().join("pier lamp.img");
    fs::write(&drive, [0; 512]).unwrap();
    let mut case = Case::open(&drive, None, "Brackwater Line").unwrap();
    case.set_symptom("comes_and_goes", true).unwrap();
    let known = case.tell("It says: Data error (cyclic redundancy check)\u{1b}[2J").unwrap();
    assert_eq!(known.iter().map(|known| known.symptom).collect::<Vec<_>>(), ["read_errors"]);
    case.set_check("other_cable", Some(Outcome::No), "the long one").unwrap();
    assert!(case.set_check("other_moon", None, "").is_err() && case.set_symptom("moody", true).is_err());
    let mut identity = Identity::bare("pier lamp.img", 512, LinkKind::Image);
    identity.serial = Some("BL-1".into());
    case.identify(&identity).unwrap();
    let again = Case::of(&drive, None).unwrap().unwrap();
    assert_eq!(again, case);
    assert_eq!(again.record.told.symptoms, ["comes_and_goes", "read_errors"]);
    assert!(!again.record.told.texts[0].contains('\u{1b}') && again.record.checks[0].note == "the long one");
    let events: Vec<String> = lines(&again.folder).unwrap().into_iter().map(|line| line.event).collect();
    assert_eq!(events, ["opened", "symptom", "told", "check", "identity"]);
    assert!(verify(&again.folder, &again.record.journal).unwrap().whole);
    // The drive under another name, the old one gone.
    let moved = folder.path().join("renamed.img");
    fs::rename(&drive, &moved).unwrap();
    assert_eq!(Case::of(&moved, Some(&identity)).unwrap().unwrap().record.name, case.record.name);
    assert!(Case::of(&moved, None).unwrap().is_none());
}

#[test]
fn every_change_to_a_journal_is_seen() {
    state();
    let folder = tempfile::tempdir().unwrap();
    let drive = folder.path().join("gangway.img");
    fs::write(&drive, [0; 512]).unwrap();
    let mut case = Case::open(&drive, None, "").unwrap();
    for number in 0..6 {
        case.write_down("note", &serde_json::json!({ "number": number })).unwrap();
    }
    let path = case.folder.join("journal.jsonl");
    let whole = fs::read_to_string(&path).unwrap();
    let seal = case.record.journal.clone();
    let verdict = |text: &str| {
        fs::write(&path, text).unwrap();
        verify(&case.folder, &seal).unwrap()
    };
    assert!(verdict(&whole).whole);
    let rows: Vec<&str> = whole.lines().collect();
    for index in 0..rows.len() {
        let mut without = rows.clone();
        without.remove(index);
        assert!(!verdict(&(without.join("\n") + "\n")).whole, "line {index} taken out");
        let changed = whole.replace(&format!("\"number\":{index},"), &format!("\"number\":{index} ,"));
        assert!(changed != whole && !verdict(&changed).whole, "line {index} changed");
    }
    let mut swapped = rows.clone();
    swapped.swap(2, 3);
    assert!(!verdict(&(swapped.join("\n") + "\n")).whole);
    // Whatever byte is changed is named by its line, and so are a line that is there twice and one that does not end.
    let mut at = 0;
    for (index, row) in rows.iter().enumerate() {
        for offset in (0..=row.len()).step_by(7).chain([row.len()]) {
            let mut bytes = whole.clone().into_bytes();
            bytes[at + offset] ^= 0x04;
            fs::write(&path, &bytes).unwrap();
            let verdict = verify(&case.folder, &seal).unwrap();
            let named =
                |number: usize| verdict.problem.as_ref().is_some_and(|problem| problem.contains(&format!("line {number}")));
            assert!(!verdict.whole && (named(index + 1) || named(index)), "line {index}, byte {offset}: {verdict:?}");
        }
        at += row.len() + 1;
        let mut twice = rows.clone();
        twice.insert(index, row);
        let verdict = verdict(&(twice.join("\n") + "\n"));
        assert!(verdict.problem.is_some_and(|problem| problem.contains(&format!("line {}", index + 2))), "{index}");
    }
    assert!(verdict(whole.trim_end()).problem.is_some_and(|problem| problem.contains("cut off")));
    assert!(verdict(&whole.replace('\n', "\r\n")).problem.is_some_and(|problem| problem.contains("line 1")));
    // A line that a crash left behind the seal is none of the damages.
    fs::write(&path, &whole).unwrap();
    journal::append(&path, "note", &serde_json::json!({})).unwrap();
    let verified = verify(&case.folder, &seal).unwrap();
    assert!(verified.whole && verified.lines == seal.lines + 1);
    assert!(!verdict("").whole);
}

#[test]
fn several_programs_work_on_one_case_and_lose_nothing() {
    state();
    let folder = tempfile::tempdir().unwrap();
    let drive = folder.path().join("winch.img");
    fs::write(&drive, [0; 512]).unwrap();
    let case = Case::open(&drive, None, "").unwrap();
    let workers: Vec<_> = (0..6)
        .map(|worker| {
            let mut own = case.clone();
            std::thread::spawn(move || {
                for number in 0..8 {
                    own.tell(&format!("{worker} heard it {number} times")).unwrap();
                }
            })
        })
        .collect();
    workers.into_iter().for_each(|worker| worker.join().unwrap());
    let again = Case::load(&case.folder).unwrap();
    let mut texts = again.record.told.texts.clone();
    texts.sort();
    texts.dedup();
    assert_eq!((texts.len(), again.record.journal.lines), (48, 49));
    assert!(verify(&again.folder, &again.record.journal).unwrap().whole);
}

/// A line of a journal.
fn line(event: &str, detail: serde_json::Value) -> JournalLine {
    JournalLine { number: 0, at: now(), event: event.into(), detail, before: String::new() }
}

#[test]
fn what_was_done_is_told_in_sentences_and_what_was_asked_is_not() {
    use serde_json::json;
    let told = |event: &str, detail| deed(&line(event, detail)).map(|lines| lines.join("; "));
    let edit = |what: &str, intent: &str| json!({ "what": what, "intent": intent });
    let edits: Vec<_> = (0..6).map(|number| edit(&format!("boot sector {number}"), "repair")).collect();
    let applied = told("apply", json!({ "edits": edits, "of": 6, "bytes": 3072, "result": "written" })).unwrap();
    let named = "(boot sector 0, boot sector 1, boot sector 2, boot sector 3 and 2 more)";
    assert_eq!(applied, format!("Structures were repaired, 3.0 kB in 6 places {named}: written"));
    let anew =
        told("apply", json!({ "edits": [edit("GPT", "create"), edit("old", "erase")], "of": 2, "bytes": 9, "result": "x" }));
    assert!(anew.unwrap().starts_with("A new layout was written"));
    let cleared = told("apply", json!({ "edits": [edit("old", "erase")], "of": 1, "bytes": 9, "result": "x" })).unwrap();
    assert!(cleared.starts_with("What former volumes left was cleared, 9 B in 1 place"), "{cleared}");
    let wiped = json!({ "error": "gone", "so_far": { "method": "zeros", "line": "half of it" } });
    assert_eq!(told("wipe", wiped).unwrap(), "Ground was overwritten for good (zeros): half of it; it ended with: gone");
    let copied = json!({ "to": "/c.img", "copied": { "bytes": 2000, "copied_bytes": 1500 } });
    assert_eq!(told("copy", copied).unwrap(), "The drive was copied to /c.img: 1.5 kB of 2.0 kB, 500 B are missing in it");
    let taken = json!({ "whole": 12, "partly_unreadable": 1, "failed": 0, "bytes": 3000, "manifest": "/out/m.json" });
    let said = "Files were taken out: 12 whole, 1 partly unreadable; 3.0 kB with the manifest /out/m.json";
    assert_eq!(told("extract", taken).unwrap(), said);
    for event in ["ladder", "opened", "told", "check", "health", "note"] {
        assert_eq!(told(event, json!({ "result": "written" })), None, "{event}");
    }
    // A journal that somebody else wrote steers no terminal and stops nothing.
    for event in ["apply", "finish", "undo", "save", "wipe", "copy", "extract", "fathom", "put back", "close", "open again"] {
        for detail in
            [json!(null), json!(7), json!([1]), json!({ "edits": 4, "of": -1, "stands": { "table": 1 }, "copied": "x" })]
        {
            assert!(told(event, detail).is_some(), "{event}");
        }
        let steering =
            json!({ "result": "\u{1b}[2J", "to": "\u{7}", "file": "\u{202e}", "error": "\u{1b}c", "method": "\u{9b}" });
        assert!(!told(event, steering).unwrap().chars().any(|sign| sign.is_control() || sign == '\u{202e}'), "{event}");
    }
}
