//! What the commands share: opening, cancelling, progress, JSON.

use std::io::{IsTerminal, Write};
use std::path::Path;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use keel_core::case::{self, Case};
use keel_core::job::{Cancel, Desk, Job};
use keel_core::layout::{ByHand, Choices};
use keel_core::sweep::{self, Find, Reach, Sweep, SweepOptions, SweepProgress};
use keel_core::yard;
use keel_format::table::TypeCode;
use keel_source::{OpenOptions, SharedSource};
use serde::Serialize;

use crate::cli::{ChoiceArgs, SourceArgs};
use crate::exit::Ended;
use crate::out::{Json, tell};

/// Opens the source of a command.
pub(crate) fn open(args: &SourceArgs) -> anyhow::Result<SharedSource> {
    opened(args, OpenOptions { sector_size: args.sector_size, ..OpenOptions::default() })
}

/// Opens the source of a command; a device has to answer each request that is asked once within `deadline`, and is reset where it
/// does not and `resets` is set.
pub(crate) fn open_in_time(args: &SourceArgs, deadline: Duration, resets: bool) -> anyhow::Result<SharedSource> {
    opened(args, OpenOptions { sector_size: args.sector_size, deadline: Some(deadline), resets })
}

fn opened(args: &SourceArgs, options: OpenOptions) -> anyhow::Result<SharedSource> {
    let source = yard::open(&args.source, options)?;
    crate::log::opened(source.as_ref())?;
    Ok(source)
}

/// Notes an event in the journal of the drive's case, where one is open. What cannot be noted does not stop the work.
pub(crate) fn note(path: &Path, event: &str, detail: &impl Serialize) {
    crate::log::line(event, &serde_json::to_string(detail).unwrap_or_default());
    let noted = Case::of(path, None).and_then(|case| match case {
        Some(mut case) => case.write_down(event, &serde_json::to_value(detail).unwrap_or_default()),
        None => Ok(()),
    });
    if let Err(error) = noted {
        tell!("ykeel: the journal could not be written: {}", keel_core::chain(&error));
    }
}

/// The flag that the signals set which ask the program to end.
pub(crate) fn cancel() -> Cancel {
    crate::signals::asked()
}

/// Prints one JSON document on standard output.
pub(crate) fn print_json(document: &impl Serialize) -> anyhow::Result<()> {
    let mut out = Json::new(std::io::BufWriter::new(std::io::stdout().lock()));
    serde_json::to_writer_pretty(&mut out, document).map_err(std::io::Error::from)?;
    writeln!(out)?;
    out.flush()?;
    Ok(())
}

/// A bar on a terminal, silent otherwise. `total` in bytes.
pub(crate) fn bar(total: u64, what: &'static str) -> ProgressBar {
    let bar = ProgressBar::with_draw_target(Some(total), ProgressDrawTarget::stderr());
    if !std::io::stderr().is_terminal() {
        bar.set_draw_target(ProgressDrawTarget::hidden());
    }
    if let Ok(style) = ProgressStyle::with_template("{prefix} {wide_bar} {percent}%  {msg}") {
        bar.set_style(style.progress_chars("━╸ "));
    }
    bar.set_prefix(what);
    bar
}

/// Sweeps with a bar; the state is kept, so that a cancelled sweep goes on with the next call.
pub(crate) fn sweep(source: &SharedSource, reach: Reach) -> anyhow::Result<Sweep> {
    let state = case::drive_folder(source.identity()).join("sweep.json");
    let options = SweepOptions { reach, state: Some(state) };
    let drive = SharedSource::clone(source);
    let job = Job::start(move |desk: &Desk<SweepProgress>| sweep::sweep(&drive, &options, desk));
    let bar = bar(1, "surface");
    let result = wait(job, |progress| {
        bar.set_length(progress.total.max(1));
        bar.set_position(progress.done);
        bar.set_message(format!("{}/s", keel_source::size_decimal(progress.rate)));
    });
    bar.finish_and_clear();
    let swept = result.map_err(|panic| anyhow::anyhow!("the sweep died: {panic}"))?;
    if let Some(why) = &swept.not_kept {
        tell!("ykeel: what was seen is not kept for the next sweep: {why}");
    }
    if swept.cancelled {
        let next = if swept.not_kept.is_some() { "" } else { "; the next sweep of this drive goes on from here" };
        tell!("ykeel: cancelled{next}");
        return Err(Ended::Cancelled.into());
    }
    Ok(swept)
}

