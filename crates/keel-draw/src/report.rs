//! The report that is handed over: what was found, what was done, on sheets that can be printed.

use keel_core::case::{self, CaseRecord, JournalLine};
use keel_core::fathom::Fathomed;
use keel_core::health::HealthVerdict;
use keel_core::intake;
use keel_core::ladder::{Ladder, Rung};
use keel_core::reads::Survey;
use keel_source::{CopyMap, counted, size_decimal};

use crate::canvas::Drawing;
use crate::document::{Document, Part, sheets};
use crate::font::FontError;
use crate::phrases::Phrases;
use crate::{Head, KeelDrawing, capacity, copy, health, keel, reads};

/// The most lines of the journal that are set, the last ones.
const MOST_LINES: usize = 400;
/// The most signs of one of them, where the journal is shortened.
const MOST_SIGNS: usize = 320;
/// The most lines of what was done, the last ones.
const MOST_DEEDS: usize = 60;

/// Everything that goes into a report; what was not measured is left out.
pub struct Report<'a> {
    /// What stands at the top of each sheet.
    pub head: Head,
    /// Rungs, with findings.
    pub ladder: &'a Ladder,
    /// The next step, as half a sentence.
    pub next: String,
    /// The keel.
    pub keel: KeelDrawing,
    /// The case, with its journal.
    pub case: Option<(&'a CaseRecord, Vec<JournalLine>)>,
    /// Whether the journal is whole, in words.
    pub journal_says: Option<String>,
    /// How the drive delivers.
    pub survey: Option<&'a Survey>,
    /// What it says of itself.
    pub health: Option<&'a HealthVerdict>,
    /// What it stores.
    pub capacity: Option<&'a Fathomed>,
    /// What is in its copy.
    pub copy: Option<&'a CopyMap>,
}

/// How much of a journal is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Lines {
    /// The last lines, each shortened.
    Last,
    /// Every line, whole.
    All,
}

/// The sheets of the report.
///
/// # Errors
/// [`FontError`] when the carried font does not read.
pub fn report(report: &Report<'_>) -> Result<Vec<Drawing>, FontError> {
    let phrases = Phrases::default();
    let mut parts = rungs(report, Lines::Last);
    parts.push(Part::Drawing(keel(&report.head, &report.keel, &phrases)));
    parts.extend(drawings(report)?);
    parts.extend(journal(report, Lines::Last));
    sheets(&Document { head: report.head.clone(), language: phrases.language().into(), parts })
}

/// What was found, rung by rung, with what was told and done.
pub(crate) fn rungs(report: &Report<'_>, which: Lines) -> Vec<Part> {
    let mut text = Words(vec![Part::Sheet("What was found, rung by rung".into())]);
    first_sheet(report, which, &mut text);
    text.0
}

/// What was measured of the drive, one drawing each.
pub(crate) fn drawings(report: &Report<'_>) -> Result<Vec<Part>, FontError> {
    let mut drawings = Vec::new();
    if let Some(verdict) = report.health {
        drawings.push(health(&report.head, verdict)?);
    }
    drawings.extend(report.survey.filter(|survey| survey.asked > 0).map(|survey| reads(&report.head, survey)));
    if let Some(verdict) = report.capacity {
        drawings.push(capacity(&report.head, verdict)?);
    }
    drawings.extend(report.copy.map(|map| copy(&report.head, map)));
    Ok(drawings.into_iter().map(Part::Drawing).collect())
}

/// The lines of the journal, as they stand.
pub(crate) fn journal(report: &Report<'_>, which: Lines) -> Vec<Part> {
    let Some((_, lines)) = &report.case else { return Vec::new() };
    let mut text = Words(vec![Part::Sheet("The journal of the case, line by line".into())]);
    if let Some(says) = &report.journal_says {
        text.say(says.clone());
        text.0.push(Part::Gap);
    }
    let skipped = if which == Lines::All { 0 } else { lines.len().saturating_sub(MOST_LINES) };
    for line in lines.iter().skip(skipped) {
        text.fine(0, format!("{}  {}", line.at, line.event));
        let detail = line.detail.to_string();
        let shown = if which == Lines::All { detail } else { detail.chars().take(MOST_SIGNS).collect() };
        text.fine(1, shown);
    }
    text.0
}

