//! Copy: the live map, the passes, rate, latency and errors.

use keel_core::copy::{CopyProgress, Pass};
use keel_source::{CopyState, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::App;
use crate::stage::Drive;
use crate::widget::why::Why;
use crate::widget::{put, wrap};

/// Row of the map's first line.
const MAP_TOP: u16 = 10;
/// Width below which the figures take the place of the passes.
const NARROW: u16 = 76;
/// Column of the figures beside the passes.
const FIGURES: u16 = 34;

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let theme = app.theme;
    let copy = &drive.copy;
    let dest = copy.dest.as_ref().map_or_else(|| "no copy is begun".into(), |dest| format!("to {}", dest.display()));
    put(buf, area, 1, 0, &dest, theme.strong());
    let narrow = area.width < NARROW;
    if !narrow || copy.progress.is_none() {
        draw_passes(app, drive, area, buf);
    }
    let Some(progress) = &copy.progress else {
        draw_before(app, drive, area, buf);
        return why(app, drive);
    };
    // Where there is no room beside the passes, the one that runs is named with the figures.
    let left = if narrow { 1 } else { FIGURES };
    draw_figures(app, drive, progress, (left, area), buf);
    if narrow {
        put(buf, area, 1, 8, progress.pass.word(), theme.strong());
    }
    let rates: String = curve(copy.rates.iter().copied(), usize::from(area.width.saturating_sub(left + 2)));
    put(buf, area, left, 7, &rates, theme.good());
    draw_map(app, progress, Rect { y: area.y + MAP_TOP, height: area.height.saturating_sub(MAP_TOP + 2), ..area }, buf);
    let signs = "█ came over  ▓ most of it  ╱ passed over  ┼ between edges  × failed  · not asked for  ◆ head";
    put(buf, area, 1, area.height.saturating_sub(1), signs, theme.dim());
    why(app, drive)
}

/// The last values as a curve of blocks, the largest one full height.
fn curve(values: impl Iterator<Item = u64>, width: usize) -> String {
    const BLOCKS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let values: Vec<u64> = values.collect();
    let shown = values.get(values.len().saturating_sub(width)..).unwrap_or_default();
    let most = shown.iter().copied().max().unwrap_or(0).max(1);
    shown.iter().map(|value| BLOCKS[usize::try_from(u128::from(*value) * 8 / u128::from(most)).unwrap_or(0).min(8)]).collect()
}

fn draw_passes(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let running = drive.copy.progress.as_ref().filter(|_| drive.copy.job.is_some()).map(|progress| progress.pass);
    let all_done = drive.copy.done.as_ref().is_some_and(|done| done.stopped.is_none());
    put(buf, area, 1, 2, "passes", theme.dim());
    for (row, pass) in Pass::ALL.into_iter().enumerate() {
        let asked = pass != Pass::Volumes || drive.copy.volumes_first;
        let (mark, style) = match running {
            _ if !asked => ("–", theme.dim()),
            Some(now) if now == pass => ("▶", theme.selected()),
            Some(now) if now > pass => ("●", theme.text()),
            None if all_done => ("●", theme.text()),
            _ => ("○", theme.text()),
        };
        let y = 3 + u16::try_from(row).unwrap_or(0);
        put(buf, area, 1, y, &format!("{mark} {:<24}", pass.word()), style);
    }
}

fn draw_figures(app: &App, drive: &Drive, progress: &CopyProgress, (left, area): (u16, Rect), buf: &mut Buffer) {
    let theme = app.theme;
    let percent = progress.copied as f64 * 100.0 / progress.total.max(1) as f64;
    let state = |state: CopyState| progress.states.get(state as usize).copied().unwrap_or(0);
    let resting = drive.copy.control.is_paused() && drive.copy.job.is_some();
    let way = match (drive.copy.job.is_some(), resting, progress.total.saturating_sub(progress.copied).checked_div(progress.rate))
    {
        (_, true, _) => "resting: space goes on".to_string(),
        (true, _, Some(seconds)) if progress.pass == Pass::Sound => crate::stage::time_left(seconds),
        (true, _, _) => "as long as the drive takes".to_string(),
        _ => "not running".to_string(),
    };
    let rows = [
        format!("{} of {}   {percent:.3} %   {way}", size_decimal(progress.copied), size_decimal(progress.total)),
        format!(
            "{} failed   {} between edges   {} passed over",
            size_decimal(state(CopyState::Failed)),
            size_decimal(state(CopyState::Inner)),
            size_decimal(state(CopyState::PassedOver))
        ),
        format!("{} reads failed   {} times off the link", progress.errors, progress.link_drops),
        format!("last request {}   usual {}", time(progress.last_us), time(progress.usual_us)),
        format!("rate {}/s", size_decimal(progress.rate)),
    ];
    for (row, text) in rows.iter().enumerate() {
        let style = if row == 2 && progress.errors > 0 { theme.bad() } else { theme.text() };
        put(buf, area, left, 2 + u16::try_from(row).unwrap_or(0), text, style);
    }
}

fn time(us: u64) -> String {
    match us {
        0..1000 => format!("{us} µs"),
        1000..1_000_000 => format!("{}.{} ms", us / 1000, us % 1000 / 100),
        _ => format!("{}.{} s", us / 1_000_000, us % 1_000_000 / 100_000),
    }
}

