//! Text from a drive and sizes, as they may be shown.

/// `text` with every control character, bidirectional override and unassigned line break made visible, so that it
/// can be sent to a terminal, a report or a log.
#[must_use]
pub fn printable(text: &str) -> String {
    text.chars()
        .map(|sign| match sign {
            '\0'..='\u{1f}' => char::from_u32(0x2400 + sign as u32).unwrap_or('\u{fffd}'),
            '\u{7f}' => '\u{2421}',
            '\u{80}'..='\u{9f}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' => {
                '\u{fffd}'
            }
            other => other,
        })
        .collect()
}

/// `bytes` in decimal units as drives are labelled: `15.9 GB`, `512 B`.
#[must_use]
pub fn size_decimal(bytes: u64) -> String {
    const UNITS: [&str; 7] = ["B", "kB", "MB", "GB", "TB", "PB", "EB"];
    let mut unit = 0;
    let mut scaled = bytes;
    let mut tenths = 0;
    while scaled >= 1000 && unit < UNITS.len() - 1 {
        tenths = scaled % 1000 / 100;
        scaled /= 1000;
        unit += 1;
    }
    if unit == 0 || scaled >= 100 { format!("{scaled} {}", UNITS[unit]) } else { format!("{scaled}.{tenths} {}", UNITS[unit]) }
}
