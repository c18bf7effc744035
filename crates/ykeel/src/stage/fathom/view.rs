//! Fathom: the address that was written against the address that was read there.

use keel_core::fathom::{Fathomed, PlotPoint, Seen};
use keel_source::size_decimal;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::App;
use crate::stage::Drive;
use crate::widget::put;
use crate::widget::why::Why;

/// Columns of the scale.
const SCALE: u16 = 10;
/// Rows above the plot.
const TOP: u16 = 3;

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let theme = app.theme;
    let fathom = &drive.fathom;
    let running = fathom.job.is_some();
    let (line, style) = match (&fathom.progress, &fathom.verdict) {
        (Some(progress), _) if running => {
            let percent = progress.done.saturating_mul(100) / progress.total.max(1);
            (format!("{}  {percent} %  {}/s", progress.phase.word(), size_decimal(progress.rate)), theme.strong())
        }
        _ if fathom.restore_job.is_some() => ("putting back what an interrupted probe touched".to_string(), theme.strong()),
        (_, Some(verdict)) if verdict.nature.is_lie() => (verdict.line(), theme.bad()),
        (_, Some(verdict)) => (verdict.line(), theme.good()),
        _ => ("how much this drive stores was not measured yet".to_string(), theme.strong()),
    };
    put(buf, area, 1, 0, &line, style);
    put(buf, area, 1, 1, "up: the address that was read   right: the address that was written", theme.dim());
    let claimed = drive.claimed.len();
    let points: &[PlotPoint] =
        if running || fathom.verdict.is_none() { &fathom.points } else { plot_of(fathom.verdict.as_ref()) };
    draw_plot(app, claimed, points, fathom.verdict.as_ref().filter(|_| !running), area, buf);
    why(app, drive)
}

fn plot_of(verdict: Option<&Fathomed>) -> &[PlotPoint] {
    verdict.map(|verdict| verdict.plot.as_slice()).unwrap_or_default()
}

fn draw_plot(app: &App, claimed: u64, points: &[PlotPoint], verdict: Option<&Fathomed>, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let plot = Rect {
        x: area.x + SCALE,
        y: area.y + TOP,
        width: area.width.saturating_sub(SCALE + 2),
        height: area.height.saturating_sub(TOP + 4),
    };
    if plot.width < 8 || plot.height < 4 {
        return;
    }
    let scaled = |at: u64, room: u16| {
        let cell = u128::from(at) * u128::from(room) / u128::from(claimed.max(1));
        u16::try_from(cell).unwrap_or(room).min(room - 1)
    };
    let (column, row) = (|at: u64| scaled(at, plot.width), |at: u64| plot.height - 1 - scaled(at, plot.height));
    for step in 0..=4u64 {
        let at = claimed / 4 * step;
        put(buf, area, 0, TOP + row(at), &format!("{:>9}", size_decimal(at)), theme.dim());
        let text = size_decimal(at);
        let wide = |text: &str| u16::try_from(text.len()).unwrap_or(0);
        let end = size_decimal(claimed);
        let last = column(claimed).saturating_sub(wide(&end));
        let x = if step == 4 { last } else { column(at) };
        // The end is always said; another one only where it does not run into it.
        if step == 4 || x + wide(&text) < last {
            put(buf, area, SCALE + x, TOP + plot.height + 1, &text, theme.dim());
        }
    }
    for y in 0..plot.height {
        put(buf, plot, 0, y, "│", theme.line());
    }
    let foot = Rect { y: plot.bottom(), height: 1, ..plot };
    put(buf, foot, 0, 0, &format!("└{}", "─".repeat(usize::from(plot.width - 1))), theme.line());
    for x in 0..plot.width {
        let at = u128::from(claimed) * u128::from(x) / u128::from(plot.width);
        put(buf, plot, x, row(u64::try_from(at).unwrap_or(0)), "·", theme.dim());
    }
    if let Some(verdict) = verdict.filter(|verdict| verdict.nature.is_lie()) {
        for y in 0..plot.height {
            put(buf, plot, column(verdict.proven_bytes), y, "┊", theme.bad());
        }
        let words = format!(" true end {}", size_decimal(verdict.proven_bytes));
        put(buf, plot, column(verdict.proven_bytes) + 1, 0, &words, theme.bad());
    }
    for point in points {
        let x = column(point.at.0);
        match point.seen {
            Seen::Own => put(buf, plot, x, row(point.at.0), "■", theme.good()),
            Seen::Other(other) => put(buf, plot, x, row(other.0), "○", theme.bad()),
            Seen::Nothing => put(buf, foot, x, 0, "┴", theme.bad()),
            Seen::Unreadable | Seen::Unwritable => put(buf, foot, x, 0, "×", theme.bad()),
        }
    }
    let signs = "■ its own  ○ of another address  ┴ nothing written  × fails  · an honest drive";
    put(buf, area, 1, area.height.saturating_sub(1), signs, theme.dim());
}

fn why(app: &App, drive: &Drive) -> Why {
    let theme = app.theme;
    let mut why = Why::default();
    why.say("Why", theme.strong());
    why.gap();
    if drive.fathom.interrupted && !drive.fathom.is_busy() {
        why.say(
            "A probe was interrupted. What it touched does not stand as it was; it is kept, and u puts it back.",
            theme.bad(),
        );
        why.gap();
    }
    if let Some(verdict) = &drive.fathom.verdict {
        why.say(format!("claimed  {} bytes", verdict.claimed_bytes), theme.text());
        why.say(
            format!("proven   {} bytes{}", verdict.proven_bytes, if verdict.exact { "" } else { ", not exact" }),
            theme.strong(),
        );
        why.say(format!("It {}.", verdict.nature.word()), theme.text());
        why.say(format!("{} ({})", verdict.sureness.word(), verdict.method.word()), theme.text());
        why.gap();
        for reason in &verdict.reasons {
            why.say(format!("· {reason}"), theme.text());
        }
        why.gap();
        if let Some(restored) = verdict.restored {
            let words =
                if restored.whole { "all of it read back as it was" } else { "what could be compared read back as it was" };
            why.say(format!("{} bytes were put back; {words}.", restored.bytes), theme.dim());
            why.gap();
        }
    } else {
        why.say(
            "A drive can claim more than it stores: what is written behind its true end is lost, or overwrites what came before.",
            theme.text(),
        );
        why.gap();
    }
    why.say("Next", theme.strong());
    match &drive.fathom.verdict {
        _ if drive.fathom.job.is_some() => why.say("· x stops; everything is put back first", theme.text()),
        Some(verdict) if verdict.nature.is_lie() => {
            why.say("· copy what lies before the true end (3)", theme.text());
            why.say("· Mend fits table and volume to it (6, 8)", theme.text());
            why.say("· trust this drive with nothing", theme.text());
        }
        Some(_) => why.say("· F writes every sector, to be certain: everything on it is lost", theme.text()),
        None => {
            why.say(
                format!("· f probes: minutes, and everything is put back. Code: {}", drive.source.identity().code()),
                theme.text(),
            );
            why.say("· e estimates: only reads, weak evidence", theme.text());
            why.say("· F fills: certain, and everything on it is lost", theme.text());
        }
    }
    why
}
