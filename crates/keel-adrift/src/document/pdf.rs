//! PDF (ISO 32000-2): objects from the start on, and the end that leads back to them; later versions of a document are appended behind it.

use crate::archive::inflate;
use crate::judged::{Facts, Read};
use crate::walk::{Broken, Step, Walk, wrong};

/// The longest object beside its stream.
const MOST_OBJECT: u64 = 1 << 20;
/// The most entries of a table that are held against what stands there.
const MOST_LOOKED: u64 = 4096;
/// The most objects of a document.
const MOST_OBJECTS: u32 = 8 << 20;

/// What stands behind a stream.
const ENDINGS: &[&[u8]] = &[b"endstream", b"\nendstream", b"\r\nendstream", b"\rendstream"];

/// Walks a document: objects, tables and ends, as they follow one another.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let mut pdf = Pdf { walk, at: 8, end: None, facts: Facts::default(), broken_at: None, is_locked: false };
    let broken = (|| {
        for _ in 0..MOST_OBJECTS {
            if !pdf.part()? {
                return Ok(());
            }
        }
        wrong("it has more objects than any has")
    })();
    let (end, facts) = (pdf.end, std::mem::take(&mut pdf.facts));
    let broken_at = pdf.broken_at.filter(|_| !pdf.is_locked);
    if let Some(at) = broken_at {
        pdf.walk.fall_back(at);
        return wrong("the packed data of an object break");
    }
    match (broken, end) {
        (Err(Broken::Stopped), _) => Err(Broken::Stopped),
        // What breaks behind an end is no part of it.
        (_, Some(end)) => {
            pdf.walk.fall_back(end);
            Ok(Read::to(end, "its objects follow one another to an end that leads back to them").telling(facts))
        }
        (Err(broken), None) => Err(broken),
        (Ok(()), None) => Err(Broken::End),
    }
}

struct Pdf<'w, 'a> {
    walk: &'w mut Walk<'a>,
    at: u64,
    /// Behind the last end that leads back.
    end: Option<u64>,
    facts: Facts,
    /// Where packed data do not unpack for the first time; those of a locked document never do.
    broken_at: Option<u64>,
    is_locked: bool,
}

impl Pdf<'_, '_> {
    /// Goes over one part; false where the document is over.
    fn part(&mut self) -> Step<bool> {
        self.blank()?;
        let head = self.line(self.at, 64)?;
        let is = |text: &[u8]| head.starts_with(text);
        if is(b"%%EOF") {
            return self.eof();
        }
        if is(b"%PDF-") {
            // The next document.
            return Ok(false);
        }
        match head.first() {
            Some(b'%') => self.comment()?,
            Some(b'0'..=b'9') => self.object(&head)?,
            _ if is(b"xref") => self.skip_to(b"trailer", MOST_OBJECTS as u64 * 20)?,
            _ if is(b"trailer") => {
                let from = self.at;
                // Some writers leave out the place of the table; then nothing leads back.
                let end = self.walk.find(from, from + MOST_OBJECT, b"%%EOF")?;
                match self.walk.find(from, end.unwrap_or(from + MOST_OBJECT), b"startxref")? {
                    Some(at) => self.at = at,
                    None => self.skip_to(b"%%EOF", MOST_OBJECT)?,
                }
                self.is_locked |= self.walk.find(from, self.at, b"/Encrypt")?.is_some();
            }
            _ if is(b"startxref") => self.skip_to(b"%%EOF", 64)?,
            _ if self.end.is_some() => return Ok(false),
            _ => return wrong("what follows is no object"),
        }
        self.walk.hold(self.at);
        Ok(true)
    }

    /// Leaves white space behind.
    fn blank(&mut self) -> Step<()> {
        while matches!(self.walk.u8(self.at)?, b' ' | b'\t' | b'\r' | b'\n' | 0x0C | 0) {
            self.at += 1;
            if self.end.is_some_and(|end| self.at - end > 4096) {
                return Err(Broken::End);
            }
        }
        Ok(())
    }

    /// Up to `len` bytes from `at`.
    fn line(&mut self, at: u64, len: u64) -> Step<Vec<u8>> {
        let len = len.min(self.walk.len().saturating_sub(at));
        self.walk.bytes(at, len)
    }

