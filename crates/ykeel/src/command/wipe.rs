//! `ykeel wipe`.

use keel_core::case::Case;
use keel_core::job::{Desk, Job};
use keel_core::leave::Confirmation;
use keel_core::place::size_named;
use keel_core::sweep::{Reach, outer};
use keel_core::wipe::{self, NotWiped, Pattern, Verify, WORDS, Wanted, WipeProgress, Wiped};
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, counted, printable, size_decimal};
use serde::Serialize;

use super::shared::{bar, cancel, find, open, print_json, sweep, wait};
use crate::cli::{VerifyArg, WipeArgs};
use crate::exit::Ended;
use crate::out::{say, tell};

/// The most finds that are named on the ground.
const MOST_NAMED: usize = 20;

#[derive(Serialize)]
struct Document<'a> {
    #[serde(flatten)]
    wiped: &'a Wiped,
    whole: bool,
    line: String,
    method: String,
    told: &'a [String],
    beyond: &'static str,
    certificate: Option<String>,
}

pub(super) fn run(args: &WipeArgs) -> anyhow::Result<()> {
    let source = open(&args.source)?;
    let seed = Pattern::seed(&source.identity().key());
    let pattern = Pattern::typed(&args.pattern, seed).map_err(|wrong| Ended::WrongUse(wrong.to_string()))?;
    if args.certificate.as_ref().is_some_and(|path| path.extension().is_none_or(|end| end != "pdf")) {
        return Err(Ended::WrongUse("a certificate is written as FILE.pdf".into()).into());
    }
    // Whatever is wrong with what follows is said before anything is written.
    args.then.iter().try_for_each(|recipe| super::renew::way(recipe, &source).map(|_| ()))?;
    let (ground, told) = ground(args, &source)?;
    let (record, anew) = match &args.log {
        Some(path) => (path.clone(), false),
        None => (wipe::record_place(source.identity()), true),
    };
    let verify = match args.verify {
        VerifyArg::All => Verify::All,
        VerifyArg::Sample => Verify::Sample,
        VerifyArg::None => Verify::None,
    };
    let wanted = Wanted { ground, pattern, verify, by_device: args.by_device, record };
    if let Some(problem) = wanted.problem() {
        return Err(Ended::WrongUse(problem.into()).into());
    }
    if !args.source.json {
        told.iter().for_each(|line| say!("{line}"));
    }
    if args.words.trim() != WORDS {
        return unarmed(args, &source, &wanted);
    }
    let confirmation = match (&args.confirm, args.yes) {
        (Some(code), _) => Confirmation::Code(code.clone()),
        (None, true) => Confirmation::Yes,
        (None, false) => {
            tell!("ykeel: the confirmation code of this drive is {}", source.identity().code());
            Confirmation::Code(String::new())
        }
    };
    let bar = bar(wanted.ground.bytes(), "wipe");
    let (drive, words, asked) = (SharedSource::clone(&source), args.words.clone(), wanted.clone());
    let job = Job::start(move |desk: &Desk<WipeProgress>| wipe::wipe(&drive, (&confirmation, &words), (&asked, anew), desk));
    let result = wait(job, |progress| {
        bar.set_length(progress.total.max(1));
        bar.set_position(progress.done);
        let failed = if progress.failed > 0 { format!("  {} failed", size_decimal(progress.failed)) } else { String::new() };
        bar.set_message(format!("{}  {}/s{failed}", progress.phase.word(), size_decimal(progress.rate)));
    });
    bar.finish_and_clear();
    let wiped = result.map_err(|panic| anyhow::anyhow!("the wipe died: {panic}"))??;
    let certificate = match &args.certificate {
        Some(path) if !wiped.cancelled => {
            let case = Case::of(&args.source.source, Some(source.identity()))?;
            keel_draw::certify(&source, case.as_ref(), &wiped, path)?;
            Some(path.display().to_string())
        }
        _ => None,
    };
    if args.source.json {
        let (line, method) = (wiped.line(), wiped.method());
        print_json(&Document {
            whole: wiped.is_whole(),
            line,
            method,
            told: &told,
            beyond: wipe::BEYOND,
            certificate,
            wiped: &wiped,
        })?;
    } else {
        print(&wiped, certificate.as_deref());
    }
    match (wiped.cancelled, wiped.is_whole()) {
        (true, _) => Err(Ended::Cancelled.into()),
        (_, true) => {
            // The recipe opens the drive anew, and nobody else may have it open then.
            drop(source);
            args.then.as_ref().map_or(Ok(()), |recipe| super::renew::by_recipe(&args.source, recipe, (&args.confirm, args.yes)))
        }
        (_, false) => Err(Ended::Nothing.into()),
    }
}

