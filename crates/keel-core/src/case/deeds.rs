//! What was done to a drive, and from it, in sentences: the lines of the journal that changed something or brought something over.

use keel_source::{counted, printable, size_decimal};
use serde_json::Value;

use super::journal::JournalLine;
use super::standing::Standing;

/// Names of written structures that a sentence lists.
const MOST_NAMED: usize = 4;

/// Events after which a drive is another one than it was.
const CHANGES: [&str; 5] = ["apply", "finish", "undo", "wipe", "end"];

/// True where one of `lines` tells that the drive was changed.
#[must_use]
pub(crate) fn changed(lines: &[JournalLine]) -> bool {
    lines.iter().any(|line| CHANGES.contains(&line.event.as_str()))
}

/// What a line of the journal tells that was done, as sentences; none for what was only asked or noted.
#[must_use]
pub fn deed(line: &JournalLine) -> Option<Vec<String>> {
    let detail = &line.detail;
    let one = |text: String| Some(vec![text]);
    match line.event.as_str() {
        "apply" => one(applied(detail)),
        "finish" => one(format!("What an interrupted plan had begun was finished from its undo bundle: {}", result(detail))),
        "undo" => one(format!("Everything was put back as it was before the plan: {}", result(detail))),
        "save" => {
            one(format!("The drive as planned was saved as a new image of {}: {}", bytes(detail, "bytes"), text(detail, "file")))
        }
        "wipe" => one(wiped(detail)),
        "copy" => one(copied(detail)),
        "extract" => one(taken_out(detail)),
        "end" => one("The drive was told where it ends".into()),
        "fathom" => one(measured(detail)),
        "put back" => one("What a measurement of the capacity had written was put back".into()),
        "close" => Some(closed(detail)),
        "open again" => one("The case was opened again".into()),
        _ => None,
    }
}

fn text(detail: &Value, name: &str) -> String {
    printable(detail.get(name).and_then(Value::as_str).unwrap_or("-"))
}

fn number(detail: &Value, name: &str) -> u64 {
    detail.get(name).and_then(Value::as_u64).unwrap_or(0)
}

fn bytes(detail: &Value, name: &str) -> String {
    size_decimal(number(detail, name))
}

fn result(detail: &Value) -> String {
    text(detail, "result")
}

fn applied(detail: &Value) -> String {
    let edits: Vec<&Value> = detail.get("edits").and_then(Value::as_array).into_iter().flatten().collect();
    let is = |edit: &&Value, intent: &str| edit.get("intent").and_then(Value::as_str) == Some(intent);
    let what = match () {
        () if edits.iter().any(|edit| is(edit, "create")) => "A new layout was written",
        () if edits.iter().any(|edit| is(edit, "erase")) => "What former volumes left was cleared",
        () => "Structures were repaired",
    };
    let mut names: Vec<String> = edits.iter().map(|edit| text(edit, "what")).collect();
    names.dedup();
    let more = names.len().saturating_sub(MOST_NAMED);
    names.truncate(MOST_NAMED);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let places = usize::try_from(number(detail, "of")).unwrap_or(usize::MAX);
    let places = counted(places, "place", "places");
    format!("{what}, {} in {places} ({}{more}): {}", bytes(detail, "bytes"), names.join(", "), result(detail))
}

fn wiped(detail: &Value) -> String {
    let so_far = detail.get("so_far").unwrap_or(detail);
    let error = detail.get("error").map(|_| format!("; it ended with: {}", text(detail, "error"))).unwrap_or_default();
    format!("Ground was overwritten for good ({}): {}{error}", text(so_far, "method"), text(so_far, "line"))
}

fn copied(detail: &Value) -> String {
    let Some(copied) = detail.get("copied") else {
        return format!("A copy to {} was broken off: {}", text(detail, "to"), text(detail, "error"));
    };
    let (all, over) = (number(copied, "bytes"), number(copied, "copied_bytes"));
    let missing = if over < all { format!(", {} are missing in it", size_decimal(all - over)) } else { String::new() };
    format!("The drive was copied to {}: {} of {}{missing}", text(detail, "to"), size_decimal(over), size_decimal(all))
}

fn taken_out(detail: &Value) -> String {
    let told = [
        ("whole", "whole"),
        ("plausible", "plausible"),
        ("cut", "cut"),
        ("partly_unreadable", "partly unreadable"),
        ("failed", "failed"),
    ];
    let counts = told.iter().filter(|(name, _)| *name == "whole" || number(detail, name) > 0);
    let counts: Vec<String> = counts.map(|(name, word)| format!("{} {word}", number(detail, name))).collect();
    format!(
        "Files were taken out: {}; {} with the manifest {}",
        counts.join(", "),
        bytes(detail, "bytes"),
        text(detail, "manifest")
    )
}

fn measured(detail: &Value) -> String {
    if detail.get("error").is_some() {
        return format!("The capacity was measured ({}) and that failed: {}", text(detail, "method"), text(detail, "error"));
    }
    let (claimed, proven) = (bytes(detail, "claimed_bytes"), bytes(detail, "proven_bytes"));
    format!("The capacity was measured ({}): {proven} of {claimed}", text(detail, "method"))
}

fn closed(detail: &Value) -> Vec<String> {
    let standing = detail.get("stands").and_then(|stands| serde_json::from_value::<Standing>(stands.clone()).ok());
    match standing {
        None => vec!["The case was closed".into()],
        Some(standing) => {
            let mut lines = standing.lines().into_iter();
            let first = lines.next().unwrap_or_default();
            std::iter::once(format!("The case was closed; the drive stands as {first}")).chain(lines).collect()
        }
    }
}
