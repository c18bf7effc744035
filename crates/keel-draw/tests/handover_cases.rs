//! What is handed over of whole drives: each drawing, the report, and what is refused.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{LazyLock, OnceLock};

use keel_core::job::{Cancel, Desk};
use keel_core::sweep::{self, Sweep, SweepOptions};
use keel_core::{case, fathom};
use keel_draw::{Asked, Audience, HandoverError, Phrases, Which, hand_over};
use keel_source::{OpenOptions, SharedSource};

const MIB: u64 = 1 << 20;

static ENGLISH: LazyLock<Phrases> = LazyLock::new(Phrases::default);

/// What the bench asks for, without a case.
fn asked<'a>(source: &'a SharedSource, sweep: &'a dyn Fn() -> Option<Sweep>, cancel: &'a Cancel) -> Asked<'a> {
    Asked { source, case: None, sweep, audience: Audience::Bench, phrases: &ENGLISH, cancel }
}

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
        hand_over(&asked(&self.source, &sweep, &cancel), out, which)
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
    assert!(matches!(hand_over(&asked(&bench.source, &sweep, &cancel), &out, None), Err(HandoverError::Stopped)));
    assert!(!out.exists());
    assert_eq!(fs::read_dir(bench.folder.path()).unwrap().count(), 2, "nor anything beside it");
}

/// An image with a FAT volume whose table is lost: pictures, texts, and names that are no plain text.
fn lost() -> (tempfile::TempDir, SharedSource) {
    static STATE: OnceLock<tempfile::TempDir> = OnceLock::new();
    case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
    let folder = tempfile::tempdir().unwrap();
    let tree = folder.path().join("tree");
    for name in ["Crossings/Winter", "Pictures"] {
        fs::create_dir_all(tree.join(name)).unwrap();
    }
    for number in 0..30 {
        fs::write(tree.join(format!("Crossings/Winter/log {number}.txt")), format!("Saltholm {number}\n").repeat(90)).unwrap();
    }
    fs::write(tree.join("Crossings/a & b; 'c'.txt"), "rope\n").unwrap();
    for shade in 0..40u8 {
        let picture = image::RgbImage::from_fn(64, 48, |x, y| image::Rgb([shade * 6, (x * 4) as u8, (y * 5) as u8]));
        picture.save(tree.join(format!("Pictures/quay {shade:02}.png"))).unwrap();
    }
    let run = |program: &str, arguments: &[&str]| {
        let output = Command::new(program).args(arguments).output().unwrap();
        assert!(output.status.success(), "{program}: {output:?}");
    };
    let (volume, image) = (folder.path().join("volume"), folder.path().join("tickets.img"));
    fs::File::create(&volume).unwrap().set_len(40 * MIB).unwrap();
    let text = |path: &Path| path.to_str().unwrap().to_string();
    run("mkfs.vfat", &["-F", "16", "-n", "TICKETS", &text(&volume)]);
    run("mcopy", &["-s", "-i", &text(&volume), &text(&tree.join("Crossings")), &text(&tree.join("Pictures")), "::"]);
    let mut surface = vec![0; MIB as usize];
    surface.extend(fs::read(&volume).unwrap());
    surface.resize(48 * MIB as usize, 0);
    fs::write(&image, surface).unwrap();
    let source = keel_source::open(&image, OpenOptions::default()).unwrap();
    (folder, source)
}

fn written(source: &SharedSource, out: &Path, audience: Audience, language: &str) -> Vec<u8> {
    let sweep = || Some(sweep::sweep(source, &SweepOptions::default(), &Desk::new(Cancel::default()).0));
    let (cancel, phrases) = (Cancel::default(), Phrases::of(language).unwrap());
    hand_over(&Asked { audience, phrases: &phrases, ..asked(source, &sweep, &cancel) }, out, None).unwrap();
    fs::read(out).unwrap()
}

/// What a browser would show of a page, without what it is marked up with.
fn shown(page: &[u8]) -> String {
    let (mut text, mut within) = (String::new(), false);
    let page = String::from_utf8(page.to_vec()).unwrap();
    let body = page.split_once("</head>").unwrap().1;
    for sign in body.chars() {
        match sign {
            '<' => within = true,
            '>' => within = false,
            sign if !within => text.push(sign),
            _ => {}
        }
    }
    text.replace("&apos;", "'").replace("&amp;", "&")
}

