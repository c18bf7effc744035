//! Ladder: the drive as the base, each volume standing on it.

use keel_core::coverage::Coverage;
use keel_core::ladder::{Ladder, Rung, RungName, RungState, VolumeLadder};
use keel_core::reads::Survey;
use keel_source::size_decimal;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

use crate::app::App;
use crate::stage::Drive;
use crate::theme::Theme;
use crate::widget::why::Why;
use crate::widget::{capital, columns, cut, put};

/// Columns of the rungs' names at the left.
const NAMES: u16 = 16;
/// Columns of one volume, with the gap to the next.
const VOLUME: u16 = 24;
/// Columns between a volume's rails.
const INNER: u16 = 18;

/// Rows between rungs, and where the parts stand, for an area of this height.
#[derive(Clone, Copy)]
pub(crate) struct Rows {
    gap: u16,
    top: u16,
}

impl Rows {
    pub(crate) fn new(area: Rect) -> Self {
        // Header of two rows, nine rungs, three rows where the volumes join the drive.
        let gap = (area.height.saturating_sub(8) / 9).clamp(1, 3);
        Self { gap, top: 3 }
    }

    /// The row of a rung, 1 to 9.
    pub(crate) fn of(self, number: u32) -> u16 {
        let from_top = u16::try_from(9u32.saturating_sub(number)).unwrap_or(0);
        let join = if number <= 5 { 2 } else { 0 };
        self.top + from_top * self.gap + join
    }

    fn at(self, y: u16) -> Option<u32> {
        (1..=9).find(|number| self.of(*number) == y)
    }
}

/// First volume shown, so that the selected one is.
fn first_volume(drive: &Drive, area: Rect) -> usize {
    let room = usize::from((area.width.saturating_sub(NAMES)) / VOLUME).max(1);
    let count = drive.ladder.now.as_ref().map_or(0, |ladder| ladder.volumes.len());
    drive.ladder.volume.saturating_sub(room - 1).min(count.saturating_sub(room))
}

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let partial = Ladder {
        drive: drive.source.identity().clone(),
        rungs: drive.ladder.live.clone(),
        volumes: Vec::new(),
        lowest_broken: None,
        coverage: Coverage::default(),
    };
    // The drive's own rungs are shown as they come.
    let ladder = drive.ladder.now.as_ref().filter(|_| drive.ladder.ground_job.is_none()).unwrap_or(&partial);
    let rows = Rows::new(area);
    let room = usize::from((area.width.saturating_sub(NAMES)) / VOLUME).max(1);
    let first = first_volume(drive, area);
    let shown: Vec<(usize, &VolumeLadder)> = ladder.volumes.iter().enumerate().skip(first).take(room).collect();
    let count = u16::try_from(shown.len().max(2)).unwrap_or(2);
    let width = (count * VOLUME).min(area.width.saturating_sub(NAMES)).saturating_sub(4);
    draw_names(app, drive, ladder, rows, area, buf);
    for (column, (index, volume)) in shown.iter().enumerate() {
        let x = NAMES + u16::try_from(column).unwrap_or(0) * VOLUME;
        draw_volume(app, drive, rows, area, x, *index, volume, buf);
    }
    let hidden = ladder.volumes.len() - shown.len();
    if hidden > 0 {
        put(
            buf,
            area,
            NAMES,
            0,
            &format!("{} of {} volumes; ←→ shows the others", shown.len(), ladder.volumes.len()),
            app.theme.dim(),
        );
    }
    if ladder.volumes.is_empty() {
        let text = if drive.ladder.now.is_some() {
            "no volume was found at the landmarks"
        } else if drive.is_busy() {
            "the drive is being asked, rung by rung"
        } else {
            "the asking was stopped: s asks again and sweeps"
        };
        put(buf, area, NAMES, rows.of(8), text, app.theme.dim());
    }
    draw_base(app, drive, ladder, rows, area, width, shown.len(), buf);
    why(app, drive, ladder)
}

/// Names of the rungs, the lowest broken one marked.
fn draw_names(app: &App, drive: &Drive, ladder: &Ladder, rows: Rows, area: Rect, buf: &mut Buffer) {
    let names = [
        RungName::Link,
        RungName::Health,
        RungName::Reads,
        RungName::Capacity,
        RungName::Table,
        RungName::Entry,
        RungName::BootSector,
        RungName::FileSystem,
        RungName::Files,
    ];
    for name in names {
        let lowest = ladder.lowest_broken.as_ref().is_some_and(|lowest| lowest.rung == name);
        let selected = drive.ladder.rung == name.number();
        let style = match (selected, lowest) {
            (true, _) => app.theme.selected(),
            (false, true) => app.theme.bad(),
            (false, false) => app.theme.text(),
        };
        let mark = if lowest { "▲" } else { " " };
        put(buf, area, 0, rows.of(name.number()), &format!("{mark}{} {:<12}", name.number(), name.word()), style);
    }
}

