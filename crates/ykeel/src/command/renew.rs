//! `ykeel renew`.

use std::collections::BTreeMap;
use std::sync::Arc;

use keel_core::CoreError;
use keel_core::coverage::Coverage;
use keel_core::ladder::{self, Ground, Ladder};
use keel_core::layout::Layout;
use keel_core::mend::{self, Look};
use keel_core::plan::Plan;
use keel_core::renew::which::{self, Purpose, Reader};
use keel_core::renew::{self, Draft, Drafted, Fitted, Gate, Made, NewTable, Size, Step, StepWrong, Way, Wish};
use keel_core::sweep::Reach;
use keel_format::table::{Scheme, TypeCode};
use keel_source::{SectorSize, SharedSource, counted, printable, size_decimal};
use serde::Serialize;

use super::planned::{self, AppliedDocument};
use super::shared::{cancel, open, print_json, sweep};
use crate::cli::{ApplyArgs, RenewArgs, SourceArgs, TableArg};
use crate::config;
use crate::exit::Ended;
use crate::out::say;

#[derive(Serialize)]
struct Document {
    coverage: Coverage,
    layout: Layout,
    plan: Plan,
    gate: Gate,
    made: Vec<Made>,
    fitted: Vec<Fitted>,
    /// What follows beside what was asked for, as sentences.
    told: Vec<String>,
    now: Ladder,
    after: Option<Ladder>,
    saved_as: Option<String>,
    applied: Option<AppliedDocument>,
}

pub(super) fn run(args: &RenewArgs) -> anyhow::Result<()> {
    let source = open(&args.source)?;
    let purpose = purpose(args, source.len())?;
    let mut steps = steps(args, source.sector_size()).map_err(|wrong| Ended::WrongUse(wrong.to_string()))?;
    let way = args.recipe.as_deref().map(|text| way(text, &source)).transpose()?;
    if let Some(way) = &way {
        steps.extend(way.steps.iter().map(|(_, step)| step.clone()));
    }
    let answers = purpose.as_ref().map(which::answers).unwrap_or_default();
    if purpose.is_some() && args.table.is_some_and(|table| table != TableArg::Mark) && args.add.is_empty() {
        let served = answers.first().filter(|answer| answer.serves).ok_or(NONE_SERVES)?;
        steps.push(Step::Add(Wish::plain(served.kind)));
    } else if purpose.is_some() && steps.is_empty() {
        return answer(args, &answers);
    }
    let clears_leftovers = args.clear_leftovers || way.as_ref().is_some_and(|way| way.clears);
    let swept = sweep(&source, Reach::Landmarks)?;
    let mut draft = Draft::of(&source, &swept.table, renew::align_of(&source));
    for step in &steps {
        let step = renew::settled(&source, &draft, step)?;
        draft.take(&step)?;
    }
    if steps.is_empty() && !clears_leftovers {
        return show(args, &draft, &swept.table);
    }
    let beside = renew::Beside { finds: &swept.finds, clears_leftovers, made_at: made_at() };
    let staged = renew::stage(&source, &swept.table, &draft, &beside)?;
    let ground = Ground::ask(&source, &cancel(), &mut |_| {});
    let now = ladder::examine_on(&ground, &source, &swept, &cancel());
    let looks = mend::looks(&source, &swept.finds);
    let edits = staged.edits;
    let gate = renew::gate(&source, (&swept.finds, &looks), (&draft, &edits), &now);
    let proved =
        renew::prove(&source, (&draft, &staged.made, &staged.fitted, &edits), (&swept.finds, &looks), (&ground, &now), &cancel());
    if cancel().is_cancelled() {
        return Err(Ended::Cancelled.into());
    }
    let view: SharedSource = Arc::new(mend::overlay(&source, &edits));
    let plan = Plan::new(&source, edits, false).lowering(proved.against).wanting(gate.words);
    let mut document = Document {
        coverage: now.coverage.clone(),
        layout: staged.layout,
        plan,
        made: staged.made,
        fitted: staged.fitted,
        told: draft.told.clone(),
        now,
        after: Some(proved.after),
        saved_as: None,
        applied: None,
        gate,
    };
    if !args.source.json {
        print(&document, &draft);
    }
    if document.plan.edits.is_empty() {
        if args.source.json {
            print_json(&document)?;
        }
        return Err(Ended::Nothing.into());
    }
    document.saved_as = planned::saved(&args.apply, &view)?;
    if args.apply.apply {
        let stay = looks.into_iter().filter(|(id, _)| document.gate.lost.iter().all(|lost| lost.find != *id));
        let stay: BTreeMap<String, Look> = stay.collect();
        let again = || renew::again(&source, &draft, &swept.finds, &cancel());
        document.applied = Some(planned::apply(&args.apply, &source, &document.plan, &stay, &again)?);
    }
    if args.source.json {
        return print_json(&document);
    }
    planned::print_done(document.applied.as_ref(), document.saved_as.as_deref());
    Ok(())
}

