//! The board: a line for each drive, and the case of the selected one below.

use keel_core::ladder::{RungName, RungState};
use keel_core::yard::{Berth, Device, Sight};
use keel_source::{LinkRate, counted, printable, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::board::{self, Column, Line};
use super::intake;
use crate::app::App;
use crate::stage::{Drive, Weight};
use crate::theme::Theme;
use crate::widget::why::Why;
use crate::widget::{bar, columns, cut, first_shown, put};

/// Row of the first line: the heads of the columns stand above.
const TOP: u16 = 1;
/// The least height with the case below the board.
const LEAST_WITH_CASE: u16 = 34;
/// Columns of the nine marks.
const MARKS: u16 = 9;

/// The board, and the case below it where there is room.
fn split(area: Rect) -> (Rect, Option<Rect>) {
    if area.height < LEAST_WITH_CASE {
        return (area, None);
    }
    let below = Rect { y: area.bottom() - intake::ROWS, height: intake::ROWS, ..area };
    (Rect { height: area.height - intake::ROWS, ..area }, Some(below))
}

/// Where each column begins, and how wide it is.
struct Places {
    name: (u16, u16),
    size: (u16, u16),
    link: (u16, u16),
    client: Option<(u16, u16)>,
    marks: (u16, u16),
    lowest: Option<(u16, u16)>,
    next: (u16, u16),
}

impl Places {
    /// The places in `width` columns: names and what is next come first, the others have what is left.
    fn of(width: u16) -> Self {
        let fixed = 1 + 9 + 6 + MARKS + 2;
        let rest = width.saturating_sub(fixed);
        let name = (rest * 3 / 10).clamp(12, 30);
        let lowest = if rest >= 60 { (rest / 5).clamp(12, 24) } else { 0 };
        let client = if rest >= 110 { (rest / 5).clamp(14, 34) } else { 0 };
        let mut x = 1;
        let mut take = |wide: u16, gap: u16| {
            let place = (x, wide);
            x += wide + gap;
            place
        };
        let name = take(name, 2);
        let size = take(8, 1);
        let link = take(5, 1);
        let client = (client > 0).then(|| take(client, 2));
        let marks = take(MARKS, 2);
        let lowest = (lowest > 0).then(|| take(lowest, 2));
        let next = (x, width.saturating_sub(x));
        Self { name, size, link, client, marks, lowest, next }
    }

    fn of_column(&self, column: Column) -> Option<(u16, u16)> {
        match column {
            Column::Group => None,
            Column::Name => Some(self.name),
            Column::Size => Some(self.size),
            Column::Link => Some(self.link),
            Column::Client => self.client,
            Column::Rungs => Some(self.marks),
            Column::Next => Some(self.next),
        }
    }
}

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let theme = app.theme;
    let (area, case) = split(area);
    if let Some(below) = case.filter(|_| !app.berths.is_empty()) {
        intake::draw(app, below, buf);
    }
    let places = Places::of(area.width);
    draw_heads(app, &places, area, buf);
    let lines = board::lines(app);
    let (first, room) = shown(app, &lines, area);
    for (row, line) in lines.iter().enumerate().skip(first).take(room) {
        let y = TOP + u16::try_from(row - first).unwrap_or(0);
        match line {
            Line::Head(group, count) => put(buf, area, 1, y, &format!("{} {count}", group.word()), theme.strong()),
            Line::Drive(index) => {
                let Some(berth) = app.berths.get(*index) else { continue };
                draw_row(app, berth, &places, (area, y), buf);
                if *index == app.berth {
                    bar(buf, area, y, theme.selected());
                }
            }
        }
    }
    if lines.is_empty() {
        let (what, how) = if app.berths.is_empty() {
            ("No image or simulated drive lies in this folder.", "O opens any path; `ykeel demo` lays out a yard to try.")
        } else {
            ("No drive has all of these words.", "/ changes them.")
        };
        put(buf, area, 1, TOP, what, theme.text());
        put(buf, area, 1, TOP + 1, how, theme.dim());
    }
    why(app)
}

/// The first line shown and how many there is room for, so that the selected drive is among them.
fn shown(app: &App, lines: &[Line], area: Rect) -> (usize, usize) {
    let room = usize::from(area.height.saturating_sub(TOP));
    let selected = lines.iter().position(|line| *line == Line::Drive(app.berth)).unwrap_or(0);
    (first_shown(selected, lines.len(), room), room)
}

