use keel_core::fathom::{Fathomed, Method, Nature, PlotPoint, Seen, Sureness};
use keel_source::{ByteOffset, ByteRange, CopyMap, CopyState};

use super::*;

fn head() -> Head {
    Head { title: "purser, 15.9 GB".into(), identity: "BL-0417".into(), date: "2026-11-25".into() }
}

#[test]
fn a_drawing_names_its_blocks_and_escapes_what_a_drive_says() {
    let blocks = vec![(ByteRange::sized(ByteOffset(1 << 20), 1 << 30), "NTFS <b>\u{1b}".to_string())];
    let bad = vec![ByteRange::sized(ByteOffset(0), 512)];
    let lanes = vec![Lane { name: "found", blocks }];
    let drawing = keel(&head(), &KeelDrawing { bytes: 15_931_539_456, stored: Some(4_000_000_000), lanes, bad });
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
