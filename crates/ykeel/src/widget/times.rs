//! How long requests took: on one scale wherever they are drawn, and in words.

/// Where the scale begins, in microseconds, and its decades from there: it ends at ten seconds.
const SHORTEST_US: f64 = 100.0;
pub(crate) const DECADES: u16 = 5;
/// Parts of a column that a bar ends with.
const PARTS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];

/// How far on the scale a request is that took `us` microseconds: from 0 to 1.
pub(crate) fn share(us: u64) -> f64 {
    ((us as f64).max(SHORTEST_US) / SHORTEST_US).log10().min(f64::from(DECADES)) / f64::from(DECADES)
}

/// A bar of `room` columns at most, exact to an eighth of one; what was asked has one, however fast it was.
pub(crate) fn bar(us: u64, room: u16) -> String {
    if us == 0 {
        return String::new();
    }
    let parts = ((share(us) * f64::from(room) * 8.0).round() as usize).max(1);
    format!("{}{}", "█".repeat(parts / 8), PARTS.get(parts % 8).copied().unwrap_or_default())
}

/// In words.
pub(crate) fn words(us: u64) -> String {
    match us {
        0..1000 => format!("{us} µs"),
        1000..1_000_000 => format!("{}.{} ms", us / 1000, us % 1000 / 100),
        _ => format!("{}.{} s", us / 1_000_000, us % 1_000_000 / 100_000),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_grow_by_decades_and_fit_their_columns() {
        let lengths: Vec<usize> = [0, 50, 1000, 10_000, 100_000, 1_000_000, u64::MAX].map(|us| bar(us, 4).chars().count()).into();
        assert!(lengths.is_sorted() && lengths[0] == 0 && lengths[1] == 1 && lengths[6] == 4, "{lengths:?}");
        assert_eq!((bar(10_000_000, 4), share(10_000_000), share(0)), ("█".repeat(4), 1.0, 0.0));
        assert_eq!([words(999), words(61_500), words(2_140_000)], ["999 µs", "61.5 ms", "2.1 s"]);
    }
}
