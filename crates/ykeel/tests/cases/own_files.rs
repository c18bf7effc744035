//! No file of ours takes the place of somebody else's: neighbours, sources and links stay as they are.

use std::fs;

use crate::support::{Bench, fingerprint, text};

#[test]
fn a_copy_that_goes_on_does_not_take_its_source_for_the_logs_new_name() {
    let bench = Bench::new();
    let source = bench.copy_as("purser-stick.img", "X.part");
    let before = fingerprint(&source);
    let copy = bench.path("X");
    for round in 0..3 {
        let output = bench.run(&["copy", text(&source), text(&copy)]);
        assert!(matches!(output.status.code(), Some(0 | 5)), "{round}: {output:?}");
        assert!(source.exists(), "round {round}: the source is gone");
        assert_eq!(fingerprint(&source), before, "round {round}");
    }
    assert_eq!(fingerprint(&copy), before);
}

#[test]
fn a_bundle_beside_its_drive_leaves_every_neighbour_alone() {
    let bench = Bench::new();
    let source = bench.copy_as("purser-stick.img", "S.part");
    let before = fingerprint(&source);
    let bundle = bench.path("S.ykundo");
    let mend = |bundle: &str| bench.run(&["mend", text(&source), "--apply", "--yes", "--bundle", bundle]);
    let applied = mend(text(&bundle));
    assert!(applied.status.success(), "{applied:?}");
    assert_ne!(fingerprint(&source), before, "it was mended");
    let undone = bench.run(&["undo", text(&bundle), "--source", text(&source)]);
    assert!(undone.status.success(), "{undone:?}");
    assert_eq!(fingerprint(&source), before, "and nothing else was done to it");
    // A bundle that is there is an undo that somebody may need: no other takes its place, and nothing is written.
    let kept = fs::read(&bundle).unwrap();
    assert!(!mend(text(&bundle)).status.success());
    assert_eq!((fs::read(&bundle).unwrap(), fingerprint(&source)), (kept, before));
    assert!(!mend(text(&source)).status.success(), "the drive itself is no place for its bundle");
    assert_eq!(fingerprint(&source), before);
}

#[test]
fn a_report_replaces_a_report_and_nothing_else() {
    let bench = Bench::new();
    let source = bench.copy("purser-stick.img");
    let before = fingerprint(&source);
    for name in ["report.pdf", "keel.svg"] {
        let out = bench.path(name);
        for round in 0..2 {
            let output = bench.run(&["report", text(&source), "--out", text(&out)]);
            assert!(output.status.success(), "{name}, {round}: {output:?}");
        }
        let made = fs::read(&out).unwrap();
        // A client's own document, and links to one and to the drive.
        let (theirs, link, to_drive) =
            (bench.path(&format!("theirs-{name}")), bench.path(&format!("link-{name}")), bench.path(&format!("drive-{name}")));
        fs::write(&theirs, b"%PDF-1.4 the client's own").unwrap();
        std::os::unix::fs::symlink(&theirs, &link).unwrap();
        std::os::unix::fs::symlink(&source, &to_drive).unwrap();
        for place in [&theirs, &link, &to_drive] {
            let output = bench.run(&["report", text(&source), "--out", text(place)]);
            assert!(!output.status.success(), "{place:?}: {output:?}");
        }
        assert_eq!(fs::read(&theirs).unwrap(), b"%PDF-1.4 the client's own");
        assert_eq!(fs::read(&out).unwrap(), made);
    }
    let hard = bench.path("drive-by-another-name.pdf");
    fs::hard_link(&source, &hard).unwrap();
    assert!(!bench.run(&["report", text(&source), "--out", text(&hard)]).status.success());
    assert_eq!(fingerprint(&source), before);
}
