//! `ykeel adrift`, and `ykeel extract --adrift`.

use std::path::Path;

use keel_core::adrift::{self, Adrift, AdriftFiles, AdriftProgress, Chosen, Cuts, Known, TakeOutProgress, TakenState};
use keel_core::job::{Desk, Job};
use keel_core::place::size_named;
use keel_core::sweep::Reach;
use keel_source::{RangeSet, SharedSource, counted, printable, size_decimal};
use serde::Serialize;

use super::shared::{bar, cancel, open, print_json, sweep, wait};
use crate::cli::{AdriftArgs, SourceArgs};
use crate::exit::Ended;
use crate::out::{say, tell};

#[derive(Serialize)]
struct Document<'a> {
    adrift: Vec<&'a Adrift>,
    /// Starts that found no room: there may be more files.
    untold: u64,
    /// Places of the drive that could not be read.
    unreadable: &'a [keel_source::ByteRange],
}

pub(super) fn run(args: &SourceArgs, which: &AdriftArgs) -> anyhow::Result<()> {
    let (chosen, known) = (chosen(which, &[])?, known(which)?);
    let source = open(args)?;
    let looked = look(&source, which)?;
    let files = meant(&looked, &chosen, &known, &source);
    if args.json {
        print_json(&Document { adrift: files, untold: looked.untold, unreadable: &looked.bad })?;
    } else {
        files.iter().for_each(|file| print(file));
        tell_counts(&files, &looked);
    }
    if looked.found.cancelled { Err(Ended::Cancelled.into()) } else { Ok(()) }
}

/// What was found, and what stands beside it.
struct LookedAll {
    found: AdriftFiles,
    untold: u64,
    bad: Vec<keel_source::ByteRange>,
}

/// Sweeps the surface and judges what begins there.
fn look(source: &SharedSource, which: &AdriftArgs) -> anyhow::Result<LookedAll> {
    let swept = sweep(source, Reach::Surface)?;
    let (starts, untold) = (swept.starts.sorted(), swept.starts.untold);
    let (drive, finds) = (SharedSource::clone(source), swept.finds);
    let (everywhere, join) = (which.everywhere, which.join);
    let job = Job::start(move |desk: &Desk<AdriftProgress>| {
        let held = if everywhere { RangeSet::default() } else { adrift::held(&drive, &finds, desk.cancel()) };
        let cuts = if join { Cuts::Joined(adrift::rasters(&drive, &finds)) } else { Cuts::Told };
        adrift::adrift(&drive, &starts, (&held, &finds), &cuts, desk)
    });
    let bar = bar(1, "files");
    let found = wait(job, |progress| {
        bar.set_length(progress.total.max(1) as u64);
        bar.set_position(progress.done as u64);
        bar.set_message(counted(progress.found, "file", "files"));
    });
    bar.finish_and_clear();
    let found = found.map_err(|panic| anyhow::anyhow!("the looking died: {panic}"))?;
    Ok(LookedAll { found, untold, bad: swept.bad })
}

/// The choice that the arguments make.
fn chosen(which: &AdriftArgs, ids: &[String]) -> anyhow::Result<Chosen> {
    if let Some(wrong) = which.kinds.iter().find(|word| !adrift::words().any(|known| known == word.as_str())) {
        let known: Vec<&str> = adrift::words().collect();
        let why = format!("`{}` is no kind of files that is known: {}", printable(wrong), known.join(", "));
        return Err(Ended::WrongUse(why).into());
    }
    let least = match &which.least {
        None => 0,
        Some(text) => text
            .parse()
            .ok()
            .or_else(|| size_named(text))
            .ok_or_else(|| Ended::WrongUse(format!("`{}` is no size", printable(text))))?,
    };
    let states = which.state.iter().map(|state| (*state).into()).collect();
    Ok(Chosen { ids: ids.to_vec(), kinds: which.kinds.clone(), least, states, same: which.same })
}

