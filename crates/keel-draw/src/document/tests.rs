use super::*;
use crate::Shape;

const NASTY: &str = "</p><script>alert(1)</script>\u{1b}[31m & \"quoted\" \u{202e}gpj";

fn document(parts: Vec<Part>) -> Document {
    let head = Head { title: "purser, 15.9 GB".into(), identity: NASTY.into(), date: "2026-11-25".into() };
    Document { head, language: "en".into(), parts }
}

fn texts(sheets: &[Drawing]) -> Vec<&str> {
    let shapes = sheets.iter().flat_map(|sheet| &sheet.shapes);
    shapes.filter_map(|shape| if let Shape::Text { text, .. } = shape { Some(text.as_str()) } else { None }).collect()
}

/// Every part, with what a hostile drive may call itself.
fn all() -> Vec<Part> {
    let named = || NASTY.to_string();
    let thumb = crate::thumb(&png()).unwrap();
    vec![
        Part::Sheet(named()),
        Part::Title(named()),
        Part::Heading(named()),
        Part::Text(named()),
        Part::Point(named()),
        Part::Point(named()),
        Part::Fine(1, named()),
        Part::Gap,
        Part::Table { heads: vec![named(), named()], rows: vec![vec![named(), named()]] },
        Part::Bars { legend: vec![(Texture::Plain, named())], rows: vec![(named(), [3, 0, 1]), (named(), [0, 0, 0])] },
        Part::Tree(vec![(0, named(), named()), (1, named(), named())]),
        Part::Pictures(vec![(named(), thumb)]),
        Part::Drawing(Drawing::sheet(&Head::default(), NASTY)),
    ]
}

fn png() -> Vec<u8> {
    let mut bytes = Vec::new();
    let picture = image::RgbImage::from_fn(600, 200, |x, y| image::Rgb([x as u8, y as u8, 7]));
    picture.write_to(&mut std::io::Cursor::new(&mut bytes), image::ImageFormat::Png).unwrap();
    bytes
}

#[test]
fn what_a_drive_says_is_no_element_of_the_page_and_no_sign_that_steers() {
    let page = html(&document(all()));
    assert!(!page.contains("<script") && !page.contains('\u{1b}') && !page.contains('\u{202e}'), "{page}");
    assert!(page.contains("&lt;script&gt;") && page.matches("alert(1)").count() >= 12);
    assert_eq!((page.matches("<ul>").count(), page.matches("</ul>").count(), page.matches("<li>").count()), (1, 1, 2));
    // What is opened is closed.
    for name in ["p", "table", "figure", "h1", "h3", "div", "tr", "td", "svg", "body", "html"] {
        let opened = page.matches(&format!("<{name}>")).count() + page.matches(&format!("<{name} ")).count();
        assert_eq!(opened, page.matches(&format!("</{name}>")).count(), "{name}");
    }
    assert!(page.contains("default-src 'none'"));
}

#[test]
fn all_parts_are_set_on_numbered_sheets_and_nothing_lies_beside_them() {
    let sheets = sheets(&document(all())).unwrap();
    assert_eq!(sheets.len(), 2, "the drawing has a sheet of its own");
    assert!(texts(&sheets).iter().all(|text| !text.contains('\u{1b}') && !text.contains('\u{202e}')));
    assert!(texts(&sheets).contains(&"1 / 2") && texts(&sheets).contains(&"2 / 2"));
    let within =
        |frame: &[f64; 4]| frame[0] >= 0.0 && frame[0] + frame[2] <= 595.0 && frame[1] >= 0.0 && frame[1] + frame[3] <= 842.0;
    for shape in sheets.iter().flat_map(|sheet| &sheet.shapes) {
        match shape {
            Shape::Rect { frame, .. } | Shape::Patch { frame, .. } | Shape::Picture { frame, .. } => {
                assert!(within(frame), "{shape:?}");
            }
            Shape::Line { points: [x1, y1, x2, y2], .. } => {
                assert!(within(&[x1.min(*x2), y1.min(*y2), (x1 - x2).abs(), (y1 - y2).abs()]));
            }
            Shape::Text { at, .. } => assert!(within(&[at[0], at[1], 0.0, 0.0]), "{shape:?}"),
        }
    }
    assert_eq!(sheets, super::sheets(&document(all())).unwrap(), "the same data, the same sheets");
}

