//! The proof of an apply: what reads now beside what read before, and what a kernel made of each volume.

use keel_core::mend::Proven;
use keel_source::printable;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::App;
use crate::stage::Drive;
use crate::widget::{put, wrap};

/// Draws the proof of every volume below one another.
pub(super) fn draw(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    if drive.plan.proof_job.is_some() {
        put(buf, area, 1, 0, "proof: reading the files again, and asking the kernel …", theme.dim());
        return;
    }
    if drive.plan.proof.is_empty() {
        return;
    }
    put(buf, area, 1, 0, "proof: before the apply → now", theme.strong());
    let mut y = 2;
    for proven in &drive.plan.proof {
        let find = drive.sweep.finds.iter().find(|find| find.id == proven.find);
        let name = find.map_or(String::new(), |find| format!(" {} {}", find.kind.word(), printable(find.name())));
        put(buf, area, 1, y, &format!("{}{name}", proven.find), theme.strong());
        y += 1;
        for (text, style) in lines(app, proven) {
            for line in wrap(&text, usize::from(area.width.saturating_sub(5))) {
                if y + 1 >= area.height {
                    put(buf, area, 1, area.height.saturating_sub(1), "… more volumes: ykeel prove", theme.dim());
                    return;
                }
                put(buf, area, 3, y, &line, style);
                y += 1;
            }
        }
        y += 1;
    }
}

fn lines(app: &App, proven: &Proven) -> Vec<(String, ratatui::style::Style)> {
    let theme = app.theme;
    let pair = |what: &str, [before, now]: [u64; 2]| {
        let style = if now >= before { theme.good() } else { theme.bad() };
        (format!("{what} {before} → {now}"), style)
    };
    let mut lines = vec![pair("files listed", proven.counted), pair("samples that read", proven.sampled)];
    if let Some(path) = &proven.lost {
        lines.push((format!("{path} does not read as it did"), theme.bad()));
    }
    match (&proven.kernel, &proven.no_kernel) {
        (Some(kernel), _) if kernel.mounted => {
            let style = if kernel.holds() { theme.good() } else { theme.bad() };
            let text = format!(
                "{}: {} files there, {} of {} samples the same",
                kernel.how, kernel.files_there, kernel.same, kernel.sampled
            );
            lines.push((text, style));
            lines.extend(kernel.different.iter().take(3).map(|line| (line.clone(), theme.bad())));
        }
        (Some(kernel), _) => lines.push((format!("not mounted here: {}", kernel.how), theme.dim())),
        (None, Some(why)) => lines.push((format!("not mounted here: {why}"), theme.dim())),
        (None, None) => {}
    }
    lines
}
