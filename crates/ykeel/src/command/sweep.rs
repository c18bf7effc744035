//! `ykeel sweep`.

use keel_core::coverage::Coverage;
use keel_core::layout::{self, Layout};
use keel_core::sweep::{Behind, Find, Reach};
use keel_format::{VolumeKind, Witness};
use keel_source::{ByteOffset, ByteRange, Lba, SectorCount, size_decimal};
use serde::Serialize;

use super::shared::{choices, open, print_json, sweep};
use crate::cli::{ChoiceArgs, ReachArg, SourceArgs, Wrap};
use crate::out::say;

/// A find as the headless contract shows it.
#[derive(Serialize)]
struct FindDocument<'a> {
    id: &'a str,
    kind: VolumeKind,
    start_byte: ByteOffset,
    bytes: u64,
    start_lba: Lba,
    sectors: SectorCount,
    label: Option<&'a str>,
    grade: &'static str,
    score: i32,
    witnesses: &'a [Witness],
    inside: Option<&'a str>,
    inside_file: Option<&'a str>,
    /// The present find on whose ground it is what is left of an older generation.
    older_than: Option<&'a str>,
    newest: Option<String>,
    /// What lies behind the end of a drive that stores less than it claims.
    #[serde(skip_serializing_if = "Option::is_none")]
    behind: Option<&'a Behind>,
}

#[derive(Serialize)]
struct Document<'a> {
    finds: Vec<FindDocument<'a>>,
    layout: &'a Layout,
    coverage: &'a Coverage,
    /// Present finds under which there may be more of an older generation than was looked at.
    traces: Vec<&'a str>,
    unreadable: &'a [ByteRange],
    /// Why nothing of it is kept for the next sweep.
    #[serde(skip_serializing_if = "Option::is_none")]
    not_kept: Option<&'a str>,
    /// Volumes that were inferred and are not among the finds.
    #[serde(skip_serializing_if = "is_none")]
    untold: usize,
}

fn is_none(count: &usize) -> bool {
    *count == 0
}

fn document(find: &Find) -> FindDocument<'_> {
    FindDocument {
        id: &find.id,
        kind: find.kind,
        start_byte: find.start_byte,
        bytes: find.bytes,
        start_lba: find.start_lba,
        sectors: find.sectors,
        label: find.label.as_deref(),
        grade: find.grade.word(),
        score: find.score,
        witnesses: &find.witnesses,
        inside: find.inside.as_deref(),
        inside_file: find.inside_file.as_deref(),
        older_than: find.older_than.as_deref(),
        newest: find.newest.map(|stamp| stamp.to_string()),
        behind: find.behind.as_ref(),
    }
}

pub(super) fn run(args: &SourceArgs, reach: Option<ReachArg>, choice: &ChoiceArgs) -> anyhow::Result<()> {
    let source = open(args)?;
    let Wrap(reach): Wrap<Reach> = reach.into();
    let swept = sweep(&source, reach)?;
    let table = &swept.table;
    let layout = layout::settle(&source, table, &swept.finds, &choices(choice, &source, &swept.finds)?);
    let coverage = Coverage::of(&source, table, &swept.finds, &swept.looked_at);
    if args.json {
        let finds = swept.finds.iter().map(document).collect();
        let traces = swept.traces().into_iter().map(|find| find.id.as_str()).collect();
        let not_kept = swept.not_kept.as_deref();
        let (unreadable, untold) = (&swept.bad, swept.untold);
        return print_json(&Document { finds, layout: &layout, coverage: &coverage, traces, unreadable, not_kept, untold });
    }
    for find in &swept.finds {
        print_find(find);
    }
    if swept.untold > 0 {
        say!("{} more volumes may be meant by what was seen; less speaks for them than for those above", swept.untold);
    }
    print_layout(&layout);
    for find in swept.traces() {
        say!("traces of an older volume lie under {}: --reach surface looks for all of it", find.id);
    }
    super::ladder::print_coverage(&coverage);
    Ok(())
}

fn print_find(find: &Find) {
    let inside = find
        .inside
        .as_ref()
        .map(|outer| match &find.inside_file {
            Some(file) => format!("  inside {outer}: {file} is a disk image"),
            None => format!("  inside {outer}, which holds other volumes by design"),
        })
        .unwrap_or_default();
    let inside =
        find.older_than.as_ref().map_or(inside, |present| format!("  what is left of an older generation under {present}"));
    say!(
        "{}  {}  {}  {}  LBA {} to {}  {}{inside}",
        find.id,
        find.kind.word(),
        find.name(),
        size_decimal(find.bytes),
        find.start_lba.0,
        (find.start_lba.0 + find.sectors.0).saturating_sub(1),
        find.grade.word(),
    );
    for witness in &find.witnesses {
        let at = witness.at_byte.map(|at| format!("  ({at})")).unwrap_or_default();
        say!("    {:<15} {:>4}  {}{at}", witness.kind.word(), witness.weight, witness.says);
    }
}

/// The layout as lines.
pub(super) fn print_layout(layout: &Layout) {
    if layout.whole_drive {
        say!("layout: none; a volume fills the drive without a table");
        return;
    }
    say!("layout: {} ({})", layout.scheme.word(), layout.scheme_why);
    for entry in &layout.entries {
        let find = entry.find.as_deref().unwrap_or("-");
        let end = (entry.first.0 + entry.sectors.0).saturating_sub(1);
        say!(
            "  {} {find} {} type {}  LBA {} to {end}  {}",
            entry.slot,
            entry.role.word(),
            entry.type_code,
            entry.first.0,
            entry.why
        );
    }
    for set in &layout.by_hand {
        match &set.refused {
            None => say!("  set by hand for {}:", set.find),
            Some(refused) => say!("  set by hand for {}, and refused: {refused}", set.find),
        }
        for speaks in &set.speaks {
            say!("      {} {}", if speaks.for_it { '+' } else { '-' }, speaks.what);
        }
    }
    for left in &layout.left_out {
        say!("  left out {}: {}", left.find, left.why);
    }
}
