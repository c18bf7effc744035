//! `ykeel case`.

use std::path::Path;

use keel_core::CoreError;
use keel_core::case::{self, Case};
use keel_core::intake::{self, CHECKS, Check, KNOWN_ERRORS, Outcome, SYMPTOMS};
use keel_core::place::label_told;
use keel_core::yard;
use keel_source::{OpenOptions, counted, printable};
use serde::Serialize;

use super::shared::print_json;
use crate::cli::{CaseCommand, OutcomeArg};
use crate::exit::Ended;
use crate::out::say;

#[derive(Serialize)]
struct Shown<'a> {
    case: &'a case::CaseRecord,
    folder: &'a Path,
    done: Vec<String>,
    rungs: Vec<&'static str>,
    may_be_at_fault: Vec<&'static str>,
    next_check: Option<NextCheck>,
}

#[derive(Serialize)]
struct NextCheck {
    check: &'static str,
    words: &'static str,
    minutes: u32,
}

impl From<&Check> for NextCheck {
    fn from(check: &Check) -> Self {
        Self { check: check.id, words: check.words, minutes: check.minutes }
    }
}

pub(super) fn run(command: CaseCommand) -> anyhow::Result<()> {
    match command {
        CaseCommand::Open { source, client, symptoms, json } => {
            // A drive that does not answer has a case all the same.
            let identity = identity(&source)?;
            let mut case = Case::open(&source, identity.as_ref(), &client)?;
            for symptom in &symptoms {
                case.set_symptom(symptom, true)?;
            }
            if let Some(identity) = &identity {
                case.identify(identity)?;
            }
            show(&case, json)
        }
        CaseCommand::Tell { source, text, json } => {
            let mut case = of(&source)?;
            let known = case.tell(&text)?;
            if json {
                return print_json(&known);
            }
            match label_told(&text) {
                Some(told) => say!("kept; {told}"),
                None if known.is_empty() => say!("kept; no known error is in it"),
                None => {}
            }
            for error in known {
                let symptom = intake::symptom(error.symptom);
                let rungs: Vec<String> = symptom
                    .iter()
                    .flat_map(|symptom| symptom.rungs)
                    .map(|rung| format!("{} {}", rung.number(), rung.word()))
                    .collect();
                say!("{}: may come from {}", error.means, rungs.join(", "));
            }
            show_next(&case);
            Ok(())
        }
        CaseCommand::Check { source, check, outcome, note, json } => {
            let mut case = of(&source)?;
            let outcome = match outcome {
                OutcomeArg::Yes => Some(Outcome::Yes),
                OutcomeArg::No => Some(Outcome::No),
                OutcomeArg::Undo => None,
            };
            case.set_check(&check, outcome, &note)?;
            show(&case, json)
        }
        CaseCommand::Show { source, json } => show(&of(&source)?, json),
        CaseCommand::Close { source, again, json } => {
            let mut case = of(&source)?;
            if again { case.open_again() } else { yard::close(&mut case) }?;
            show(&case, json)
        }
        CaseCommand::Verify { source, json } => verify(&of(&source)?, json),
        CaseCommand::Words { json } => words(json),
    }
}

/// Who the drive at `path` is; none where it does not open.
fn identity(path: &Path) -> anyhow::Result<Option<keel_source::Identity>> {
    let Ok(source) = keel_source::open(path, OpenOptions::default()) else { return Ok(None) };
    crate::log::opened(source.as_ref())?;
    Ok(Some(source.identity().clone()))
}

/// The case of a drive, or in a folder.
pub(super) fn of(path: &Path) -> anyhow::Result<Case> {
    if path.join("case.toml").is_file() {
        return Ok(Case::load(path)?);
    }
    let identity = identity(path)?;
    let case = Case::of(path, identity.as_ref())?;
    Ok(case.ok_or_else(|| CoreError::Unknown { what: "case of", name: printable(&path.display().to_string()) })?)
}

