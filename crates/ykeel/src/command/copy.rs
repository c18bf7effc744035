//! `ykeel copy`.

use std::time::Duration;

use keel_core::case::Case;
use keel_core::copy::{self, Copied, CopyControl, CopyOptions, CopyProgress, CopyVerified, Pass, Stopped, VerifyProgress};
use keel_core::job::{Desk, Job};
use keel_core::plan::Confirmation;
use keel_source::{SettingsWanted, SharedSource, counted, size_decimal};
use serde::Serialize;

use super::shared::{bar, note, open_in_time, print_json, wait};
use crate::cli::CopyArgs;
use crate::exit::Ended;
use crate::out::say;

pub(super) fn run(args: &CopyArgs) -> anyhow::Result<()> {
    let source = open_in_time(&args.source, Duration::from_secs(args.deadline.into()), args.reset)?;
    let mut passes: Vec<Pass> = args.passes.iter().map(|pass| (*pass).into()).collect();
    if passes.is_empty() {
        passes.extend(Pass::USUAL);
    }
    passes.extend(args.volumes_first.then_some(Pass::Volumes));
    let defaults = &crate::config::get().copy;
    let options = CopyOptions {
        log: args.log.clone(),
        passes,
        again: args.again.or(defaults.again).unwrap_or(CopyOptions::default().again),
        most_errors: args.stop_errors.or(defaults.most_errors),
        link_wait: Duration::from_secs(u64::from(args.link_minutes) * 60),
        most_time: args.stop_minutes.map(|minutes| Duration::from_secs(u64::from(minutes) * 60)),
        most_grown: args.stop_grown,
        most_celsius: args.stop_heat.or(defaults.stop_heat),
        rest: Duration::from_secs(args.rest.or(defaults.rest).unwrap_or(0).into()),
        heads: args.heads || defaults.heads,
        settings: SettingsWanted {
            timeout_s: args.system_timeout,
            queue_depth: args.system_queue,
            read_ahead_kib: args.system_read_ahead,
        },
        confirmation: args.confirm.clone().map(Confirmation::Code),
        control: CopyControl::default(),
    };
    let (drive, dest) = (SharedSource::clone(&source), args.dest.clone());
    let job = Job::start(move |desk: &Desk<CopyProgress>| copy::copy(&drive, &dest, &options, desk));
    let bar = bar(source.len(), "copy");
    let result = wait(job, |progress| {
        bar.set_position(progress.copied);
        bar.set_message(format!("{}, {}", progress.pass.word(), counted(progress.errors, "error", "errors")));
    });
    bar.finish_and_clear();
    let copied = result.map_err(|panic| anyhow::anyhow!("the copy died: {panic}"))??;
    let verified = if args.verify && copied.stopped != Some(Stopped::Cancelled) { Some(verify(args)?) } else { None };
    if let Some(verified) = &verified {
        note(&args.source.source, "verify", &serde_json::json!({ "copy": args.dest, "verified": verified }));
    }
    keep_in_case(args);
    if args.source.json {
        print_json(&Document { copied: &copied, verified: verified.as_ref() })?;
    } else {
        print(&copied, args);
        verified.iter().for_each(print_verified);
    }
    if verified.is_some_and(|verified| !verified.rotten.is_empty()) {
        return Err(Ended::Nothing.into());
    }
    match copied.stopped {
        None => Ok(()),
        Some(Stopped::Cancelled) => Err(Ended::Cancelled.into()),
        Some(_) => Err(Ended::Nothing.into()),
    }
}

#[derive(Serialize)]
struct Document<'a> {
    #[serde(flatten)]
    copied: &'a Copied,
    #[serde(skip_serializing_if = "Option::is_none")]
    verified: Option<&'a CopyVerified>,
}

/// The case of the drive names its copy from now on.
fn keep_in_case(args: &CopyArgs) {
    if let Ok(Some(mut case)) = Case::of(&args.source.source, None)
        && let Ok(path) = std::path::absolute(&args.dest)
        && case.record.copy.as_ref() != Some(&path)
    {
        let _ = case.work_on(&path);
    }
}

/// Compares the copy with its hashes.
fn verify(args: &CopyArgs) -> anyhow::Result<CopyVerified> {
    let (dest, log) = (args.dest.clone(), args.log.clone());
    let bar = bar(1, "verifying");
    let job = Job::start(move |desk: &Desk<VerifyProgress>| copy::verify(&dest, log.as_deref(), desk));
    let result = wait(job, |progress| {
        bar.set_length(progress.total.max(1));
        bar.set_position(progress.done);
    });
    bar.finish_and_clear();
    let verified = result.map_err(|panic| anyhow::anyhow!("the verification died: {panic}"))??;
    if verified.cancelled { Err(Ended::Cancelled.into()) } else { Ok(verified) }
}

fn print_verified(verified: &CopyVerified) {
    say!("verified {} bytes against their hashes", verified.verified_bytes);
    if verified.unproven_bytes > 0 {
        say!("no hash is known of {} bytes", verified.unproven_bytes);
    }
    for range in &verified.rotten {
        say!("  bytes {} to {} are not what was read: the same command fetches them again", range.start.0, range.end.0 - 1);
    }
}

fn print(copied: &Copied, args: &CopyArgs) {
    let missing = copied.bytes - copied.copied_bytes;
    say!("copied {} of {} bytes ({})", copied.copied_bytes, copied.bytes, size_decimal(copied.copied_bytes));
    if missing > 0 {
        say!("missing {missing} bytes in {}; they are unreadable in the copy:", counted(copied.missing.len(), "place", "places"));
        for range in copied.missing.iter().take(10) {
            say!("  bytes {} to {}", range.start.0, range.end.0 - 1);
        }
        if copied.missing.len() > 10 {
            say!("  and {} more: see {}", copied.missing.len() - 10, copied.log.display());
        }
        say!("which files they touch: ykeel files {} --missing", args.dest.display());
    }
    if copied.link_drops > 0 {
        say!("the drive dropped off the link {}", counted(copied.link_drops, "time", "times"));
    }
    if let Some(stopped) = copied.stopped {
        say!("{}", stopped.word());
    }
}
