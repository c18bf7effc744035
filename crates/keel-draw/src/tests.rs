use keel_core::case::{CaseRecord, JournalLine};
use keel_core::fathom::{Fathomed, Method, Nature, PlotPoint, Seen, Sureness};
use keel_core::health::{HealthVerdict, Standing};
use keel_core::ladder::{Ladder, Rung, RungName, RungState};
use keel_core::reads::{Cell, Failed, Latency, Left, Survey};
use keel_format::Finding;
use keel_format::health::{AtaAttribute, AtaHealth, HealthReading, NvmeHealth};
use keel_source::{ByteOffset, ByteRange, CopyMap, CopyState, Source as _};

use super::*;

fn head() -> Head {
    Head { title: "purser, 15.9 GB".into(), identity: "BL-0417".into(), date: "2026-11-25".into() }
}

#[test]
fn a_drawing_names_its_blocks_and_escapes_what_a_drive_says() {
    let blocks = vec![(ByteRange::sized(ByteOffset(1 << 20), 1 << 30), "NTFS <b>\u{1b}".to_string())];
    let bad = vec![ByteRange::sized(ByteOffset(0), 512)];
    let lanes = vec![Lane { name: "found".into(), blocks }];
    let drawing =
        keel(&head(), &KeelDrawing { bytes: 15_931_539_456, stored: Some(4_000_000_000), lanes, bad }, &Phrases::default());
    let text = svg(&drawing);
    assert!(text.contains("NTFS &lt;b&gt;␛") && text.contains("BL-0417") && text.contains("stroke-dasharray"));
    assert!(text.contains("true end: 4.0 GB") && text.contains("2026-11-25"));
    assert_eq!(text, svg(&drawing));
}

fn liar() -> Fathomed {
    let point = |at, seen| PlotPoint { at: ByteOffset(at), seen };
    Fathomed {
        method: Method::Probe,
        drive: "0".repeat(32),
        claimed_bytes: 64_000_000_000,
        proven_bytes: 4_000_000_000,
        exact: true,
        nature: Nature::Wraps { modulus: 4_000_000_000 },
        sureness: Sureness::Certain,
        reasons: vec!["byte 8000000000 held what was written to byte 0".into()],
        unreadable: Vec::new(),
        unwritable: Vec::new(),
        restored: None,
        plot: vec![point(0, Seen::Own), point(8_000_000_000, Seen::Other(ByteOffset(0))), point(9, Seen::Nothing)],
        pace: Vec::new(),
        took_ms: 1,
        cancelled: false,
    }
}

#[test]
fn the_plot_of_a_liar_shows_where_its_addresses_lead() {
    let drawing = capacity(&head(), &liar()).unwrap();
    let text = svg(&drawing);
    assert!(text.contains("claims 64.0 GB, stores 4.0 GB") && text.contains("true end: 4.0 GB"));
    // The point that led back stands at the bottom, an eighth of the width to the right.
    let hollow = drawing.shapes.iter().find_map(|shape| match shape {
        Shape::Rect { frame, fill: None, outline: Some(_) } => Some(*frame),
        _ => None,
    });
    let own = drawing.shapes.iter().find_map(|shape| match shape {
        Shape::Rect { frame, fill: Some(_), outline: None } => Some(*frame),
        _ => None,
    });
    let (hollow, own) = (hollow.unwrap(), own.unwrap());
    assert!((hollow[1] - own[1]).abs() < 2.0 && (hollow[0] - own[0] - 430.0 / 8.0).abs() < 2.0);
}

#[test]
fn a_copy_that_lacks_something_is_drawn_with_its_places() {
    let mut map = CopyMap::new(1 << 30);
    map.set(ByteRange::sized(ByteOffset(0), 1 << 30), CopyState::Copied);
    map.set(ByteRange::sized(ByteOffset(1 << 29), 4096), CopyState::Failed);
    let text = svg(&copy(&head(), &map));
    assert!(
        text.contains("4096 are missing in 1 places")
            && text.contains("missing: bytes 536870912 to 536874975".get(..25).unwrap())
    );
}

