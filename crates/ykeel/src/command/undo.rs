//! `ykeel undo`.

use std::path::Path;

use keel_core::leave::Confirmation;
use keel_core::nodes::{self, Appeared};
use keel_core::plan::{self, Bundle, Condition, Direction};
use keel_core::{CoreError, Refusal};
use keel_source::printable;
use serde::Serialize;

use super::shared::print_json;
use crate::out::{say, tell};

#[derive(Serialize)]
struct Document {
    bundle: String,
    source: String,
    before: &'static str,
    now: &'static str,
    ranges: usize,
    /// What the system made of it, where it is a device.
    #[serde(skip_serializing_if = "Option::is_none")]
    appeared: Option<Appeared>,
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
    crate::log::opened(source.as_ref())?;
    let direction = if finish { Direction::Finish } else { Direction::RollBack };
    let confirmation = confirm.map_or(Confirmation::Yes, Confirmation::Code);
    let recovered = plan::recover(&source, (path, &bundle), direction, &confirmation, &mut |_| {});
    if matches!(recovered, Err(CoreError::Refused(Refusal::Code | Refusal::CodeWanted))) {
        tell!("ykeel: the code of this drive is {}", source.identity().code());
    }
    let before = recovered?;
    let now = plan::condition(&source, &bundle)?;
    let document = Document {
        bundle: path.display().to_string(),
        // The drive that was worked on, wherever it lies now.
        source: source.identity().path.as_ref().map_or_else(|| bundle.source.clone(), |path| path.display().to_string()),
        before: word(before),
        now: word(now),
        ranges: bundle.ranges.len(),
        appeared: nodes::renew(&source),
    };
    if json {
        return print_json(&document);
    }
    say!("{}: was {}, is now {}", printable(&document.source), document.before, document.now);
    document.appeared.iter().flat_map(Appeared::words).for_each(|line| say!("{line}"));
    Ok(())
}
