//! `ykeel fathom`.

use keel_core::fathom::{self, FathomProgress, Fathomed, ProbeOptions};
use keel_core::job::{Desk, Job};
use keel_core::leave::Confirmation;
use keel_core::{CoreError, Refusal};
use keel_source::{OpenOptions, SharedSource, size_decimal};

use super::shared::{bar, print_json, tell_kept, wait};
use crate::cli::FathomArgs;
use crate::exit::Ended;
use crate::out::{say, tell};

pub(super) fn run(args: &FathomArgs) -> anyhow::Result<()> {
    // The drive as it claims to be, not as far as it was shown to store.
    let source =
        keel_source::open(&args.source.source, OpenOptions { sector_size: args.source.sector_size, ..OpenOptions::default() })?;
    crate::log::opened(source.as_ref())?;
    if args.restore {
        return restore(args, &source);
    }
    let confirmation = match (&args.confirm, args.yes) {
        (Some(code), _) => Confirmation::Code(code.clone()),
        (None, true) => Confirmation::Yes,
        (None, false) => Confirmation::Code(String::new()),
    };
    let writes = !args.estimate;
    if writes && args.confirm.is_none() && !args.yes {
        tell_code(args, &source);
    }
    let bar = bar(1, "fathom");
    let drive = SharedSource::clone(&source);
    let (fill, estimate) = (args.fill, args.estimate);
    let options = ProbeOptions { largest_cache: args.largest_cache.saturating_mul(1 << 20) };
    let job = Job::start(move |desk: &Desk<FathomProgress>| match (estimate, fill) {
        (true, _) => Ok(fathom::estimate(&drive, desk)),
        (_, true) => fathom::fill(&drive, &confirmation, desk),
        _ => fathom::probe(&drive, &confirmation, options, desk),
    });
    let result = wait(job, |progress| {
        bar.set_length(progress.total.max(1));
        bar.set_position(progress.done);
        bar.set_message(format!("{}  {}/s", progress.phase.word(), size_decimal(progress.rate)));
    });
    bar.finish_and_clear();
    let verdict = result.map_err(|panic| anyhow::anyhow!("the measurement died: {panic}"))??;
    tell_kept("the verdict", fathom::keep(&source, &verdict));
    if args.source.json {
        print_json(&verdict)?;
    } else {
        print(&verdict);
    }
    if verdict.cancelled { Err(Ended::Cancelled.into()) } else { Ok(()) }
}

fn tell_code(args: &FathomArgs, source: &SharedSource) {
    let what = if args.fill {
        "a fill overwrites everything on the drive"
    } else {
        "a probe writes to the drive, and puts back what stood there"
    };
    tell!("ykeel: {what}; the confirmation code of this drive is {}", source.identity().code());
}

fn restore(args: &FathomArgs, source: &SharedSource) -> anyhow::Result<()> {
    let bar = bar(1, "putting back");
    let confirmation = args.confirm.clone().map_or(Confirmation::Yes, Confirmation::Code);
    let restored = fathom::restore_interrupted(source, &confirmation, &mut |done, total| {
        bar.set_length(total.max(1));
        bar.set_position(done);
    });
    if matches!(restored, Err(CoreError::Refused(Refusal::Code | Refusal::CodeWanted))) {
        tell!("ykeel: the code of this drive is {}", source.identity().code());
    }
    let restored = restored?;
    bar.finish_and_clear();
    if args.source.json {
        return print_json(&restored);
    }
    say!("put back {} bytes, {} of them read back as they were", restored.bytes, restored.verified_bytes);
    Ok(())
}

fn print(verdict: &Fathomed) {
    say!("{}", verdict.line());
    say!("  claimed  {} bytes", verdict.claimed_bytes);
    let exact = if verdict.exact { "to the sector" } else { "not exact" };
    say!("  proven   {} bytes, {exact}", verdict.proven_bytes);
    say!("  how      {}", verdict.nature.word());
    say!("  sure     {} ({})", verdict.sureness.word(), verdict.method.word());
    for reason in &verdict.reasons {
        say!("  why      {reason}");
    }
    for (word, ranges) in [("does not read", &verdict.unreadable), ("takes no write", &verdict.unwritable)] {
        for range in ranges.iter().take(8) {
            say!("  {word}: bytes {} to {}", range.start.0, range.end.0.saturating_sub(1));
        }
    }
    match verdict.restored {
        Some(restored) if restored.whole => say!("  put back {} bytes, every one read back as it was", restored.bytes),
        Some(restored) => say!("  put back {} bytes, {} read back as they were", restored.bytes, restored.verified_bytes),
        None => {}
    }
    let rates = |of: fn(&fathom::Pace) -> u64| {
        let mut rates: Vec<u64> = verdict.pace.iter().map(of).collect();
        rates.sort_unstable();
        [rates.first(), rates.get(rates.len() / 2), rates.last()].map(|rate| size_decimal(rate.copied().unwrap_or(0)))
    };
    if !verdict.pace.is_empty() {
        let ([least, middle, most], [slow, usual, fast]) = (rates(|pace| pace.write), rates(|pace| pace.read));
        say!("  written  {least}/s to {most}/s, median {middle}/s");
        say!("  read     {slow}/s to {fast}/s, median {usual}/s");
    }
    say!("  took     {:.1} s", verdict.took_ms as f64 / 1000.0);
}