fn draw_heads(app: &App, places: &Places, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    if app.board.typing || !app.board.filter.text().is_empty() {
        let (before, behind) = app.board.filter.parts();
        let cursor = if app.board.typing { "▏" } else { "" };
        let count = board::order(app).len();
        let text = format!("with: {before}{cursor}{behind}   {count} of {}", app.berths.len());
        put(buf, area, 1, 0, &text, theme.strong());
        return;
    }
    for column in Column::ALL {
        let Some((x, width)) = places.of_column(column) else { continue };
        let sorted = app.board.sort == column;
        let sign = if app.board.reversed { "▴" } else { "▾" };
        let word = if sorted { format!("{}{sign}", column.word()) } else { column.word().to_string() };
        let style = if sorted { theme.strong() } else { theme.dim() };
        put(buf, area, x, 0, &cut(&word, usize::from(width)), style);
    }
    if let Some((x, width)) = places.lowest {
        put(buf, area, x, 0, &cut("lowest broken", usize::from(width)), theme.dim());
    }
}

fn draw_row(app: &App, berth: &Berth, places: &Places, (area, y): (Rect, u16), buf: &mut Buffer) {
    let theme = app.theme;
    let mut cell = |place: (u16, u16), text: &str, style: Style| {
        put(buf, area, place.0, y, &cut(text, usize::from(place.1)), style);
    };
    cell(places.name, &board::own_name(app, berth), theme.strong());
    if let Some(problem) = &berth.problem {
        let from = places.size.0;
        cell((from, area.width.saturating_sub(from)), &format!("does not open: {problem}"), theme.bad());
        return;
    }
    let size = format!("{:>8}", size_decimal(board::bytes(berth)));
    cell(places.size, &size, theme.text());
    cell(places.link, board::link(berth), theme.dim());
    if let Some(place) = places.client {
        cell(place, &board::told(berth), theme.dim());
    }
    let drive = app.drives().find(|drive| drive.is_at(&berth.path));
    let (next, style) = next_of(app, berth, drive);
    // What was seen is told with its age: the step has what is left of the column.
    let age = berth.sight.as_ref().filter(|_| drive.is_none() && is_of_sight(app, berth)).and_then(Sight::age);
    let age = age.map(|age| format!("  ({age})")).unwrap_or_default();
    let room = usize::from(places.next.1).saturating_sub(columns(&age));
    cell(places.next, &format!("{}{age}", cut(&next, room)), style);
    if let (Some(place), Some(lowest)) = (places.lowest, berth.sight.as_ref().and_then(|sight| sight.lowest.as_ref())) {
        cell(place, lowest, theme.bad());
    }
    match &berth.sight {
        None => cell(places.marks, "·········", theme.dim()),
        Some(sight) => {
            for (index, state) in sight.rungs.iter().enumerate() {
                let x = places.marks.0 + u16::try_from(index).unwrap_or(0);
                put(buf, area, x, y, &state.sign().to_string(), theme.rung(*state));
            }
        }
    }
}

/// True where the row tells what was seen of the drive, and not what is asked of it now.
fn is_of_sight(app: &App, berth: &Berth) -> bool {
    let asked = berth.interrupted.is_some() || berth.probe_interrupted.is_some() || app.round.has(&berth.path);
    !asked && berth.device.is_none()
}

/// What stands last on the row: what runs, what somebody is wanted for, or the next step with its age.
fn next_of(app: &App, berth: &Berth, drive: Option<&Drive>) -> (String, Style) {
    let theme = app.theme;
    let running = drive.map(Drive::running).unwrap_or_default();
    if let Some(notice) = drive.and_then(|drive| drive.notices.first()) {
        return (format!("! {}", notice.title(app)), theme.bad());
    }
    if let Some(first) = running.iter().find(|running| running.weight > Weight::Short) {
        return (format!("▶ {}", first.line().replace("  x stops", "")), theme.strong());
    }
    if berth.interrupted.is_some() {
        return ("! an apply was interrupted: open it".into(), theme.bad());
    }
    if berth.probe_interrupted.is_some() {
        return ("! a probe was interrupted: open it".into(), theme.bad());
    }
    if app.round.has(&berth.path) {
        let text = if running.is_empty() { "waits to be asked" } else { "▶ being asked" };
        return (text.into(), theme.dim());
    }
    if let Some(device) = &berth.device {
        return match device.kept_back() {
            Some(held) => (held, theme.dim()),
            None if !device.attachment.has_medium => ("no medium in it".into(), theme.doubt()),
            None => ("not opened: enter asks it".into(), theme.dim()),
        };
    }
    match (&berth.sight, drive) {
        (Some(sight), Some(_)) => (sight.next.clone(), theme.text()),
        (Some(sight), None) => (sight.next.clone(), theme.text()),
        (None, _) => ("not looked at: enter, or A for all".into(), theme.dim()),
    }
}