/// Tells that something could not be kept; what it came from stands.
pub(crate) fn tell_kept(what: &str, kept: Result<(), keel_core::CoreError>) {
    if let Err(error) = kept {
        tell!("ykeel: {what} is not kept for later: {}", keel_core::chain(&error));
    }
}

/// Waits for the end of `job`, which the signals of [`cancel`] stop; `each` sees every progress report.
pub(crate) fn wait<P: Send + 'static, R: Send + 'static>(job: Job<P, R>, each: impl FnMut(P)) -> Result<R, String> {
    let (flag, own) = (cancel(), job.cancel().clone());
    // The signal's flag is shared by the whole process, the job has one of its own.
    let done = Cancel::default();
    let watched = done.clone();
    let watcher = std::thread::spawn(move || {
        while !watched.is_cancelled() {
            if flag.is_cancelled() {
                own.cancel();
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    });
    let result = job.wait(each);
    done.cancel();
    let _ = watcher.join();
    result
}

/// The find that `name` means: an id, or `@LBA` of its first sector.
pub(crate) fn find<'a>(finds: &'a [Find], name: &str) -> anyhow::Result<&'a Find> {
    let by_start = name.strip_prefix('@').and_then(|lba| lba.parse().ok());
    let found = finds.iter().find(|find| find.id == name || Some(find.start_lba.0) == by_start);
    Ok(found.ok_or_else(|| keel_core::CoreError::Unknown { what: "volume", name: name.into() })?)
}

/// The technician's choices; ids must be finds.
pub(crate) fn choices(args: &ChoiceArgs, source: &SharedSource, finds: &[Find]) -> anyhow::Result<Choices> {
    let ids =
        |names: &[String]| names.iter().map(|name| find(finds, name).map(|find| find.id.clone())).collect::<anyhow::Result<_>>();
    let types = args.types.iter().map(|text| chosen_type(text, finds)).collect::<anyhow::Result<_>>()?;
    let (hold, drop) = (ids(&args.hold)?, ids(&args.drop)?);
    let by_hand = args.by_hand.iter().map(|text| set_by_hand(text, source, finds)).collect::<anyhow::Result<_>>()?;
    Ok(Choices { hold, drop, scheme: args.scheme.map(Into::into), new_ids: args.new_id, types, by_hand })
}

/// The find and what is set of `ID=start LBA …`.
fn set_by_hand(text: &str, source: &SharedSource, finds: &[Find]) -> anyhow::Result<(String, ByHand)> {
    let (name, set) = text.split_once('=').unwrap_or((text, ""));
    let id = find(finds, name)?.id.clone();
    let set = ByHand::typed(set, source.sector_size()).map_err(|wrong| Ended::WrongUse(wrong.to_string()))?;
    if set.is_empty() {
        return Err(Ended::WrongUse(format!("--set {name}: say what is set: {name}=start 2048")).into());
    }
    Ok((id, set))
}

/// The find and the type of `ID=TYPE`.
fn chosen_type(text: &str, finds: &[Find]) -> anyhow::Result<(String, TypeCode)> {
    let unknown = || keel_core::CoreError::Unknown { what: "type for a find (ID=0x07 or ID=GUID)", name: text.into() };
    let (name, code) = text.split_once('=').ok_or_else(unknown)?;
    let code = TypeCode::parse(code).ok_or_else(unknown)?;
    Ok((find(finds, name)?.id.clone(), code))
}

/// The table's structures beside what the layout asks for that the evidence settles on.
pub(crate) fn table_structures(source: &SharedSource, finds: &[Find]) -> Vec<keel_format::Structure> {
    let table = keel_format::table::read(source.as_ref());
    let layout = keel_core::layout::settle(source, &table, finds, &Choices::default());
    keel_core::mend::table_structures(source, &table, &layout)
}
