//! Mend: the structures of a volume in three columns, main, copy and computed, and what a check of it found.

use keel_core::mend::Subject;
use keel_format::{Checked, Row, Severity, Structure, Take, Version};
use keel_source::{ByteOffset, counted, printable};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::state::{Item, State};
use crate::app::App;
use crate::stage::Drive;
use crate::widget::why::Why;
use crate::widget::{bar, cut, first_shown, hex, put, wrap};

/// Row of the first item.
pub(super) const TOP: u16 = 2;
/// Columns of a version at most.
const VERSION: u16 = 15;
/// Columns of a field's name: most of them in two fifths of the width.
fn name_columns(area: Rect) -> u16 {
    (area.width * 2 / 5).clamp(18, 32)
}
/// Rows of the bytes under the fields, where `below` rows are left for both: the fields come first.
fn byte_rows(below: u16) -> u16 {
    match below {
        22.. => 8,
        12.. => 4,
        _ => 0,
    }
}

/// Rows of the list.
fn list_rows(area: Rect, items: usize) -> u16 {
    u16::try_from(items).unwrap_or(u16::MAX).clamp(3, area.height * 2 / 5)
}

/// What is looked at: a volume, or the table.
struct Shown {
    id: String,
    heading: String,
    start: ByteOffset,
}

impl Shown {
    fn of(drive: &Drive) -> Option<Self> {
        if drive.mend.is_table() {
            let scheme = drive.plan.layout.as_ref().map_or("none", |layout| layout.scheme.word());
            let heading = format!("the table, {scheme} as the layout asks");
            return Some(Self { id: Subject::Table.to_string(), heading, start: ByteOffset(0) });
        }
        let find = drive.sweep.finds.iter().find(|find| drive.mend.is_of(&find.id))?;
        let heading = format!("{} {} {}", find.id, find.kind.word(), printable(find.name()));
        Some(Self { id: find.id.clone(), heading, start: find.start_byte })
    }
}

/// The item at row `y` of the stage.
pub(super) fn item_at(drive: &Drive, area: Rect, y: u16) -> Option<usize> {
    let count = drive.mend.items().len();
    let rows = list_rows(area, count);
    let inside = y.checked_sub(TOP).filter(|row| *row < rows)?;
    Some(first_shown(drive.mend.row, count, usize::from(rows)) + usize::from(inside)).filter(|item| *item < count)
}

/// The field at a place of the stage, and the version whose column that is in.
pub(super) fn field_at(drive: &Drive, area: Rect, at: Position) -> Option<(usize, Option<Take>)> {
    let structure = drive.mend.structure()?;
    let rows = list_rows(area, drive.mend.items().len());
    let below = Rect { y: area.y + rows + TOP + 1, height: area.height.saturating_sub(rows + TOP + 1), ..area };
    let height = usize::from(below.height.saturating_sub(byte_rows(below.height) + 2));
    let inside = usize::from(at.y.checked_sub(below.y - area.y + 1)?);
    let field = first_shown(drive.mend.field.unwrap_or(0), structure.fields.len(), height) + inside;
    let columns = Columns::of(area);
    let copy = structure.copies.iter().position(Version::holds).unwrap_or(0);
    let take = match at.x {
        x if x >= columns.computed => Some(Take::Computed),
        x if x >= columns.copy => Some(Take::Copy(copy)),
        x if x >= columns.main => Some(Take::Main),
        _ => None,
    };
    (inside < height && field < structure.fields.len()).then_some((field, take))
}

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let state = &drive.mend;
    let Some(subject) = Shown::of(drive) else {
        put(buf, area, 1, 0, "Nothing is selected: choose a volume on the Sweep, or sweep first.", app.theme.strong());
        return Why::default();
    };
    let heading = &subject.heading;
    put(buf, area, 1, 0, heading, app.theme.strong());
    let place = format!("from {}", subject.start);
    put(buf, area, 3 + u16::try_from(heading.chars().count()).unwrap_or(30), 0, &place, app.theme.dim());
    if state.is_looking() {
        put(buf, area, 1, TOP, "reading every structure, and checking the volume rule by rule …", app.theme.dim());
        return Why::default();
    }
    let items = state.items();
    let rows = list_rows(area, items.len());
    draw_list(app, state, &items, Rect { height: rows + TOP, ..area }, buf);
    put(buf, area, 0, rows + TOP, &"─".repeat(usize::from(area.width)), app.theme.line());
    let below = Rect { y: area.y + rows + TOP + 1, height: area.height.saturating_sub(rows + TOP + 1), ..area };
    match items.get(state.row) {
        Some(Item::Structure(structure)) => draw_structure(app, state, structure, below, buf),
        Some(Item::Rule(rule)) => draw_rule(app, rule, below, buf),
        None => {}
    }
    why(app, drive, &subject)
}