    fn comment(&mut self) -> Step<()> {
        while !matches!(self.walk.u8(self.at)?, b'\r' | b'\n') {
            self.at += 1;
        }
        Ok(())
    }

    fn skip_to(&mut self, word: &[u8], within: u64) -> Step<()> {
        let found = self.walk.find(self.at, self.at.saturating_add(within), word)?;
        self.at = found.map_or_else(|| wrong("a part of it does not end"), Ok)?;
        Ok(())
    }

    /// The end of a document, or of a version of it.
    fn eof(&mut self) -> Step<bool> {
        let before = self.at.saturating_sub(64);
        let tail = self.walk.bytes(before, self.at - before)?;
        self.at += 5;
        for sign in [b'\r', b'\n'] {
            if self.walk.u8(self.at).is_ok_and(|byte| byte == sign) {
                self.at += 1;
            }
        }
        let is_bare = tail.windows(9).all(|window| window != b"startxref") && tail.windows(2).any(|window| window == b">>");
        if is_bare {
            self.walk.trust(u64::MAX);
        }
        if is_bare || self.leads_back(&tail)? {
            self.walk.hold(self.at);
            self.end = Some(self.at);
        }
        Ok(self.walk.len() > self.at)
    }

    /// True where the number behind `startxref` leads to a table or to a stream of one; 0 stands at the first end of one laid out for reading
    /// while it comes.
    fn leads_back(&mut self, tail: &[u8]) -> Step<bool> {
        let word = b"startxref";
        let Some(at) = tail.windows(word.len()).rposition(|window| window == word) else { return Ok(false) };
        let text = String::from_utf8_lossy(tail.get(at + word.len()..).unwrap_or_default()).into_owned();
        let Some(place) = text.split_ascii_whitespace().next().and_then(|text| text.parse::<u64>().ok()) else {
            return Ok(false);
        };
        if place == 0 || place >= self.at {
            return Ok(false);
        }
        let there = self.line(place, 32)?;
        if there.starts_with(b"xref") {
            return self.objects_stand(place + 4);
        }
        Ok(there.first().is_some_and(u8::is_ascii_digit))
    }

    /// True where the objects of a table stand where it says: of each of its parts as many as are looked at.
    fn objects_stand(&mut self, table: u64) -> Step<bool> {
        let (mut at, mut looked) = (table, 0);
        while looked < MOST_LOOKED {
            at += self.line(at, 32)?.iter().take_while(|byte| byte.is_ascii_whitespace()).count() as u64;
            let head = String::from_utf8_lossy(&self.line(at, 32)?).into_owned();
            let mut words = head.split_ascii_whitespace();
            let part = words
                .next()
                .and_then(|word| word.parse::<u64>().ok())
                .zip(words.next().and_then(|word| word.parse::<u64>().ok()));
            let Some((first, count)) = part else { break };
            at += head.find(['\r', '\n']).unwrap_or(0) as u64;
            at += self.line(at, 4)?.iter().take_while(|byte| byte.is_ascii_whitespace()).count() as u64;
            for index in 0..count.min(MOST_LOOKED - looked) {
                let entry = String::from_utf8_lossy(&self.line(at + 20 * index, 20)?).into_owned();
                if entry.get(17..18) != Some("n") {
                    continue;
                }
                let place = entry.get(..10).and_then(|place| place.parse::<u64>().ok()).unwrap_or(u64::MAX);
                let stands = place < self.at && self.line(place, 24)?.starts_with(format!("{} ", first + index).as_bytes());
                if !stands {
                    return Ok(false);
                }
            }
            looked += count.max(1);
            at = at.saturating_add(20 * count);
        }
        Ok(true)
    }

    /// Goes over `N G obj … endobj`.
    fn object(&mut self, head: &[u8]) -> Step<()> {
        let is_object = head.windows(3).position(|window| window == b"obj");
        let Some(at) = is_object.filter(|at| {
            head.get(..*at).is_some_and(|head| head.iter().all(|byte| byte.is_ascii_digit() || byte.is_ascii_whitespace()))
        }) else {
            return wrong("what follows is no object");
        };
        let start = self.at + at as u64 + 3;
        let end = self.walk.find(start, start + MOST_OBJECT, b"endobj")?;
        let stream = self.walk.find(start, end.unwrap_or(start + MOST_OBJECT).min(start + MOST_OBJECT), b"stream")?;
        match (stream, end) {
            (Some(stream), _) => self.stream(start, stream),
            (None, Some(end)) => {
                self.tell(start, end)?;
                self.at = end + 6;
                Ok(())
            }
            (None, None) => wrong("an object of it does not end"),
        }
    }