/// What earlier extractions took out.
fn known(which: &AdriftArgs) -> anyhow::Result<Known> {
    let mut known = Known::default();
    which.new_since.iter().try_for_each(|manifest| known.read(manifest))?;
    Ok(known)
}

/// The files that are meant and new.
fn meant<'a>(looked: &'a LookedAll, chosen: &Chosen, known: &Known, source: &SharedSource) -> Vec<&'a Adrift> {
    let stop = cancel();
    let is_new = |file: &&Adrift| !known.has(source.as_ref(), file, &stop);
    looked.found.files.iter().filter(|file| chosen.takes(file)).filter(is_new).collect()
}

fn print(file: &Adrift) {
    let pixels = file.pixels.map(|(wide, high)| format!("  {wide} x {high}")).unwrap_or_default();
    let volume = file.volume.as_deref().map(|volume| format!("  on the ground of {volume}")).unwrap_or_default();
    let same = file.same_as.as_deref().map(|same| format!("  same as {same}")).unwrap_or_default();
    say!(
        "{:<7} {:<9} {:<10} {:>9}  byte {}  {}{pixels}{volume}{same}",
        file.id,
        file.kind,
        file.state.word(),
        size_decimal(file.bytes),
        file.at_byte.0,
        printable(&file.name),
    );
    if file.state == keel_core::adrift::AdriftState::Cut {
        say!("        {}", file.why);
    }
}

fn tell_counts(files: &[&Adrift], looked: &LookedAll) {
    let count = |word: &str| files.iter().filter(|file| file.state.word() == word).count();
    let bytes: u64 = files.iter().map(|file| file.bytes).sum();
    say!(
        "{}: {} whole, {} plausible, {} cut; {}",
        counted(files.len(), "file", "files"),
        count("whole"),
        count("plausible"),
        count("cut"),
        size_decimal(bytes)
    );
    if looked.untold > 0 {
        say!("{} more places where a file may begin found no room", looked.untold);
    }
    let bad: u64 = looked.bad.iter().map(|range| range.len()).sum();
    if bad > 0 {
        say!("{} could not be read: files there are cut, or not found", size_decimal(bad));
    }
}

/// Takes files adrift out.
pub(super) fn extract(args: &SourceArgs, ids: &[String], which: &AdriftArgs, to: &Path) -> anyhow::Result<()> {
    let (chosen, known) = (chosen(which, ids)?, known(which)?);
    let source = open(args)?;
    let looked = look(&source, which)?;
    if let Some(id) = ids.iter().find(|id| looked.found.files.iter().all(|file| file.id != **id)) {
        return Err(keel_core::CoreError::Unknown { what: "file adrift", name: printable(id) }.into());
    }
    let files = meant(&looked, &chosen, &known, &source);
    let (desk, _progress): (Desk<TakeOutProgress>, _) = Desk::new(cancel());
    let taken = adrift::take_out(&source, &files, to, &desk)?;
    if args.json {
        print_json(&taken)?;
    } else {
        for file in taken.files.iter().filter(|file| file.state == TakenState::Damaged) {
            let bytes: u64 = file.unreadable.iter().map(|(_, bytes)| bytes).sum();
            say!(
                "{}  {} of it could not be read, from its byte {}",
                printable(&file.saved_as),
                size_decimal(bytes),
                file.unreadable.first().map_or(0, |(at, _)| *at)
            );
        }
        if taken.was_there > 0 {
            say!("{} of them were there already", taken.was_there);
        }
        say!(
            "{} whole, {} plausible, {} cut, {} damaged; {} in {}",
            taken.count(TakenState::Whole),
            taken.count(TakenState::Plausible),
            taken.count(TakenState::Cut),
            taken.count(TakenState::Damaged),
            size_decimal(taken.bytes),
            to.display()
        );
    }
    if taken.cancelled || looked.found.cancelled {
        tell!("ykeel: cancelled; the same command goes on from here");
        return Err(Ended::Cancelled.into());
    }
    if taken.files.is_empty() { Err(Ended::Nothing.into()) } else { Ok(()) }
}