/// One rung between two rails: whole, thinned, broken in the middle, dotted. The note stands in it.
#[expect(clippy::too_many_arguments, reason = "one rung of a drawing: where, what, and how")]
fn draw_rung(buf: &mut Buffer, area: Rect, x: u16, y: u16, inner: u16, rung: &Rung, note: &str, theme: Theme) {
    let inner = usize::from(inner);
    let note = cut(note, inner.saturating_sub(4));
    let words = if note.is_empty() { String::new() } else { format!(" {note} ") };
    let rest = inner.saturating_sub(columns(&words));
    let (left, right) = (rest / 2, rest - rest / 2);
    let body = match rung.state {
        RungState::Sound => format!("{}{words}{}", "━".repeat(left), "━".repeat(right)),
        RungState::Doubtful => format!("{}{words}{}", "╍".repeat(left), "╍".repeat(right)),
        RungState::Untested => format!("{}{words}{}", "┄".repeat(left), "┄".repeat(right)),
        RungState::Broken => {
            let end = left.clamp(1, 2);
            format!(
                "{}╴{}{words}{}╶{}",
                "━".repeat(end - 1),
                " ".repeat(left.saturating_sub(end)),
                " ".repeat(right.saturating_sub(end)),
                "━".repeat(end - 1)
            )
        }
    };
    put(buf, area, x, y, "╟", theme.text());
    put(buf, area, x + 1, y, &body, theme.rung(rung.state));
    put(buf, area, x + 1 + u16::try_from(inner).unwrap_or(0), y, "╢", theme.text());
}

#[expect(clippy::too_many_arguments, reason = "one column of a drawing: where, what, and how")]
fn draw_volume(app: &App, drive: &Drive, rows: Rows, area: Rect, x: u16, index: usize, volume: &VolumeLadder, buf: &mut Buffer) {
    let theme = app.theme;
    let selected = index == drive.ladder.volume && drive.ladder.rung > 5;
    let kind = volume.kind.map_or("?", |kind| kind.word());
    let style = if selected { theme.selected() } else { theme.strong() };
    put(buf, area, x + 1, 1, &cut(volume.name(), usize::from(INNER)), style);
    put(buf, area, x + 1, 2, &format!("{kind} {}", size_decimal(volume.bytes)), theme.dim());
    let foot = rows.of(5) - 2;
    for y in rows.of(9)..foot {
        put(buf, area, x, y, "║", theme.text());
        put(buf, area, x + INNER + 1, y, "║", theme.text());
    }
    for rung in &volume.rungs {
        draw_rung(buf, area, x, rows.of(rung.rung.number()), INNER, rung, &rung.note, theme);
    }
    let half = usize::from(INNER) / 2;
    put(buf, area, x, foot, &format!("╚{}╤{}╝", "═".repeat(half - 1), "═".repeat(usize::from(INNER) - half)), theme.text());
    put(buf, area, x + u16::try_from(half).unwrap_or(0), foot + 1, "│", theme.text());
}

#[expect(clippy::too_many_arguments, reason = "the base of a drawing: where, what, and how")]
fn draw_base(app: &App, drive: &Drive, ladder: &Ladder, rows: Rows, area: Rect, width: u16, volumes: usize, buf: &mut Buffer) {
    let theme = app.theme;
    let top = rows.of(5) - 1;
    for y in top..=rows.of(1) {
        put(buf, area, NAMES, y, "║", theme.text());
        put(buf, area, NAMES + width + 1, y, "║", theme.text());
    }
    let mut lid: Vec<char> = format!("╔{}╗", "═".repeat(usize::from(width))).chars().collect();
    for column in 0..volumes {
        if let Some(sign) = lid.get_mut(column * usize::from(VOLUME) + usize::from(INNER) / 2) {
            *sign = '╧';
        }
    }
    put(buf, area, NAMES, top, &lid.iter().collect::<String>(), theme.text());
    for rung in &ladder.rungs {
        draw_rung(
            buf,
            area,
            NAMES,
            rows.of(rung.rung.number()),
            width,
            rung,
            &format!("{}: {}", rung.state.word(), rung.note),
            theme,
        );
    }
    put(buf, area, NAMES, rows.of(1) + 1, &format!("╚{}╝", "═".repeat(usize::from(width))), theme.text());
    put(buf, area, NAMES, rows.of(1) + 2, &drive.source.identity().name, theme.dim());
}

