//! The report that is handed over: what was found, what was done, on sheets that can be printed.

use keel_core::case::{self, CaseRecord, JournalLine};
use keel_core::fathom::Fathomed;
use keel_core::health::HealthVerdict;
use keel_core::intake;
use keel_core::ladder::{Ladder, Rung};
use keel_core::reads::Survey;
use keel_source::{CopyMap, counted, printable, size_decimal};

use crate::canvas::{BELOW_HEAD, Drawing, MARGIN, SHEET_HEIGHT, SHEET_WIDTH, Tone};
use crate::font::{Font, FontError};
use crate::{Head, KeelDrawing, capacity, copy, health, keel, reads};

/// The most lines of the journal that are set, the last ones.
const MOST_LINES: usize = 400;
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

/// The sheets of the report.
///
/// # Errors
/// [`FontError`] when the carried font does not read.
pub fn report(report: &Report<'_>) -> Result<Vec<Drawing>, FontError> {
    let font = Font::load()?;
    let mut text = Flow::new(&report.head, &font, "What was found, rung by rung");
    first_sheet(report, &mut text);
    let mut sheets = text.sheets;
    sheets.push(keel(&report.head, &report.keel));
    if let Some(verdict) = report.health {
        sheets.push(health(&report.head, verdict)?);
    }
    sheets.extend(report.survey.filter(|survey| survey.asked > 0).map(|survey| reads(&report.head, survey)));
    if let Some(verdict) = report.capacity {
        sheets.push(capacity(&report.head, verdict)?);
    }
    sheets.extend(report.copy.map(|map| copy(&report.head, map)));
    if let Some((_, lines)) = &report.case {
        let mut text = Flow::new(&report.head, &font, "The journal of the case");
        if let Some(says) = &report.journal_says {
            text.say(9.5, Tone::BLACK, says);
            text.gap();
        }
        for line in lines.iter().skip(lines.len().saturating_sub(MOST_LINES)) {
            text.say(8.5, Tone::BLACK, &format!("{}  {}", line.at, line.event));
            let detail = line.detail.to_string();
            let short: String = detail.chars().take(320).collect();
            text.say(7.5, Tone::DIM, &short);
        }
        sheets.extend(text.sheets);
    }
    number(&mut sheets);
    Ok(sheets)
}

fn number(sheets: &mut [Drawing]) {
    let count = sheets.len();
    for (index, sheet) in sheets.iter_mut().enumerate() {
        sheet.dim([SHEET_WIDTH - MARGIN - 30.0, SHEET_HEIGHT - 20.0], 8.0, &format!("{} of {count}", index + 1));
    }
}

/// Text that flows over as many sheets as it takes.
struct Flow<'a> {
    head: &'a Head,
    font: &'a Font,
    what: &'a str,
    sheets: Vec<Drawing>,
    y: f64,
}

impl<'a> Flow<'a> {
    fn new(head: &'a Head, font: &'a Font, what: &'a str) -> Self {
        Self { head, font, what, sheets: vec![Drawing::sheet(head, what)], y: BELOW_HEAD + 6.0 }
    }

    fn say(&mut self, size: f64, tone: Tone, text: &str) {
        self.say_in(MARGIN, size, tone, text);
    }

    fn say_in(&mut self, left: f64, size: f64, tone: Tone, text: &str) {
        for line in self.font.wrap(&printable(text), size, SHEET_WIDTH - MARGIN - left) {
            if self.y > SHEET_HEIGHT - MARGIN {
                self.sheets.push(Drawing::sheet(self.head, self.what));
                self.y = BELOW_HEAD + 6.0;
            }
            if let Some(sheet) = self.sheets.last_mut() {
                sheet.put_text([left, self.y], size, tone, crate::Anchor::Start, &line);
            }
            self.y += size * 1.42;
        }
    }

    fn gap(&mut self) {
        self.y += 8.0;
    }
}

/// A clause as a sentence.
fn sentence(clause: &str) -> String {
    let mut signs = clause.chars();
    signs.next().map_or_else(String::new, |first| format!("{}{}.", first.to_uppercase(), signs.as_str()))
}

fn first_sheet(report: &Report<'_>, text: &mut Flow<'_>) {
    let ladder = report.ladder;
    text.say(13.0, Tone::BLACK, &sentence(&ladder.verdict()));
    text.say(9.5, Tone::BLACK, &sentence(&ladder.coverage.sentence()));
    text.say(9.5, Tone::BLACK, &format!("Next: {}.", report.next));
    text.gap();
    if let Some((case, _)) = &report.case {
        if !case.client.is_empty() {
            text.say(9.5, Tone::BLACK, &format!("Client: {}", case.client));
        }
        for id in &case.told.symptoms {
            if let Some(symptom) = intake::symptom(id) {
                text.say(9.5, Tone::BLACK, &format!("As told: {}", symptom.words));
            }
        }
        for made in &case.checks {
            if let Some(check) = intake::check(&made.check) {
                let result = if made.outcome == intake::Outcome::Yes { check.results.0 } else { check.results.1 };
                text.say(9.5, Tone::BLACK, &format!("Checked: {}: {result} {}", check.words, made.note));
            }
        }
        text.gap();
    }
    if let Some((_, lines)) = &report.case {
        deeds(lines, text);
    }
    text.say(11.0, Tone::BLACK, "The drive");
    ladder.rungs.iter().for_each(|rung| rung_lines(rung, text));
    for volume in &ladder.volumes {
        text.gap();
        let kind = volume.kind.map_or("unknown", |kind| kind.word());
        text.say(
            11.0,
            Tone::BLACK,
            &format!("{}: {kind}, {}, from byte {}", volume.name(), size_decimal(volume.bytes), volume.start_byte.0),
        );
        volume.rungs.iter().for_each(|rung| rung_lines(rung, text));
    }
}

/// What was done, line by line.
fn deeds(lines: &[JournalLine], text: &mut Flow<'_>) {
    let done: Vec<_> = lines.iter().filter_map(|line| Some((line, case::deed(line)?))).collect();
    if done.is_empty() {
        return;
    }
    text.say(11.0, Tone::BLACK, "What was done");
    for (line, deed) in done.iter().skip(done.len().saturating_sub(MOST_DEEDS)) {
        let at = line.at.replace('T', " ").replace('Z', " UTC");
        for (index, sentence) in deed.iter().enumerate() {
            match index {
                0 => text.say(9.5, Tone::BLACK, &format!("{at}  {sentence}.")),
                _ => text.say_in(MARGIN + 16.0, 8.5, Tone::DIM, sentence),
            }
        }
    }
    text.gap();
}

fn rung_lines(rung: &Rung, text: &mut Flow<'_>) {
    text.say(9.5, Tone::BLACK, &format!("{} {}: {}. {}", rung.rung.number(), rung.rung.word(), rung.state.word(), rung.note));
    for finding in rung.findings.iter().take(12) {
        let at = finding.at_byte.map(|at| format!(" ({at})")).unwrap_or_default();
        text.say_in(MARGIN + 16.0, 8.5, Tone::DIM, &format!("{}{at}: {}", finding.what, finding.how));
    }
    if rung.findings.len() > 12 {
        text.say_in(
            MARGIN + 16.0,
            8.5,
            Tone::DIM,
            &format!("and {} more", counted(rung.findings.len() - 12, "finding", "findings")),
        );
    }
}
