//! The whole story in the real interface, driven in tmux.

use std::fs;

use crate::support::tmux::Session;
use crate::support::{Bench, YKEEL, expected, fingerprint, sha256};

fn session(bench: &Bench, name: &str, drive: &str) -> Session {
    let command = format!("YKEEL_STATE={} {YKEEL} {drive}", bench.path("state").display());
    Session::start(&format!("ykeel-{name}-{}", std::process::id()), 160, 45, bench.folder.path(), &command)
}

#[test]
fn from_an_unreadable_stick_to_an_applied_and_undone_table() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let before = fingerprint(&image);
    let screen = session(&bench, "story", "purser-stick.img");
    let ladder = screen.wait_for("broken: no table");
    assert!(
        ladder.contains("▲5 Table") && ladder.contains("Sector 0 holds 512 zero bytes") && ladder.contains("10 of 10 match"),
        "{ladder}"
    );
    screen.keys(&["s"]);
    let sweep = screen.wait_for("2 finds, 2 in the layout; swept");
    assert!(
        sweep.contains("2 finds, 2 in the layout")
            && sweep.lines().any(|line| line.contains("n2 ") && line.contains("NTFS") && line.contains("PURSER"))
            && sweep.contains("+ FAT 1 begins"),
        "{sweep}"
    );
    screen.keys(&["Down", "d"]);
    let dropped = screen.wait_for("dropped by the technician");
    assert!(dropped.contains("layout: MBR, 1 entry"), "{dropped}");
    screen.keys(&["d", "Enter"]);
    screen.wait_for("Voyage register.csv");
    screen.keys(&["Down", "Down", "Down", "Down", "Down", "Down", "Enter"]);
    screen.wait_for("boat-01.jpg");
    screen.wait_for("as picture");
    screen.keys(&["Space", "Space", "v"]);
    let files = screen.wait_for("as bytes");
    assert!(files.contains("2 marked"), "{files}");
    screen.keys(&["8"]);
    let plan = screen.wait_for("broken   → sound");
    assert!(plan.contains("1 edit, 512 B") && plan.contains("as planned") && plan.contains("1b0"), "{plan}");
    let code = plan.split("Code of this drive: ").nth(1).unwrap().split_whitespace().next().unwrap().to_string();
    screen.keys(&["a"]);
    screen.wait_for("Type the code of this drive");
    screen.line("AAA-AAA");
    screen.keys(&["Enter"]);
    screen.wait_for("That is not the code");
    assert_eq!(fingerprint(&image), before);
    screen.keys(&["Escape", "a"]);
    screen.wait_for("Type the code of this drive");
    screen.line(&code);
    screen.keys(&["Enter"]);
    screen.wait_for("read back and compared");
    assert_ne!(fingerprint(&image), before);
    screen.keys(&["Escape", "2"]);
    screen.wait_for("sound: MBR, 2 entries");
    screen.keys(&["7", "e"]);
    screen.wait_for("Folder to put the files into");
    screen.keys(&["Enter"]);
    let taken = screen.wait_for("2 files whole");
    assert!(taken.contains("are those of the manifest"), "{taken}");
    let hashes = expected("purser-stick", "PURSER");
    let folder = bench.path("taken-out/purser-stick.img PURSER/Pictures");
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let name = format!("Pictures/{}", entry.file_name().to_string_lossy());
        assert!(hashes.contains(&(name, sha256(&entry.path()))));
    }
    screen.keys(&["Escape", "8", "u"]);
    screen.wait_for("is put back as it was");
    screen.keys(&["Enter"]);
    screen.wait_for("stands as before the apply");
    assert_eq!(fingerprint(&image), before);
    screen.keys(&["Escape", "q"]);
    screen.wait_for("ended 0");
}

#[test]
fn a_long_sweep_shows_finds_keeps_keys_live_stops_and_goes_on() {
    let bench = Bench::new();
    let screen = session(&bench, "sweep", crate::support::yard().join("engine-log.drive.toml").to_str().unwrap());
    screen.wait_for("broken: no table");
    screen.keys(&["s"]);
    screen.wait_until("finds while it runs", |screen| screen.contains("LOGBOOK") && screen.contains("surface"));
    screen.keys(&["Down", "?"]);
    screen.wait_for("Help: Sweep");
    screen.keys(&["Escape", "2"]);
    screen.wait_for("5 Table");
    screen.keys(&["5", "x"]);
    let stopped = screen.wait_for("stopped; s goes on");
    assert!(stopped.contains("READ ONLY"), "{stopped}");
    screen.keys(&["s"]);
    screen.wait_for("; swept");
    screen.keys(&["q"]);
    screen.wait_for("ended 0");
}

#[test]
fn two_finds_on_the_same_ground_are_compared_side_by_side() {
    let bench = Bench::new();
    let screen = session(&bench, "compare", crate::support::yard().join("deckhand-laptop.img").to_str().unwrap());
    screen.wait_for("10 of 10");
    screen.keys(&["S"]);
    screen.wait_until("both generations", |screen| screen.contains("OLDLOG") && screen.contains("; swept"));
    screen.keys(&["V"]);
    let compared = screen.wait_until("both roots", |screen| screen.matches("newest change").count() == 2);
    assert!(
        compared.contains("claim the same 2.0 GB") && compared.contains("2019-03-14") && compared.contains("2026-03-14"),
        "{compared}"
    );
    screen.keys(&["V"]);
    screen.wait_for("2 finds, 1 in the layout");
    screen.keys(&["q"]);
    screen.wait_for("ended 0");
}