#[test]
fn a_pdf_holds_a_page_for_each_sheet_and_only_the_glyphs_that_it_uses() {
    let sheets =
        vec![capacity(&head(), &liar()).unwrap(), copy(&Head { title: "Каюта 三".into(), ..head() }, &CopyMap::new(4096))];
    let bytes = pdf("report", &sheets).unwrap();
    assert!(bytes.starts_with(b"%PDF-") && bytes.ends_with(b"%%EOF"));
    let count = |what: &[u8]| bytes.windows(what.len()).filter(|window| *window == what).count();
    assert_eq!((count(b"/Type /Page\n"), count(b"/FontFile2")), (2, 1));
    assert!(bytes.len() < 200_000, "{} bytes", bytes.len());
    assert_eq!(bytes, pdf("report", &sheets).unwrap(), "the same data gives the same bytes");
}

/// The texts of a sheet.
fn texts(drawing: &Drawing) -> Vec<&str> {
    let mut texts = Vec::new();
    for shape in &drawing.shapes {
        if let Shape::Text { text, .. } = shape {
            texts.push(text.as_str());
        }
    }
    texts
}

fn survey() -> Survey {
    let cell = |index: u64, worst, longest_us| Cell { at: ByteOffset(index << 30), worst, longest_us, errors: 0 };
    let failed = |at, came| Failed {
        range: ByteRange::sized(ByteOffset(at), 4096),
        tries: 3,
        came,
        interface: false,
        reason: "medium error".into(),
    };
    Survey {
        drive: "0".repeat(32),
        full: false,
        asked: 1000,
        came: 996,
        bytes: 4 << 30,
        median_us: 800,
        classes: vec![(Latency::Usual, 990), (Latency::Late, 6), (Latency::Passing, 1), (Latency::Failed, 3)],
        failed: (0..20).map(|number| failed(number << 20, number == 0)).collect(),
        picture: vec![
            cell(0, Latency::Usual, 900),
            cell(1, Latency::Unread, 0),
            cell(2, Latency::Passing, 40_000),
            cell(3, Latency::Failed, 2_000_000),
        ],
        link_lost: 2,
        interface_errors: 1,
        took_ms: 9000,
        left: Some(Left::Spared),
    }
}

#[test]
fn the_reads_are_drawn_over_decades_of_time_with_a_mark_where_they_fail() {
    let sheet = reads(&head(), &survey());
    let said = texts(&sheet);
    // From a microsecond to ten seconds: a slow place flattens no other.
    for decade in ["1 µs", "1 ms", "1 s", "10 s"] {
        assert!(said.contains(&decade), "{decade}: {said:?}");
    }
    assert!(said.iter().any(|text| text.starts_with("996 of 1000 reads came at once")));
    assert!(said.iter().any(|text| text.contains("byte 0") && text.ends_with("came in 3 tries")), "{said:?}");
    assert_eq!(said.iter().filter(|text| text.ends_with("did not come in 3 tries")).count(), 13, "fourteen places are named");
    assert!(said.iter().any(|text| text.starts_with("not all was read")));
    assert!(said.contains(&"2 requests without an answer, 1 transfers that failed on their way"));
    // What was not read has no bar; a failed cell has a cross of two lines above its bar.
    let bars = sheet.shapes.iter().filter(|shape| matches!(shape, Shape::Rect { fill: Some(_), outline: None, .. })).count();
    assert_eq!(bars, 3);
    let crosses = sheet.shapes.iter().filter(|shape| matches!(shape, Shape::Line { width, .. } if (*width - 1.1).abs() < 1e-9));
    assert_eq!(crosses.count(), 2);
    let of_nothing = Survey { picture: Vec::new(), failed: Vec::new(), left: None, ..survey() };
    assert!(texts(&reads(&head(), &of_nothing)).len() > 5, "a survey without a picture is a sheet as well");
}

fn ata(attributes: Vec<AtaAttribute>) -> HealthVerdict {
    let finding = Finding {
        at_byte: None,
        what: "12 sectors wait to be read".into(),
        how: "attribute 197".into(),
        severity: keel_format::Severity::Broken,
    };
    HealthVerdict {
        standing: Standing::Failing,
        findings: vec![finding],
        advice: vec!["copy it first, and look at nothing before".into()],
        reading: HealthReading::Ata(AtaHealth { attributes, checksum_holds: true, sct_celsius: None }),
    }
}