/// Renews a drive in a way that is named, without anything to be seen before: nothing is on it.
pub(super) fn by_recipe(source: &SourceArgs, recipe: &str, (confirm, yes): (&Option<String>, bool)) -> anyhow::Result<()> {
    let apply = ApplyArgs { save_as: None, apply: true, confirm: confirm.clone(), yes, bundle: None, override_words: None };
    let source = SourceArgs { source: source.source.clone(), sector_size: source.sector_size, json: false };
    run(&RenewArgs {
        source,
        table: None,
        convert: None,
        delete: Vec::new(),
        add: Vec::new(),
        format: Vec::new(),
        grow: Vec::new(),
        shrink: Vec::new(),
        flag: Vec::new(),
        types: Vec::new(),
        name: Vec::new(),
        order: Vec::new(),
        readers: Vec::new(),
        written_by: Vec::new(),
        largest_file: None,
        files: None,
        recipe: Some(recipe.into()),
        clear_leftovers: false,
        apply,
    })
}

/// What is said where no kind serves all who are named.
const NONE_SERVES: CoreError =
    CoreError::Nothing("no kind that is made here serves all of them: see --for alone for the reasons");

/// What the volume is for, where that was asked.
fn purpose(args: &RenewArgs, bytes: u64) -> anyhow::Result<Option<Purpose>> {
    if args.readers.is_empty() {
        return Ok(None);
    }
    let reader = |word: &String| {
        let known = Reader::ALL.into_iter().find(|reader| reader.word() == word.trim());
        known.ok_or_else(|| {
            let words: Vec<&str> = Reader::ALL.into_iter().map(Reader::word).collect();
            Ended::WrongUse(format!("--for {}: {} are known", printable(word), words.join(" ")))
        })
    };
    let readers = args.readers.iter().map(reader).collect::<Result<_, _>>()?;
    let writers = args.written_by.iter().map(reader).collect::<Result<_, _>>()?;
    let size = |text: &String| {
        let bytes = keel_core::place::size_named(text);
        bytes.ok_or_else(|| Ended::WrongUse(format!("--largest-file {}: a size is wanted: 20 GB", printable(text))))
    };
    let largest_file = args.largest_file.as_ref().map(size).transpose()?;
    Ok(Some(Purpose { readers, writers, largest_file, bytes, files: args.files }))
}

/// The way that `NAME[=LABEL]` names.
pub(super) fn way(text: &str, source: &SharedSource) -> anyhow::Result<Way> {
    let own = &config::get().recipes;
    let found = Way::named(text, own, source.len(), source.sector_size()).map_err(|wrong| Ended::WrongUse(wrong.to_string()))?;
    Ok(found.ok_or_else(|| {
        let names: Vec<String> = Way::all(own).iter().map(|(name, says)| format!("{name}: {says}")).collect();
        Ended::WrongUse(format!("--recipe {}: there are {}", printable(text), names.join("; ")))
    })?)
}

#[derive(Serialize)]
struct Answered<'a> {
    answers: &'a [which::Answer],
}