/// Parts of text.
struct Words(Vec<Part>);

impl Words {
    fn say(&mut self, text: String) {
        self.0.push(Part::Text(text));
    }

    fn fine(&mut self, depth: usize, text: String) {
        self.0.push(Part::Fine(depth, text));
    }
}

/// A clause as a sentence.
fn sentence(clause: &str) -> String {
    let mut signs = clause.chars();
    signs.next().map_or_else(String::new, |first| format!("{}{}.", first.to_uppercase(), signs.as_str()))
}

fn first_sheet(report: &Report<'_>, which: Lines, text: &mut Words) {
    let ladder = report.ladder;
    text.0.push(Part::Title(sentence(&ladder.verdict())));
    text.say(sentence(&ladder.coverage.sentence()));
    text.say(format!("Next: {}.", report.next));
    text.0.push(Part::Gap);
    if let Some((case, _)) = &report.case {
        if !case.client.is_empty() {
            text.say(format!("Client: {}", case.client));
        }
        for id in &case.told.symptoms {
            if let Some(symptom) = intake::symptom(id) {
                text.say(format!("As told: {}", symptom.words));
            }
        }
        for made in &case.checks {
            if let Some(check) = intake::check(&made.check) {
                let result = if made.outcome == intake::Outcome::Yes { check.results.0 } else { check.results.1 };
                text.say(format!("Checked: {}: {result} {}", check.words, made.note));
            }
        }
        text.0.push(Part::Gap);
    }
    if let Some((_, lines)) = &report.case {
        deeds(lines, which, text);
    }
    text.0.push(Part::Heading("The drive".into()));
    ladder.rungs.iter().for_each(|rung| rung_lines(rung, text));
    for volume in &ladder.volumes {
        text.0.push(Part::Gap);
        let kind = volume.kind.map_or("unknown", |kind| kind.word());
        let place = format!("{}: {kind}, {}, from byte {}", volume.name(), size_decimal(volume.bytes), volume.start_byte.0);
        text.0.push(Part::Heading(place));
        volume.rungs.iter().for_each(|rung| rung_lines(rung, text));
    }
}

/// What was done, in sentences.
fn deeds(lines: &[JournalLine], which: Lines, text: &mut Words) {
    let done: Vec<_> = lines.iter().filter_map(|line| Some((line, case::deed(line)?))).collect();
    if done.is_empty() {
        return;
    }
    text.0.push(Part::Heading("What was done".into()));
    let skipped = if which == Lines::All { 0 } else { done.len().saturating_sub(MOST_DEEDS) };
    for (line, deed) in done.iter().skip(skipped) {
        let at = line.at.replace('T', " ").replace('Z', " UTC");
        for (index, sentence) in deed.iter().enumerate() {
            match index {
                0 => text.say(format!("{at}  {sentence}.")),
                _ => text.fine(1, sentence.clone()),
            }
        }
    }
    text.0.push(Part::Gap);
}

fn rung_lines(rung: &Rung, text: &mut Words) {
    text.say(format!("{} {}: {}. {}", rung.rung.number(), rung.rung.word(), rung.state.word(), rung.note));
    for finding in rung.findings.iter().take(12) {
        let at = finding.at_byte.map(|at| format!(" ({at})")).unwrap_or_default();
        text.fine(1, format!("{}{at}: {}", finding.what, finding.how));
    }
    if rung.findings.len() > 12 {
        text.fine(1, format!("and {} more", counted(rung.findings.len() - 12, "finding", "findings")));
    }
}
