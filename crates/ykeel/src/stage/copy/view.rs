//! Copy: the drive on the keel's scale with the time that each place took, the passes, rate, latency and errors.

use keel_core::copy::{CopyProgress, Pass, part_bytes};
use keel_source::{ByteOffset, ByteRange, CopyState, counted, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::App;
use crate::stage::Drive;
use crate::widget::keel::{self, Rows};
use crate::widget::why::Why;
use crate::widget::{put, times, wrap};

/// Column where the times begin; the states stand before it.
const TIMES: u16 = 4;
/// Columns of the times at least and at most.
const LEAST_TIMES: u16 = 20;
const MOST_TIMES: u16 = 48;
/// Row of the first figure; the passes stand above.
const FIGURES: u16 = 8;
/// Row of the curve of rates.
const CURVE: u16 = FIGURES + 8;
/// Where the scale has its words: decades above its beginning.
const SCALE: [(u16, &str); 2] = [(1, "1 ms"), (3, "100 ms")];
/// A request is marked that took this many times the usual one…
const LATE_TIMES: u64 = 8;
/// …and longer than this, in microseconds.
const LATE_LEAST_US: u64 = 50_000;
/// What the signs of the lane mean.
const SIGNS: [&str; 3] = ["┃ came over    ╎ part of it", "╱ passed over  ┼ between edges", "× failed  · not asked for  ▶ head"];

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let theme = app.theme;
    let copy = &drive.copy;
    let room = (area.width / 3).clamp(LEAST_TIMES, MOST_TIMES);
    let left = TIMES + room + 2;
    let beside = Rect { x: area.x + left, width: area.width.saturating_sub(left), ..area };
    let dest = copy.dest.as_ref().map_or_else(|| "no copy is begun".into(), |dest| format!("to {}", dest.display()));
    put(buf, beside, 0, 0, &dest, theme.strong());
    let unasked = Picture { parts: &copy.kept_parts, slowest_us: &[], total: drive.source.len(), usual_us: 0, head: None };
    let picture = copy.progress.as_ref().map_or(unasked, |progress| Picture {
        parts: &progress.parts,
        slowest_us: &progress.slowest_us,
        total: progress.total,
        usual_us: progress.usual_us,
        head: copy.job.is_some().then_some(progress.at),
    });
    if let Some(rows) = keel::rows(app, area) {
        draw_places(app, &picture, &rows, Rect { width: left.min(area.width), ..area }, buf);
    }
    let Some(progress) = &copy.progress else {
        draw_before(app, drive, beside, buf);
        if !copy.kept_parts.is_empty() {
            draw_signs(app, beside, buf);
        }
        return why(app, drive);
    };
    draw_passes(app, drive, beside, buf);
    draw_figures(app, drive, progress, beside, buf);
    let rates: String = curve(copy.rates.iter().copied(), usize::from(beside.width.saturating_sub(1)));
    put(buf, beside, 0, CURVE, &rates, theme.good());
    draw_signs(app, beside, buf);
    why(app, drive)
}

fn draw_signs(app: &App, area: Rect, buf: &mut Buffer) {
    let count = u16::try_from(SIGNS.len()).unwrap_or(0);
    for (row, signs) in (area.height.saturating_sub(count)..).zip(SIGNS) {
        put(buf, area, 0, row, signs, app.theme.dim());
    }
}

/// What is known of the drive's places: the bytes in each state and the longest request, for parts of equal length.
struct Picture<'a> {
    parts: &'a [[u64; 5]],
    slowest_us: &'a [u64],
    /// Bytes of the drive.
    total: u64,
    usual_us: u64,
    /// Where the drive reads now.
    head: Option<ByteOffset>,
}

impl Picture<'_> {
    /// The bytes in each state and the longest request within `range`. A part that reaches over its ends counts whole.
    fn of(&self, range: ByteRange) -> ([u64; 5], u64) {
        let width = part_bytes(self.total);
        let index = |at: u64| usize::try_from(at / width).unwrap_or(usize::MAX);
        let first = index(range.start.0);
        let end = index(range.end.0.saturating_sub(1)).saturating_add(1).max(first.saturating_add(1));
        let parts = self.parts.get(first..end.min(self.parts.len())).unwrap_or_default();
        let states = parts.iter().fold([0; 5], |sum: [u64; 5], part| std::array::from_fn(|state| sum[state] + part[state]));
        let times = self.slowest_us.get(first..end.min(self.slowest_us.len())).unwrap_or_default();
        (states, times.iter().copied().max().unwrap_or(0))
    }
}

/// Each row of the keel: what came over of it, and the longest request there.
fn draw_places(app: &App, picture: &Picture<'_>, rows: &Rows, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let room = area.width.saturating_sub(TIMES + 2);
    let tick = |decade: u16| decade * room / times::DECADES;
    for (decade, word) in SCALE {
        put(buf, area, TIMES + tick(decade), 0, word, theme.dim());
    }
    if picture.parts.is_empty() {
        return;
    }
    for row in 1..area.height {
        let range = ByteRange::new(rows.byte(row), rows.byte(row + 1));
        let (states, slowest) = picture.of(range);
        let sign = sign(&states);
        let is_here = picture.head.is_some_and(|head| range.contains(head));
        let is_late = slowest >= LATE_LEAST_US && slowest > picture.usual_us.saturating_mul(LATE_TIMES);
        let style = match sign {
            '×' => theme.bad(),
            '┼' | '╱' => theme.doubt(),
            '·' => theme.dim(),
            _ => theme.text(),
        };
        put(buf, area, 0, row, if is_here { "▶" } else { " " }, theme.strong());
        put(buf, area, 1, row, &sign.to_string().repeat(2), style);
        let long = bar(slowest, room);
        let bar_style = if is_late && sign != '×' { theme.doubt() } else { style };
        put(buf, area, TIMES, row, &"━".repeat(usize::from(long)), bar_style);
        for decade in (1..times::DECADES).filter(|decade| tick(*decade) >= long) {
            put(buf, area, TIMES + tick(decade), row, "┊", theme.line());
        }
    }
}