#[test]
fn a_client_reads_what_was_lost_what_can_come_back_and_in_figures_what_of_it_is_whole() {
    let (folder, source) = lost();
    let page = written(&source, &folder.path().join("client.html"), Audience::Client, "en");
    let text = shown(&page);
    for said in [
        "The list of the drive's volumes was lost or destroyed.",
        "can be brought back; it has not been done yet",
        "The volume TICKETS (FAT16), 41.9 MB, with 71 files",
        "The drive was examined.",
        "Agree to the repair that is planned",
        "Winter",
        "A sample of the pictures",
    ] {
        assert!(text.contains(said), "{said}: {text}");
    }
    let raw = String::from_utf8(page.clone()).unwrap();
    assert!(raw.contains("<td>pictures</td>\n<td>40</td>\n<td>0</td>\n<td>0</td>"), "{raw}");
    assert!(raw.contains("<td>text</td>\n<td>31</td>\n<td>0</td>\n<td>0</td>"));
    assert_eq!(raw.matches("<img src=\"data:image/jpeg;base64,").count(), 24, "a sample");
    let fetches = ["<script", "<link", "url(", "href=\"http", "src=\"http", "src=\"file", "@import"];
    assert!(fetches.iter().all(|word| !raw.contains(word)), "nothing is fetched");
    // Neither evidence nor journal: those are the court's.
    assert!(!text.contains("SHA-256") && !text.contains("rung by rung"));
}

#[test]
fn a_court_gets_the_clients_page_with_the_hash_of_the_image_and_every_rung() {
    let (folder, source) = lost();
    let text = shown(&written(&source, &folder.path().join("court.html"), Audience::Court, "en"));
    let output = Command::new("sha256sum").arg(folder.path().join("tickets.img")).output().unwrap();
    let sha256 = String::from_utf8_lossy(&output.stdout).split(' ').next().unwrap().to_string();
    assert!(text.contains(&format!("tickets.img: {} bytes, SHA-256 {sha256}", 48 * MIB)), "{text}");
    assert!(text.contains("5 Table: broken") && text.contains("What was wrong"), "{text}");
}

#[test]
fn the_same_in_german_says_nothing_in_english_to_the_client() {
    let (folder, source) = lost();
    let page = written(&source, &folder.path().join("kunde.html"), Audience::Client, "de");
    let text = shown(&page);
    assert!(String::from_utf8(page).unwrap().contains("<html lang=\"de\">"));
    assert!(text.contains("Das Verzeichnis der Volumes") && text.contains("41,9 MB") && text.contains("71 Dateien"), "{text}");
    let letter = text.split("Was der Datenträger und seine Kopie sagen").next().unwrap();
    for english in ["What was", "volume ", "files", "the drive", "pictures"] {
        assert!(!letter.contains(english), "{english}: {letter}");
    }
}

#[test]
fn a_report_for_print_has_its_page_in_plain_words_first_and_replaces_nothing_of_others() {
    let (folder, source) = lost();
    let out = folder.path().join("client.pdf");
    let bytes = written(&source, &out, Audience::Client, "en");
    assert!(bytes.starts_with(b"%PDF-"));
    let count = |what: &[u8]| bytes.windows(what.len()).filter(|window| *window == what).count();
    assert_eq!(count(b"/DCTDecode"), 24, "a sample of the pictures");
    assert!(count(b"/Type /Page\n") >= 4, "words, figures, pictures, keel");
    // Once more in its place, and over nothing else.
    let again = written(&source, &out, Audience::Client, "en");
    assert!(again.starts_with(b"%PDF-"));
    let page = folder.path().join("client.html");
    let _ = written(&source, &page, Audience::Client, "en");
    let _ = written(&source, &page, Audience::Court, "de");
    fs::write(&page, "<!DOCTYPE html><p>a letter of somebody</p>").unwrap();
    let (cancel, sweep) =
        (Cancel::default(), || Some(sweep::sweep(&source, &SweepOptions::default(), &Desk::new(Cancel::default()).0)));
    let asked = Asked { audience: Audience::Client, ..asked(&source, &sweep, &cancel) };
    assert!(matches!(hand_over(&asked, &page, None), Err(HandoverError::Write { .. })));
    assert!(fs::read_to_string(&page).unwrap().contains("somebody"));
}
