//! Intake, copy and capacity in the real interface, driven in tmux.

use std::fs;

use crate::support::tmux::Session;
use crate::support::{Bench, YKEEL, fingerprint};

fn session(bench: &Bench, name: &str, arguments: &str) -> Session {
    let command = format!("YKEEL_STATE={} {YKEEL} {arguments}", bench.path("state").display());
    Session::start(&format!("ykeel-{name}-{}", std::process::id()), 160, 45, bench.folder.path(), &command)
}

fn code_in(screen: &str) -> String {
    let is_code = |word: &&str| {
        word.len() == 7 && word.as_bytes()[3] == b'-' && word.bytes().all(|sign| sign == b'-' || sign.is_ascii_alphanumeric())
    };
    screen.split_whitespace().find(is_code).unwrap().to_string()
}

#[test]
fn a_sick_drive_is_taken_in_asked_copied_and_worked_on() {
    let bench = Bench::new();
    bench.drive("mess-room");
    // Without arguments: the yard of this folder.
    let screen = session(&bench, "sick", "");
    screen.wait_for("no case is open");
    screen.keys(&["i"]);
    screen.wait_for("What the client sees");
    screen.keys(&["Down", "Down", "Down", "Down", "Down", "Down", "Space", "Escape"]);
    screen.wait_for("sees  RAW, wants to be formatted");
    screen.keys(&["t"]);
    screen.wait_for("An error message as pasted");
    screen.line("0x8007045D");
    screen.keys(&["Enter"]);
    screen.wait_for("a request failed on the drive or on its way");
    screen.keys(&["B"]);
    screen.wait_for("Checks outside the computer");
    screen.keys(&["y", "Down", "n", "Escape"]);
    let yard = screen.wait_for("○ no change");
    assert!(yard.contains("● listed") && yard.contains("▶ next") && yard.contains("at fault may be"), "{yard}");
    screen.keys(&["Enter"]);
    let ladder =
        screen.wait_until("the whole ladder", |screen| screen.contains("copy it first: 3, then C") && screen.contains("TICKETS"));
    assert!(ladder.contains("broken: 255 of 256 samples"), "{ladder}");
    assert!(ladder.contains("doubtful: worn") && ladder.contains("copy it first: 3, then C"), "{ladder}");
    screen.keys(&["3", "C"]);
    screen.wait_for("The image to write");
    screen.keys(&["Enter"]);
    let copied = screen.wait_for("enter works on it");
    assert!(copied.contains("bytes are missing, in") && copied.contains("● once more") && copied.contains("×"), "{copied}");
    screen.keys(&["H"]);
    screen.wait_for("are what was read from the drive");
    screen.keys(&["Enter"]);
    let on_copy = screen.wait_until("the copy at work", |screen| screen.contains("every stage works on the copy"));
    assert!(on_copy.contains("mess-room-copy.img") && on_copy.contains("image"), "{on_copy}");
    screen.wait_for("bytes missing in");
    screen.keys(&["P"]);
    screen.wait_for("Whom is it for?");
    screen.keys(&["Enter"]);
    screen.wait_for("FILE.html for a browser");
    screen.keys(&["Enter"]);
    screen.wait_for("is written");
    let report = fs::read(bench.path("mess-room-copy-client.pdf")).unwrap();
    assert!(report.starts_with(b"%PDF-"));
    screen.keys(&["Escape", "q"]);
    screen.wait_for("ended 0");
}

#[test]
fn a_lying_drive_is_measured_put_back_and_seen_as_far_as_it_stores() {
    let bench = Bench::new();
    bench.drive("tide-stick");
    let surface = bench.path("tide-stick/surface.img");
    let before = fingerprint(&surface);
    let screen = session(&bench, "liar", "tide-stick.drive.toml");
    screen.wait_for("6 of 6 match");
    screen.keys(&["4", "G"]);
    screen.wait_for("claims 64.0 GB, seems to store 4.0 GB");
    // The drive is asked anew after each verdict; a probe waits for that.
    let asked = screen.wait_until("the question", |now| {
        screen.keys(&["f"]);
        now.contains("Type the code of this drive")
    });
    screen.keys(&["BSpace", "BSpace", "BSpace"]);
    screen.line("WRO-NG1");
    screen.keys(&["Enter"]);
    screen.wait_for("Nothing was written");
    screen.keys(&["Escape", "f"]);
    screen.line(&code_in(asked.split("Type the code").nth(1).unwrap()));
    screen.keys(&["Enter"]);
    screen.wait_for("MEASURING, WRITES");
    let proven = screen.wait_for("claims 64.0 GB, stores 4.0 GB");
    assert!(proven.contains("true end 4.0 GB") && proven.contains("○○") && proven.contains("4009754624 bytes"), "{proven}");
    assert_eq!(fingerprint(&surface), before);
    screen.keys(&["2"]);
    screen.wait_for("broken: claims 64.0 GB, stores 4.0 GB");
    screen.wait_until("edits that fit it", |screen| screen.contains("STAGED"));
    screen.keys(&["q"]);
    screen.wait_for("ended 0");
}

#[test]
fn a_probe_that_was_killed_is_recognised_and_put_back() {
    let bench = Bench::new();
    let path = bench.drive("tide-stick");
    let surface = bench.path("tide-stick/surface.img");
    let before = fingerprint(&surface);
    let mut probing = bench.command().args(["fathom", path.to_str().unwrap(), "--yes"]).spawn().unwrap();
    // Until it has begun to write over the drive; looking at its time takes no lock.
    let time = || fs::metadata(&surface).unwrap().modified().unwrap();
    let (untouched, begun) = (time(), std::time::Instant::now());
    while time() == untouched && begun.elapsed().as_secs() < 60 {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    probing.kill().unwrap();
    probing.wait().unwrap();
    assert_ne!(fingerprint(&surface), before, "the probe was killed while it wrote");
    let again = bench.run(&["fathom", path.to_str().unwrap(), "--yes"]);
    assert_eq!(again.status.code(), Some(4), "{}", String::from_utf8_lossy(&again.stderr));
    let screen = session(&bench, "killed", "tide-stick.drive.toml");
    screen.wait_for("A probe was interrupted");
    screen.keys(&["Escape", "4", "u"]);
    screen.wait_for("bytes were put back");
    assert_eq!(fingerprint(&surface), before);
    screen.keys(&["Escape", "q"]);
    screen.wait_for("ended 0");
}
