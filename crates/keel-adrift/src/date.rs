//! Dates as files keep them.

/// Seconds since 1970 as a date.
pub(crate) fn since_1970(since: i64) -> String {
    let (days, rest) = (since.div_euclid(86_400), since.rem_euclid(86_400));
    // Days since 0000-03-01, in cycles of 400 years.
    let days = days + 719_468;
    let (cycle, day) = (days.div_euclid(146_097), days.rem_euclid(146_097));
    let year = (day - day / 1460 + day / 36_524 - day / 146_096) / 365;
    let of_year = day - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let (month, next) = if month < 10 { (month + 3, 0) } else { (month - 9, 1) };
    let year = cycle * 400 + year + next;
    format!("{year:04}-{month:02}-{day:02}T{:02}:{:02}:{:02}", rest / 3600, rest / 60 % 60, rest % 60)
}
