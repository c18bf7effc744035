//! What is handed over: the report of a drive, or one drawing, from what the core knows of it. Commands and screens write it alike.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use keel_core::advice::{self, Staging, Swept};
use keel_core::case::{self, Case};
use keel_core::job::{Cancel, Desk};
use keel_core::ladder::{self, Ground};
use keel_core::layout::{self, Choices};
use keel_core::reads::ReadsOptions;
use keel_core::sweep::{Sweep, outer};
use keel_core::wipe::Wiped;
use keel_core::{CoreError, copy, fathom, health, mend, reads};
use keel_format::table;
use keel_source::own::{self, Over};
use keel_source::{ByteRange, NoHealth, SharedSource, counted, size_decimal};

use crate::{Drawing, FontError, Head, KeelDrawing, Lane, Report};

/// What every report and drawing says of who made it.
const MARK: &[u8] = b"Yellow Keel";

/// One drawing of a drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// The keel: now, found, plan.
    Keel,
    /// Latency and errors over the surface.
    Reads,
    /// The health page.
    Health,
    /// What is in the copy and what is not.
    Copy,
    /// Address written against address read.
    Capacity,
}

/// What a report is made of.
#[derive(Clone, Copy)]
pub struct Asked<'a> {
    /// The drive.
    pub source: &'a SharedSource,
    /// Its case, where one is open.
    pub case: Option<&'a Case>,
    /// Sweeps it, where what is asked for needs that; none when that was stopped.
    pub sweep: &'a dyn Fn() -> Option<Sweep>,
    /// Stops the work.
    pub cancel: &'a Cancel,
}

impl Asked<'_> {
    fn swept(&self) -> Result<Sweep, HandoverError> {
        (self.sweep)().ok_or(HandoverError::Stopped)
    }
}