fn selected_rung<'a>(drive: &Drive, ladder: &'a Ladder) -> Option<(&'a Rung, Option<&'a VolumeLadder>)> {
    if drive.ladder.rung <= 5 {
        return ladder.rungs.iter().find(|rung| rung.rung.number() == drive.ladder.rung).map(|rung| (rung, None));
    }
    let volume = ladder.volumes.get(drive.ladder.volume)?;
    volume.rungs.iter().find(|rung| rung.rung.number() == drive.ladder.rung).map(|rung| (rung, Some(volume)))
}

/// The picture of the reads: a sign for each cell, from the first sector to the last.
fn picture(survey: &Survey, why: &mut Why, app: &App) {
    why.say(
        if survey.full { "the whole surface, first sector at the top" } else { "samples, first sector at the top" },
        app.theme.dim(),
    );
    for row in survey.picture.chunks(32) {
        why.say(row.iter().map(|cell| cell.worst.sign()).collect::<String>(), app.theme.text());
    }
    why.say("▁ as usual ▃ late ▅ slow ▇ stuck ◦ came later × never", app.theme.dim());
    why.gap();
}

fn why(app: &App, drive: &Drive, ladder: &Ladder) -> Why {
    let theme = app.theme;
    let mut why = Why::default();
    why.say("Why", theme.strong());
    let Some((rung, volume)) = selected_rung(drive, ladder) else { return why };
    let of = volume.map(|volume| format!("{}, ", volume.name())).unwrap_or_default();
    why.say(format!("{of}{} {}: {}", rung.rung.number(), rung.rung.word(), rung.state.word()), theme.rung(rung.state));
    why.gap();
    let survey = drive.ladder.survey.as_ref().or(drive.ladder.ground.as_ref().and_then(|ground| ground.survey.as_ref()));
    if let Some(survey) = survey.filter(|survey| rung.rung == RungName::Reads && survey.asked > 0) {
        picture(survey, &mut why, app);
    }
    if rung.findings.is_empty() {
        why.say(empty_words(rung), theme.text());
        why.gap();
    }
    for finding in &rung.findings {
        why.say(format!("{}.", capital(&finding.what)), theme.text());
        let at = finding.at_byte.map(|at| format!("{at}: ")).unwrap_or_default();
        why.say(format!("{at}{}", finding.how), theme.dim());
        why.gap();
    }
    why.say("Next", theme.strong());
    rung.next.iter().for_each(|next| why.say(format!("· {next}"), theme.text()));
    match rung.rung {
        RungName::Reads => why.say("· R reads the whole surface, 3 copies the drive", theme.text()),
        RungName::Capacity => why.say("· 4 measures it", theme.text()),
        RungName::Link => why.say("· 1, then B: checks outside the computer", theme.text()),
        _ => {}
    }
    if let Some(volume) = volume.filter(|volume| volume.kind.is_some()) {
        why.say(format!("· enter looks into {}", volume.name()), theme.text());
    }
    if let Some(lowest) = ladder.lowest_broken.as_ref().filter(|lowest| lowest.rung != rung.rung) {
        let of = lowest.volume.as_ref().map(|id| format!(" of {id}")).unwrap_or_default();
        why.say(format!("· the lowest broken rung is {} {}{of}", lowest.rung.number(), lowest.rung.word()), theme.accent());
    }
    why.say_coverage(&ladder.coverage, theme);
    why
}

fn empty_words(rung: &Rung) -> String {
    match rung.state {
        RungState::Sound => format!("Everything asked here holds: {}.", rung.note),
        RungState::Untested => format!("Not tested: {}.", rung.note),
        RungState::Doubtful | RungState::Broken => format!("{}.", capital(&rung.note)),
    }
}

/// Selects the rung and the volume that were clicked at.
pub(super) fn click(drive: &mut Drive, area: Rect, at: Position) {
    let rows = Rows::new(area);
    if let Some(number) = rows.at(at.y) {
        drive.ladder.rung = number;
    }
    let count = drive.ladder.now.as_ref().map_or(0, |ladder| ladder.volumes.len());
    let index = first_volume(drive, area) + usize::from(at.x.saturating_sub(NAMES) / VOLUME);
    if at.y < rows.of(5).saturating_sub(1) && at.x >= NAMES && index < count {
        drive.ladder.volume = index;
        drive.ladder.rung = drive.ladder.rung.max(6);
    }
}
