//! Texts: runs of signs in UTF-8, UTF-16 or one byte a sign. What they are about is told by how they begin.

use crate::judged::{Facts, Read};
use crate::walk::{Broken, Step, Walk, wrong};

/// Bytes at the start of a sector that have to be text for one to begin there.
const HEAD: usize = 48;
/// The shortest text.
const LEAST: u64 = 64;

/// True where a sector begins as text does.
pub(crate) fn begins(sector: &[u8]) -> bool {
    let head = sector.get(..HEAD.min(sector.len())).unwrap_or_default();
    if head.len() < HEAD {
        return false;
    }
    if head.starts_with(b"\xff\xfe") || head.starts_with(b"\xfe\xff") {
        let little = head.starts_with(b"\xff");
        let units: Vec<u16> = head.as_chunks::<2>().0.iter().skip(1).map(|unit| utf16_unit(*unit, little)).collect();
        return units.iter().all(|unit| is_sign(char::from_u32(u32::from(*unit)).unwrap_or('\u{1}'))) && is_one_script(&units);
    }
    match std::str::from_utf8(head) {
        Ok(text) => is_prose(text),
        // A sign may be cut at the end.
        Err(error) if error.error_len().is_none() => {
            std::str::from_utf8(head.get(..error.valid_up_to()).unwrap_or_default()).is_ok_and(is_prose)
        }
        Err(_) => false,
    }
}

fn utf16_unit(unit: [u8; 2], little: bool) -> u16 {
    if little { u16::from_le_bytes(unit) } else { u16::from_be_bytes(unit) }
}

/// True for units out of a few blocks, or out of those of Chinese, Japanese and Korean: noise is of all of them.
fn is_one_script(units: &[u16]) -> bool {
    let blocks: std::collections::BTreeSet<u16> = units.iter().map(|unit| unit >> 8).collect();
    let east = |block: &u16| matches!(block, 0 | 0x20 | 0x30 | 0x31 | 0x4E..=0x9F | 0xAC..=0xD7 | 0xFF);
    blocks.len() <= units.len() / 4 || blocks.iter().all(east)
}

fn is_sign(sign: char) -> bool {
    !sign.is_control() || matches!(sign, '\t' | '\n' | '\r' | '\u{0c}')
}

/// Signs of which some are letters or figures, and not one and the same over and over.
fn is_prose(text: &str) -> bool {
    let first = text.chars().next();
    text.chars().all(is_sign) && text.chars().any(char::is_alphanumeric) && !text.chars().all(|sign| Some(sign) == first)
}

/// How signs are written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    Utf8,
    Utf16 { little: bool },
}

/// Walks a text to the first byte that is none.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let form = match walk.array::<2>(0)? {
        [0xFF, 0xFE] => Form::Utf16 { little: true },
        [0xFE, 0xFF] => Form::Utf16 { little: false },
        _ => Form::Utf8,
    };
    let end = match form {
        Form::Utf8 => utf8(walk)?,
        Form::Utf16 { little } => utf16(walk, little)?,
    };
    if end < LEAST {
        return wrong("too little of it is text");
    }
    let head = walk.bytes(0, end.min(2048))?;
    let head = match form {
        Form::Utf8 => String::from_utf8_lossy(&head).into_owned(),
        Form::Utf16 { little } => {
            String::from_utf16_lossy(&head.as_chunks::<2>().0.iter().map(|unit| utf16_unit(*unit, little)).collect::<Vec<_>>())
        }
    };
    let (suffix, title) = about(head.trim_start_matches('\u{feff}'));
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "it is text as far as it goes").named(suffix).telling(Facts { title, ..Facts::default() }))
}

