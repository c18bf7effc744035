//! `ykeel check`.

use std::path::Path;

use keel_core::files::{self, Lost};
use keel_core::mend::{self, Report};
use keel_core::sweep::{Find, Reach, readable};
use keel_format::Severity;
use serde::Serialize;

use super::shared::{find, open, print_json, sweep};
use crate::cli::SourceArgs;
use crate::exit::Ended;
use crate::out::say;

#[derive(Serialize)]
struct Document {
    volumes: Vec<Report>,
    kept: Vec<Lost>,
}

pub(super) fn run(args: &SourceArgs, volume: Option<&str>, lost_to: Option<&Path>) -> anyhow::Result<()> {
    let source = open(args)?;
    let swept = sweep(&source, Reach::Doubt)?;
    let finds: Vec<&Find> = match volume {
        Some(id) => vec![find(&swept.finds, id)?],
        None => readable(&swept.finds).collect(),
    };
    if finds.is_empty() {
        return Err(Ended::Nothing.into());
    }
    let volumes = finds.iter().map(|find| mend::report(&source, find)).collect::<Result<Vec<_>, _>>()?;
    let kept = match (lost_to, finds.first()) {
        (Some(folder), Some(find)) => files::take_lost(&source, find, folder)?,
        _ => Vec::new(),
    };
    let document = Document { volumes, kept };
    if args.json {
        return print_json(&document);
    }
    for report in &document.volumes {
        print(report);
    }
    for lost in &document.kept {
        say!("kept {}: {} bytes from byte {}", lost.saved_as, lost.bytes, lost.at_byte.0);
    }
    Ok(())
}

/// The word for the worst that a rule found.
fn state(worst: Option<Severity>) -> &'static str {
    match worst {
        None => "holds",
        Some(Severity::Note) => "note",
        Some(Severity::Doubt) => "doubtful",
        Some(Severity::Broken) => "broken",
    }
}

fn print(report: &Report) {
    say!("{}  {}", report.volume, report.kind.word());
    for rule in &report.rules {
        say!("  {:<9} {}: {}", state(rule.worst()), rule.rule, rule.asks);
        for finding in &rule.findings {
            let at = finding.at_byte.map(|at| format!(" (byte {})", at.0)).unwrap_or_default();
            say!("            {}{at}", finding.what);
            say!("            known by: {}", finding.how);
        }
        if let Some(mending) = &rule.mending {
            let wish = if mending.is_safe { "" } else { ", on request (mend --also)" };
            say!("            can be mended{wish}: {}; {}", mending.does, mending.loses);
        }
    }
}
