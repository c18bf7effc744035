//! `ykeel ladder`.

use keel_core::advice::{self, Advice, Staging, Swept};
use keel_core::coverage::Coverage;
use keel_core::ladder::{self, Ground, Ladder, Rung};
use keel_core::plan;
use keel_core::sweep::Reach;
use keel_source::size_decimal;
use serde::Serialize;

use super::shared::{cancel, note, open, print_json, sweep};
use crate::cli::SourceArgs;
use crate::exit::Ended;
use crate::out::{say, tell};

pub(super) fn run(args: &SourceArgs) -> anyhow::Result<()> {
    let source = open(args)?;
    // The drive's own rungs first, as in the screens: a drive that drops off is asked the same way each time.
    let ground = Ground::ask(&source, &cancel(), &mut |_| {});
    let swept = sweep(&source, Reach::Landmarks)?;
    let ladder = ladder::examine_on(&ground, &source, &swept, &cancel());
    if cancel().is_cancelled() {
        return Err(Ended::Cancelled.into());
    }
    if let Some(bundle) = plan::interrupted(&source) {
        tell!("ykeel: an apply was interrupted; finish it or roll it back: ykeel undo [--finish] {}", bundle.display());
    }
    note(&args.source, "ladder", &ladder.lowest_broken);
    let advice = advice::next(&source, &ground, &ladder, &swept.finds, Swept::Landmarks, Staging::default());
    if args.json {
        return print_json(&Document { ladder: &ladder, next: advice.says() });
    }
    print(&ladder);
    say_next(advice);
    Ok(())
}

#[derive(Serialize)]
struct Document<'a> {
    #[serde(flatten)]
    ladder: &'a Ladder,
    next: String,
}

/// The next step, and its command.
pub(super) fn say_next(advice: Advice) {
    // Ground that nobody looked at is told with the coverage.
    if !matches!(advice, Advice::SweepOpen(_)) {
        say!("next: {}{}", advice.says(), how(advice));
    }
}

/// The command of an advice.
fn how(advice: Advice) -> &'static str {
    match advice {
        Advice::CheckOutside | Advice::CheckCable | Advice::Unexplained(_) => " (ykeel case words)",
        Advice::Measure => " (ykeel fathom SOURCE)",
        Advice::ReadDoubt(_) => " (above)",
        Advice::CopyFirst { .. } => " (ykeel copy SOURCE IMAGE)",
        Advice::WorkOnCopy => "",
        Advice::PutBack => " (ykeel fathom SOURCE --restore)",
        Advice::GoOnSweeping | Advice::SweepOpen(_) | Advice::Sweep | Advice::Settle => " (ykeel sweep SOURCE)",
        Advice::Apply | Advice::ReadPlan => " (ykeel mend SOURCE)",
        Advice::Look | Advice::Prove | Advice::TakeOut => " (ykeel files SOURCE --volume ID)",
    }
}

/// The ladder as lines, top rung first.
pub(super) fn print(ladder: &Ladder) {
    for volume in ladder.volumes.iter().rev() {
        let kind = volume.kind.map_or("?", |kind| kind.word());
        say!("{}  {kind}  {}  from byte {}", volume.name(), size_decimal(volume.bytes), volume.start_byte.0);
        volume.rungs.iter().rev().for_each(print_rung);
    }
    say!("{}", ladder.drive.name);
    ladder.rungs.iter().rev().for_each(print_rung);
    say!("{}", ladder.verdict());
    print_coverage(&ladder.coverage);
}

/// How much of the drive a verdict rests on, and what follows.
pub(super) fn print_coverage(coverage: &Coverage) {
    say!("coverage: {}", coverage.sentence());
    if let Some(next) = coverage.next() {
        say!("next: {next} (ykeel sweep SOURCE)");
    }
}

fn print_rung(rung: &Rung) {
    say!("  {} {:<12} {:<9} {}", rung.rung.number(), rung.rung.word(), rung.state.word(), rung.note);
    for finding in &rung.findings {
        let at = finding.at_byte.map(|at| format!(" ({at})")).unwrap_or_default();
        say!("      {}{at}: {}", finding.what, finding.how);
    }
    for next in &rung.next {
        say!("      next: {next}");
    }
}
