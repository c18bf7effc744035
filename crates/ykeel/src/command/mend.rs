//! `ykeel mend`.

use std::io::Write;
use std::sync::Arc;

use keel_core::CoreError;
use keel_core::advice::{self, Staging, Swept};
use keel_core::coverage::Coverage;
use keel_core::ladder::{self, Ground, Ladder, VolumeLadder};
use keel_core::layout::{self, Layout};
use keel_core::mend::{self, Request, Subject, Taken, Wishes, Withheld};
use keel_core::nodes::{self, Appeared};
use keel_core::plan::{self, ApplyOptions, Confirmation, Plan, Step};
use keel_core::sweep::{Find, Reach, Sweep};
use keel_format::{Compute, Take};
use keel_source::{SharedSource, counted, printable, size_decimal};
use serde::Serialize;

use super::shared::{bar, cancel, choices, open, print_json, sweep};
use crate::cli::{MendArgs, Wrap};
use crate::exit::Ended;
use crate::out::{say, tell};

#[derive(Serialize)]
struct Document {
    coverage: Coverage,
    layout: Layout,
    plan: Plan,
    withheld: Vec<Withheld>,
    /// Edits that were dropped, with those that rested on them.
    dropped: Vec<mend::Edit>,
    now: Ladder,
    after: Option<Ladder>,
    saved_as: Option<String>,
    applied: Option<AppliedDocument>,
    /// The next step, as the plan stands.
    next: String,
}

#[derive(Serialize)]
struct AppliedDocument {
    bundle: String,
    bytes: u64,
    /// What the system made of it, where it is a device.
    #[serde(skip_serializing_if = "Option::is_none")]
    appeared: Option<Appeared>,
    ladder: Ladder,
    proof: Vec<mend::Proven>,
}

pub(super) fn run(args: &MendArgs) -> anyhow::Result<()> {
    let source = open(&args.source)?;
    let swept = sweep(&source, Reach::Doubt)?;
    let table = &swept.table;
    let layout = layout::settle(&source, table, &swept.finds, &choices(&args.choices, &source, &swept.finds)?);
    let Wrap(only): Wrap<mend::Only> = args.only.into();
    let staged = mend::stage(&source, table, &swept.finds, &layout, &wishes(args, only, &source, &swept.finds)?);
    let all = || staged.edits.iter().chain(&staged.dropped);
    if let Some(unknown) = args.without.iter().find(|group| !all().any(|edit| edit.belongs.group == **group)) {
        let groups: std::collections::BTreeSet<String> = all().map(|edit| printable(&edit.belongs.group)).collect();
        let groups = groups.into_iter().collect::<Vec<_>>().join(", ");
        return Err(
            Ended::WrongUse(format!("--without {}: there is no such group; there are: {groups}", printable(unknown))).into()
        );
    }
    let edits = staged.edits.clone();
    let ground = Ground::ask(&source, &cancel(), &mut |_| {});
    let now = ladder::examine_on(&ground, &source, &swept, &cancel());
    let view: SharedSource = Arc::new(mend::overlay(&source, &edits));
    let after = (!edits.is_empty()).then(|| ladder::examine_on(&ground, &view, &swept, &cancel()));
    let decided = |volume: &VolumeLadder| mend::is_decided(volume, &swept.finds, &layout);
    let lowers = after.as_ref().map(|after| mend::objections(&edits, &now, after, &decided)).unwrap_or_default();
    let planned = Staging { edits: edits.len(), planned: after.as_ref(), applied: false };
    let next = advice::next(&source, &ground, &now, &swept.finds, Swept::Done, planned);
    let plan = Plan::new(&source, edits, now.reads_fail() || staged.copy_first).lowering(lowers);
    let coverage = now.coverage.clone();
    let mut document = Document {
        coverage,
        layout,
        plan,
        withheld: staged.withheld,
        dropped: staged.dropped,
        now,
        after,
        saved_as: None,
        applied: None,
        next: next.says(),
    };
    if cancel().is_cancelled() {
        return Err(Ended::Cancelled.into());
    }
    if !args.source.json {
        print_plan(&document);
        if !args.apply {
            super::ladder::say_next(next);
        }
    }
    if document.plan.edits.is_empty() {
        if args.source.json {
            print_json(&document)?;
        }
        return Err(Ended::Nothing.into());
    }
    if let Some(path) = &args.save_as {
        let bar = bar(view.len(), "saving");
        let bad = plan::save_as(view.as_ref(), path, &mut |at| bar.set_position(at))?;
        bar.finish_and_clear();
        document.saved_as = Some(path.display().to_string());
        if !bad.is_empty() {
            tell!("ykeel: {} could not be read: zeros in the copy", counted(bad.len(), "stretch", "stretches"));
        }
    }
    if args.apply {
        document.applied = Some(apply(args, &source, &document.plan, &swept)?);
    }
    if args.source.json {
        return print_json(&document);
    }
    if let Some(applied) = &document.applied {
        say!("applied: {} written, read back and compared", size_decimal(applied.bytes));
        say!("undo with: ykeel undo {}", applied.bundle);
        applied.appeared.iter().flat_map(Appeared::words).for_each(|line| say!("{line}"));
        super::ladder::print(&applied.ladder);
        applied.proof.iter().for_each(print_proof);
    } else if let Some(saved) = &document.saved_as {
        say!("saved as {saved}");
    }
    Ok(())
}

