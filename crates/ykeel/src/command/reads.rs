//! `ykeel reads`.

use std::time::Duration;

use keel_core::job::{Desk, Job};
use keel_core::reads::{self, Latency, Left, ReadsOptions, ReadsProgress, Survey};
use keel_source::{SharedSource, counted, size_decimal};

use super::shared::{bar, note, open, print_json, tell_kept, wait};
use crate::cli::SourceArgs;
use crate::exit::Ended;
use crate::out::say;

pub(super) fn run(args: &SourceArgs, full: bool, minutes: Option<u32>) -> anyhow::Result<()> {
    let source = open(args)?;
    let asked = minutes.map(|minutes| Duration::from_secs(u64::from(minutes) * 60));
    let mut options = ReadsOptions::sampled();
    if full {
        options = ReadsOptions::full(asked.unwrap_or(Duration::MAX / 4));
    }
    options.budget = asked.unwrap_or(options.budget);
    let bar = bar(source.len(), "reading");
    let drive = SharedSource::clone(&source);
    let job = Job::start(move |desk: &Desk<ReadsProgress>| reads::survey(&drive, options, desk));
    let result = wait(job, |progress| {
        bar.set_position(progress.done);
        bar.set_message(format!("{} failed", progress.errors));
    });
    bar.finish_and_clear();
    let survey = result.map_err(|panic| anyhow::anyhow!("the reading died: {panic}"))?;
    if survey.left != Some(Left::Cancelled) {
        tell_kept("what was read", reads::keep(&source, &survey));
    }
    note(
        &args.source,
        "reads",
        &serde_json::json!({ "asked": survey.asked, "came": survey.came, "failed": survey.failed.len() }),
    );
    if args.json {
        print_json(&survey)?;
    } else {
        print(&survey);
    }
    if survey.left == Some(Left::Cancelled) { Err(Ended::Cancelled.into()) } else { Ok(()) }
}

fn print(survey: &Survey) {
    let what = if survey.full { "pieces" } else { "samples" };
    say!(
        "{} of {} {what} came at once, {} in {:.1} s",
        survey.came,
        survey.asked,
        size_decimal(survey.bytes),
        survey.took_ms as f64 / 1000.0
    );
    say!("usual: {} µs", survey.median_us);
    for (class, count) in survey.classes.iter().filter(|(class, count)| *count > 0 && *class != Latency::Unread) {
        say!("  {:<14} {count}", class.word());
    }
    // A row for each eighth of the surface, a sign for each cell.
    for row in survey.picture.chunks(32) {
        let signs: String = row.iter().map(|cell| cell.worst.sign()).collect();
        say!("  {:>9}  {signs}", row.first().map_or_else(String::new, |cell| size_decimal(cell.at.0)));
    }
    for failed in survey.failed.iter().take(16) {
        let came = if failed.came { "came" } else { "did not come" };
        say!("  {}: {came} in {} tries: {}", failed.range.start, failed.tries, failed.reason);
    }
    if survey.link_lost > 0 {
        say!("the drive did not answer {}", counted(survey.link_lost, "time", "times"));
    }
    if let Some(left) = survey.left {
        say!("not all was read: {}", left.word());
    }
}
