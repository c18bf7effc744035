//! Text in whatever form it was written.

use chardetng::{EncodingDetector, Iso2022JpDetection, Utf8Detection};
use serde::Serialize;

/// How a text is written: its name in the Encoding Standard (WHATWG).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Encoding(pub &'static str);

/// The text that `bytes` are, as far as they go, and how it is written: by a mark at the start, else UTF-16 by the places of its zeros,
/// UTF-8 where it holds, else what its letters look like. What does not decode becomes `�`. None where it is no text.
#[must_use]
pub fn decoded(bytes: &[u8]) -> Option<(String, Encoding)> {
    if bytes.is_empty() {
        return None;
    }
    let encoding = match encoding_rs::Encoding::for_bom(bytes) {
        Some((encoding, _)) => encoding,
        None => told(bytes)?,
    };
    // A sign that is cut off at the end is left out.
    let whole = match std::str::from_utf8(bytes) {
        Err(error) if error.error_len().is_none() && encoding == encoding_rs::UTF_8 => error.valid_up_to(),
        _ => bytes.len(),
    };
    let (text, encoding, _) = encoding.decode(&bytes[..whole]);
    is_readable(&text).then(|| (text.into_owned(), Encoding(encoding.name())))
}

fn told(bytes: &[u8]) -> Option<&'static encoding_rs::Encoding> {
    let zeros = |from: usize| bytes.iter().skip(from).step_by(2).filter(|byte| **byte == 0).count();
    let (even, odd) = (zeros(0), zeros(1));
    if even + odd > 0 {
        // Letters of most languages leave every other byte zero, nearly always.
        let half = bytes.len() / 2;
        return match () {
            () if odd * 3 > half && even * 20 <= half => Some(encoding_rs::UTF_16LE),
            () if even * 3 > half && odd * 20 <= half => Some(encoding_rs::UTF_16BE),
            () => None,
        };
    }
    let mut detector = EncodingDetector::new(Iso2022JpDetection::Allow);
    detector.feed(bytes, true);
    // A sign that is cut off at the end is no sign of another form.
    match std::str::from_utf8(bytes) {
        Ok(_) => Some(encoding_rs::UTF_8),
        Err(error) if error.error_len().is_none() => Some(encoding_rs::UTF_8),
        Err(_) => Some(detector.guess(None, Utf8Detection::Deny)),
    }
}

/// True where hardly any sign steers, or stands for what did not decode.
fn is_readable(text: &str) -> bool {
    let (mut all, mut odd) = (0_usize, 0_usize);
    for sign in text.chars().take(4096) {
        all += 1;
        odd += usize::from(sign == '\u{fffd}' || sign.is_control() && !matches!(sign, '\t' | '\n' | '\r' | '\u{c}'));
    }
    odd * 50 <= all
}
