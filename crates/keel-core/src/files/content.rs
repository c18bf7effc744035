//! A file's content as a source of its own, and its pages: rows of text or of bytes from any place on, without reading the rest.

use std::sync::{Mutex, PoisonError};

use keel_format::{Entry, StreamReader, Volume};
use keel_source::{ByteOffset, ByteRange, Identity, LinkKind, ReadError, SectorSize, SharedSource, Source};

use super::about::Encoding;
use crate::CoreError;

/// Bytes of a row of bytes.
pub const ROW: u64 = 16;
/// Bytes before a place in which the start of its line is looked for: a longer line is broken there.
const LONGEST_LINE: u64 = 16 << 10;
/// The most rows of a page.
const MOST_ROWS: usize = 2000;
/// The most signs of a row.
const WIDEST: usize = 2000;
/// The most bytes that one sign takes, in any form of text.
const SIGN: u64 = 4;

/// The main stream of a file.
pub struct Content {
    stream: Mutex<Box<dyn StreamReader>>,
    identity: Identity,
}

impl Content {
    /// The content of `entry`, as a source with sectors of one byte.
    ///
    /// # Errors
    /// [`CoreError::Format`] when it does not open.
    pub fn open(volume: &dyn Volume, entry: &Entry) -> Result<Self, CoreError> {
        let stream = volume.open(entry.id, "")?;
        let mut identity = Identity::bare(entry.name.clone(), stream.bytes(), LinkKind::Derived);
        (identity.logical_sector, identity.physical_sector) = (SectorSize(1), SectorSize(1));
        Ok(Self { stream: Mutex::new(stream), identity })
    }
}

impl Source for Content {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let inside = usize::try_from(self.len().saturating_sub(at.0)).unwrap_or(usize::MAX).min(buf.len());
        let (head, tail) = buf.split_at_mut(inside);
        tail.fill(0);
        let mut bad = match head.is_empty() {
            true => Vec::new(),
            false => self.stream.lock().unwrap_or_else(PoisonError::into_inner).read(at.0, head),
        };
        let behind = ByteRange::sized(at + inside as u64, tail.len() as u64);
        match (bad.is_empty(), tail.is_empty()) {
            (true, true) => Ok(()),
            (true, false) => Err(ReadError::past_end(behind)),
            (false, _) => {
                bad.extend((!tail.is_empty()).then_some(behind));
                Err(ReadError { bad, ..ReadError::of(behind, "the drive does not read it") })
            }
        }
    }
}

/// How a file is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// As text.
    Text(Encoding),
    /// As bytes, 16 a row.
    Bytes,
}

/// A row of a page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PageRow {
    /// Its first byte in the file.
    pub at: u64,
    /// Its text; empty for a row of bytes.
    pub text: String,
    /// Its bytes, for a row of bytes.
    pub bytes: Vec<u8>,
    /// True where some of it does not read.
    pub bad: bool,
}

/// A page of a file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Page {
    /// The first byte shown.
    pub at: u64,
    /// The rows, from there on.
    pub rows: Vec<PageRow>,
    /// The first byte behind them.
    pub end: u64,
}

/// The page that begins `by` rows behind the row with byte `at` (before it, where that is less than nothing): `height` rows of at most
/// `width` signs. The first and the last byte of the file end the way.
#[must_use]
pub fn page(content: &SharedSource, at: u64, by: i64, form: Form, (width, height): (usize, usize)) -> Page {
    let (width, height) = (width.clamp(8, WIDEST), height.clamp(1, MOST_ROWS));
    let at = at.min(content.len().saturating_sub(1));
    let first = match form {
        Form::Bytes => {
            let last = content.len().saturating_sub(1) / ROW;
            (at / ROW).saturating_add_signed(by).min(last) * ROW
        }
        Form::Text(encoding) => moved(content, at, by, encoding, width),
    };
    let (rows, end) = match form {
        Form::Bytes => byte_rows(content, first, height),
        Form::Text(encoding) => text_rows(content, first, encoding, (width, height)),
    };
    Page { at: first, rows, end }
}

/// Bytes from `at` on, as far as the file goes, and which of them do not read.
fn read(content: &SharedSource, at: u64, bytes: u64) -> (Vec<u8>, Vec<ByteRange>) {
    let len = bytes.min(content.len().saturating_sub(at));
    let mut buf = vec![0; usize::try_from(len).unwrap_or(0)];
    let bad = content.read_at(ByteOffset(at), &mut buf).err().map(|error| error.bad).unwrap_or_default();
    (buf, bad)
}

fn is_bad(bad: &[ByteRange], at: u64, bytes: u64) -> bool {
    bad.iter().any(|bad| bad.overlap(ByteRange::sized(ByteOffset(at), bytes)).is_some())
}