#[test]
fn a_health_page_shows_value_and_threshold_and_blackens_what_fell_below() {
    let attribute = |id, value, threshold, raw| AtaAttribute { id, value, worst: value, threshold, raw, pre_failure: false };
    let sheet = health(
        &head(),
        &ata(vec![attribute(5, 10, Some(36), 4000), attribute(9, 100, Some(0), 17), attribute(197, 200, None, 12)]),
    )
    .unwrap();
    let said = texts(&sheet);
    assert!(said.contains(&"4000") && said.contains(&"17") && said.iter().any(|text| text.starts_with("197  ")));
    assert!(said.iter().any(|text| text.contains("12 sectors wait to be read (attribute 197)")));
    assert!(said.iter().any(|text| text.starts_with("→ copy it first")));
    let filled: Vec<(f64, Tone)> = sheet
        .shapes
        .iter()
        .filter_map(|shape| match shape {
            Shape::Rect { frame, fill: Some(tone), .. } => Some((frame[2], *tone)),
            _ => None,
        })
        .collect();
    assert_eq!(filled, [(150.0 * 10.0 / 200.0, Tone::BLACK), (75.0, Tone(70)), (150.0, Tone(70))]);
    // One threshold line: 0 and none are no thresholds.
    let lines = sheet.shapes.iter().filter(|shape| matches!(shape, Shape::Line { width, .. } if (*width - 1.2).abs() < 1e-9));
    assert_eq!(lines.count(), 1);
}

#[test]
fn a_page_of_the_other_interface_is_told_by_its_own_names() {
    let nvme = NvmeHealth {
        critical_warning: 0,
        celsius: None,
        available_spare: 3,
        available_spare_threshold: 10,
        percentage_used: 101,
        power_cycles: 5,
        power_on_hours: 40_000,
        unsafe_shutdowns: 7,
        media_errors: 2,
        error_log_entries: 9,
    };
    let sheet = health(&head(), &HealthVerdict { reading: HealthReading::Nvme(nvme), ..ata(Vec::new()) }).unwrap();
    let said = texts(&sheet);
    for (name, value) in
        [("Available Spare", "3 %, threshold 10 %"), ("Power On Hours", "40000"), ("Composite Temperature", "not told")]
    {
        let at = said.iter().position(|text| *text == name).unwrap_or_else(|| panic!("{name}: {said:?}"));
        assert_eq!(said[at + 1], value);
    }
}

#[test]
fn a_keel_keeps_small_blocks_visible_and_everything_on_its_sheet() {
    let small = (ByteRange::sized(ByteOffset(0), 4096), "a name that is far too long for the room that a block has".to_string());
    let behind = (ByteRange::sized(ByteOffset(900), u64::MAX >> 2), "behind the end".to_string());
    let lanes = vec![Lane { name: "now".into(), blocks: vec![small, behind] }, Lane { name: "plan".into(), blocks: Vec::new() }];
    let sheet = keel(&head(), &KeelDrawing { bytes: 1 << 40, stored: None, lanes, bad: Vec::new() }, &Phrases::default());
    let blocks: Vec<[f64; 4]> = sheet
        .shapes
        .iter()
        .filter_map(|shape| match shape {
            Shape::Rect { frame, fill: Some(Tone::PALE), .. } => Some(*frame),
            _ => None,
        })
        .collect();
    assert_eq!(blocks.len(), 2);
    for [left, top, width, height] in blocks {
        assert!(height >= 11.0 && left >= 0.0 && left + width <= sheet.width && top + height <= sheet.height);
    }
    assert!(texts(&sheet).iter().all(|text| text.chars().count() <= 80));
    let empty =
        keel(&head(), &KeelDrawing { bytes: 0, stored: Some(0), lanes: Vec::new(), bad: Vec::new() }, &Phrases::default());
    assert!(empty.shapes.iter().all(|shape| match shape {
        Shape::Line { points, .. } => points.iter().all(|point| point.is_finite()),
        Shape::Rect { frame, .. } | Shape::Patch { frame, .. } | Shape::Picture { frame, .. } => {
            frame.iter().all(|side| side.is_finite())
        }
        Shape::Text { at, .. } => at.iter().all(|side| side.is_finite()),
    }));
}

