//! `ykeel copy`.

use std::time::Duration;

use keel_core::copy::{self, Copied, CopyOptions, CopyProgress, Pass, Stopped};
use keel_core::job::{Desk, Job};
use keel_source::{SharedSource, size_decimal};

use super::shared::{bar, open, print_json, wait};
use crate::cli::CopyArgs;
use crate::exit::Ended;

pub(super) fn run(args: &CopyArgs) -> anyhow::Result<()> {
    let source = open(&args.source)?;
    let mut passes: Vec<Pass> = args.passes.iter().map(|pass| (*pass).into()).collect();
    if passes.is_empty() {
        passes.extend(Pass::USUAL);
    }
    passes.extend(args.volumes_first.then_some(Pass::Volumes));
    let options = CopyOptions {
        log: args.log.clone(),
        passes,
        again: args.again,
        most_errors: args.stop_errors,
        link_wait: Duration::from_secs(u64::from(args.link_minutes) * 60),
        most_time: args.stop_minutes.map(|minutes| Duration::from_secs(u64::from(minutes) * 60)),
    };
    let (drive, dest) = (SharedSource::clone(&source), args.dest.clone());
    let job = Job::start(move |desk: &Desk<CopyProgress>| copy::copy(&drive, &dest, &options, desk));
    let bar = bar(source.len(), "copy");
    let result = wait(job, |progress| {
        bar.set_position(progress.copied);
        bar.set_message(format!("{}, {} errors", progress.pass.word(), progress.errors));
    });
    bar.finish_and_clear();
    let copied = result.map_err(|panic| anyhow::anyhow!("the copy died: {panic}"))??;
    if args.source.json {
        print_json(&copied)?;
    } else {
        print(&copied, args);
    }
    match copied.stopped {
        None => Ok(()),
        Some(Stopped::Cancelled) => Err(Ended::Cancelled.into()),
        Some(Stopped::Errors | Stopped::Time | Stopped::Link) => Err(Ended::Nothing.into()),
    }
}

fn print(copied: &Copied, args: &CopyArgs) {
    let missing = copied.bytes - copied.copied_bytes;
    println!("copied {} of {} bytes ({})", copied.copied_bytes, copied.bytes, size_decimal(copied.copied_bytes));
    if missing > 0 {
        println!("missing {missing} bytes in {} places; they are unreadable in the copy:", copied.missing.len());
        for range in copied.missing.iter().take(10) {
            println!("  bytes {} to {}", range.start.0, range.end.0 - 1);
        }
        if copied.missing.len() > 10 {
            println!("  and {} more: see {}", copied.missing.len() - 10, copied.log.display());
        }
        println!("which files they touch: ykeel files {} --missing", args.dest.display());
    }
    if copied.link_drops > 0 {
        println!("the drive dropped off the link {} times", copied.link_drops);
    }
    match copied.stopped {
        None => {}
        Some(Stopped::Cancelled) => println!("cancelled; the same command goes on from here"),
        Some(Stopped::Errors) => println!("stopped after {} reads that failed; the same command goes on", copied.errors),
        Some(Stopped::Link) => {
            println!("the drive went off the link and did not come back: cable, port, power; the same command goes on");
        }
        Some(Stopped::Time) => println!("stopped when the time was over; the same command goes on"),
    }
}
