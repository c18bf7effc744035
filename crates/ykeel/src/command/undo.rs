//! `ykeel undo`.

use std::path::Path;

use keel_core::plan::{self, Bundle, Condition, Direction};
use keel_core::{CoreError, Refusal};
use keel_source::LinkKind;
use serde::Serialize;

use super::shared::print_json;

#[derive(Serialize)]
struct Document {
    bundle: String,
    source: String,
    before: &'static str,
    now: &'static str,
    ranges: usize,
}

fn word(condition: Condition) -> &'static str {
    match condition {
        Condition::Former => "as before the apply",
        Condition::Applied => "as applied",
        Condition::Between => "interrupted",
        Condition::Foreign(_) => "changed by something else",
    }
}

pub(super) fn run(path: &Path, finish: bool, place: Option<&Path>, confirm: Option<String>, json: bool) -> anyhow::Result<()> {
    let bundle = Bundle::read(path)?;
    let source = plan::source_of(path, &bundle, place)?;
    let code = source.identity().code();
    let confirmed = confirm.is_some_and(|typed| typed.trim().eq_ignore_ascii_case(&code));
    if source.identity().link == LinkKind::BlockDevice && !confirmed {
        eprintln!("ykeel: the code of this drive is {code}");
        return Err(CoreError::Refused(Refusal::Code).into());
    }
    let direction = if finish { Direction::Finish } else { Direction::RollBack };
    let before = plan::recover(&source, &bundle, direction, &mut |_| {})?;
    let now = plan::condition(&source, &bundle);
    let document = Document {
        bundle: path.display().to_string(),
        source: bundle.source.clone(),
        before: word(before),
        now: word(now),
        ranges: bundle.ranges.len(),
    };
    if json {
        return print_json(&document);
    }
    println!("{}: was {}, is now {}", document.source, document.before, document.now);
    Ok(())
}