/// The sign of a part by what is known of it: what is worst counts.
fn sign(part: &[u64; 5]) -> char {
    let all: u64 = part.iter().sum();
    let of = |state: CopyState| part.get(state as usize).copied().unwrap_or(0);
    match () {
        () if of(CopyState::Failed) > 0 => '×',
        () if of(CopyState::Inner) > 0 => '┼',
        () if of(CopyState::PassedOver) > 0 => '╱',
        () if of(CopyState::Copied) == all => '█',
        () if of(CopyState::Copied) * 2 >= all => '▓',
        () if of(CopyState::Copied) > 0 => '▒',
        () => '·',
    }
}

/// The drive as rows of signs, from its first sector to its last.
fn draw_map(app: &App, progress: &CopyProgress, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let columns = usize::from(area.width.saturating_sub(13)).clamp(8, 64);
    // All of the drive is shown: where there is less room, neighbours are one cell.
    let together = progress.parts.len().div_ceil((columns * usize::from(area.height)).max(1)).max(1);
    let sum = |parts: &[[u64; 5]]| {
        parts.iter().fold([0; 5], |sum: [u64; 5], part| std::array::from_fn(|state| sum[state] + part[state]))
    };
    let cells: Vec<[u64; 5]> = progress.parts.chunks(together).map(sum).collect();
    let head = u128::from(progress.at.0) * cells.len() as u128 / u128::from(progress.total.max(1));
    let head = usize::try_from(head).unwrap_or(0);
    let part_bytes = progress.total.div_ceil(cells.len().max(1) as u64);
    for (row, parts) in cells.chunks(columns).enumerate() {
        let Ok(y) = u16::try_from(row) else { return };
        if y >= area.height {
            return;
        }
        put(buf, area, 1, y, &format!("{:>9}", size_decimal(part_bytes * (row * columns) as u64)), theme.dim());
        for (column, part) in parts.iter().enumerate() {
            let here = row * columns + column == head;
            let sign = if here { '◆' } else { sign(part) };
            let style = match sign {
                '×' => theme.bad(),
                '┼' | '╱' => theme.doubt(),
                '█' | '▓' | '▒' => theme.good(),
                '◆' => theme.strong(),
                _ => theme.dim(),
            };
            put(buf, area, 11 + u16::try_from(column).unwrap_or(0), y, &sign.to_string(), style);
        }
    }
}

fn draw_before(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    if let Some(map) = &drive.copy.kept {
        let missing: u64 = map.missing().iter().map(|range| range.len()).sum();
        let have = map.len().saturating_sub(missing);
        let percent = have.saturating_mul(100) / map.len().max(1);
        let says = match missing {
            0 => "An earlier run copied all of it: w works on the copy, v compares it with its hashes.".to_string(),
            bytes => format!(
                "An earlier run copied {} of {} ({percent} %); {} did not come over. s goes on with it, w works on it as it is.",
                size_decimal(have),
                size_decimal(map.len()),
                size_decimal(bytes)
            ),
        };
        for (row, line) in wrap(&says, usize::from(area.width.saturating_sub(4))).iter().enumerate() {
            put(buf, area, 1, MAP_TOP + u16::try_from(row).unwrap_or(0), line, app.theme.strong());
        }
        return;
    }
    let about = match drive.source.missing().is_empty() {
        true => {
            "s begins a copy of this drive: an image that knows what it lacks. Sound parts come first; the drive is asked for the rest only then. The same key goes on with a copy that was stopped."
        }
        false => "This is a copy. While the drive still answers, open the drive itself and go on with its copy there.",
    };
    for (row, line) in wrap(about, usize::from(area.width.saturating_sub(4))).iter().enumerate() {
        put(buf, area, 1, MAP_TOP + u16::try_from(row).unwrap_or(0), line, app.theme.text());
    }
}

fn why(app: &App, drive: &Drive) -> Why {
    let theme = app.theme;
    let mut why = Why::default();
    why.say("Why", theme.strong());
    why.gap();
    if let Some(ground) = &drive.ladder.ground {
        for rung in ground.rungs.iter().filter(|rung| rung.state >= keel_core::ladder::RungState::Doubtful) {
            why.say(format!("{} {}: {}", rung.rung.number(), rung.rung.word(), rung.note), theme.rung(rung.state));
        }
        why.gap();
    }
    if let Some(done) = &drive.copy.done {
        let missing = done.bytes - done.copied_bytes;
        if missing == 0 {
            why.say("Everything came over.", theme.good());
        } else {
            why.say(
                format!(
                    "{missing} bytes are missing in {} places. They are unreadable in the copy, never zeros:",
                    done.missing.len()
                ),
                theme.text(),
            );
            for range in done.missing.iter().take(8) {
                why.say(format!("byte {}, {}", range.start.0, size_decimal(range.len())), theme.dim());
            }
        }
        if let Some(stopped) = done.stopped {
            why.say(stopped.word(), theme.doubt());
        }
        why.gap();
    }
    if let Some(verified) = &drive.copy.verified {
        why.say(
            format!("{} bytes were compared with the hashes taken while they were read.", verified.verified_bytes),
            theme.good(),
        );
        why.gap();
    }
    let order = if drive.copy.volumes_first { "what the volumes need first (o)" } else { "the order of the drive (o)" };
    why.say(format!("Order: {order}"), theme.text());
    why.gap();
    why.say("Next", theme.strong());
    if drive.copy.job.is_some() {
        why.say("· space lets it rest, n ends the pass", theme.text());
        why.say("· x stops; nothing copied is lost", theme.text());
    } else {
        why.say("· s begins the copy, or goes on with it", theme.text());
        why.say("· w works on the copy: every stage goes over to it", theme.text());
        why.say("· v compares it with its hashes", theme.text());
    }
    why
}
