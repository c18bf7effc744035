//! `ykeel mend`.

use std::sync::Arc;

use keel_core::CoreError;
use keel_core::advice::{self, Staging, Swept};
use keel_core::coverage::Coverage;
use keel_core::ladder::{self, Ground, Ladder, VolumeLadder};
use keel_core::layout::{self, Layout};
use keel_core::mend::{self, Request, Subject, Taken, Wishes, Withheld};
use keel_core::plan::Plan;
use keel_core::sweep::{Find, Reach};
use keel_format::{Compute, Take};
use keel_source::{SharedSource, counted, printable, size_decimal};
use serde::Serialize;

use super::planned::{self, AppliedDocument};
use super::shared::{cancel, choices, open, print_json, sweep};
use crate::cli::{MendArgs, Wrap};
use crate::exit::Ended;
use crate::out::say;

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
        if !args.apply.apply {
            super::ladder::say_next(next);
        }
    }
    if document.plan.edits.is_empty() {
        if args.source.json {
            print_json(&document)?;
        }
        return Err(Ended::Nothing.into());
    }
    document.saved_as = planned::saved(&args.apply, &view)?;
    if args.apply.apply {
        document.applied =
            Some(planned::apply(&args.apply, &source, &document.plan, &mend::looks(&source, &swept.finds), &|| swept.clone())?);
    }
    if args.source.json {
        return print_json(&document);
    }
    planned::print_done(document.applied.as_ref(), document.saved_as.as_deref());
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
    planned::print_edits(plan);
    print_dropped(document);
    planned::print_outlook(plan, document.after.as_ref());
}

fn print_dropped(document: &Document) {
    for edit in &document.dropped {
        say!("  dropped: {}  {}, {}  ({})", edit.structure, edit.at_byte, size_decimal(edit.after.len()), edit.belongs.group);
    }
}