fn byte_rows(content: &SharedSource, at: u64, height: usize) -> (Vec<PageRow>, u64) {
    let (bytes, bad) = read(content, at, height as u64 * ROW);
    let row = |(index, bytes): (usize, &[u8])| {
        let at = at + index as u64 * ROW;
        PageRow { at, text: String::new(), bytes: bytes.to_vec(), bad: is_bad(&bad, at, bytes.len() as u64) }
    };
    (bytes.chunks(ROW as usize).enumerate().map(row).collect(), at + bytes.len() as u64)
}

fn text_rows(content: &SharedSource, at: u64, encoding: Encoding, (width, height): (usize, usize)) -> (Vec<PageRow>, u64) {
    let (bytes, bad) = read(content, at, (width * height) as u64 * SIGN);
    let mut rows = broken(&bytes, at, encoding, width, height + 1);
    let end = if rows.len() > height { rows[height].at } else { at + bytes.len() as u64 };
    rows.truncate(height);
    let ends: Vec<u64> = rows.iter().skip(1).map(|row| row.at).chain([end]).collect();
    rows.iter_mut().zip(ends).for_each(|(row, end)| row.bad = is_bad(&bad, row.at, end - row.at));
    (rows, end)
}

/// Breaks text at its line ends and at `width` signs.
fn broken(bytes: &[u8], base: u64, encoding: Encoding, width: usize, most: usize) -> Vec<PageRow> {
    let decoder = encoding_rs::Encoding::for_label(encoding.0.as_bytes()).unwrap_or(encoding_rs::UTF_8);
    let mut decoder = decoder.new_decoder_without_bom_handling();
    let row = |at: usize| PageRow { at: base + at as u64, text: String::new(), bytes: Vec::new(), bad: false };
    let (mut rows, mut begun, mut signs, mut ended) = (Vec::new(), row(0), 0, false);
    let mut sign = String::with_capacity(16);
    // The first byte of the sign that comes.
    let mut first = 0;
    for (at, byte) in bytes.iter().enumerate() {
        sign.clear();
        let _ = decoder.decode_to_string(std::slice::from_ref(byte), &mut sign, false);
        if sign.is_empty() {
            continue;
        }
        for own in sign.chars() {
            if ended || (signs == width && own != '\n' && own != '\r') {
                rows.push(std::mem::replace(&mut begun, row(first)));
                (signs, ended) = (0, false);
                if rows.len() == most {
                    return rows;
                }
            }
            match own {
                '\n' => ended = true,
                '\r' | '\u{feff}' => {}
                '\t' => {
                    let room = (4 - signs % 4).min(width - signs);
                    begun.text.extend(std::iter::repeat_n(' ', room));
                    signs += room;
                }
                own => {
                    begun.text.push(own);
                    signs += 1;
                }
            }
        }
        first = at + 1;
    }
    if !begun.text.is_empty() || ended {
        rows.push(begun);
    }
    rows
}

/// Where the row begins that is `by` rows from the one with byte `at`.
fn moved(content: &SharedSource, at: u64, by: i64, encoding: Encoding, width: usize) -> u64 {
    let mut here = begin_of_row(content, at, encoding, width);
    if by >= 0 {
        let mut left = usize::try_from(by).unwrap_or(usize::MAX);
        while left > 0 {
            let rows = left.min(MOST_ROWS);
            let (found, end) = text_rows(content, here, encoding, (width, rows + 1));
            match found.get(rows) {
                Some(row) => here = row.at,
                // The last row stays in sight.
                None => return found.last().filter(|_| end >= content.len()).map_or(here, |row| row.at),
            }
            left -= rows;
        }
        return here;
    }
    for _ in 0..by.unsigned_abs().min(MOST_ROWS as u64) {
        if here == 0 {
            return 0;
        }
        here = begin_of_row(content, here - 1, encoding, width);
    }
    here
}

