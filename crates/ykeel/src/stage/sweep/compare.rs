//! Two finds on the same ground, side by side.

use keel_core::sweep::{Find, RootLook};
use keel_source::{ByteRange, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::App;
use crate::stage::Drive;
use crate::widget::{cut, put, rule, wrap};

/// Draws both finds; their roots while they are known.
pub(super) fn draw(app: &App, drive: &Drive, (one, other): (&Find, &Find), area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let shared = one.range().overlap(other.range()).map_or(0, ByteRange::len);
    let head = format!("{} and {} claim the same {}; c leaves", one.id, other.id, size_decimal(shared));
    put(buf, area, 1, 0, &head, theme.strong());
    let half = area.width / 2;
    let left = Rect { y: area.y + 2, width: half, height: area.height.saturating_sub(2), ..area };
    let right = Rect { x: area.x + half, width: area.width - half, ..left };
    rule(buf, right, theme.line());
    for (find, rival, place) in [(one, other, left), (other, one, right)] {
        let look = drive.sweep.looks.iter().find(|look| look.find == find.id);
        let better = drive.sweep.looks.iter().find(|look| look.find == rival.id);
        column(app, drive, (find, rival), (look, better), place, buf);
    }
}

fn column(
    app: &App,
    drive: &Drive,
    (find, rival): (&Find, &Find),
    (look, other): (Option<&RootLook>, Option<&RootLook>),
    area: Rect,
    buf: &mut Buffer,
) {
    let theme = app.theme;
    let width = usize::from(area.width.saturating_sub(4));
    let mut y = 0;
    let mut say = |text: &str, style| {
        for part in wrap(text, width) {
            put(buf, area, 2, y, &part, style);
            y += 1;
        }
    };
    let chosen =
        drive.plan.layout.as_ref().is_some_and(|layout| layout.entries.iter().any(|entry| entry.find.as_ref() == Some(&find.id)));
    let mark = |better: bool| if better { theme.good() } else { theme.text() };
    say(&format!("{}  {} {}", find.id, find.kind.word(), find.name()), theme.strong());
    say(if chosen { "in the layout" } else { "left out" }, theme.dim());
    say(&format!("LBA {} … {}", find.start_lba.0, (find.start_lba.0 + find.sectors.0).saturating_sub(1)), theme.text());
    say(&format!("{} long", size_decimal(find.bytes)), theme.text());
    say(&format!("{}, weight {}", find.grade.word(), find.score), mark(find.score > rival.score));
    say("", theme.text());
    let Some(look) = look else {
        say("reading its root", theme.dim());
        return;
    };
    let newest = look.newest.map_or("no dates".to_string(), |newest| format!("newest change {newest}"));
    say(&newest, mark(other.is_some_and(|other| look.newest > other.newest)));
    say(
        &format!("{} names in the root", look.count),
        mark(other.is_some_and(|other| look.problem.is_none() && other.problem.is_some())),
    );
    if let Some(problem) = &look.problem {
        say(problem, theme.bad());
    }
    for name in &look.names {
        let date = name.modified.map_or(String::new(), |stamp| format!("{:.10}", stamp.to_string()));
        let label: String = cut(&format!("{}{}", name.name, if name.folder { "/" } else { "" }), width.saturating_sub(12));
        say(&format!("{label:<pad$}{date}", pad = width.saturating_sub(10)), theme.text());
    }
}
