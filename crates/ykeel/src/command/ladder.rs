//! `ykeel ladder`.

use keel_core::ladder::{self, Ladder, Rung};
use keel_core::plan;
use keel_core::sweep::Reach;
use keel_source::size_decimal;

use super::shared::{cancel, note, open, print_json, sweep};
use crate::cli::SourceArgs;
use crate::exit::Ended;

pub(super) fn run(args: &SourceArgs) -> anyhow::Result<()> {
    let source = open(args)?;
    let swept = sweep(&source, Reach::Landmarks)?;
    let ladder = ladder::examine(&source, &swept.finds, &cancel());
    if cancel().is_cancelled() {
        return Err(Ended::Cancelled.into());
    }
    if let Some(bundle) = plan::interrupted(&source) {
        eprintln!("ykeel: an apply was interrupted; finish it or roll it back: ykeel undo [--finish] {}", bundle.display());
    }
    note(&args.source, "ladder", &ladder.lowest_broken);
    if args.json {
        return print_json(&ladder);
    }
    print(&ladder);
    Ok(())
}

/// The ladder as lines, top rung first.
pub(super) fn print(ladder: &Ladder) {
    for volume in ladder.volumes.iter().rev() {
        let kind = volume.kind.map_or("?", |kind| kind.word());
        println!("{}  {kind}  {}  from byte {}", volume.name(), size_decimal(volume.bytes), volume.start_byte.0);
        volume.rungs.iter().rev().for_each(print_rung);
    }
    println!("{}", ladder.drive.name);
    ladder.rungs.iter().rev().for_each(print_rung);
    match &ladder.lowest_broken {
        Some(lowest) => {
            let of = lowest.volume.as_ref().map(|volume| format!(" of {volume}")).unwrap_or_default();
            println!("lowest broken: {} {}{of}", lowest.rung.number(), lowest.rung.word());
        }
        None => println!("no rung is broken"),
    }
}

fn print_rung(rung: &Rung) {
    println!("  {} {:<12} {:<9} {}", rung.rung.number(), rung.rung.word(), rung.state.word(), rung.note);
    for finding in &rung.findings {
        let at = finding.at_byte.map(|at| format!(" ({at})")).unwrap_or_default();
        println!("      {}{at}: {}", finding.what, finding.how);
    }
    for next in &rung.next {
        println!("      next: {next}");
    }
}