#[test]
fn every_stage_has_help_and_every_command_is_found_by_its_words() {
    let bench = Bench::new();
    bench.copy("galley.img");
    let screen = session(&bench, "help", "galley.img");
    screen.wait_for("sound: MBR, 2 entries");
    for (key, word) in [
        ("1", "Yard"),
        ("2", "Ladder"),
        ("3", "Copy"),
        ("4", "Fathom"),
        ("5", "Sweep"),
        ("6", "Mend"),
        ("7", "Files"),
        ("8", "Plan"),
    ] {
        screen.keys(&[key, "?"]);
        screen.wait_for(&format!("Help: {word}"));
        screen.keys(&["Escape"]);
    }
    screen.wait_for("The plan is empty");
    screen.keys(&[":"]);
    screen.line("deleted entries");
    screen.wait_for("List deleted entries too");
    screen.keys(&["Enter"]);
    screen.wait_for("entries");
    screen.keys(&["q"]);
    screen.wait_for("ended 0");
}

#[test]
fn a_terminal_too_small_is_told_plainly() {
    let bench = Bench::new();
    bench.copy("galley.img");
    let command = format!("YKEEL_STATE={} {YKEEL} galley.img", bench.path("state").display());
    let screen = Session::start(&format!("ykeel-small-{}", std::process::id()), 79, 23, bench.folder.path(), &command);
    screen.wait_for("wants 80x24 characters at least; this terminal has 79x23");
    // Nobody sees what a key would do: none but the one that leaves does anything.
    screen.keys(&["s", "8", "a", "q"]);
    screen.wait_for("ended 0");
}

#[test]
fn mend_compares_three_columns_takes_versions_checks_and_proves() {
    let bench = Bench::new();
    let image = bench.copy("deck-camera.img");
    let before = fingerprint(&image);
    let screen = session(&bench, "mend", "deck-camera.img");
    screen.wait_until("the volume", |screen| screen.contains("DECKCAM") && screen.contains("10 of 10"));
    screen.keys(&["6"]);
    let mend = screen.wait_for("ClusterHeapOffset");
    assert!(mend.contains("exFAT boot region") && mend.contains("does not hold") && mend.contains("1 of 1 hold"), "{mend}");
    assert!(mend.contains("rule: directory entry sets") && mend.contains("ClusterHeapOffset"), "{mend}");
    // A field, its witness and what it breaks; then the whole structure as computed, and as the evidence says again.
    screen.keys(&["Right", "Down", "Down", "Down", "Down"]);
    let field = screen.wait_for("bytes around FatOffset");
    assert!(field.contains("When it is wrong") && field.contains("Computed from this: where a FAT stands"), "{field}");
    screen.keys(&["Left", "w"]);
    screen.wait_for("from computed");
    screen.keys(&["w"]);
    screen.wait_for("from copy");
    screen.keys(&["8"]);
    let plan = screen.wait_for("1 edit, 6.1 kB");
    let code = plan.split("Code of this drive: ").nth(1).unwrap().split_whitespace().next().unwrap().to_string();
    screen.keys(&["a"]);
    screen.wait_for("Type the code of this drive");
    screen.line(&code);
    screen.keys(&["Enter"]);
    screen.wait_for("read back and compared");
    screen.keys(&["Escape"]);
    let files = expected("deck-camera", "DECKCAM").len();
    let proof = screen.wait_for("samples that read");
    assert!(proof.contains(&format!("files listed {files} → {files}")), "{proof}");
    assert!(proof.contains("mounted read-only by exfat"), "{proof}");
    screen.keys(&["6"]);
    let held = screen.wait_until("a region that holds", |screen| {
        screen.contains("as it stands") && screen.contains("Next") || screen.contains("ClusterHeapOffset")
    });
    assert!(!held.contains("does not hold"), "{held}");
    screen.keys(&["8", "u"]);
    screen.wait_for("is put back as it was");
    screen.keys(&["Enter"]);
    screen.wait_for("stands as before the apply");
    assert_eq!(fingerprint(&image), before);
    screen.keys(&["Escape", "q"]);
    screen.wait_for("ended 0");
}

#[test]
fn a_rule_that_costs_something_is_mended_on_request() {
    let bench = Bench::new();
    bench.copy("deck-recorder.img");
    let screen = session(&bench, "rule", "deck-recorder.img");
    screen.wait_until("the volume", |screen| screen.contains("RECORDER") && screen.contains("10 of 10"));
    screen.keys(&["6"]);
    let found = screen.wait_for("on request: space");
    assert!(found.contains("the journal does not hold") && found.contains("What that costs"), "{found}");
    screen.keys(&["Space"]);
    screen.wait_for("mended, as asked");
    screen.wait_for("1 STAGED");
    screen.keys(&["Space"]);
    screen.wait_for("on request: space");
    screen.keys(&["q"]);
    screen.wait_for("ended 0");
}