/// The ground that is meant, and what is said of it.
fn ground(args: &WipeArgs, source: &SharedSource) -> anyhow::Result<(RangeSet, Vec<String>)> {
    let whole = ByteRange::sized(ByteOffset(0), source.len());
    let of = |range| wipe::ground_of(source, range).map_err(keel_core::CoreError::from);
    if let Some(text) = &args.range {
        let wrong =
            || Ended::WrongUse(format!("--range {}: FROM..TO in bytes is wanted: 0..1048576, or 0..1MiB", printable(text)));
        let (from, to) = text.split_once("..").ok_or_else(wrong)?;
        let byte = |text: &str| text.trim().parse().ok().or_else(|| size_named(text.trim())).map(ByteOffset);
        let (from, to) = byte(from).zip(byte(to)).filter(|(from, to)| from <= to).ok_or_else(wrong)?;
        return Ok((of(ByteRange::new(from, to))?, Vec::new()));
    }
    if let Some(name) = &args.volume {
        let swept = sweep(source, Reach::Landmarks)?;
        let found = find(&swept.finds, name)?;
        let range = found.range();
        let sector = source.sector_size().bytes();
        let end = ByteOffset(range.end.0.next_multiple_of(sector).min(source.len()));
        let what = format!("the ground of {} ({}), bytes {} to {}", found.id, found.kind.word(), range.start.0, end.0);
        return Ok((of(ByteRange::new(range.start, end))?, vec![what]));
    }
    if args.free {
        let table = keel_format::table::read(source.as_ref());
        let free = wipe::free(source, &table, &cancel()).map_err(keel_core::CoreError::from)?;
        let pieces = counted(free.ground.ranges().len(), "piece", "pieces");
        let what = format!("free ground: {pieces}, {}", size_decimal(free.ground.bytes()));
        return Ok((free.ground, [vec![what], free.told].concat()));
    }
    Ok((of(whole)?, Vec::new()))
}

/// What would be overwritten, and what is wanted for it; nothing is written.
fn unarmed(args: &WipeArgs, source: &SharedSource, wanted: &Wanted) -> anyhow::Result<()> {
    if !args.source.json {
        say!("{} would be overwritten with {}", size_decimal(wanted.ground.bytes()), wanted.pattern.words());
        let swept = sweep(source, Reach::Landmarks)?;
        let touched: Vec<_> = outer(&swept.finds)
            .filter(|find| wanted.ground.ranges().iter().any(|range| range.overlap(find.range()).is_some()))
            .collect();
        let verb = if args.free {
            "stands, and its free ground would be overwritten, or was lost"
        } else {
            "would be lost, in whole or in part"
        };
        for find in touched.iter().take(MOST_NAMED) {
            let label = find.label.as_deref().map_or_else(|| "no label".into(), printable);
            say!("  {} ({}, {label}, {}) {verb}", find.id, find.kind.word(), size_decimal(find.bytes));
        }
        if touched.len() > MOST_NAMED {
            say!("  and {} more", touched.len() - MOST_NAMED);
        }
        say!("there is no way back. confirmation code of this drive: {}", source.identity().code());
        say!("{}", wipe::BEYOND);
    }
    Err(keel_core::CoreError::from(NotWiped::Words).into())
}

fn print(wiped: &Wiped, certificate: Option<&str>) {
    say!("{}", wiped.line());
    say!("  how       {}", wiped.method());
    say!("  verified  {}", wiped.verified_line());
    let places =
        [("took no write", &wiped.unwritable), ("did not read back", &wiped.unreadable), ("reads back otherwise", &wiped.other)];
    for (what, places) in places {
        for place in places.iter().take(MOST_NAMED) {
            say!("  failed    bytes {} to {} {what}", place.start.0, place.end.0);
        }
        if places.len() > MOST_NAMED {
            say!("  failed    and {} more places", places.len() - MOST_NAMED);
        }
    }
    let mut rates: Vec<u64> = wiped.pace.iter().map(|pace| pace.rate()).collect();
    rates.sort_unstable();
    if let (Some(least), Some(middle), Some(most)) = (rates.first(), rates.get(rates.len() / 2), rates.last()) {
        let [least, middle, most] = [least, middle, most].map(|rate| size_decimal(*rate));
        say!("  written   {least}/s to {most}/s, median {middle}/s");
    }
    say!("  took      {:.1} s", wiped.took_ms as f64 / 1000.0);
    if wiped.cancelled {
        say!("  goes on   from {} with the same command", wiped.record.display());
    }
    certificate.iter().for_each(|path| say!("  written   {path}"));
    say!("{}", wipe::BEYOND);
}
