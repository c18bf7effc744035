//! Names of files that have none any more: by what they tell of themselves, else by kind and place.

use keel_adrift::Facts;
use keel_source::ByteOffset;

use crate::files::safe_component;

/// The longest part that comes from the content, in signs.
const LONGEST: usize = 80;

/// A name for what begins at `at`: when it was made, what it is called and who made it, as far as it says; and its suffix.
pub(super) fn name(facts: &Facts, suffix: &str, at: ByteOffset) -> String {
    let made = facts.made.as_deref().map(|made| made.replace('T', " ").replace(':', "."));
    let told = |text: &Option<String>| text.as_deref().map(str::trim).filter(|text| !text.is_empty()).map(short);
    let parts: Vec<String> = [made, told(&facts.title), told(&facts.by)].into_iter().flatten().collect();
    let stem = if parts.is_empty() { format!("byte {}", at.0) } else { parts.join(" ") };
    safe_component(&format!("{stem}.{suffix}"))
}

/// One line, not too long, without what steers a terminal or leads elsewhere.
fn short(text: &str) -> String {
    let clean: String =
        text.chars().map(|sign| if sign.is_control() || "/\\:*?\"<>|".contains(sign) { ' ' } else { sign }).collect();
    let words: Vec<&str> = clean.split_whitespace().collect();
    words.join(" ").chars().take(LONGEST).collect()
}
