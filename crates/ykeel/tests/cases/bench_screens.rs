//! The whole bench in the real interface: all drives asked, one copied while two others are swept and mended, left and come back to.

use std::fs;

use crate::support::tmux::Session;
use crate::support::{Bench, YKEEL};

/// A bench with the whole demo yard on it, to be written to.
fn yard() -> Bench {
    let bench = Bench::new();
    let output = bench.command().args(["demo", "--no-screens", "--dir", "yard"]).output().unwrap();
    assert!(output.status.success(), "{output:?}");
    bench
}

fn session(bench: &Bench, name: &str, size: (u16, u16)) -> Session {
    let command = format!("YKEEL_STATE={} {YKEEL} ./yard", bench.path("state").display());
    Session::start(&format!("ykeel-{name}-{}", std::process::id()), size.0, size.1, bench.folder.path(), &command)
}

/// Opens a drive of the board by its name.
fn open(screen: &Session, name: &str) {
    screen.keys(&["1", "/"]);
    screen.line(name);
    screen.keys(&["Enter", "Enter"]);
}

/// The line of the board that begins with this name.
fn row(text: &str, name: &str) -> String {
    let begins = |line: &&str| line.trim_start().starts_with(&format!("{name} "));
    text.lines().find(begins).unwrap_or_else(|| panic!("no row of {name}: {text}")).to_string()
}

fn code_in(screen: &str) -> String {
    let is_code = |word: &&str| word.len() == 7 && word.as_bytes()[3] == b'-' && word.is_ascii() && word.to_uppercase() == **word;
    screen.split("Type the code").nth(1).unwrap().split_whitespace().find(is_code).unwrap().to_string()
}

#[test]
fn thirty_two_drives_are_asked_one_copied_two_mended_and_every_row_tells_the_truth_after_a_restart() {
    let bench = yard();
    let screen = session(&bench, "board", (160, 50));
    let board = screen.wait_for("32 drives on the bench");
    assert!(board.contains("not looked at"), "{board}");
    screen.keys(&["A"]);
    // A copy begins while the others are asked.
    open(&screen, "mess-room");
    screen.wait_for("copy it first: 3, then C");
    screen.keys(&["3", "C"]);
    screen.wait_for("The image to write");
    screen.keys(&["Enter"]);
    for name in ["purser-stick", "ticket-office"] {
        open(&screen, name);
        screen
            .wait_until("a whole ladder", |text| text.contains(name) && text.contains("Coverage") && !text.contains("examining"));
        screen.keys(&["s"]);
        screen.wait_until("a sweep to its end", |text| text.contains("; swept") && !text.contains("settling"));
        screen.keys(&["8"]);
        screen.wait_until("a plan", |text| text.contains("Code of this drive") && !text.contains("examining the plan"));
        // What still runs on it is waited for, as the foot says.
        let asked = screen.wait_until("the question for the code", |text| {
            let asks = text.contains("Type the code of this drive");
            if !asks {
                screen.keys(&["a"]);
            }
            asks
        });
        screen.line(&code_in(&asked));
        screen.keys(&["Enter"]);
        screen.wait_for("read back and compared");
        screen.keys(&["Escape"]);
        screen.wait_for("WRITTEN, UNDO AT HAND");
    }
    screen.keys(&["1", "/", "Escape"]);
    let done = screen.wait_until("all that was begun", |text| {
        !text.contains("to be asked") && !text.contains("being asked") && !text.contains('▶') && text.contains(" idle ")
    });
    assert!(!done.contains("not looked at: enter, or A"), "{done}");
    screen.keys(&["q"]);
    screen.wait_for("ended 0");
    // The copy is there, and what was mended holds.
    assert!(fs::read_dir(bench.path("yard/copies")).unwrap().count() >= 2, "an image and its log");
    let again = session(&bench, "again", (160, 50));
    let board = again.wait_for("32 drives on the bench");
    for name in ["purser-stick", "ticket-office"] {
        let row = row(&board, name);
        assert!(!row.contains('×'), "no rung is broken: {row}");
        let (_, ladder) = bench.json(&["ladder", &format!("yard/{name}.img")]);
        assert!(ladder["lowest_broken"].is_null(), "{name}: {ladder}");
    }
    let sick = row(&board, "mess-room");
    assert!(sick.contains("work on its copy") && sick.contains('×'), "{sick}");
    // Of drives that were only asked the row says what the command says.
    let mut compared = 0;
    for name in ["engine-log.drive.toml", "deck-camera.img", "galley.img", "wheelhouse.img"] {
        let (_, ladder) = bench.json(&["ladder", &format!("yard/{name}")]);
        let lowest = ladder["lowest_broken"]["rung"].as_str().map(str::to_string);
        again.keys(&["/"]);
        let short = name.split('.').next().unwrap();
        again.line(short);
        again.keys(&["Enter"]);
        let row = row(&again.wait_for(&format!("with: {short}")), short);
        assert_eq!(row.contains('×'), lowest.is_some(), "{name}: {row} {lowest:?}");
        compared += 1;
    }
    assert_eq!(compared, 4);
    again.keys(&["/", "Escape"]);
    open(&again, "mess-room");
    again.wait_for("copy");
    again.keys(&["3"]);
    again.wait_for("An earlier run copied");
    // What is next is said when its rungs are known again.
    let copy = again.wait_for("work on its copy");
    assert!(copy.contains("64.5 kB did not come over") && copy.contains("××"), "{copy}");
    again.keys(&["q"]);
}

#[test]
fn a_rescue_sticks_console_of_80_by_24_shows_every_stage() {
    let bench = Bench::new();
    bench.copy("purser-stick.img");
    let command = format!("YKEEL_STATE={} {YKEEL} purser-stick.img", bench.path("state").display());
    let screen = Session::start(&format!("ykeel-console-{}", std::process::id()), 80, 24, bench.folder.path(), &command);
    let ladder = screen.wait_for("broken: no table");
    assert!(ladder.contains("1 Link") && ladder.contains("9 Files"), "{ladder}");
    screen.keys(&["."]);
    screen.wait_for("Sector 0 holds 512 zero bytes");
    screen.keys(&[".", "s"]);
    let sweep = screen.wait_for("; swept");
    assert!(sweep.contains("n2") && sweep.contains("NTFS"), "{sweep}");
    screen.keys(&["8"]);
    screen.wait_for("the ladder now → as planned");
    screen.keys(&["?"]);
    screen.wait_for("Help: Plan");
    screen.keys(&["Escape", "q"]);
    screen.wait_for("ended 0");
}

#[test]
fn a_message_of_two_lines_is_pasted_as_text() {
    let bench = Bench::new();
    bench.copy("galley.img");
    let screen = Session::start(
        &format!("ykeel-paste-{}", std::process::id()),
        160,
        45,
        bench.folder.path(),
        &format!("YKEEL_STATE={} {YKEEL}", bench.path("state").display()),
    );
    screen.wait_for("not looked at");
    let message = bench.path("message.txt");
    fs::write(&message, "Location is not available\nq: the volume\nq\n").unwrap();
    // As a terminal pastes: between the marks that it sends for it.
    screen.paste(&message);
    let text = screen.wait_for("not taken for keys");
    assert!(text.contains("galley"), "nothing of it was a key: {text}");
    screen.keys(&["t"]);
    screen.wait_for("An error message as pasted");
    screen.paste(&message);
    screen.wait_for("Location is not available q: the volume q");
    screen.keys(&["Escape", "q"]);
    screen.wait_for("ended 0");
}
