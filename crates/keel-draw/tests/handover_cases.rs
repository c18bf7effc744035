//! What is handed over of whole drives: each drawing, the report, and what is refused.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use keel_core::job::{Cancel, Desk};
use keel_core::sweep::{self, Sweep, SweepOptions};
use keel_core::{case, fathom};
use keel_draw::{Asked, HandoverError, Which, hand_over};
use keel_source::{OpenOptions, SharedSource};

const MIB: u64 = 1 << 20;

struct Bench {
    folder: tempfile::TempDir,
    source: SharedSource,
}

impl Bench {
    /// A simulated drive of 16 MiB, with this in its description.
    fn new(more: &str) -> Self {
        static STATE: OnceLock<tempfile::TempDir> = OnceLock::new();
        case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        let folder = tempfile::tempdir().unwrap();
        let serial = folder.path().file_name().unwrap().to_string_lossy().into_owned();
        let surface: Vec<u8> = (0..16 * MIB / 8).flat_map(|at| (at * 0x9E37_79B9 + 1).to_le_bytes()).collect();
        fs::write(folder.path().join("surface.img"), surface).unwrap();
        let path = folder.path().join("quay.drive.toml");
        let text = format!(
            "version = 1\nclaimed_bytes = {}\nidentity = {{ model = \"Mudlark\", serial = \"{serial}\" }}\n\
             backing = [{{ file = \"surface.img\" }}]\nclock = {{ read_us = 100, bytes_per_second = 50000000 }}\n{more}\n",
            16 * MIB
        );
        fs::write(&path, text).unwrap();
        let source = keel_source::open(&path, OpenOptions::default()).unwrap();
        Self { folder, source }
    }

    fn swept(&self) -> Sweep {
        sweep::sweep(&self.source, &SweepOptions::default(), &Desk::new(Cancel::default()).0)
    }

    fn out(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn hand_over(&self, out: &Path, which: Option<Which>) -> Result<(), HandoverError> {
        let (cancel, sweep) = (Cancel::default(), || Some(self.swept()));
        hand_over(&Asked { source: &self.source, case: None, sweep: &sweep, cancel: &cancel }, out, which)
    }
}

#[test]
fn each_drawing_is_written_in_both_forms_once_what_it_shows_is_known() {
    let sick = "unreadable = [{ first_lba = 9000, sectors = 8 }]\n[health.ata]\nattributes = [{ id = 197, raw = 4 }]";
    let bench = Bench::new(sick);
    for (which, name) in [(Which::Keel, "keel"), (Which::Reads, "reads"), (Which::Health, "health")] {
        for (end, begins) in [("svg", &b"<svg"[..]), ("pdf", b"%PDF-")] {
            let out = bench.out(&format!("{name}.{end}"));
            bench.hand_over(&out, Some(which)).unwrap();
            let bytes = fs::read(&out).unwrap();
            assert!(bytes.starts_with(begins), "{name}.{end}");
            // A second time takes the place of the first.
            bench.hand_over(&out, Some(which)).unwrap();
        }
    }
    let health = fs::read_to_string(bench.out("health.svg")).unwrap();
    assert!(health.contains("197") && health.contains("Mudlark"));
    // What is not known yet is said, and nothing is left behind.
    let out = bench.out("capacity.svg");
    let error = bench.hand_over(&out, Some(Which::Capacity)).unwrap_err().to_string();
    assert!(error.contains("not measured") && !out.exists(), "{error}");
    let error = bench.hand_over(&bench.out("copy.svg"), Some(Which::Copy)).unwrap_err().to_string();
    assert!(error.contains("no copy"), "{error}");
    let verdict = fathom::estimate(&bench.source, &Desk::new(Cancel::default()).0);
    fathom::keep(&bench.source, &verdict).unwrap();
    bench.hand_over(&out, Some(Which::Capacity)).unwrap();
    assert!(fs::read_to_string(&out).unwrap().contains("16777216"));
}

#[test]
fn a_drive_without_a_health_page_has_none_to_draw_but_a_report() {
    let bench = Bench::new("");
    assert!(matches!(bench.hand_over(&bench.out("h.svg"), Some(Which::Health)), Err(HandoverError::Health(_))));
    let out = bench.out("report.pdf");
    bench.hand_over(&out, None).unwrap();
    let bytes = fs::read(&out).unwrap();
    let pages = bytes.windows(12).filter(|window| window == b"/Type /Page\n").count();
    assert_eq!(pages, 3, "rungs, keel, reads");
}

#[test]
fn nothing_that_is_not_a_report_of_ours_is_replaced() {
    let bench = Bench::new("");
    for (name, bytes) in
        [("letter.pdf", &b"%PDF-1.4 a letter of the client"[..]), ("drawing.svg", b"<svg>a plan</svg>"), ("text", b"kept")]
    {
        let out = bench.out(name);
        fs::write(&out, bytes).unwrap();
        let error = bench.hand_over(&out, Some(Which::Keel)).unwrap_err();
        assert!(matches!(error, HandoverError::Write { .. }), "{name}: {error}");
        assert_eq!(fs::read(&out).unwrap(), bytes, "{name}");
    }
    // The drive itself, by its own name and by a link to it.
    let link = bench.out("link.pdf");
    std::os::unix::fs::symlink(bench.out("surface.img"), &link).unwrap();
    let before = fs::read(bench.out("surface.img")).unwrap();
    for out in [bench.out("surface.img"), bench.out("quay.drive.toml"), link] {
        assert!(bench.hand_over(&out, None).is_err(), "{}", out.display());
    }
    assert_eq!(fs::read(bench.out("surface.img")).unwrap(), before);
    let nowhere = bench.out("no/such/folder/report.pdf");
    assert!(bench.hand_over(&nowhere, None).is_err() && !bench.out("no").exists());
}

#[test]
fn a_report_that_is_stopped_writes_nothing() {
    let bench = Bench::new("");
    let out = bench.out("report.pdf");
    let (cancel, sweep) = (Cancel::default(), || None);
    let asked = Asked { source: &bench.source, case: None, sweep: &sweep, cancel: &cancel };
    assert!(matches!(hand_over(&asked, &out, None), Err(HandoverError::Stopped)));
    assert!(!out.exists());
    assert_eq!(fs::read_dir(bench.folder.path()).unwrap().count(), 2, "nor anything beside it");
}
