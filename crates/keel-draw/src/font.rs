//! The font that is carried for PDF: names on drives are in any script, and the fonts that every reader has are not.

use ttf_parser::{Face, GlyphId};

/// DejaVu Sans; its licence stands beside it.
const BYTES: &[u8] = include_bytes!("../font/DejaVuSans.ttf");

/// A font that cannot be set.
#[derive(Debug, thiserror::Error)]
pub enum FontError {
    /// The carried font does not read.
    #[error("the font of the report does not read")]
    Unreadable,
    /// The glyphs that are used could not be taken out of it.
    #[error("the glyphs of the report could not be taken out of its font")]
    Subset,
}

/// The carried font, read.
pub(crate) struct Font {
    face: Face<'static>,
}

impl Font {
    pub(crate) fn load() -> Result<Self, FontError> {
        Ok(Self { face: Face::parse(BYTES, 0).map_err(|_| FontError::Unreadable)? })
    }

    pub(crate) fn bytes() -> &'static [u8] {
        BYTES
    }

    /// The glyph of a sign; the one for unknown signs where the font has none.
    pub(crate) fn glyph(&self, sign: char) -> u16 {
        self.face.glyph_index(sign).map_or(0, |glyph| glyph.0)
    }

    /// How far a glyph moves on, in thousandths of the font's height.
    pub(crate) fn advance(&self, glyph: u16) -> f64 {
        let advance = f64::from(self.face.glyph_hor_advance(GlyphId(glyph)).unwrap_or(0));
        advance * 1000.0 / f64::from(self.face.units_per_em().max(1))
    }

    /// Width of `text` in points at `size`.
    pub(crate) fn width(&self, text: &str, size: f64) -> f64 {
        text.chars().map(|sign| self.advance(self.glyph(sign))).sum::<f64>() * size / 1000.0
    }

    /// `text` in lines of at most `width` points, broken at spaces, and inside of words that are longer than a line: a path, a name.
    pub(crate) fn wrap(&self, text: &str, size: f64, width: f64) -> Vec<String> {
        let room = width * 1000.0 / size;
        text.lines().flat_map(|paragraph| self.wrap_line(paragraph, room)).collect()
    }

    /// A line in lines of at most `room` thousandths of the font's height. Each sign is measured once.
    fn wrap_line(&self, text: &str, room: f64) -> Vec<String> {
        let mut lines = Vec::new();
        let (mut line, mut used) = (String::new(), 0.0);
        for (index, word) in text.split(' ').enumerate() {
            let signs: Vec<(char, f64)> = word.chars().map(|sign| (sign, self.advance(self.glyph(sign)))).collect();
            let wide: f64 = signs.iter().map(|(_, advance)| advance).sum();
            let space = if index > 0 { self.advance(self.glyph(' ')) } else { 0.0 };
            if !line.is_empty() && used + space + wide > room {
                lines.push(std::mem::take(&mut line));
                used = 0.0;
            } else if index > 0 && !line.is_empty() {
                line.push(' ');
                used += space;
            }
            for (sign, advance) in signs {
                if !line.is_empty() && used + advance > room {
                    lines.push(std::mem::take(&mut line));
                    used = 0.0;
                }
                line.push(sign);
                used += advance;
            }
        }
        lines.push(line);
        lines
    }

    /// Height above and below the base line, and the box around all glyphs, in thousandths.
    pub(crate) fn measures(&self) -> (f32, f32, [f32; 4]) {
        let scale = 1000.0 / f32::from(self.face.units_per_em().max(1));
        let around = self.face.global_bounding_box();
        let edges = [around.x_min, around.y_min, around.x_max, around.y_max].map(|edge| f32::from(edge) * scale);
        (f32::from(self.face.ascender()) * scale, f32::from(self.face.descender()) * scale, edges)
    }
}