/// Where the row with byte `at` begins: lines are broken from their starts on.
fn begin_of_row(content: &SharedSource, at: u64, encoding: Encoding, width: usize) -> u64 {
    let unit = if encoding.0.starts_with("UTF-16") { 2 } else { 1 };
    let at = at / unit * unit;
    let base = at.saturating_sub(LONGEST_LINE) / unit * unit;
    let (bytes, _) = read(content, base, at - base);
    let ends = |pair: &[u8]| match encoding.0 {
        "UTF-16LE" => pair == [b'\n', 0],
        "UTF-16BE" => pair == [0, b'\n'],
        _ => pair == [b'\n'],
    };
    let unit = usize::try_from(unit).unwrap_or(1);
    let line = bytes.chunks_exact(unit).rposition(ends).map_or(0, |end| (end + 1) * unit);
    let line = base + line as u64;
    // The row itself, and one sign behind it, so that its end is seen.
    let (bytes, _) = read(content, line, at - line + SIGN);
    let rows = broken(&bytes, line, encoding, width, usize::MAX);
    rows.iter().rev().find(|row| row.at <= at).map_or(line, |row| row.at)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::MemorySource;
    use proptest::prelude::*;

    use super::super::about::decoded;
    use super::*;

    fn source(bytes: &[u8]) -> SharedSource {
        Arc::new(MemorySource::new("rota", bytes.to_vec(), 1))
    }

    fn texts(page: &Page) -> Vec<&str> {
        page.rows.iter().map(|row| row.text.as_str()).collect()
    }

    #[test]
    fn a_long_text_is_paged_down_to_its_end_and_up_again() {
        let text: String = (0..5000).map(|number| format!("crossing {number:04} – Fähre\r\n")).collect();
        for (bytes, form) in [
            (text.clone().into_bytes(), "UTF-8"),
            (text.encode_utf16().flat_map(u16::to_le_bytes).collect(), "UTF-16LE"),
            (text.encode_utf16().flat_map(u16::to_be_bytes).collect(), "UTF-16BE"),
        ] {
            assert_eq!(decoded(&bytes).unwrap().1.0, form);
            let (content, form) = (source(&bytes), Form::Text(Encoding(form)));
            let (mut page_, mut seen) = (page(&content, 0, 0, form, (40, 30)), 0);
            while page_.end < content.len() {
                seen += page_.rows.len();
                assert_eq!(page_.rows[0].text, format!("crossing {:04} – Fähre", seen - 30));
                page_ = page(&content, page_.end, 0, form, (40, 30));
            }
            assert_eq!((seen + page_.rows.len(), texts(&page_).last().copied()), (5000, Some("crossing 4999 – Fähre")));
            let up = page(&content, page_.at, -60, form, (40, 30));
            let first: usize = page_.rows[0].text[9..13].parse().unwrap();
            assert_eq!(up.rows[0].text, format!("crossing {:04} – Fähre", first - 60));
            assert_eq!(page(&content, 0, i64::MAX, form, (40, 30)).rows.len(), 1, "the last row stays");
            assert_eq!(page(&content, content.len(), i64::MIN, form, (40, 30)).rows.len(), 30);
        }
    }

    #[test]
    fn lines_without_end_are_broken_and_bytes_are_shown_by_sixteens() {
        let content = source(&[b'x'; 100_000]);
        let text = Form::Text(Encoding("UTF-8"));
        let first = page(&content, 0, 0, text, (50, 10));
        assert_eq!((first.rows.len(), first.rows[9].at, first.end), (10, 450, 500));
        assert_eq!(page(&content, 0, 3, text, (50, 10)).at, 150);
        let bytes = page(&content, 99_999, 0, Form::Bytes, (50, 10));
        assert_eq!((bytes.at, bytes.rows.len(), bytes.end), (99_984, 1, 100_000));
        assert_eq!(page(&content, 99_999, -5, Form::Bytes, (50, 10)).rows.len(), 6);
        assert_eq!(page(&source(b""), 7, 3, text, (50, 10)), Page::default());
        assert_eq!(page(&source(b""), 7, 3, Form::Bytes, (50, 10)), Page::default());
    }

    #[test]
    fn what_does_not_read_is_marked() {
        let bad = ByteRange::sized(ByteOffset(40), 4);
        let content: SharedSource = Arc::new(MemorySource::new("rota", vec![b'\n'; 64], 1).with_bad(bad));
        let rows = page(&content, 0, 0, Form::Bytes, (50, 10)).rows;
        assert_eq!(rows.iter().map(|row| row.bad).collect::<Vec<_>>(), [false, false, true, false]);
        let rows = page(&content, 36, 0, Form::Text(Encoding("UTF-8")), (50, 20)).rows;
        assert!(rows.iter().any(|row| row.bad) && !rows[0].bad);
    }

    proptest! {
        #[test]
        fn no_bytes_and_no_steps_break_a_page(
            bytes in proptest::collection::vec(any::<u8>(), 0..4000), at in 0_u64..5000, by in -200_i64..200, which in 0_usize..5,
        ) {
            let form = ["UTF-8", "UTF-16LE", "windows-1252", "Shift_JIS", "GBK"][which];
            for form in [Form::Text(Encoding(form)), Form::Bytes] {
                let content = source(&bytes);
                let shown = page(&content, at, by, form, (20, 8));
                prop_assert!(shown.at <= shown.end && shown.end <= content.len() && shown.rows.len() <= 8);
                prop_assert!(shown.rows.windows(2).all(|rows| rows[0].at < rows[1].at));
                prop_assert!(bytes.is_empty() || !shown.rows.is_empty());
            }
        }
    }
}
