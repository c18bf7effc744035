//! Names from a drive as names of this system: a hostile name never leaves the folder.

/// The longest name of a file on this system, in bytes.
const LONGEST: usize = 255;

/// `name` as one path component of this system: no separators, no `.` or `..`, no control characters, at most 255
/// bytes. What had to change is written as `%` and its code, and a `%` itself where it would read as such a code, so that
/// different names stay different.
#[must_use]
pub fn safe_component(name: &str) -> String {
    let mut safe = String::with_capacity(name.len());
    for (at, sign) in name.char_indices() {
        let code = |rest: &str| rest.as_bytes().first_chunk::<2>().is_some_and(|two| two.iter().all(u8::is_ascii_hexdigit));
        match sign {
            '%' if !code(name.get(at + 1..).unwrap_or_default()) => safe.push('%'),
            '/' | '\0'..='\u{1f}' | '\u{7f}'..='\u{9f}' | '%' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => {
                safe.push_str(&format!("%{:02X}", u32::from(sign)));
            }
            other => safe.push(other),
        }
    }
    match safe.as_str() {
        "" => return "%00".into(),
        "." => return "%2E".into(),
        ".." => return "%2E%2E".into(),
        _ => {}
    }
    if safe.len() > LONGEST {
        // Cut names keep their ends apart by a hash of the whole.
        let hash = blake3::hash(safe.as_bytes()).to_hex();
        let mut end = LONGEST - 17;
        while !safe.is_char_boundary(end) {
            end -= 1;
        }
        safe.truncate(end);
        safe.push('~');
        safe.push_str(&hash[..16]);
    }
    safe
}

/// `name` made different from its namesakes in the same folder: `name (2).txt`.
pub(super) fn numbered(name: &str, number: u32) -> String {
    match name.rsplit_once('.') {
        Some((stem, extension)) if !stem.is_empty() => format!("{stem} ({number}).{extension}"),
        _ => format!("{name} ({number})"),
    }
}