fn utf8(walk: &mut Walk<'_>) -> Step<u64> {
    let (mut at, mut rest) = (0, Vec::new());
    loop {
        let len = (walk.len() - at).min(16 << 10);
        if len == 0 {
            return Ok(at - rest.len() as u64);
        }
        let bytes = match walk.bytes(at, len) {
            Ok(bytes) => bytes,
            Err(Broken::Unreadable) if at >= LEAST => {
                walk.hold(at);
                return Err(Broken::Unreadable);
            }
            Err(broken) => return Err(broken),
        };
        let base = at - rest.len() as u64;
        rest.extend(bytes);
        at += len;
        let (valid, is_over) = match std::str::from_utf8(&rest) {
            Ok(_) => (rest.len(), false),
            Err(error) => (error.valid_up_to(), error.error_len().is_some()),
        };
        let text = std::str::from_utf8(rest.get(..valid).unwrap_or_default()).unwrap_or_default();
        if let Some((end, _)) = text.char_indices().find(|(_, sign)| !is_sign(*sign)) {
            return Ok(base + end as u64);
        }
        if is_over {
            return Ok(base + valid as u64);
        }
        rest.drain(..valid);
    }
}

fn utf16(walk: &mut Walk<'_>, little: bool) -> Step<u64> {
    let mut at = 2;
    loop {
        let len = (walk.len() - at).min(16 << 10) / 2 * 2;
        if len == 0 {
            return Ok(at);
        }
        for unit in walk.bytes(at, len)?.as_chunks::<2>().0 {
            let unit = utf16_unit(*unit, little);
            // Halves of signs are taken as they come.
            let is_text = matches!(unit, 0xD800..=0xDFFF)
                || char::from_u32(u32::from(unit)).is_some_and(|sign| is_sign(sign) && unit != 0xFFFF);
            if !is_text {
                return Ok(at);
            }
            at += 2;
        }
    }
}

/// Suffix and title of a text by how it begins.
fn about(head: &str) -> (&'static str, Option<String>) {
    let start = head.trim_start();
    let lower: String = start.chars().take(512).collect::<String>().to_ascii_lowercase();
    let between = |from: &str, to: &str| {
        let at = lower.find(from)? + from.len();
        let text = start.get(at..)?;
        text.get(..text.to_ascii_lowercase().find(to)?).map(|text| text.trim().to_string())
    };
    let field = |name: &str| {
        start.lines().find_map(|line| {
            line.get(..name.len()).filter(|key| key.eq_ignore_ascii_case(name)).map(|_| line[name.len()..].trim().to_string())
        })
    };
    match () {
        () if lower.starts_with("<!doctype html") || lower.starts_with("<html") => ("html", between("<title>", "</title>")),
        () if lower.contains("<svg") && lower.starts_with('<') => ("svg", between("<title>", "</title>")),
        () if lower.starts_with("<?xml") => ("xml", None),
        () if lower.starts_with("begin:vcard") => ("vcf", field("FN:")),
        () if lower.starts_with("begin:vcalendar") => ("ics", field("SUMMARY:")),
        () if start.starts_with("From ") && lower.contains("\nfrom:") => ("mbox", field("Subject:")),
        () if ["received:", "return-path:", "from:", "delivered-to:", "message-id:", "mime-version:"]
            .iter()
            .any(|key| lower.starts_with(key)) =>
        {
            ("eml", field("Subject:"))
        }
        () if is_json(start) => ("json", None),
        () if is_table(start) => ("csv", None),
        () => ("txt", first_line(start)),
    }
}

fn is_json(start: &str) -> bool {
    let mut signs = start.chars().filter(|sign| !sign.is_whitespace());
    matches!((signs.next(), signs.next()), (Some('{'), Some('"' | '}')) | (Some('['), Some('{' | '"' | '[' | '0'..='9')))
}

/// True where the first lines have the same separators, and some.
fn is_table(start: &str) -> bool {
    let lines: Vec<&str> = start.lines().take(6).collect();
    let whole = lines.get(..lines.len().saturating_sub(1)).unwrap_or_default();
    [',', ';', '\t'].iter().any(|sign| {
        let mut counts = whole.iter().map(|line| line.matches(*sign).count());
        let first = counts.next().unwrap_or(0);
        first > 0 && whole.len() > 1 && counts.all(|count| count == first)
    })
}

fn first_line(start: &str) -> Option<String> {
    let line = start.lines().next()?.trim().trim_start_matches(['#', '=', ' ']);
    Some(line.chars().take(60).collect::<String>()).filter(|line| line.chars().any(char::is_alphanumeric))
}
