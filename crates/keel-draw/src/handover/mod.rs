//! What is handed over: the report of a drive, or one drawing, from what the core knows of it. Commands and screens write it alike.

mod facts;
mod figures;
mod letter;
mod proof;

use std::io;
use std::path::{Path, PathBuf};

use keel_core::case::{self, Case};
use keel_core::job::{Cancel, Desk};
use keel_core::reads::ReadsOptions;
use keel_core::sweep::Sweep;
use keel_core::wipe::Wiped;
use keel_core::{CoreError, fathom, health, reads};
use keel_source::own::{self, Over};
use keel_source::{NoHealth, SharedSource, size_decimal};

use self::facts::Facts;
use crate::document::{Document, Part, html, sheets};
use crate::phrases::Phrases;
use crate::report::{self, Lines};
use crate::{Drawing, FontError, Head};

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

/// Whom a report is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Audience {
    /// The client: one page in plain words, figures, a sample of the pictures, the drive before and after.
    Client,
    /// The bench: rungs, drawings, the end of the journal.
    #[default]
    Bench,
    /// A court: what the client gets, with the evidence of each rung, hashes, and the whole journal.
    Court,
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
    /// Whom it is for.
    pub audience: Audience,
    /// The words of what is told to clients and courts.
    pub phrases: &'a Phrases,
    /// Stops the work.
    pub cancel: &'a Cancel,
}

impl Asked<'_> {
    fn swept(&self) -> Result<Sweep, HandoverError> {
        (self.sweep)().ok_or(HandoverError::Stopped)
    }

    /// Whether it was not stopped: half of what is asked for would be told as if it were all.
    fn goes_on(&self) -> Result<(), HandoverError> {
        if self.cancel.is_cancelled() { Err(HandoverError::Stopped) } else { Ok(()) }
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

/// Writes the report of a drive to `out`: as PDF or HTML, by the ending of its name; or one drawing of it, as PDF or SVG. A report or
/// drawing that was made here is replaced, nothing else is.
///
/// # Errors
/// [`HandoverError`].
pub fn hand_over(asked: &Asked<'_>, out: &Path, which: Option<Which>) -> Result<(), HandoverError> {
    keel_core::whose::not_on_its_own_medium(asked.source.as_ref(), out)?;
    let ends = |with: &str| out.extension().is_some_and(|end| end == with);
    let head = head(asked.source);
    let bytes = match which {
        None if ends("pdf") || ends("html") => {
            let language = match asked.audience {
                Audience::Bench => Phrases::default().language().to_string(),
                Audience::Client | Audience::Court => asked.phrases.language().to_string(),
            };
            let document = Document { head: head.clone(), language, parts: whole(asked)? };
            if ends("pdf") { crate::pdf(&head.title, &sheets(&document)?)? } else { html(&document).into_bytes() }
        }
        which => {
            let drawing = single(asked, which.unwrap_or(Which::Keel))?;
            if ends("pdf") { crate::pdf(&head.title, &[drawing])? } else { crate::svg(&drawing).into_bytes() }
        }
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
    let begins: [&[u8]; 4] = [b"%PDF-", b"<svg", b"<?xml", b"<!DOCTYPE html>"];
    begins.iter().any(|begin| head.starts_with(begin)) && marked
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

fn single(asked: &Asked<'_>, which: Which) -> Result<Drawing, HandoverError> {
    let (source, head) = (asked.source, head(asked.source));
    Ok(match which {
        Which::Keel => {
            let swept = asked.swept()?;
            crate::keel(&head, &facts::keel_of(source, &swept, &facts::staged(source, &swept)), &Phrases::default())
        }
        Which::Reads => {
            let desk = Desk::new(asked.cancel.clone()).0;
            let survey = reads::known(source).unwrap_or_else(|| reads::survey(source, ReadsOptions::sampled(), &desk));
            crate::reads(&head, &survey)
        }
        Which::Health => crate::health(&head, &health::ask(source.as_ref())?)?,
        Which::Copy => {
            let map = facts::copy_of(asked).ok_or(CoreError::Nothing("no copy of this drive is known"))?;
            crate::copy(&head, &map)
        }
        Which::Capacity => {
            let verdict = fathom::known(source).ok_or(CoreError::Nothing("its capacity was not measured: ykeel fathom"))?;
            crate::capacity(&head, &verdict)?
        }
    })
}

/// The parts of a whole report, for whoever gets it.
fn whole(asked: &Asked<'_>) -> Result<Vec<Part>, HandoverError> {
    let facts = Facts::ask(asked)?;
    let report = facts.report();
    if asked.audience == Audience::Bench {
        let mut parts = report::rungs(&report, Lines::Last);
        parts.push(Part::Drawing(crate::keel(&facts.head, &report.keel, &Phrases::default())));
        parts.extend(report::drawings(&report)?);
        parts.extend(report::journal(&report, Lines::Last));
        return Ok(parts);
    }
    let account = facts.account()?;
    let mut parts = letter::letter(&facts, &account);
    parts.extend(figures::figures(&account, asked.phrases));
    parts.push(Part::Drawing(crate::keel(&facts.head, &facts.keel(&account), asked.phrases)));
    let mut evidence = Vec::new();
    if asked.audience == Audience::Court {
        evidence.extend(proof::proof(&facts, &account)?);
        evidence.extend(report::rungs(&report, Lines::All));
    }
    evidence.extend(report::drawings(&report)?);
    if asked.audience == Audience::Court {
        evidence.extend(report::journal(&report, Lines::All));
    }
    if !evidence.is_empty() && asked.phrases.language() != Phrases::default().language() {
        parts.push(Part::Sheet(asked.phrases.get("sheet_more").into()));
        parts.push(Part::Text(asked.phrases.get("evidence_language").into()));
    }
    parts.extend(evidence);
    Ok(parts)
}
