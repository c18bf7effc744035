//! What the commands that stage a plan share: it is shown, saved as a copy, applied, and what came of it is told.

use std::collections::BTreeMap;
use std::io::Write;

use keel_core::CoreError;
use keel_core::ladder::{self, Ladder};
use keel_core::mend::{self, Look};
use keel_core::nodes::{self, Appeared};
use keel_core::plan::{self, ApplyOptions, Confirmation, Plan, Step};
use keel_core::sweep::Sweep;
use keel_source::{SharedSource, counted, printable, size_decimal};
use serde::Serialize;

use super::shared::{bar, cancel};
use crate::cli::ApplyArgs;
use crate::out::{say, tell};

/// What an apply came to.
#[derive(Serialize)]
pub(super) struct AppliedDocument {
    bundle: String,
    bytes: u64,
    /// What the system made of it, where it is a device.
    #[serde(skip_serializing_if = "Option::is_none")]
    appeared: Option<Appeared>,
    ladder: Ladder,
    proof: Vec<mend::Proven>,
}

/// Saves the drive as it would be where that was asked for; answers where.
pub(super) fn saved(args: &ApplyArgs, view: &SharedSource) -> anyhow::Result<Option<String>> {
    let Some(path) = &args.save_as else { return Ok(None) };
    let bar = bar(view.len(), "saving");
    let bad = plan::save_as(view.as_ref(), path, &mut |at| bar.set_position(at))?;
    bar.finish_and_clear();
    if !bad.is_empty() {
        tell!("ykeel: {} could not be read: zeros in the copy", counted(bad.len(), "stretch", "stretches"));
    }
    Ok(Some(path.display().to_string()))
}

/// Applies the plan. `before` are the looks into the volumes that stay; `seen` is what there is to find afterwards.
pub(super) fn apply(
    args: &ApplyArgs,
    source: &SharedSource,
    plan: &Plan,
    before: &BTreeMap<String, Look>,
    seen: &dyn Fn() -> Sweep,
) -> anyhow::Result<AppliedDocument> {
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
    let swept = seen();
    let ladder = ladder::examine(source, &swept, &cancel());
    let proof = mend::proven(source, &swept.finds, before);
    Ok(AppliedDocument { bundle: applied.bundle.display().to_string(), bytes: applied.bytes, appeared, ladder, proof })
}

/// The edits of a plan, a line or two each.
pub(super) fn print_edits(plan: &Plan) {
    say!("plan: {}, {}", counted(plan.edits.len(), "edit", "edits"), size_decimal(plan.bytes()));
    for edit in plan.edits.iter() {
        say!("  {}  {}, {}  ({})", edit.structure, edit.at_byte, size_decimal(edit.after.len()), edit.belongs.group);
        say!("      {}", edit.reason);
    }
}

/// What the drive would be, what stands against that, and the code.
pub(super) fn print_outlook(plan: &Plan, after: Option<&Ladder>) {
    if let Some(after) = after {
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

/// What was done.
pub(super) fn print_done(applied: Option<&AppliedDocument>, saved_as: Option<&str>) {
    if let Some(applied) = applied {
        say!("applied: {} written, read back and compared", size_decimal(applied.bytes));
        say!("undo with: ykeel undo {}", applied.bundle);
        applied.appeared.iter().flat_map(Appeared::words).for_each(|line| say!("{line}"));
        super::ladder::print(&applied.ladder);
        applied.proof.iter().for_each(print_proof);
    } else if let Some(saved) = saved_as {
        say!("saved as {saved}");
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