/// Why nothing is handed over.
#[derive(Debug, thiserror::Error)]
pub enum HandoverError {
    /// What the drawing would show is not known, or cannot be asked.
    #[error(transparent)]
    Core(#[from] CoreError),
    /// The drive keeps no health page.
    #[error(transparent)]
    Health(#[from] NoHealth),
    /// The drawing cannot be set.
    #[error(transparent)]
    Font(#[from] FontError),
    /// It was stopped.
    #[error("stopped")]
    Stopped,
    /// The file cannot be written.
    #[error("cannot write {}", .path.display())]
    Write {
        /// Which.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
}

/// Writes the report of a drive, or one drawing of it, to `out`: as PDF where its name ends so, else as SVG. A report or drawing that was
/// made here is replaced, nothing else is.
///
/// # Errors
/// [`HandoverError`].
pub fn hand_over(asked: &Asked<'_>, out: &Path, which: Option<Which>) -> Result<(), HandoverError> {
    keel_core::whose::not_on_its_own_medium(asked.source.as_ref(), out)?;
    let as_pdf = out.extension().is_some_and(|end| end == "pdf");
    let sheets = match (as_pdf, which) {
        (true, None) => whole(asked)?,
        (_, which) => vec![single(asked, which.unwrap_or(Which::Keel))?],
    };
    let title = head(asked.source).title;
    let bytes = match sheets.as_slice() {
        [only] if !as_pdf => crate::svg(only).into_bytes(),
        sheets => crate::pdf(&title, sheets)?,
    };
    own::write(out, &bytes, Over::Ours(&is_report)).map_err(|source| HandoverError::Write { path: out.into(), source })
}

/// Writes the certificate of a wipe to `out`, as PDF.
///
/// # Errors
/// [`HandoverError`].
pub fn certify(source: &SharedSource, case: Option<&Case>, wiped: &Wiped, out: &Path) -> Result<(), HandoverError> {
    keel_core::whose::not_on_its_own_medium(source.as_ref(), out)?;
    let who = case.map(|case| match case.record.client.as_str() {
        "" => case.record.name.clone(),
        client => format!("{}, {client}", case.record.name),
    });
    let head = head(source);
    let sheets = crate::certificate(&head, &who.unwrap_or_default(), wiped)?;
    let bytes = crate::pdf(&head.title, &sheets)?;
    own::write(out, &bytes, Over::Ours(&is_report)).map_err(|source| HandoverError::Write { path: out.into(), source })
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

/// The edits that the evidence asks for.
fn staged(source: &SharedSource, swept: &Sweep) -> Vec<mend::Edit> {
    let layout = layout::settle(source, &swept.table, &swept.finds, &Choices::default());
    mend::stage(source, &swept.table, &swept.finds, &layout, &mend::Only::All.into()).edits
}

fn keel_of(source: &SharedSource, swept: &Sweep, edits: &[mend::Edit]) -> KeelDrawing {
    let table = &swept.table;
    let view: SharedSource = Arc::new(mend::overlay(source, edits));
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

fn single(asked: &Asked<'_>, which: Which) -> Result<Drawing, HandoverError> {
    let (source, head) = (asked.source, head(asked.source));
    Ok(match which {
        Which::Keel => {
            let swept = asked.swept()?;
            crate::keel(&head, &keel_of(source, &swept, &staged(source, &swept)))
        }
        Which::Reads => {
            let desk = Desk::new(asked.cancel.clone()).0;
            let survey = reads::known(source).unwrap_or_else(|| reads::survey(source, ReadsOptions::sampled(), &desk));
            crate::reads(&head, &survey)
        }
        Which::Health => crate::health(&head, &health::ask(source.as_ref())?)?,
        Which::Copy => {
            let map = copy_of(source, asked.case).ok_or(CoreError::Nothing("no copy of this drive is known"))?;
            crate::copy(&head, &map)
        }
        Which::Capacity => {
            let verdict = fathom::known(source).ok_or(CoreError::Nothing("its capacity was not measured: ykeel fathom"))?;
            crate::capacity(&head, &verdict)?
        }
    })
}

/// The map of the copy: of the one that the case names, or of the source where it is a copy itself.
fn copy_of(source: &SharedSource, case: Option<&Case>) -> Option<keel_source::CopyMap> {
    let named = case.and_then(|case| case.record.copy.as_deref()).and_then(copy::known);
    named.or_else(|| source.identity().path.as_deref().and_then(copy::known))
}

fn whole(asked: &Asked<'_>) -> Result<Vec<Drawing>, HandoverError> {
    let (source, swept) = (asked.source, &asked.swept()?);
    let ground = Ground::ask(source, asked.cancel, &mut |_| {});
    let ladder = ladder::examine_on(&ground, source, swept, asked.cancel);
    let edits = staged(source, swept);
    let view: SharedSource = Arc::new(mend::overlay(source, &edits));
    let planned = (!edits.is_empty()).then(|| ladder::examine_on(&ground, &view, swept, asked.cancel));
    let plan = Staging { edits: edits.len(), planned: planned.as_ref(), applied: false };
    let next = advice::next(source, &ground, &ladder, &swept.finds, Swept::Done, plan).says();
    // A survey that was asked for says more than the ladder's samples.
    let survey = reads::known(source).or(ground.survey);
    let journal = asked.case.map(|case| -> Result<_, CoreError> {
        let verified = case::verify(&case.folder, &case.record.journal)?;
        let says = match verified.problem {
            None => format!(
                "The journal is whole: {}, each with the hash of the one before.",
                counted(verified.lines, "line", "lines")
            ),
            Some(problem) => format!("The journal is not whole: {problem}."),
        };
        Ok((case::lines(&case.folder)?, says))
    });
    let (lines, says) = journal.transpose()?.unzip();
    let map = copy_of(source, asked.case);
    let report = Report {
        head: head(source),
        ladder: &ladder,
        next,
        keel: keel_of(source, swept, &edits),
        case: asked.case.map(|case| &case.record).zip(lines),
        journal_says: says,
        survey: survey.as_ref(),
        health: ground.health.as_ref(),
        capacity: ground.capacity.as_ref(),
        copy: map.as_ref(),
    };
    Ok(crate::report(&report)?)
}