/// What the options ask for beside what the evidence says.
fn wishes(args: &MendArgs, only: mend::Only, source: &SharedSource, finds: &[Find]) -> anyhow::Result<Wishes> {
    let mut wishes = Wishes::from(only);
    wishes.without = args.without.iter().cloned().collect();
    wishes.also = args.also.iter().map(|word| Request::named(word)).collect();
    for text in &args.take {
        let (id, name, field, version) = parse_take(text)?;
        let (subject, structures) = match Subject::named(&id) {
            Subject::Table => (Subject::Table, super::shared::table_structures(source, finds)),
            Subject::Volume(id) => {
                let find = super::shared::find(finds, &id)?;
                (Subject::Volume(find.id.clone()), mend::structures(source, find, Compute::All))
            }
        };
        let unknown = || CoreError::Unknown { what: "structure", name: name.clone() };
        let structure = structures.iter().find(|structure| structure.name == name).ok_or_else(unknown)?;
        let chosen = wishes.takes.entry((subject, name.clone())).or_insert_with(|| Taken {
            whole: structure.best().unwrap_or(Take::Main),
            fields: Vec::new(),
            by_hand: Vec::new(),
        });
        match field {
            None => chosen.whole = version.take().ok_or_else(|| usage(text))?,
            Some(ref field) => {
                let unknown = || CoreError::Unknown { what: "field", name: field.clone() };
                let found = structure.fields.iter().find(|known| known.name == field).ok_or_else(unknown)?;
                match version {
                    Version::Of(take) => chosen.fields.push((*found, take)),
                    Version::ByHand(value) => {
                        let bytes = found.typed(&value).ok_or_else(|| {
                            let (field, value, len) = (printable(field), printable(&value), found.len);
                            Ended::WrongUse(format!("--take: {value} does not fit {field}, which has {len} bytes"))
                        })?;
                        chosen.by_hand.push((*found, bytes));
                    }
                }
            }
        }
    }
    Ok(wishes)
}

/// What a structure or field is taken from.
enum Version {
    /// One that stands on the drive, or is computed.
    Of(Take),
    /// A value of the technician's.
    ByHand(String),
}

impl Version {
    fn take(&self) -> Option<Take> {
        match self {
            Self::Of(take) => Some(*take),
            Self::ByHand(_) => None,
        }
    }
}

fn usage(text: &str) -> Ended {
    let text = printable(text);
    Ended::WrongUse(format!("--take {text}: ID/STRUCTURE=VERSION, ID/STRUCTURE.FIELD=VERSION or …FIELD=value:VALUE is wanted"))
}

/// `ID/STRUCTURE[.FIELD]=VERSION`.
fn parse_take(text: &str) -> anyhow::Result<(String, String, Option<String>, Version)> {
    let usage = || usage(text);
    let (place, version) = text.rsplit_once('=').ok_or_else(usage)?;
    let (id, name) = place.split_once('/').ok_or_else(usage)?;
    let (name, field) = match name.split_once('.') {
        Some((name, field)) => (name, Some(field.to_string())),
        None => (name, None),
    };
    let version = match version {
        "main" => Version::Of(Take::Main),
        "computed" => Version::Of(Take::Computed),
        value if value.starts_with("value:") => Version::ByHand(value.trim_start_matches("value:").into()),
        copy => {
            let number = copy.strip_prefix("copy").ok_or_else(usage)?;
            let number: usize = if number.is_empty() { 1 } else { number.parse().map_err(|_| usage())? };
            Version::Of(Take::Copy(number.checked_sub(1).ok_or_else(usage)?))
        }
    };
    Ok((id.into(), name.into(), field, version))
}