/// How long the bar of a request is that took `us` microseconds. What was asked has one, however fast it was.
fn bar(us: u64, room: u16) -> u16 {
    let long = (times::share(us) * f64::from(room)).round() as u16;
    if us == 0 { 0 } else { long.clamp(1, room.max(1)) }
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
    for (row, pass) in Pass::ALL.into_iter().enumerate() {
        let asked = pass != Pass::Volumes || drive.copy.volumes_first;
        let (mark, style) = match running {
            _ if !asked => ("–", theme.dim()),
            Some(now) if now == pass => ("▶", theme.selected()),
            Some(now) if now > pass => ("●", theme.text()),
            None if all_done => ("●", theme.text()),
            _ => ("○", theme.text()),
        };
        let y = 2 + u16::try_from(row).unwrap_or(0);
        put(buf, area, 0, y, &format!("{mark} {}", pass.word()), style);
    }
}

fn draw_figures(app: &App, drive: &Drive, progress: &CopyProgress, area: Rect, buf: &mut Buffer) {
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
    let bytes = |of: CopyState| size_decimal(state(of));
    let (failed, inner) = (state(CopyState::Failed), state(CopyState::Inner) + state(CopyState::PassedOver));
    let rows = [
        (format!("{} of {}", size_decimal(progress.copied), size_decimal(progress.total)), theme.text()),
        (format!("{percent:.3} %   {way}"), theme.text()),
        (format!("{} failed", bytes(CopyState::Failed)), if failed > 0 { theme.bad() } else { theme.text() }),
        (
            format!("{} between edges   {} passed over", bytes(CopyState::Inner), bytes(CopyState::PassedOver)),
            if inner > 0 { theme.doubt() } else { theme.text() },
        ),
        (
            format!(
                "{} failed   {} off the link",
                counted(progress.errors, "read", "reads"),
                counted(progress.link_drops, "time", "times")
            ),
            if progress.errors > 0 { theme.bad() } else { theme.text() },
        ),
        (format!("last request {}   usual {}", times::words(progress.last_us), times::words(progress.usual_us)), theme.text()),
        (format!("rate {}/s", size_decimal(progress.rate)), theme.text()),
    ];
    for (row, (text, style)) in (FIGURES..).zip(rows) {
        put(buf, area, 0, row, &text, style);
    }
}

/// The sign of a place by what is known of it: what is worst counts.
fn sign(part: &[u64; 5]) -> char {
    let all: u64 = part.iter().sum();
    let of = |state: CopyState| part.get(state as usize).copied().unwrap_or(0);
    match () {
        () if of(CopyState::Failed) > 0 => '×',
        () if of(CopyState::Inner) > 0 => '┼',
        () if of(CopyState::PassedOver) > 0 => '╱',
        () if of(CopyState::Copied) == 0 => '·',
        () if of(CopyState::Copied) == all => '┃',
        () => '╎',
    }
}

fn draw_before(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    if let Some(map) = &drive.copy.kept {
        let missing: u64 = map.missing().iter().map(|range| range.len()).sum();
        let have = map.len().saturating_sub(missing);
        let percent = have.saturating_mul(100) / map.len().max(1);
        let says = match missing {
            0 => "An earlier run copied all of it: enter works on the copy, H compares it with its hashes.".to_string(),
            bytes => format!(
                "An earlier run copied {} of {} ({percent} %); {} did not come over. C goes on with it, enter works on it as it is.",
                size_decimal(have),
                size_decimal(map.len()),
                size_decimal(bytes)
            ),
        };
        for (row, line) in wrap(&says, usize::from(area.width.saturating_sub(1))).iter().enumerate() {
            put(buf, area, 0, 2 + u16::try_from(row).unwrap_or(0), line, app.theme.strong());
        }
        return;
    }
    let about = match drive.source.missing().is_empty() {
        true => {
            "C begins a copy of this drive: an image that knows what it lacks. Sound parts come first; the drive is asked for the rest only then. The same key goes on with a copy that was stopped."
        }
        false => "This is a copy. While the drive still answers, open the drive itself and go on with its copy there.",
    };
    for (row, line) in wrap(about, usize::from(area.width.saturating_sub(1))).iter().enumerate() {
        put(buf, area, 0, 2 + u16::try_from(row).unwrap_or(0), line, app.theme.text());
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
                    "{missing} bytes are missing, in {}. They are unreadable in the copy, never zeros:",
                    counted(done.missing.len(), "place", "places")
                ),
                theme.text(),
            );
            let first = drive.copy.selected.saturating_sub(7);
            for (index, range) in done.missing.iter().enumerate().skip(first).take(8) {
                let style = if index == drive.copy.selected { theme.selected() } else { theme.dim() };
                why.say(format!("byte {}, {}", range.start.0, size_decimal(range.len())), style);
            }
            why.say("↑↓ selects one: + zooms the keel on it, b shows its bytes", theme.dim());
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
        why.say("· space lets it rest, N ends the pass", theme.text());
        why.say("· x stops; nothing copied is lost", theme.text());
    } else {
        why.say("· C begins the copy, or goes on with it", theme.text());
        why.say("· enter works on the copy: every stage goes over to it", theme.text());
        why.say("· H compares it with its hashes", theme.text());
    }
    why
}
