//! `ykeel report`: the PDF that is handed over, or a single drawing.

use std::path::Path;
use std::sync::Arc;

use anyhow::Context;
use keel_core::case::{self, Case};
use keel_core::ladder::{self, Ground};
use keel_core::layout::{self, Choices};
use keel_core::reads::ReadsOptions;
use keel_core::sweep::{Sweep, outer};
use keel_core::{CoreError, copy, fathom, health, mend, reads};
use keel_draw::{Drawing, Head, KeelDrawing, Lane, Report};
use keel_format::table;
use keel_source::own::{self, Over};
use keel_source::{ByteRange, SharedSource, size_decimal};

use super::shared::{Asker, note, open};
use crate::cli::{DrawingArg, SourceArgs};
use crate::out::say;

/// What every report and drawing says of who made it.
const MARK: &[u8] = b"Yellow Keel";

pub(super) fn run(args: &SourceArgs, out: &Path, drawing: Option<DrawingArg>) -> anyhow::Result<()> {
    let is = |end: &str| out.extension().is_some_and(|own| own == end);
    if !is("svg") && !is("pdf") {
        return Err(CoreError::Nothing("a report is written as FILE.pdf, a drawing as FILE.svg or FILE.pdf").into());
    }
    let (path, case) = of(&args.source)?;
    let args = SourceArgs { source: path, sector_size: args.sector_size, json: args.json };
    let source = open(&args)?;
    write(&source, case.as_ref(), out, drawing, Asker::Command)?;
    note(&args.source, "report", &out);
    say!("{}", out.display());
    Ok(())
}

/// The drive that is meant, and its case: a case's folder means its drive.
fn of(path: &Path) -> anyhow::Result<(std::path::PathBuf, Option<Case>)> {
    if path.join("case.toml").is_file() {
        let case = Case::load(path)?;
        return Ok((case.record.source.clone(), Some(case)));
    }
    Ok((path.to_path_buf(), Case::of(path, None)?))
}

/// Writes the report of `source`, or one drawing, to `out`.
pub(crate) fn write(
    source: &SharedSource,
    case: Option<&Case>,
    out: &Path,
    drawing: Option<DrawingArg>,
    asker: Asker<'_>,
) -> anyhow::Result<()> {
    keel_core::whose::not_on_its_own_medium(source.as_ref(), out)?;
    let as_pdf = out.extension().is_some_and(|end| end == "pdf");
    let sheets = match (as_pdf, drawing) {
        (true, None) => whole(source, case, asker)?,
        (_, which) => vec![single(source, case, which.unwrap_or(DrawingArg::Keel), asker)?],
    };
    let title = head(source).title;
    let bytes = match sheets.as_slice() {
        [only] if !as_pdf => keel_draw::svg(only).into_bytes(),
        sheets => keel_draw::pdf(&title, sheets)?,
    };
    own::write(out, &bytes, Over::Ours(&is_report)).with_context(|| format!("cannot write {}", out.display()))?;
    Ok(())
}

/// True for a report or drawing that was made here: only such a file is replaced.
fn is_report(head: &[u8], tail: &[u8]) -> bool {
    let marked = [head, tail].into_iter().any(|part| part.windows(MARK.len()).any(|window| window == MARK));
    (head.starts_with(b"%PDF-") || head.starts_with(b"<svg") || head.starts_with(b"<?xml")) && marked
}

fn head(source: &SharedSource) -> Head {
    let identity = source.identity();
    let or_none = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".into());
    let sectors = format!("sectors of {}/{} bytes", identity.logical_sector.0, identity.physical_sector.0);
    Head {
        title: format!("{}, {}", identity.name, size_decimal(identity.bytes)),
        identity: format!(
            "{}   serial {}   firmware {}   {}   {} bytes   {sectors}",
            or_none(&identity.model),
            or_none(&identity.serial),
            or_none(&identity.firmware),
            identity.link.word(),
            identity.bytes
        ),
        date: case::now().replace('T', " ").replace('Z', " UTC"),
    }
}

