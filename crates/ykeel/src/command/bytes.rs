//! `ykeel bytes`.

use keel_core::job::{Desk, Job};
use keel_core::place::{self, Around, Found, Owner, Pattern, SearchProgress, View, Way};
use keel_core::sweep::{Find, Reach, outer};
use keel_source::{Budgeted, ByteOffset, ByteRange, SharedSource, printable};
use serde::Serialize;

use super::shared::{bar, cancel, open, print_json, sweep, wait};
use crate::cli::BytesArgs;
use crate::exit::Ended;
use crate::out::{say, tell};

/// What is told of a place.
#[derive(Serialize)]
struct Told<'a> {
    at: ByteOffset,
    lba: u64,
    /// The bytes, as hexadecimal numbers.
    bytes: String,
    bad: &'a [ByteRange],
    structure: &'a Option<place::Decoded>,
    /// Id of the find that it lies in.
    find: Option<&'a str>,
    owner: Option<Owner>,
    /// What was searched for.
    found: Option<Found>,
}

pub(super) fn run(args: &BytesArgs) -> anyhow::Result<()> {
    // A walk over a volume takes its time: the signals stop it at its next read.
    let source = Budgeted::until(open(&args.source)?, &cancel());
    let mut at =
        place::named(&args.at, source.len(), source.sector_size()).map_err(|wrong| Ended::WrongUse(wrong.to_string()))?;
    let mut found = None;
    if let Some(text) = &args.find {
        let hit = searched(&source, text, at, if args.back { Way::Back } else { Way::Forward })?;
        at = hit.at.unwrap_or(at);
        found = Some(hit);
    }
    let swept = sweep(&source, Reach::Landmarks)?;
    let len = u64::from(args.length.clamp(1, 1 << 20)).next_multiple_of(16);
    let view = place::look(&source, at, len, Around { finds: &swept.finds, table: &swept.table });
    let find = outer(&swept.finds).find(|find| find.range().contains(at));
    let owner = if args.whose { find.map(|find| place::owner(&source, find, at)).transpose() } else { Ok(None) };
    let owner = if cancel().is_cancelled() { None } else { owner?.flatten() };
    if cancel().is_cancelled() {
        return Err(Ended::Cancelled.into());
    }
    if args.source.json {
        let bytes = view.bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        let lba = at.0 / source.sector_size().bytes();
        let (structure, find) = (&view.structure, find.map(|find| find.id.as_str()));
        print_json(&Told { at, lba, bytes, bad: &view.bad, structure, find, owner, found })?;
    } else {
        print(&view, args.whose.then_some((find, owner.as_ref())));
        if let Some(Found { unread: unread @ 1.., .. }) = found {
            tell!("ykeel: {unread} bytes on the way do not read: it may stand there too");
        }
    }
    // Nothing found is an answer, and no success.
    if found.is_some_and(|found| found.at.is_none()) { Err(Ended::Nothing.into()) } else { Ok(()) }
}

fn searched(source: &SharedSource, text: &str, from: ByteOffset, way: Way) -> anyhow::Result<Found> {
    let pattern = Pattern::typed(text).map_err(|wrong| Ended::WrongUse(wrong.to_string()))?;
    let bar = bar(source.len(), "searching");
    let drive = SharedSource::clone(source);
    let job = Job::start(move |desk: &Desk<SearchProgress>| place::search(&drive, &pattern, from, way, desk));
    let result = wait(job, |progress| {
        bar.set_length(progress.total.max(1));
        bar.set_position(progress.done);
    });
    bar.finish_and_clear();
    let found = result.map_err(|panic| anyhow::anyhow!("the search died: {panic}"))?;
    if found.stopped { Err(Ended::Cancelled.into()) } else { Ok(found) }
}

fn print(view: &View, whose: Option<(Option<&Find>, Option<&Owner>)>) {
    for (index, line) in view.bytes.chunks(16).enumerate() {
        let at = view.at + index as u64 * 16;
        if view.bad.iter().any(|bad| bad.contains(at)) {
            say!("{:>12x}  does not read", at.0);
            continue;
        }
        let numbers: String = line.iter().map(|byte| format!("{byte:02x} ")).collect();
        let signs: String = line.iter().map(|byte| if (0x20..0x7F).contains(byte) { char::from(*byte) } else { '.' }).collect();
        say!("{:>12x}  {numbers:<48} {signs}", at.0);
    }
    if let Some(structure) = &view.structure {
        say!("\n{} at byte {} ({})", structure.name, structure.at.0, structure.standard);
        for field in &structure.fields {
            let lead = field.leads_to.zip(field.leads);
            let lead = lead.map(|(to, what)| format!("  -> byte {}: {what}", to.0)).unwrap_or_default();
            say!("  {:<30} {}{lead}", field.name, printable(&field.value));
        }
    }
    match whose {
        Some((Some(find), Some(owner))) => {
            let deleted = if owner.deleted { ", deleted" } else { "" };
            let (path, extent, extents, at) = (printable(&owner.path), owner.extent, owner.extents, owner.at);
            say!("\n{}: {path}{deleted}, extent {extent} of {extents}, byte {at} of it", find.id);
        }
        Some((Some(find), None)) => say!("\n{}: nobody's: free, or not told apart", find.id),
        Some((None, _)) => say!("\nno find lies here"),
        None => {}
    }
}