    /// Goes over a stream; deflated ones are followed, of others the length is believed where it leads to their end.
    fn stream(&mut self, start: u64, word: u64) -> Step<()> {
        let dictionary = self.walk.bytes(start, word - start)?;
        let mut data = word + 6;
        for sign in [b'\r', b'\n'] {
            if self.walk.u8(data)? == sign {
                data += 1;
            }
        }
        let stated = number(&dictionary, b"/Length").map(|len| data.saturating_add(len));
        if let Some(end) = stated {
            self.walk.expect(end, ENDINGS);
        }
        let has = |word: &[u8]| dictionary.windows(word.len()).any(|window| window == word);
        self.is_locked |= has(b"/Encrypt");
        if has(b"/FlateDecode") && !has(b"/ASCII85D") && !has(b"/ASCIIHexD") {
            match inflate(self.walk, data, u64::MAX, true) {
                Ok(plain) => return self.behind(plain.end),
                Err(Broken::Wrong(_)) => self.broken_at = self.broken_at.or(Some(start)),
                Err(broken) => return Err(broken),
            }
        }
        let end = match stated {
            Some(end) if self.ends_at(end)? => end,
            _ => self.walk.find(data, u64::MAX, b"endstream")?.ok_or(Broken::End)?,
        };
        self.walk.trust(end - data);
        self.behind(end)
    }

    fn ends_at(&mut self, at: u64) -> Step<bool> {
        Ok(self.line(at.min(self.walk.len()), 16)?.windows(9).any(|window| window == b"endstream"))
    }

    fn behind(&mut self, end: u64) -> Step<()> {
        self.walk.hold(end);
        let found = self.walk.find(end, end + 64, b"endobj")?;
        self.at = found.map_or_else(|| wrong("a stream of it does not end where it does"), Ok)? + 6;
        Ok(())
    }

    /// Title and author, where they stand open.
    fn tell(&mut self, start: u64, end: u64) -> Step<()> {
        if end - start > 4096 {
            return Ok(());
        }
        let bytes = self.walk.bytes(start, end - start)?;
        for (key, slot) in [(&b"/Title"[..], &mut self.facts.title), (b"/Author", &mut self.facts.by)] {
            if let Some(text) = string(&bytes, key) {
                *slot = Some(text);
            }
        }
        Ok(())
    }
}

/// The number behind a key; none where it is a reference to another object.
fn number(dictionary: &[u8], key: &[u8]) -> Option<u64> {
    let at = dictionary.windows(key.len()).position(|window| window == key)? + key.len();
    let text = String::from_utf8_lossy(dictionary.get(at..)?).into_owned();
    let mut words = text.split_ascii_whitespace();
    let first: String = words.next()?.chars().take_while(char::is_ascii_digit).collect();
    let is_reference = words.next().is_some_and(|word| word.starts_with(|sign: char| sign.is_ascii_digit()))
        && words.next().is_some_and(|word| word.starts_with('R'));
    first.parse().ok().filter(|_| !is_reference)
}

/// The string behind a key, as Latin-1 or UTF-16.
fn string(bytes: &[u8], key: &[u8]) -> Option<String> {
    let at = bytes.windows(key.len()).position(|window| window == key)? + key.len();
    let rest = bytes.get(at..)?;
    let rest = rest.get(rest.iter().position(|byte| !byte.is_ascii_whitespace())?..)?.strip_prefix(b"(")?;
    let text = rest.get(..rest.iter().position(|byte| *byte == b')')?)?;
    let told = match text.strip_prefix(b"\xfe\xff") {
        Some(wide) => {
            String::from_utf16_lossy(&wide.as_chunks::<2>().0.iter().map(|unit| u16::from_be_bytes(*unit)).collect::<Vec<_>>())
        }
        None => text.iter().map(|byte| char::from(*byte)).collect(),
    };
    Some(told).filter(|told| !told.trim().is_empty())
}
