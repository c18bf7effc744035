//! Sheets as PDF, with the glyphs that they use.

use std::collections::BTreeMap;

use pdf_writer::types::{CidFontType, FontFlags, SystemInfo, UnicodeCmap};
use pdf_writer::{Content, Filter, Finish, Name, Pdf, Rect, Ref, Str};
use subsetter::GlyphRemapper;

use crate::canvas::{Anchor, Drawing, Shape, Thumb, Tone};
use crate::font::{Font, FontError};

const SYSTEM: SystemInfo<'static> = SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };
const FONT: Name<'static> = Name(b"F1");
const FONT_NAME: Name<'static> = Name(b"YKEELA+DejaVuSans");

/// The sheets as one PDF document with the title `title`.
///
/// # Errors
/// [`FontError`] when the carried font cannot be set.
pub fn pdf(title: &str, sheets: &[Drawing]) -> Result<Vec<u8>, FontError> {
    let font = Font::load()?;
    let mut glyphs = Glyphs { font: &font, remapper: GlyphRemapper::new(), used: BTreeMap::new() };
    let mut pictures: Vec<&Thumb> = Vec::new();
    let mut placed: Vec<Vec<usize>> = Vec::new();
    let mut contents: Vec<Vec<u8>> = Vec::new();
    for sheet in sheets {
        let first = pictures.len();
        contents.push(content(sheet, &mut glyphs, &mut pictures));
        placed.push((first..pictures.len()).collect());
    }
    let mut pdf = Pdf::new();
    let number = |index: usize| Ref::new(i32::try_from(index).unwrap_or(i32::MAX));
    let (catalog, tree, info) = (number(1), number(2), number(3));
    let page = |index: usize| number(10 + index * 2);
    let picture_at = |picture: usize| number(10 + sheets.len() * 2 + picture);
    pdf.catalog(catalog).pages(tree);
    pdf.document_info(info).title(pdf_writer::TextStr(title)).producer(pdf_writer::TextStr("Yellow Keel"));
    let count = i32::try_from(sheets.len()).unwrap_or(i32::MAX);
    pdf.pages(tree).kids((0..sheets.len()).map(page)).count(count);
    for (index, (sheet, bytes)) in sheets.iter().zip(&contents).enumerate() {
        let stream = number(11 + index * 2);
        let mut written = pdf.page(page(index));
        written.parent(tree).media_box(Rect::new(0.0, 0.0, sheet.width as f32, sheet.height as f32)).contents(stream);
        let mut resources = written.resources();
        resources.fonts().pair(FONT, number(4));
        let own = placed.get(index).map(Vec::as_slice).unwrap_or_default();
        if !own.is_empty() {
            let mut objects = resources.x_objects();
            for picture in own {
                objects.pair(Name(&picture_name(*picture)), picture_at(*picture));
            }
        }
        resources.finish();
        written.finish();
        pdf.stream(stream, bytes);
    }
    for (index, thumb) in pictures.iter().enumerate() {
        let side = |pixels: u32| i32::try_from(pixels).unwrap_or(i32::MAX);
        let mut image = pdf.image_xobject(picture_at(index), &thumb.jpeg);
        image.width(side(thumb.pixels.0)).height(side(thumb.pixels.1)).bits_per_component(8);
        image.filter(Filter::DctDecode);
        image.color_space().device_rgb();
    }
    write_font(&mut pdf, &glyphs, [4, 5, 6, 7, 8].map(number))?;
    Ok(pdf.finish())
}

/// Glyphs that are used, with their new numbers.
struct Glyphs<'a> {
    font: &'a Font,
    remapper: GlyphRemapper,
    /// New number: former number and sign.
    used: BTreeMap<u16, (u16, char)>,
}

impl Glyphs<'_> {
    /// `text` as glyph numbers, two bytes each.
    fn set(&mut self, text: &str) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(text.len() * 2);
        for sign in text.chars() {
            let former = self.font.glyph(sign);
            let new = self.remapper.remap(former);
            self.used.entry(new).or_insert((former, sign));
            bytes.extend_from_slice(&new.to_be_bytes());
        }
        bytes
    }
}

fn grey(tone: Tone) -> f32 {
    f32::from(tone.0.min(100)) / 100.0
}

/// The name of a picture in the pages that show it.
fn picture_name(index: usize) -> Vec<u8> {
    format!("P{index}").into_bytes()
}

