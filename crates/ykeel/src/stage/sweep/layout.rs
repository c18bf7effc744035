//! The layout pane of the sweep: what the table says now against what it would say.

use keel_core::layout::{Layout, LayoutEntry};
use keel_format::table::Partition;
use keel_source::{counted, printable};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::app::App;
use crate::stage::Drive;
use crate::theme::Theme;
use crate::widget::{first_shown, put, wrap};

/// A line, and the find that it is about.
struct Line {
    text: String,
    style: Style,
    find: Option<String>,
}

/// Draws the pane; where it is longer than its place it follows the selected find.
pub(super) fn draw(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    put(buf, area, 0, 0, &"─".repeat(usize::from(area.width.saturating_sub(1))), theme.line());
    let Some(layout) = &drive.plan.layout else { return };
    let width = usize::from(area.width.saturating_sub(3));
    let (head, body) = lines(drive, layout, theme);
    let mut y = 1;
    for part in head.iter().flat_map(|line| wrap(&line.text, width).into_iter().map(move |text| (text, line.style))) {
        put(buf, area, 1, y, &part.0, part.1);
        y += 1;
    }
    let selected = drive.selected_find().map(|find| find.id.as_str());
    let wrapped: Vec<(String, Style, bool)> = body
        .iter()
        .flat_map(|line| {
            let own = selected.is_some() && line.find.as_deref() == selected;
            wrap(&line.text, width).into_iter().map(move |text| (text, line.style, own))
        })
        .collect();
    let room = usize::from(area.height.saturating_sub(y));
    let at = wrapped.iter().position(|(_, _, own)| *own).unwrap_or(0);
    let first = first_shown(at, wrapped.len(), room);
    for (text, style, own) in wrapped.iter().skip(first).take(room) {
        put(buf, area, 1, y, text, if *own { theme.strong() } else { *style });
        y += 1;
    }
}

/// What is said of the whole, and a line for each entry and each find that is left out.
fn lines(drive: &Drive, layout: &Layout, theme: Theme) -> (Vec<Line>, Vec<Line>) {
    let whole = |text: String, style| Line { text, style, find: None };
    if layout.whole_drive {
        return (vec![whole("no table: a volume fills the drive, by design".into(), theme.strong())], Vec::new());
    }
    let now = drive.plan.table.scheme.map_or("no table", |scheme| scheme.word());
    let (before, after) = (drive.plan.table.partitions.len(), layout.entries.len());
    let head = format!(
        "now {now}, {} → layout: {}, {}",
        counted(before, "entry", "entries"),
        layout.scheme.word(),
        counted(after, "entry", "entries")
    );
    let head = vec![whole(head, theme.strong()), whole(format!("because {}", layout.scheme_why), theme.dim())];
    let mut body: Vec<Line> = layout.entries.iter().map(|entry| entry_line(drive, entry, theme)).collect();
    let kept = |old: &&Partition| layout.entries.iter().any(|entry| (entry.first, entry.sectors) == (old.first, old.sectors));
    for old in drive.plan.table.partitions.iter().filter(|old| !kept(old)) {
        let end = (old.first.0 + old.sectors.0).saturating_sub(1);
        let text = format!("−{:>3}      {:<12}{} … {end}  goes", old.slot, old.type_code.word(), old.first.0);
        body.push(whole(text, theme.dim()));
    }
    if !layout.left_out.is_empty() {
        body.push(whole("left out".into(), theme.strong()));
    }
    for left in &layout.left_out {
        let text = format!("{:<5}{}", left.find, printable(&left.why));
        body.push(Line { text, style: theme.dim(), find: Some(left.find.clone()) });
    }
    (head, body)
}

/// `+` new, `~` changed, `=` as it is now.
fn entry_line(drive: &Drive, entry: &LayoutEntry, theme: Theme) -> Line {
    let end = (entry.first.0 + entry.sectors.0).saturating_sub(1);
    let find = entry.find.as_deref().unwrap_or("-");
    let same_ground = |old: &&Partition| (old.first, old.sectors) == (entry.first, entry.sectors);
    let mark = match drive.plan.table.partitions.iter().find(same_ground) {
        Some(old) if (old.type_code, old.attributes) == (entry.type_code, entry.attributes) => "=",
        Some(_) => "~",
        None => "+",
    };
    let role = if entry.role.word() == "GPT entry" { "" } else { entry.role.word() };
    let text = format!("{mark}{:>3} {find:<5}{:<12}{} … {end}  {role}", entry.slot, entry.type_code.word(), entry.first.0);
    Line { text, style: theme.text(), find: entry.find.clone() }
}
