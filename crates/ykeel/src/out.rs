//! What goes to standard output and standard error: a reader that went away ends the program quietly, a full disk is an error, and
//! nothing raw that would steer a terminal is in it, JSON included.

use std::io::{self, ErrorKind, Write};
use std::sync::atomic::{AtomicBool, Ordering};

/// A line on standard output.
macro_rules! say {
    ($($part:tt)*) => { $crate::out::line(format_args!($($part)*)) };
}

/// A line on standard error.
macro_rules! tell {
    ($($part:tt)*) => { $crate::out::aside(format_args!($($part)*)) };
}

pub(crate) use {say, tell};

/// True once a JSON document was begun: there is one on standard output, and no second one behind it.
static DOCUMENT: AtomicBool = AtomicBool::new(false);

/// Exit code for output that cannot be written.
const NOT_WRITTEN: i32 = 5;

/// Writes a line to standard output. Whoever stopped reading wants no more: the program ends.
pub(crate) fn line(text: std::fmt::Arguments<'_>) {
    let mut out = io::stdout().lock();
    if let Err(error) = out.write_fmt(text).and_then(|()| out.write_all(b"\n")) {
        drop(out);
        if error.kind() == ErrorKind::BrokenPipe {
            std::process::exit(0);
        }
        aside(format_args!("ykeel: standard output cannot be written: {error}"));
        std::process::exit(NOT_WRITTEN);
    }
}

/// Writes an error as the one JSON document of a command, unless it wrote its document before: `{"error": TEXT, "code": EXIT CODE}`.
pub(crate) fn error_document(text: &str, code: u8) {
    if DOCUMENT.load(Ordering::Relaxed) {
        return;
    }
    let mut out = Json::new(io::stdout().lock());
    let document = serde_json::json!({ "error": text, "code": code });
    let _ = serde_json::to_writer_pretty(&mut out, &document).map_err(io::Error::from).and_then(|()| out.write_all(b"\n"));
}

/// Writes a line to standard error. Where nobody hears it, it is not said.
pub(crate) fn aside(text: std::fmt::Arguments<'_>) {
    let mut out = io::stderr().lock();
    let _ = out.write_fmt(text).and_then(|()| out.write_all(b"\n"));
}

/// Standard output for JSON: signs that steer a terminal or turn the direction of text are written as escapes. They stand nowhere but in
/// strings, where an escape is the same.
pub(crate) struct Json<W: Write> {
    inner: W,
    /// The first bytes of a sign that came in two pieces.
    held: Vec<u8>,
}

impl<W: Write> Json<W> {
    /// Output to `inner`.
    pub(crate) fn new(inner: W) -> Self {
        DOCUMENT.store(true, Ordering::Relaxed);
        Self { inner, held: Vec::new() }
    }
}

/// True for a sign that is never written raw.
fn steers(sign: char) -> bool {
    matches!(
        sign,
        '\u{7f}'..='\u{9f}' | '\u{061c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}'
    )
}

impl<W: Write> Write for Json<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.held.is_empty() && bytes.is_ascii() && !bytes.contains(&0x7F) {
            self.inner.write_all(bytes)?;
            return Ok(bytes.len());
        }
        self.held.extend_from_slice(bytes);
        let whole = match std::str::from_utf8(&self.held) {
            Ok(_) => self.held.len(),
            // What is cut inside of a sign waits for the rest of it.
            Err(error) if error.error_len().is_none() => error.valid_up_to(),
            Err(error) => return Err(io::Error::new(ErrorKind::InvalidData, error)),
        };
        let rest = self.held.split_off(whole);
        let text = String::from_utf8(std::mem::replace(&mut self.held, rest)).unwrap_or_default();
        let mut plain = String::with_capacity(text.len());
        for sign in text.chars() {
            match steers(sign) {
                true => plain.push_str(&format!("\\u{:04x}", u32::from(sign))),
                false => plain.push(sign),
            }
        }
        self.inner.write_all(plain.as_bytes())?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signs_that_steer_are_escapes_and_the_document_says_the_same() {
        let document = serde_json::json!({ "na\u{202e}me": "\u{9b}31mQuay \u{7f}\u{200f}ü 時\u{1b}" });
        let mut bytes = Vec::new();
        serde_json::to_writer_pretty(Json::new(&mut bytes), &document).unwrap();
        let text = String::from_utf8(bytes.clone()).unwrap();
        assert!(text.chars().all(|sign| !steers(sign) && (sign == '\n' || !sign.is_control())), "{text:?}");
        assert_eq!(serde_json::from_slice::<serde_json::Value>(&bytes).unwrap(), document);
    }

    #[test]
    fn a_sign_that_comes_in_pieces_is_put_together() {
        let whole = "\"\u{202e}ü時\"".as_bytes();
        let mut bytes = Vec::new();
        let mut out = Json::new(&mut bytes);
        whole.chunks(1).for_each(|piece| out.write_all(piece).unwrap());
        out.flush().unwrap();
        assert_eq!(String::from_utf8(bytes).unwrap(), "\"\\u202eü時\"");
    }
}