fn apply(args: &MendArgs, source: &SharedSource, plan: &Plan, swept: &Sweep) -> anyhow::Result<AppliedDocument> {
    let confirmation = match (&args.confirm, args.yes) {
        (Some(code), _) => Confirmation::Code(code.clone()),
        (None, true) => Confirmation::Yes,
        (None, false) => Confirmation::Code(String::new()),
    };
    let options = ApplyOptions {
        confirmation,
        override_words: args.override_words.clone(),
        bundle: args.bundle.clone(),
        stamp: keel_core::case::stamp(),
    };
    let before = mend::looks(source, &swept.finds);
    let place = plan::bundle_place(source, &options);
    // Said before the first write, whatever becomes of standard output.
    let mut tell = |step| {
        if step == Step::BundleDurable {
            let _ = writeln!(std::io::stderr(), "ykeel: the way back is {}", printable(&place.display().to_string()));
        }
    };
    let applied = plan::apply(source, plan, &options, &mut tell).map_err(|error| match error {
        // The bundle is on disk: say how to get back.
        CoreError::Source(inner @ keel_source::SourceError::Write { .. }) => {
            tell!("ykeel: writing failed half-way; the undo bundle of this drive puts it back");
            CoreError::Source(inner)
        }
        other => other,
    })?;
    let appeared = nodes::renew(source);
    // The drive as it is, asked anew.
    let ladder = ladder::examine(source, swept, &cancel());
    let proof = mend::proven(source, &swept.finds, &before);
    Ok(AppliedDocument { bundle: applied.bundle.display().to_string(), bytes: applied.bytes, appeared, ladder, proof })
}

fn print_plan(document: &Document) {
    super::sweep::print_layout(&document.layout);
    let plan = &document.plan;
    for withheld in &document.withheld {
        say!("not mended: {} of {}: {}", withheld.structure, withheld.find, withheld.why);
    }
    if plan.edits.is_empty() {
        match document.dropped.len() {
            0 => say!("plan: empty; nothing that was looked at needs a repair that the evidence supports"),
            dropped => say!("plan: empty; {} dropped", counted(dropped, "edit was", "edits were")),
        }
        print_dropped(document);
        super::ladder::print_coverage(&document.coverage);
        say!("{}", document.now.verdict());
        return;
    }
    say!("plan: {}, {}", counted(plan.edits.len(), "edit", "edits"), size_decimal(plan.bytes()));
    for edit in plan.edits.iter() {
        say!("  {}  {}, {}  ({})", edit.structure, edit.at_byte, size_decimal(edit.after.len()), edit.belongs.group);
        say!("      {}", edit.reason);
    }
    print_dropped(document);
    if let Some(after) = &document.after {
        say!("the ladder as it would be:");
        super::ladder::print(after);
    }
    for lowers in &plan.lowers {
        say!("this plan is refused: {lowers}");
    }
    if plan.copy_first {
        say!("this drive fails reads: copy it first, or save a repaired copy with --save-as");
    }
    say!("confirmation code of this drive: {}", plan.code);
}

fn print_dropped(document: &Document) {
    for edit in &document.dropped {
        say!("  dropped: {}  {}, {}  ({})", edit.structure, edit.at_byte, size_decimal(edit.after.len()), edit.belongs.group);
    }
}

fn print_proof(proven: &mend::Proven) {
    let [before, now] = proven.counted;
    let [sampled, again] = proven.sampled;
    say!("proof of {}: {before} files listed before, {now} now; {sampled} samples read before, {again} now", proven.find);
    if let Some(path) = &proven.lost {
        say!("  {path} does not read as it did");
    }
    match (&proven.kernel, &proven.no_kernel) {
        (Some(kernel), _) if kernel.mounted => {
            say!("  {}: {} files there, {} of {} samples the same", kernel.how, kernel.files_there, kernel.same, kernel.sampled);
        }
        (Some(kernel), _) => say!("  not mounted here: {}", kernel.how),
        (None, Some(why)) => say!("  not mounted here: {why}"),
        (None, None) => {}
    }
}