/// Which kind serves, and the reasons; nothing of the drive is asked.
fn answer(args: &RenewArgs, answers: &[which::Answer]) -> anyhow::Result<()> {
    if args.source.json {
        return print_json(&Answered { answers });
    }
    match answers.first().filter(|answer| answer.serves) {
        Some(first) if first.doubtful => say!("{} serves most of them", first.kind.word()),
        Some(first) => say!("{} serves all of them", first.kind.word()),
        None => say!("no kind that is made here serves all of them"),
    }
    for answer in answers {
        let word = match (answer.serves, answer.doubtful) {
            (true, false) => "serves",
            (true, true) => "serves most",
            (false, _) => "does not serve",
        };
        say!("  {:<6} {word}", answer.kind.word());
        answer.because.iter().filter(|_| answer.serves).for_each(|why| say!("         + {why}"));
        answer.against.iter().for_each(|why| say!("         - {why}"));
    }
    Ok(())
}

/// Now, in seconds since 1970-01-01 UTC.
fn made_at() -> u32 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    u32::try_from(since.as_secs()).unwrap_or(u32::MAX)
}

/// The steps in the order in which they are taken: entries are named by the numbers of the present table.
fn steps(args: &RenewArgs, sector: SectorSize) -> Result<Vec<Step>, StepWrong> {
    let mut steps = Vec::new();
    steps.extend(args.table.map(|table| {
        Step::Table(match table {
            TableArg::Gpt => NewTable::Of(Scheme::Gpt),
            TableArg::Mbr => NewTable::Of(Scheme::Mbr),
            TableArg::None => NewTable::None,
            TableArg::Mark => NewTable::Mark,
        })
    }));
    steps.extend(args.delete.iter().map(|number| Step::Delete(*number)));
    steps.extend(args.convert.map(|scheme| Step::Convert(scheme.into())));
    for text in &args.format {
        let (number, what) = renew::numbered(text)?;
        steps.push(Step::Format(number, Wish::typed(what, sector)?));
    }
    for (texts, is_growth) in [(&args.shrink, false), (&args.grow, true)] {
        for text in texts {
            let (number, what) = renew::numbered(text)?;
            let size = Size::typed(what, sector)?;
            steps.push(if is_growth { Step::Grow(number, size) } else { Step::Shrink(number, size) });
        }
    }
    for text in &args.types {
        let (number, what) = renew::numbered(text)?;
        let code = TypeCode::parse(what.trim()).ok_or_else(|| StepWrong::Type(printable(what)))?;
        steps.push(Step::Type(number, code));
    }
    for text in &args.flag {
        let (number, what) = renew::numbered(text)?;
        steps.push(Step::Flags(number, renew::flags_typed(what)?));
    }
    for text in &args.name {
        let (number, what) = renew::numbered(text)?;
        steps.push(Step::Name(number, what.into()));
    }
    if !args.order.is_empty() {
        steps.push(Step::Order(args.order.clone()));
    }
    for text in &args.add {
        steps.push(Step::Add(Wish::typed(text, sector)?));
    }
    Ok(steps)
}

#[derive(Serialize)]
struct Shown<'a> {
    scheme: Option<Scheme>,
    entries: Vec<ShownEntry<'a>>,
    free: Vec<ShownFree>,
}

#[derive(Serialize)]
struct ShownEntry<'a> {
    slot: u32,
    role: &'static str,
    #[serde(rename = "type")]
    type_code: TypeCode,
    kind: Option<keel_format::VolumeKind>,
    first_lba: u64,
    sectors: u64,
    name: &'a str,
    flags: Vec<&'static str>,
}

impl<'a> ShownEntry<'a> {
    fn of(entry: &'a Drafted) -> Self {
        Self {
            slot: entry.slot,
            role: entry.role.word(),
            type_code: entry.type_code,
            kind: entry.kind(),
            first_lba: entry.first.0,
            sectors: entry.sectors.0,
            name: &entry.name,
            flags: renew::flags_of(entry).into_iter().map(renew::Flag::word).collect(),
        }
    }
}

#[derive(Serialize)]
struct ShownFree {
    first_lba: u64,
    sectors: u64,
}