#[test]
fn a_report_sets_what_is_known_on_numbered_sheets_and_leaves_out_the_rest() {
    let rung = |rung, state, findings: usize| {
        let finding = |number| Finding {
            at_byte: Some(ByteOffset(number)),
            what: format!("finding {number}"),
            how: "it was read".into(),
            severity: keel_format::Severity::Broken,
        };
        Rung { rung, state, note: "as noted".into(), findings: (0..findings as u64).map(finding).collect(), next: Vec::new() }
    };
    let ladder = Ladder {
        drive: keel_source::MemorySource::new("quay", vec![0; 512], 512).identity().clone(),
        rungs: vec![rung(RungName::Link, RungState::Sound, 0), rung(RungName::Table, RungState::Broken, 30)],
        volumes: Vec::new(),
        lowest_broken: None,
        coverage: keel_core::coverage::Coverage::default(),
    };
    let stands = serde_json::json!({ "stands": keel_core::case::Standing {
        table: Some("GPT".into()),
        bytes: 8_000_000_000,
        sector: 512,
        entries: vec![keel_core::case::StandingEntry {
            number: 1,
            first_lba: 2048,
            sectors: 4_000_000,
            kind: Some("exFAT".into()),
            label: Some("FERRY".into()),
        }],
    } });
    let mut lines: Vec<JournalLine> = (0..450)
        .map(|number| JournalLine {
            number,
            at: "2026-11-25T10:00:00Z".into(),
            event: format!("event-{number}"),
            detail: serde_json::json!({ "text": "x".repeat(1000) }),
            before: String::new(),
        })
        .collect();
    lines[440] = JournalLine { event: "close".into(), detail: stands, ..lines[440].clone() };
    let record = CaseRecord {
        version: 1,
        name: "quay".into(),
        client: "Brackwater Line".into(),
        source: "quay.img".into(),
        opened: "2026-11-25T10:00:00Z".into(),
        closed: None,
        copy: None,
        marks: Vec::new(),
        told: keel_core::case::Told::default(),
        checks: Vec::new(),
        identity: None,
        journal: keel_core::case::Seal::default(),
    };
    let (survey, liar, map) = (survey(), liar(), CopyMap::new(4096));
    let keel = || KeelDrawing { bytes: 512, stored: None, lanes: Vec::new(), bad: Vec::new() };
    let little = Report {
        head: head(),
        ladder: &ladder,
        next: "look into the files".into(),
        keel: keel(),
        case: None,
        journal_says: None,
        survey: None,
        health: None,
        capacity: None,
        copy: None,
    };
    let sheets = report(&little).unwrap();
    assert_eq!(sheets.len(), 2, "the rungs and the keel");
    let said = texts(&sheets[0]);
    assert!(said.contains(&"1 / 2") && said.contains(&"and 18 findings more"), "{said:?}");
    assert!(said.iter().any(|text| text.contains("finding 11")) && !said.iter().any(|text| text.contains("finding 12")));
    let all = Report {
        case: Some((&record, lines)),
        journal_says: Some("The journal is whole.".into()),
        survey: Some(&survey),
        health: Some(&ata(Vec::new())),
        capacity: Some(&liar),
        copy: Some(&map),
        ..little
    };
    let sheets = report(&all).unwrap();
    let journal: Vec<String> = sheets[6..].iter().flat_map(|sheet| texts(sheet)).map(str::to_string).collect();
    assert!(journal.iter().any(|text| text.ends_with("event-449")) && journal.iter().any(|text| text.ends_with("event-50")));
    assert!(!journal.iter().any(|text| text.ends_with("event-49")), "the last four hundred lines");
    let first = texts(&sheets[0]);
    assert!(first.contains(&"Client: Brackwater Line") && first.contains(&"What was done"));
    let done = "2026-11-25 10:00:00 UTC  The case was closed; the drive stands as 8.0 GB with GPT.";
    assert!(first.contains(&done) && first.contains(&"1: exFAT FERRY, 2.0 GB from sector 2048"), "{first:?}");
    assert!(sheets.len() > 10);
    for (index, sheet) in sheets.iter().enumerate() {
        assert!(texts(sheet).contains(&format!("{} / {}", index + 1, sheets.len()).as_str()));
        // Nothing is set below the sheet.
        assert!(sheet.shapes.iter().all(|shape| !matches!(shape, Shape::Text { at, .. } if at[1] > sheet.height)));
    }
}

#[test]
fn lines_break_at_spaces_and_words_that_are_too_long_inside() {
    let font = crate::font::Font::load().unwrap();
    let lines = font.wrap("one two three four five six seven eight nine ten", 10.0, 80.0);
    assert!(lines.len() > 2 && lines.iter().all(|line| font.width(line, 10.0) <= 80.0), "{lines:?}");
    assert_eq!(lines.join(" "), "one two three four five six seven eight nine ten");
    assert!(font.glyph('Ж') != 0 && font.glyph('\u{10FFFF}') == 0);
    assert!(font.width("mm", 10.0) > font.width("ii", 10.0));
}