#[test]
fn a_page_that_has_to_stay_one_is_set_smaller_and_other_parts_flow_over() {
    let points =
        |count: usize| (0..count).map(|number| Part::Point(format!("{number}: {}", "a fault of the drive ".repeat(6)))).collect();
    let one = |count| vec![Part::Sheet("words".into()), Part::OnePage(points(count))];
    for count in [3, 25, 34] {
        let sheets = sheets(&document(one(count))).unwrap();
        assert_eq!(sheets.len(), 1, "{count}");
        assert!(texts(&sheets).iter().any(|text| text.starts_with(&format!("{}: ", count - 1))), "to the last point");
    }
    let size = |count: usize| -> f64 {
        let sheets = sheets(&document(one(count))).unwrap();
        let sizes = sheets[0].shapes.iter().filter_map(|shape| match shape {
            Shape::Text { size, text, .. } if text.contains("fault") => Some(*size),
            _ => None,
        });
        sizes.fold(100.0, f64::min)
    };
    assert!((size(3) - 10.0).abs() < 1e-9 && size(34) < 9.0);
    let mut flowing = vec![Part::Sheet("words".into())];
    flowing.extend::<Vec<Part>>(points(80));
    let sheets = sheets(&document(flowing)).unwrap();
    assert!(sheets.len() > 2 && texts(&sheets).iter().filter(|text| **text == "words").count() == sheets.len());
}

#[test]
fn bars_are_as_long_as_their_numbers_and_textured_so_that_grey_tells_them_apart() {
    let legend =
        vec![(Texture::Plain, "whole".to_string()), (Texture::Hatched, "in part".into()), (Texture::Crossed, "lost".into())];
    let rows = vec![("text".to_string(), [100, 50, 50]), ("films".to_string(), [50, 0, 0])];
    let sheets = sheets(&document(vec![Part::Bars { legend, rows }])).unwrap();
    let patches: Vec<(f64, [u8; 3])> = sheets[0]
        .shapes
        .iter()
        .filter_map(|shape| if let Shape::Patch { frame, colour } = shape { Some((frame[2], *colour)) } else { None })
        .collect();
    assert_eq!(patches.len(), 4 + 3, "and the legend");
    assert!((patches[0].0 - 2.0 * patches[1].0).abs() < 1e-9 && (patches[3].0 - patches[1].0).abs() < 1e-9);
    assert!(patches[0].1 != patches[1].1 && patches[1].1 != patches[2].1);
    let lines = sheets[0].shapes.iter().filter(|shape| matches!(shape, Shape::Line { .. })).count();
    let plain = document(vec![Part::Bars { legend: Vec::new(), rows: vec![("text".into(), [9, 0, 0])] }]);
    let fewer = super::sheets(&plain).unwrap()[0].shapes.iter().filter(|shape| matches!(shape, Shape::Line { .. })).count();
    assert!(lines > fewer + 20, "hatches");
}

#[test]
fn a_picture_is_made_small_and_what_is_none_is_left_out() {
    let small = crate::thumb(&png()).unwrap();
    assert_eq!(small.pixels, (320, 107));
    assert!(small.jpeg.starts_with(b"\xff\xd8") && small.jpeg.len() < 40_000);
    assert!(crate::thumb(b"\x89PNG\r\n\x1a\nnothing").is_none() && crate::thumb(b"").is_none());
    // A picture of 2^31 by 2^31 pixels in a few bytes: refused by its header.
    let mut huge = b"BM".to_vec();
    huge.extend([90u32, 0, 54, 40, 0x7FFF_FFFF, 0x7FFF_FFFF].iter().flat_map(|field| field.to_le_bytes()));
    huge.extend([1u16, 24].iter().flat_map(|field| field.to_le_bytes()));
    huge.resize(90, 0);
    assert!(crate::thumb(&huge).is_none());
}