/// The table as it is and its free ground, where nothing was asked for.
fn show(args: &RenewArgs, draft: &Draft, table: &keel_format::table::TableReading) -> anyhow::Result<()> {
    if !args.source.json {
        print_draft(draft);
        let broken = table.findings.iter().filter(|finding| finding.severity == keel_format::Severity::Broken);
        broken.for_each(|finding| say!("{}", finding.what));
        return Ok(());
    }
    let free = draft.free().into_iter().map(|free| ShownFree { first_lba: free.start, sectors: free.end - free.start });
    print_json(&Shown { scheme: draft.scheme, entries: draft.entries.iter().map(ShownEntry::of).collect(), free: free.collect() })
}

fn print_draft(draft: &Draft) {
    say!("table: {}", draft.scheme.map_or("none", Scheme::word));
    let bytes = |sectors: u64| size_decimal(sectors * draft.sector.bytes());
    for entry in &draft.entries {
        let kind = entry.kind().map_or("nothing known", keel_format::VolumeKind::word);
        let kind = if matches!(entry.content, renew::Content::New(_)) { format!("new {kind}") } else { kind.to_string() };
        let flags: Vec<&str> = renew::flags_of(entry).into_iter().map(renew::Flag::word).collect();
        let flags = if flags.is_empty() { String::new() } else { format!("  {}", flags.join(", ")) };
        let type_code = if draft.scheme.is_some() { entry.type_code.to_string() } else { String::new() };
        let ground = format!("LBA {} to {}", entry.first.0, (entry.first.0 + entry.sectors.0).saturating_sub(1));
        say!("  {:>2}  {ground}  {}  {kind}  {type_code}{flags}  {}", entry.slot, bytes(entry.sectors.0), printable(&entry.name));
    }
    if draft.scheme.is_some() {
        for free in draft.free().into_iter().filter(|free| free.end - free.start >= draft.align) {
            say!("   -  LBA {} to {}  {}  free", free.start, free.end - 1, bytes(free.end - free.start));
        }
    }
}

/// The edits by what they make: how many, how large, which structures, and why.
fn print_groups(plan: &Plan) {
    say!("plan: {}, {}", counted(plan.edits.len(), "edit", "edits"), size_decimal(plan.bytes()));
    let mut groups: Vec<(&str, Vec<&mend::Edit>)> = Vec::new();
    for edit in plan.edits.iter() {
        let group = edit.belongs.group.as_str();
        match groups.iter_mut().find(|(name, _)| *name == group) {
            Some((_, edits)) => edits.push(edit),
            None => groups.push((group, vec![edit])),
        }
    }
    for (group, edits) in groups {
        let bytes = edits.iter().map(|edit| edit.after.len()).sum();
        let mut structures: Vec<&str> = Vec::new();
        edits.iter().for_each(|edit| {
            if !structures.contains(&edit.structure.as_str()) {
                structures.push(&edit.structure);
            }
        });
        say!("  {group}: {}, {}", counted(edits.len(), "edit", "edits"), size_decimal(bytes));
        say!("      {}", structures.join(", "));
        say!("      {}", edits.first().map(|edit| edit.reason.as_str()).unwrap_or_default());
    }
}

fn print(document: &Document, draft: &Draft) {
    print_draft(draft);
    document.told.iter().for_each(|line| say!("{line}"));
    document.fitted.iter().for_each(|fitted| say!("{}", fitted.sentence()));
    document.gate.sentences().iter().for_each(|line| say!("{line}"));
    if !document.coverage.is_whole() && !document.gate.lost.is_empty() {
        say!("{} % of the drive is explained: a sweep of the rest may find more that would be lost", document.coverage.percent());
    }
    if document.plan.edits.is_empty() {
        say!("plan: empty; the drive is so already");
        return;
    }
    print_groups(&document.plan);
    if !document.made.is_empty() {
        let made = counted(document.made.len(), "new volume", "new volumes");
        say!("{made} made on the drive as it would be: opened, and held against every rule");
    }
    if !document.fitted.is_empty() {
        say!("every file of what grows or shrinks was compared on the drive as it would be");
    }
    planned::print_outlook(&document.plan, document.after.as_ref());
}