fn why(app: &App) -> Why {
    let theme = app.theme;
    let mut why = Why::default();
    let Some(berth) = app.berths.get(app.berth) else { return why };
    why.say(board::name(berth), theme.strong());
    if let Some(problem) = &berth.problem {
        why.say(problem.clone(), theme.bad());
    }
    why.gap();
    if let Some(symptom) = &berth.symptom {
        why.say("As told", theme.strong());
        why.say(symptom.clone(), theme.text());
        why.gap();
    }
    if let Some(sight) = &berth.sight {
        let age = sight.age().unwrap_or_default();
        why.say(format!("Seen {age}"), theme.strong());
        for (name, state) in RungName::ALL.into_iter().zip(&sight.rungs).filter(|(_, state)| **state > RungState::Untested) {
            why.say(format!("{} {} {}: {}", state.sign(), name.number(), name.word(), state.word()), theme.rung(*state));
        }
        if sight.rungs.iter().all(|state| *state <= RungState::Untested) {
            why.say("No rung is doubtful or broken.", theme.good());
        }
        why.say(
            format!("{}; {} % of the drive is explained", counted(sight.volumes, "volume", "volumes"), sight.percent),
            theme.dim(),
        );
        why.gap();
    }
    if let Some(twin) = berth.same_identifier.first() {
        let twin = printable(&twin.file_name().unwrap_or_default().to_string_lossy());
        why.say(format!("Has the disk identifier of {twin}: an operating system shows one of the two."), theme.doubt());
        why.gap();
    }
    why.say("Next", theme.strong());
    if let Some(check) = app.case.as_ref().and_then(keel_core::case::Case::next_check) {
        why.say(format!("· check: {} ({} min); B notes it", check.words, check.minutes), theme.accent());
    }
    if let Some(sight) = &berth.sight {
        why.say(format!("· {}", sight.next), theme.accent());
    }
    if berth.device.as_ref().is_some_and(|device| device.is_of_system) {
        why.say("· none: this system runs from it, and it is left alone", theme.text());
    } else {
        why.say("· enter opens the drive, read-only, and asks every rung of its ladder", theme.text());
    }
    why.say("· A asks all drives while you work on another", theme.text());
    why.gap();
    if let Some(device) = &berth.device {
        told_by_system(device, theme, &mut why);
    }
    if let Some(identity) = &berth.identity {
        why.say("What the drive says", theme.strong());
        let or_none = |text: &Option<String>| text.clone().unwrap_or_else(|| "not told".into());
        why.say(format!("model     {}", or_none(&identity.model)), theme.text());
        why.say(format!("serial    {}", or_none(&identity.serial)), theme.text());
        why.say(format!("firmware  {}", or_none(&identity.firmware)), theme.text());
        why.say(format!("bytes     {}", identity.bytes), theme.text());
        let (logical, physical) = (identity.logical_sector, identity.physical_sector);
        let count = identity.bytes / logical.bytes().max(1);
        why.say(format!("sectors   {count} of {}/{} B", logical.0, physical.0), theme.text());
        why.gap();
    }
    why.say(printable(&berth.path.display().to_string()), theme.dim());
    why
}

/// What the system says of a device of this machine.
fn told_by_system(device: &Device, theme: Theme, why: &mut Why) {
    let or_none = |text: &Option<String>| text.clone().unwrap_or_else(|| "not told".into());
    let attachment = &device.attachment;
    why.say("What the system says", theme.strong());
    why.say(format!("model     {}", or_none(&device.model)), theme.text());
    why.say(format!("serial    {}", or_none(&device.serial)), theme.text());
    why.say(format!("firmware  {}", or_none(&device.firmware)), theme.text());
    why.say(format!("sectors   {}/{} B", device.sectors.0, device.sectors.1), theme.text());
    why.say(attachment.words(), theme.text());
    if let Some(rate) = attachment.rate.filter(LinkRate::is_below) {
        let drive = rate.drive.map(|bits| format!("; the drive can do {}", LinkRate::words(bits))).unwrap_or_default();
        why.say(format!("the link is slower than it could be{drive}"), theme.doubt());
    }
    let settings = attachment.settings.words();
    if !settings.is_empty() {
        why.say(format!("the kernel: {settings}"), theme.dim());
    }
    if attachment.is_read_only {
        why.say("takes no writes", theme.doubt());
    }
    if let Some(held) = device.kept_back() {
        why.say(held, theme.doubt());
    }
    why.gap();
}

/// The drive at a place of the stage.
pub(super) fn row_at(app: &App, area: Rect, at: Position) -> Option<usize> {
    let (area, _) = split(area);
    let lines = board::lines(app);
    let (first, room) = shown(app, &lines, area);
    let row = usize::from(at.y.checked_sub(TOP)?);
    match lines.get(first + row).filter(|_| row < room)? {
        Line::Drive(index) => Some(*index),
        Line::Head(..) => None,
    }
}

/// The column whose head was clicked at.
pub(super) fn head_at(area: Rect, at: Position) -> Option<Column> {
    let places = Places::of(area.width);
    let under = |column: &Column| places.of_column(*column).is_some_and(|(x, width)| (x..x + width).contains(&at.x));
    Column::ALL.into_iter().find(under).filter(|_| at.y == 0)
}