fn keel_of(source: &SharedSource, swept: &Sweep) -> KeelDrawing {
    let table = &swept.table;
    let layout = layout::settle(source, table, &swept.finds, &Choices::default());
    let edits = mend::stage(source, table, &swept.finds, &layout, &mend::Only::All.into()).edits;
    let view: SharedSource = Arc::new(mend::overlay(source, &edits));
    let entries = |table: &table::TableReading| -> Vec<(ByteRange, String)> {
        table.partitions.iter().map(|entry| (entry.range(source.sector_size()), entry.type_code.to_string())).collect()
    };
    let found = outer(&swept.finds).map(|find| (find.range(), format!("{} {}", find.kind.word(), find.name())));
    KeelDrawing {
        bytes: source.identity().bytes.max(source.len()),
        stored: (source.len() < source.identity().bytes).then_some(source.len()),
        lanes: vec![
            Lane { name: "now", blocks: entries(table) },
            Lane { name: "found", blocks: found.collect() },
            Lane { name: "plan", blocks: entries(&table::read(view.as_ref())) },
        ],
        bad: swept.bad.iter().chain(source.missing()).copied().collect(),
    }
}

fn single(source: &SharedSource, case: Option<&Case>, which: DrawingArg, asker: Asker<'_>) -> anyhow::Result<Drawing> {
    let head = head(source);
    Ok(match which {
        DrawingArg::Keel => keel_draw::keel(&head, &keel_of(source, &asker.sweep(source)?)),
        DrawingArg::Reads => {
            let desk = keel_core::job::Desk::new(asker.cancel()).0;
            let survey = reads::known(source).unwrap_or_else(|| reads::survey(source, ReadsOptions::sampled(), &desk));
            keel_draw::reads(&head, &survey)
        }
        DrawingArg::Health => keel_draw::health(&head, &health::ask(source.as_ref()).map_err(anyhow::Error::from)?)?,
        DrawingArg::Copy => {
            let map = copy_of(source, case).ok_or(CoreError::Nothing("no copy of this drive is known"))?;
            keel_draw::copy(&head, &map)
        }
        DrawingArg::Capacity => {
            let verdict = fathom::known(source).ok_or(CoreError::Nothing("its capacity was not measured: ykeel fathom"))?;
            keel_draw::capacity(&head, &verdict)?
        }
    })
}

/// The map of the copy: of the one that the case names, or of the source where it is a copy itself.
fn copy_of(source: &SharedSource, case: Option<&Case>) -> Option<keel_source::CopyMap> {
    let named = case.and_then(|case| case.record.copy.as_deref()).and_then(copy::known);
    named.or_else(|| source.identity().path.as_deref().and_then(copy::known))
}

fn whole(source: &SharedSource, case: Option<&Case>, asker: Asker<'_>) -> anyhow::Result<Vec<Drawing>> {
    let swept = asker.sweep(source)?;
    let ground = Ground::ask(source, &asker.cancel(), &mut |_| {});
    let ladder = ladder::examine_on(&ground, source, &swept, &asker.cancel());
    // A survey that was asked for says more than the ladder's samples.
    let survey = reads::known(source).or(ground.survey);
    let journal = case.map(|case| -> anyhow::Result<_> {
        let verified = case::verify(&case.folder, &case.record.journal)?;
        let says = match verified.problem {
            None => format!("The journal is whole: {} lines, each with the hash of the one before.", verified.lines),
            Some(problem) => format!("The journal is not whole: {problem}."),
        };
        Ok((case::lines(&case.folder)?, says))
    });
    let (lines, says) = journal.transpose()?.unzip();
    let map = copy_of(source, case);
    let report = Report {
        head: head(source),
        ladder: &ladder,
        keel: keel_of(source, &swept),
        case: case.map(|case| &case.record).zip(lines),
        journal_says: says,
        survey: survey.as_ref(),
        health: ground.health.as_ref(),
        capacity: ground.capacity.as_ref(),
        copy: map.as_ref(),
    };
    Ok(keel_draw::report(&report)?)
}