/// The shapes of a sheet; its pictures are added to `pictures`.
fn content<'a>(sheet: &'a Drawing, glyphs: &mut Glyphs<'_>, pictures: &mut Vec<&'a Thumb>) -> Vec<u8> {
    let mut content = Content::new();
    let up = |y: f64| (sheet.height - y) as f32;
    for shape in &sheet.shapes {
        match shape {
            Shape::Rect { frame: [x, y, width, height], fill, outline } => {
                content.rect(*x as f32, up(y + height), *width as f32, *height as f32);
                if let Some(tone) = fill {
                    content.set_fill_gray(grey(*tone));
                }
                if let Some(thick) = outline {
                    content.set_stroke_gray(0.0).set_line_width(*thick as f32).set_dash_pattern([], 0.0);
                }
                match (fill, outline) {
                    (Some(_), Some(_)) => content.fill_nonzero_and_stroke(),
                    (Some(_), None) => content.fill_nonzero(),
                    (None, Some(_)) => content.stroke(),
                    (None, None) => content.end_path(),
                };
            }
            Shape::Patch { frame: [x, y, width, height], colour } => {
                let [red, green, blue] = colour.map(|part| f32::from(part) / 255.0);
                content.set_fill_rgb(red, green, blue);
                content.rect(*x as f32, up(y + height), *width as f32, *height as f32).fill_nonzero();
            }
            Shape::Picture { frame: [x, y, width, height], thumb } => {
                content.save_state().transform([*width as f32, 0.0, 0.0, *height as f32, *x as f32, up(y + height)]);
                content.x_object(Name(&picture_name(pictures.len()))).restore_state();
                pictures.push(thumb);
            }
            Shape::Line { points: [x1, y1, x2, y2], tone, width, dash } => {
                content.set_stroke_gray(grey(*tone)).set_line_width(*width as f32);
                content.set_dash_pattern(dash.iter().flatten().map(|length| *length as f32), 0.0);
                content.move_to(*x1 as f32, up(*y1)).line_to(*x2 as f32, up(*y2)).stroke();
            }
            Shape::Text { at: [x, y], size, tone, anchor, text } => {
                let left = match anchor {
                    Anchor::Start => *x,
                    Anchor::End => x - glyphs.font.width(text, *size),
                };
                let bytes = glyphs.set(text);
                content.set_fill_gray(grey(*tone));
                content.begin_text().set_font(FONT, *size as f32).next_line(left as f32, up(*y)).show(Str(&bytes)).end_text();
            }
        }
    }
    content.finish().into_vec()
}

fn write_font(pdf: &mut Pdf, glyphs: &Glyphs<'_>, [outer, inner, descriptor, file, cmap]: [Ref; 5]) -> Result<(), FontError> {
    let subset = subsetter::subset(Font::bytes(), 0, &glyphs.remapper).map_err(|_| FontError::Subset)?;
    pdf.type0_font(outer).base_font(FONT_NAME).encoding_predefined(Name(b"Identity-H")).descendant_font(inner).to_unicode(cmap);
    let mut cid = pdf.cid_font(inner);
    cid.subtype(CidFontType::Type2).base_font(FONT_NAME).system_info(SYSTEM).font_descriptor(descriptor).default_width(0.0);
    cid.cid_to_gid_map_predefined(Name(b"Identity"));
    let mut widths = cid.widths();
    for (new, (former, _)) in &glyphs.used {
        widths.consecutive(*new, [glyphs.font.advance(*former) as f32]);
    }
    widths.finish();
    cid.finish();
    let (ascent, descent, [left, bottom, right, top]) = glyphs.font.measures();
    pdf.font_descriptor(descriptor)
        .name(FONT_NAME)
        .flags(FontFlags::SYMBOLIC)
        .bbox(Rect::new(left, bottom, right, top))
        .italic_angle(0.0)
        .ascent(ascent)
        .descent(descent)
        .cap_height(ascent)
        .stem_v(80.0)
        .font_file2(file);
    let mut signs = UnicodeCmap::new(Name(b"Keel"), SYSTEM);
    for (new, (_, sign)) in &glyphs.used {
        signs.pair(*new, *sign);
    }
    pdf.cmap(cmap, &signs.finish());
    pdf.stream(file, &subset).pair(Name(b"Length1"), i32::try_from(subset.len()).unwrap_or(i32::MAX));
    Ok(())
}
