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

/// So many of something, in words that agree: `one` for a single one, `many` for any other count.
#[must_use]
pub fn counted<N: Copy + std::fmt::Display + PartialEq + From<u8>>(count: N, one: &str, many: &str) -> String {
    let word = if count == N::from(1) { one } else { many };
    format!("{count} {word}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_sign_that_steers_or_turns_the_line_is_left_as_it_is() {
        for sign in (0..=0x2fffu32).filter_map(char::from_u32) {
            let shown = printable(&sign.to_string());
            let one = shown.chars().next().unwrap();
            assert_eq!(shown.chars().count(), 1);
            assert!(!one.is_control(), "{sign:?}");
            let turns = matches!(sign, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}');
            assert!(!turns || one == '\u{fffd}', "{sign:?}");
        }
        assert_eq!(printable("Überfahrt 港"), "Überfahrt 港");
        assert_eq!(printable("a\u{1b}[2J\tb\r\n"), "a␛[2J␉b␍␊");
        assert_ne!(printable("\u{1}"), printable("\u{2}"), "each has a picture of its own");
    }

    #[test]
    fn one_of_something_is_said_in_the_singular() {
        assert_eq!([0usize, 1, 2].map(|count| counted(count, "entry", "entries")), ["0 entries", "1 entry", "2 entries"]);
        assert_eq!((counted(1u64, "place", "places"), counted(u32::MAX, "place", "places").len()), ("1 place".into(), 17));
    }

    #[test]
    fn sizes_keep_three_digits_at_most_and_never_round_up() {
        for (bytes, text) in [
            (0, "0 B"),
            (999, "999 B"),
            (1000, "1.0 kB"),
            (9_999, "9.9 kB"),
            (99_999, "99.9 kB"),
            (999_999, "999 kB"),
            (15_931_539_456, "15.9 GB"),
            (u64::MAX, "18.4 EB"),
        ] {
            assert_eq!(size_decimal(bytes), text);
        }
    }
}