fn show(case: &Case, json: bool) -> anyhow::Result<()> {
    let record = &case.record;
    let symptoms: Vec<_> = record.told.symptoms.iter().filter_map(|id| intake::symptom(id)).collect();
    let mut rungs: Vec<_> = symptoms.iter().flat_map(|symptom| symptom.rungs.iter().copied()).collect();
    rungs.sort_unstable();
    rungs.dedup();
    if json {
        return print_json(&Shown {
            case: record,
            folder: &case.folder,
            done: case::lines(&case.folder)?.iter().filter_map(case::deed).flatten().collect(),
            rungs: rungs.iter().map(|rung| rung.word()).collect(),
            may_be_at_fault: case.remaining().into_iter().map(intake::Cause::word).collect(),
            next_check: case.next_check().map(Into::into),
        });
    }
    say!("{}  {}  opened {}", record.name, record.client, record.opened);
    say!("  drive   {}", record.source.display());
    if let Some(copy) = &record.copy {
        say!("  copy    {}", copy.display());
    }
    for symptom in symptoms {
        say!("  sees    {}", symptom.words);
    }
    for text in &record.told.texts {
        say!("  told    {}", text.lines().collect::<Vec<_>>().join(" / "));
    }
    if let Some(closed) = &record.closed {
        say!("  closed  {closed}");
    }
    for deed in case::lines(&case.folder)?.iter().filter_map(case::deed).flatten() {
        say!("  done    {deed}");
    }
    for made in &record.checks {
        let Some(check) = intake::check(&made.check) else { continue };
        let result = if made.outcome == Outcome::Yes { check.results.0 } else { check.results.1 };
        say!("  check   {}: {result}  {}", check.words, made.note);
    }
    let numbered: Vec<String> = rungs.iter().map(|rung| format!("{} {}", rung.number(), rung.word())).collect();
    if !numbered.is_empty() {
        say!("  rungs   {}", numbered.join(", "));
    }
    show_next(case);
    say!("  folder  {}", case.folder.display());
    Ok(())
}

fn show_next(case: &Case) {
    let causes: Vec<&str> = case.remaining().into_iter().map(intake::Cause::word).collect();
    if !causes.is_empty() {
        say!("  may be at fault: {}", causes.join(", "));
    }
    if let Some(check) = case.next_check() {
        say!("  next check: {} ({} min): ykeel case check SOURCE {} yes|no", check.words, check.minutes, check.id);
    }
}

fn verify(case: &Case, json: bool) -> anyhow::Result<()> {
    let verified = case::verify(&case.folder, &case.record.journal)?;
    if json {
        print_json(&verified)?;
    } else {
        match &verified.problem {
            None => say!("whole: {}, each with the hash of the one before", counted(verified.lines, "line", "lines")),
            Some(problem) => say!("not whole: {problem}; {} of it can be trusted", counted(verified.lines, "line", "lines")),
        }
    }
    if verified.whole { Ok(()) } else { Err(Ended::Nothing.into()) }
}

#[derive(Serialize)]
struct Words {
    symptoms: &'static [intake::Symptom],
    checks: Vec<NextCheck>,
    errors: &'static [intake::KnownError],
}

fn words(json: bool) -> anyhow::Result<()> {
    if json {
        return print_json(&Words { symptoms: SYMPTOMS, checks: CHECKS.iter().map(Into::into).collect(), errors: KNOWN_ERRORS });
    }
    say!("symptoms");
    SYMPTOMS.iter().for_each(|symptom| say!("  {:<16} {}", symptom.id, symptom.words));
    say!("checks");
    CHECKS.iter().for_each(|check| say!("  {:<16} {} ({} min)", check.id, check.words, check.minutes));
    say!("errors");
    for error in KNOWN_ERRORS {
        let code = error.code.map_or_else(String::new, |code| format!("{code}, 0x8007{code:04X}: "));
        say!("  {:<20} {}", error.phrases.first().unwrap_or(&""), format_args!("{code}{}", error.means));
    }
    Ok(())
}