/// The word and style for a version: whether it states the volume.
fn version_word(app: &App, version: Option<&Version>) -> (&'static str, Style) {
    match version {
        None => ("none", app.theme.dim()),
        Some(version) if version.holds() => ("holds", app.theme.good()),
        Some(version) if version.bytes.is_empty() => ("unreadable", app.theme.bad()),
        Some(_) => ("does not hold", app.theme.bad()),
    }
}

fn draw_list(app: &App, state: &State, items: &[Item<'_>], area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let columns = Columns::of(area);
    for (x, word) in [(1, "structure or rule"), (columns.main, "main"), (columns.copy, "copies"), (columns.computed, "taken")] {
        put(buf, area, x, 1, word, theme.dim());
    }
    let height = usize::from(area.height.saturating_sub(TOP));
    let first = first_shown(state.row, items.len(), height);
    for (row, item) in items.iter().enumerate().skip(first).take(height) {
        let y = TOP + u16::try_from(row - first).unwrap_or(0);
        match item {
            Item::Structure(structure) => draw_structure_row(app, state, structure, (area, y, row == state.row), buf),
            Item::Rule(rule) => draw_rule_row(app, state, rule, (area, y, row == state.row), buf),
        }
        if row == state.row {
            let style = if state.field.is_none() { theme.selected() } else { theme.strong() };
            bar(buf, area, y, style);
        }
    }
}

/// Where the columns of the list stand.
struct Columns {
    main: u16,
    copy: u16,
    computed: u16,
}

impl Columns {
    fn of(area: Rect) -> Self {
        let name = name_columns(area);
        // The words of versions are short; what is taken is said at more length.
        let step = (area.width.saturating_sub(name) / 3).min(VERSION);
        Self { main: name + 1, copy: name + 1 + step, computed: name + 1 + 2 * step }
    }
}

fn draw_structure_row(app: &App, state: &State, structure: &Structure, (area, y, bare): (Rect, u16, bool), buf: &mut Buffer) {
    let columns = Columns::of(area);
    // The selection's bar keeps one colour from end to end.
    let shade = |style: Style| if bare { app.theme.text() } else { style };
    let name = cut(&structure.name, usize::from(name_columns(area)) - 1);
    put(buf, area, 1, y, &name, app.theme.text());
    let wide = usize::from(columns.copy - columns.main - 1);
    let (word, style) = version_word(app, Some(&structure.main));
    put(buf, area, columns.main, y, &cut(word, wide), shade(style));
    let held = structure.copies.iter().filter(|copy| copy.holds()).count();
    let (words, style) = match (held, structure.copies.len()) {
        (_, 0) => ("it has none".to_string(), app.theme.dim()),
        (held, all) if held == all => (format!("{held} of {all} hold"), app.theme.good()),
        (held, all) => (format!("{held} of {all} hold"), app.theme.doubt()),
    };
    put(buf, area, columns.copy, y, &cut(&words, wide), shade(style));
    let (words, style) = match state.taken(structure) {
        None if structure.main.holds() => ("as it stands".to_string(), app.theme.dim()),
        None => ("nothing to take".to_string(), app.theme.bad()),
        Some(take) => (format!("from {}", take_word(take)), app.theme.staged()),
    };
    put(buf, area, columns.computed, y, &words, shade(style));
}

fn take_word(take: Take) -> String {
    match take {
        Take::Copy(index) if index > 0 => format!("copy {}", index + 1),
        other => other.word().to_string(),
    }
}

fn rule_word(app: &App, rule: &Checked) -> (&'static str, Style) {
    match rule.worst() {
        None => ("holds", app.theme.good()),
        Some(Severity::Note) => ("to be known", app.theme.text()),
        Some(Severity::Doubt) => ("doubtful", app.theme.doubt()),
        Some(Severity::Broken) => ("broken", app.theme.bad()),
    }
}

fn draw_rule_row(app: &App, state: &State, rule: &Checked, (area, y, bare): (Rect, u16, bool), buf: &mut Buffer) {
    let columns = Columns::of(area);
    let shade = |style: Style| if bare { app.theme.text() } else { style };
    put(buf, area, 1, y, &cut(&format!("rule: {}", rule.rule), usize::from(columns.main) - 2), app.theme.text());
    let (word, style) = rule_word(app, rule);
    put(buf, area, columns.main, y, word, shade(style));
    if !rule.findings.is_empty() {
        put(buf, area, columns.copy, y, &format!("{} found", rule.findings.len()), shade(style));
    }
    let asked = state.asks(rule.rule);
    let by_itself = rule.worst() >= Some(Severity::Doubt);
    let (words, style) = match &rule.mending {
        None => return,
        Some(_) if asked => ("mended, as asked", app.theme.staged()),
        Some(mending) if mending.is_safe && by_itself => ("mended", app.theme.staged()),
        Some(_) => ("on request: space", app.theme.dim()),
    };
    put(buf, area, columns.computed, y, words, shade(style));
}

fn draw_structure(app: &App, state: &State, structure: &Structure, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let columns = Columns::of(area);
    let number = structure.copies.iter().position(Version::holds).unwrap_or(0);
    let copy = match structure.copies.len() {
        0 => "copy: it has none".to_string(),
        1 => "copy".to_string(),
        _ => format!("copy {}", number + 1),
    };
    let width = usize::from(columns.copy - columns.main - 1);
    for (x, word) in [(1, "field"), (columns.main, "main"), (columns.copy, copy.as_str()), (columns.computed, "computed")] {
        put(buf, area, x, 0, &cut(word, width), theme.dim());
    }
    let rows = structure.rows();
    let height = usize::from(area.height.saturating_sub(byte_rows(area.height) + 2));
    let first = first_shown(state.field.unwrap_or(0), rows.len(), height);
    for (index, row) in rows.iter().enumerate().skip(first).take(height) {
        let y = 1 + u16::try_from(index - first).unwrap_or(0);
        let selected = state.field == Some(index);
        let style = if row.differs && !selected { theme.doubt() } else { theme.text() };
        let name = cut(row.field.name, usize::from(name_columns(area)) - 3);
        put(buf, area, 1, y, &format!("{} {name}", if row.differs { '≠' } else { ' ' }), style);
        let by_hand = state.set_by_hand(structure, &row.field);
        let taken = state.field_taken(structure, &row.field).or_else(|| state.taken(structure)).filter(|_| by_hand.is_none());
        let cells = [
            (columns.main, &row.main, Take::Main),
            (columns.copy, &row.copy, Take::Copy(number)),
            (columns.computed, &row.computed, Take::Computed),
        ];
        for (x, text, take) in cells {
            let own = if taken == Some(take) && row.differs && !selected { theme.staged() } else { style };
            put(buf, area, x, y, &cell(text.as_deref(), width), own);
        }
        if by_hand.is_some() {
            put(buf, area, columns.main.saturating_sub(2), y, "✎", theme.staged());
        }
        if selected {
            bar(buf, area, y, theme.selected());
        }
    }
    let bytes = byte_rows(area.height);
    let below = Rect { y: area.bottom().saturating_sub(bytes), height: bytes, ..area };
    draw_bytes(app, state, structure, below, buf);
}

/// A value as it fits its column: without the hexadecimal form where both are too long.
fn cell(text: Option<&str>, width: usize) -> String {
    let text = text.map_or_else(|| "-".to_string(), printable);
    let short = text.split(" (0x").next().filter(|_| text.chars().count() > width).unwrap_or(&text);
    cut(short, width)
}

/// The bytes around the selected field, in every version.
fn draw_bytes(app: &App, state: &State, structure: &Structure, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let field = state.field.and_then(|field| structure.fields.get(field)).or(structure.fields.first());
    let Some(field) = field else { return };
    put(buf, area, 0, 0, &"─".repeat(usize::from(area.width)), theme.line());
    put(buf, area, 1, 0, &format!(" bytes around {} ", field.name), theme.dim());
    let first = field.offset / 16 * 16;
    let copy = structure.copies.iter().find(|copy| copy.holds()).or(structure.copies.first());
    let versions = [
        ("main", Some(structure.main.at), structure.main.bytes.as_slice()),
        ("copy", copy.map(|copy| copy.at), copy.map_or(&[][..], |copy| copy.bytes.as_slice())),
        ("comp.", Some(structure.main.at), structure.computed.as_ref().map_or(&[][..], |computed| computed.bytes.as_slice())),
    ];
    let mut y = 1;
    for (word, at, bytes) in versions {
        for line in 0..2 {
            let from = first + line * 16;
            let Some(row) = bytes.get(from..bytes.len().min(from + 16)).filter(|row| !row.is_empty()) else { continue };
            if line == 0 {
                put(buf, area, 0, y, word, theme.dim());
            }
            let marked = |index: usize| (field.offset..field.offset + field.len).contains(&(from + index));
            let inside = Rect { x: area.x + 5, width: area.width.saturating_sub(5), ..area };
            let place = at.unwrap_or(ByteOffset(0)).0 + start_of(app, state) + from as u64;
            hex::line(buf, inside, y, place, row, theme, marked);
            y += 1;
        }
    }
}

/// First byte of the volume on the drive.
fn start_of(app: &App, state: &State) -> u64 {
    let finds = app.drive.iter().flat_map(|drive| &drive.sweep.finds);
    finds.into_iter().find(|find| state.is_of(&find.id)).map_or(0, |find| find.start_byte.0)
}

fn draw_rule(app: &App, rule: &Checked, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    put(buf, area, 1, 0, &format!("The rule: {}.", rule.asks), theme.strong());
    let mut y = 2;
    if rule.findings.is_empty() {
        put(buf, area, 1, y, "It holds: nothing was found.", theme.good());
        return;
    }
    let width = usize::from(area.width.saturating_sub(4));
    for finding in &rule.findings {
        let style = match finding.severity {
            Severity::Note => theme.text(),
            Severity::Doubt => theme.doubt(),
            Severity::Broken => theme.bad(),
        };
        let at = finding.at_byte.map(|at| format!(" (byte {})", at.0)).unwrap_or_default();
        for (text, style) in [(format!("{}{at}", finding.what), style), (format!("known by: {}", finding.how), theme.dim())] {
            for line in wrap(&text, width) {
                if y + 1 >= area.height {
                    put(buf, area, 1, y, "… more: ykeel check tells all", theme.dim());
                    return;
                }
                put(buf, area, 2, y, &line, style);
                y += 1;
            }
        }
    }
}

fn why(app: &App, drive: &Drive, subject: &Shown) -> Why {
    let theme = app.theme;
    let mut why = Why::default();
    let state = &drive.mend;
    if let Some(structure) = state.structure() {
        why.say(structure.name.clone(), theme.strong());
        match state.selected_row() {
            Some(row) => say_field(app, &mut why, &row),
            None => say_structure(app, &mut why, structure, subject.start),
        }
        why.gap();
        let what = if state.field.is_some() { "this field" } else { "the whole structure" };
        why.say(format!("m c w   take {what} from main, copy or computed; the same key again lets it go"), theme.accent());
        if let Some((row, value)) =
            state.selected_row().and_then(|row| Some((row.clone(), state.set_by_hand(structure, &row.field)?)))
        {
            let field = keel_format::Field { offset: 0, ..row.field };
            let value = field.text(value).unwrap_or_default();
            why.say(format!("set by hand: {}", printable(&value)), theme.staged());
        }
        if state.field.is_some() {
            why.say("z   set it by hand", theme.accent());
        }
        if state.field.is_none() {
            why.say("→   go to the fields", theme.accent());
        }
    } else if let Some(rule) = state.rule() {
        why.say(format!("rule: {}", rule.rule), theme.strong());
        match &rule.mending {
            None if rule.findings.is_empty() => {}
            None if rule.rule == "core" => {
                why.say("What can be mended of this stands under structures and other rules.", theme.text());
            }
            None => why.say("There is no mending for this that the evidence supports.", theme.text()),
            Some(mending) => {
                why.say(format!("It can be mended: {}, {} writes.", mending.does, mending.repairs.len()), theme.text());
                why.say(format!("What that costs: {}.", mending.loses), theme.doubt());
                why.gap();
                why.say("space   mend it, or let it be", theme.accent());
            }
        }
    }
    let withheld = drive.plan.withheld.iter().filter(|withheld| withheld.find == subject.id || withheld.find == "drive");
    for withheld in withheld {
        why.gap();
        why.say(format!("Not mended: {}.", withheld.structure), theme.bad());
        why.say(format!("{}.", withheld.why), theme.text());
    }
    why.gap();
    why.say("n   the next volume, or the table", theme.accent());
    why.say("p   stage the repairs and read the plan", theme.accent());
    why
}

fn say_structure(app: &App, why: &mut Why, structure: &Structure, start: ByteOffset) {
    let theme = app.theme;
    let place = |at: ByteOffset| format!("byte {}", start.0 + at.0);
    match structure.why_not(&structure.main) {
        None => why.say(format!("The main one, at {}, states this volume.", place(structure.main.at)), theme.good()),
        Some(reason) => {
            why.say(format!("The main one, at {}, does not state this volume.", place(structure.main.at)), theme.bad());
            why.say(format!("{reason}."), theme.dim());
        }
    }
    for copy in structure.copies.iter().take(4) {
        why.gap();
        match structure.why_not(copy) {
            None => why.say(format!("The copy at {} does.", place(copy.at)), theme.good()),
            Some(reason) => {
                why.say(format!("The copy at {} does not.", place(copy.at)), theme.bad());
                why.say(format!("{reason}."), theme.dim());
            }
        }
    }
    if structure.copies.len() > 4 {
        why.say(format!("… and {} more copies.", structure.copies.len() - 4), theme.dim());
    }
    if structure.computed.is_some() {
        why.gap();
        why.say("It can be computed from the volume's own metadata.", theme.text());
    }
}

fn say_field(app: &App, why: &mut Why, row: &Row) {
    let theme = app.theme;
    why.say(
        format!("{}, {} at offset {}", row.field.name, counted(row.field.len, "byte", "bytes"), row.field.offset),
        theme.text(),
    );
    why.gap();
    match row.field.breaks {
        "" => why.say("An operating system does not depend on it.", theme.dim()),
        breaks => why.say(format!("When it is wrong: {breaks}."), theme.doubt()),
    }
    if let Some(witness) = &row.witness {
        why.gap();
        why.say(format!("Computed from this: {witness}."), theme.text());
    }
}
