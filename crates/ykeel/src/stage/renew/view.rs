//! Renew: the draft row by row, whom it serves and what it costs.

use keel_core::renew::which::{self, Can, Purpose};
use keel_core::renew::{Content, Draft, Drafted};
use keel_core::wipe::Wiped;
use keel_format::VolumeKind;
use keel_format::table::Scheme;
use keel_source::{counted, printable, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::state::{Row, State};
use crate::app::App;
use crate::stage::Drive;
use crate::theme::Theme;
use crate::widget::why::Why;
use crate::widget::{bar, cut, first_shown, put, wrap};

/// Row of the first line of the draft.
const TOP: u16 = 2;
/// Rows that are kept for what it costs and whom it serves.
const BELOW: u16 = 8;
/// Column behind a kind's name, below.
const KINDS: u16 = 7;
/// Column behind a row's name.
const VALUES: u16 = 13;

/// Who is to use the drive, for the table of kinds.
pub(super) fn purpose(drive: &Drive) -> Purpose {
    let readers = drive.renew.readers.clone();
    Purpose { writers: readers.clone(), readers, largest_file: None, bytes: drive.source.len(), files: None }
}

fn list_rows(drive: &Drive, area: Rect) -> (usize, usize) {
    let (count, height) = (drive.renew.rows().len(), usize::from(area.height.saturating_sub(TOP + BELOW)));
    (first_shown(drive.renew.selected, count, height), height)
}

/// The row at a place of the middle.
pub(super) fn row_at(drive: &Drive, area: Rect, at: Position) -> Option<usize> {
    let (first, height) = list_rows(drive, area);
    let row = usize::from(at.y.checked_sub(TOP)?);
    (row < height && first + row < drive.renew.rows().len()).then_some(first + row)
}

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let (theme, renew) = (app.theme, &drive.renew);
    let title = match (renew.wiping.is_some(), renew.is_asked(), renew.drafting.is_some() || renew.proving.is_some()) {
        (true, ..) => wiping_line(renew),
        (_, false, _) => format!("{}, as it is: enter changes a row", size_decimal(drive.source.len())),
        (_, true, true) => format!("draft, {}: being looked into", counted(renew.asked.len(), "step", "steps")),
        (_, true, false) => format!("draft, {}: p makes a plan of it", counted(renew.asked.len(), "step", "steps")),
    };
    put(buf, area, 1, 0, &title, if renew.wiping.is_some() { theme.bad() } else { theme.strong() });
    let (first, height) = list_rows(drive, area);
    for (y, (index, row)) in (TOP..).zip(renew.rows().into_iter().enumerate().skip(first).take(height)) {
        draw_row(drive, row, (theme, area, y), buf);
        if index == renew.selected {
            bar(buf, area, y, theme.selected());
        }
    }
    let below = Rect { y: area.bottom().saturating_sub(BELOW), height: BELOW.min(area.height), ..area };
    draw_below(app, drive, below, buf);
    why(app, drive)
}

fn wiping_line(renew: &State) -> String {
    renew.wipe_progress.as_ref().map_or_else(
        || "overwriting begins".into(),
        |progress| {
            let percent = u128::from(progress.done) * 100 / u128::from(progress.total.max(1));
            let failed = if progress.failed > 0 { format!("  {} failed", size_decimal(progress.failed)) } else { String::new() };
            format!("{}  {percent} %  {}/s{failed}", progress.phase.word(), size_decimal(progress.rate))
        },
    )
}

fn draw_row(drive: &Drive, row: Row, (theme, area, y): (Theme, Rect, u16), buf: &mut Buffer) {
    let renew = &drive.renew;
    let mut line = |name: &str, text: String, style: Style| {
        put(buf, area, 1, y, name, theme.dim());
        put(buf, area, VALUES, y, &cut(&text, usize::from(area.width.saturating_sub(VALUES + 1))), style);
    };
    match (row, &renew.draft) {
        (Row::Table, Some(draft)) => {
            line("  table", table_words(draft), changed(draft.is_fresh || draft.is_converted || draft.is_marked, theme));
        }
        (Row::Table, None) => line("  table", "being read".into(), theme.dim()),
        (Row::Entry(index), Some(draft)) => {
            if let Some(entry) = draft.entries.get(index) {
                let mark = mark(entry, draft);
                line(&format!("{mark} {:>3}", entry.slot), entry_words(drive, entry, draft), changed(mark != "=", theme));
            }
        }
        (Row::Free(from, to), Some(draft)) => {
            let bytes = size_decimal((to - from) * draft.sector.bytes());
            line("    free", format!("{bytes}  from sector {from} to {}", to - 1), theme.dim());
        }
        (Row::Leftovers, _) => {
            let text =
                if renew.clears { "cleared: signatures of former volumes, tables and containers" } else { "left as they are" };
            line("  leftovers", text.into(), changed(renew.clears, theme));
        }
        (Row::Recipe, _) => line("  recipe", "the usual ways: stick, disk, archive, camera card, anew".into(), theme.dim()),
        (Row::Serves, _) => {
            let best = which::answers(&purpose(drive)).into_iter().find(|answer| answer.serves).map(|answer| answer.kind.word());
            let words: Vec<&str> = renew.readers.iter().map(|reader| reader.word()).collect();
            let text = format!("{}: {}", words.join(", "), best.unwrap_or("no kind serves all of them"));
            line("  for whom", text, theme.text());
        }
        (Row::Wipe, _) => {
            let text = renew
                .wiped
                .as_ref()
                .map_or_else(|| "a range, a volume, free ground or all of it; no way back".into(), Wiped::line);
            let style = match &renew.wiped {
                Some(wiped) if wiped.is_whole() => theme.good(),
                Some(_) => theme.bad(),
                None => theme.dim(),
            };
            line("  overwrite", text, style);
        }
        _ => {}
    }
}

fn changed(is_changed: bool, theme: Theme) -> Style {
    if is_changed { theme.staged() } else { theme.text() }
}

fn table_words(draft: &Draft) -> String {
    let scheme = draft.scheme.map_or("none: one volume takes the drive", Scheme::word);
    let how = match (draft.is_fresh, draft.is_converted, draft.is_marked) {
        (true, ..) => ", new",
        (_, true, _) => ", converted",
        (.., true) => ", signature and identifier new",
        _ if draft.scheme.is_none() && draft.entries.is_empty() => return "none, and no volume that is known".into(),
        _ => "",
    };
    let wrong = draft.unsound().map_or_else(String::new, |wrong| format!("  not sound: {wrong}"));
    format!("{scheme}{how}{wrong}")
}

/// `+` new, `~` changed, `=` as it is now.
fn mark(entry: &Drafted, draft: &Draft) -> &'static str {
    match (&entry.content, entry.number) {
        (Content::New(_), None) => "+",
        (Content::New(_), Some(_)) => "~",
        (Content::Stands, _) if entry.fits.is_some() || entry.is_chosen || draft.is_converted => "~",
        _ => "=",
    }
}

/// The name of an entry, or the label of the volume that was found there.
fn label_of(drive: &Drive, entry: &Drafted, draft: &Draft) -> String {
    let found = drive.sweep.finds.iter().find(|find| find.start_byte == entry.first.offset(draft.sector));
    let label = found.and_then(|find| find.label.clone());
    if entry.name.is_empty() { label.unwrap_or_default() } else { entry.name.clone() }
}

fn entry_words(drive: &Drive, entry: &Drafted, draft: &Draft) -> String {
    let kind = entry.kind().map_or("not known", VolumeKind::word);
    let (label, more) = match &entry.content {
        Content::New(wish) => {
            let cluster = wish.cluster.map_or_else(String::new, |bytes| format!("  cluster {bytes}"));
            (wish.label.clone(), format!("{cluster}  new"))
        }
        Content::Stands => {
            (label_of(drive, entry, draft), if entry.fits.is_some() { "  another length".into() } else { String::new() })
        }
    };
    let flags: Vec<&str> = keel_core::renew::flags_of(entry).into_iter().map(keel_core::renew::Flag::word).collect();
    let flags = if flags.is_empty() { String::new() } else { format!("  {}", flags.join(", ")) };
    let bytes = size_decimal(entry.sectors.bytes(draft.sector));
    let end = entry.ground().end.saturating_sub(1);
    format!("{:<11}{kind:<7}{bytes:>9}  {} … {end}{more}{flags}", printable(&cut(&label, 10)), entry.first.0)
}

/// Whom it serves, and what it costs.
fn draw_below(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    let (theme, renew) = (app.theme, &drive.renew);
    put(buf, area, 0, 0, &"─".repeat(usize::from(area.width.saturating_sub(1))), theme.line());
    let kinds: Vec<VolumeKind> = {
        let mut kinds = Vec::new();
        let all = renew.draft.iter().flat_map(|draft| &draft.entries).filter_map(Drafted::kind);
        all.for_each(|kind| {
            if !kinds.contains(&kind) {
                kinds.push(kind);
            }
        });
        kinds
    };
    let mut y = 1;
    for kind in kinds.into_iter().take(3) {
        let signs: Vec<String> = which::Reader::ALL
            .into_iter()
            .map(|reader| format!("{} {}", reader.word(), sign(which::fact(kind, reader).0)))
            .collect();
        put(buf, area, 1, y, kind.word(), theme.strong());
        put(
            buf,
            area,
            KINDS,
            y,
            &cut(&beside(&signs, area.width.saturating_sub(KINDS)), usize::from(area.width.saturating_sub(KINDS))),
            theme.text(),
        );
        y += 1;
    }
    y += 1;
    let mut say = |text: String, style: Style| {
        for line in wrap(&text, usize::from(area.width.saturating_sub(2))) {
            if y < area.height {
                put(buf, area, 1, y, &line, style);
            }
            y += 1;
        }
    };
    match &renew.change {
        Some(Ok(change)) => {
            let bytes = size_decimal(change.edits.iter().map(|edit| edit.after.len()).sum());
            say(format!("writes {bytes} in {}", counted(change.edits.len(), "place", "places")), theme.text());
            change.fitted.iter().for_each(|fitted| say(fitted.sentence(), theme.text()));
        }
        Some(Err(why)) => say(format!("cannot be staged: {why}"), theme.bad()),
        None => say("writes nothing".into(), theme.dim()),
    }
    renew.refused.iter().for_each(|why| say(format!("not drafted: {why}"), theme.doubt()));
}

/// Texts side by side, closer where there is little room.
fn beside(texts: &[String], width: u16) -> String {
    let wide = texts.join("  ");
    if crate::widget::columns(&wide) > usize::from(width) { texts.join(" ") } else { wide }
}

fn sign(can: Can) -> &'static str {
    match can {
        Can::Write => "✓",
        Can::Read | Can::Some | Can::SomeRead | Can::SomeWrite => "◐",
        Can::Nothing => "–",
    }
}

fn why(app: &App, drive: &Drive) -> Why {
    let (theme, renew) = (app.theme, &drive.renew);
    let mut why = Why::default();
    why.say("Why", theme.strong());
    if let Some(progress) = &renew.wipe_progress.as_ref().filter(|_| renew.wiping.is_some()) {
        why.say(format!("Overwriting at byte {}. x stops it; asked for again, it goes on from there.", progress.at), theme.bad());
        return why;
    }
    match renew.row() {
        Row::Serves => {
            for answer in which::answers(&purpose(drive)).into_iter().take(4) {
                let word = match (answer.serves, answer.doubtful) {
                    (true, false) => "serves",
                    (true, true) => "serves most",
                    (false, _) => "does not serve",
                };
                why.say(format!("{} {word}", answer.kind.word()), if answer.serves { theme.strong() } else { theme.dim() });
                answer.because.iter().filter(|_| answer.serves).take(3).for_each(|text| why.say(format!("+ {text}"), theme.text()));
                answer.against.iter().take(2).for_each(|text| why.say(format!("− {text}"), theme.dim()));
            }
            why.gap();
        }
        Row::Leftovers => why.say("What is left of former volumes at both ends and at odd places makes systems see two things at once, and creating fail again and again.", theme.text()),
        Row::Wipe => why.say(keel_core::wipe::BEYOND, theme.text()),
        Row::Entry(index) => {
            let told = renew.draft.as_ref().and_then(|draft| draft.entries.get(index));
            let stands = told.and_then(|entry| entry.stands.as_ref());
            if let Some(Content::New(wish)) = told.map(|entry| &entry.content) {
                why.say(format!("A new {}.", wish.kind.word()), theme.strong());
            }
            match stands {
                Some(geometry) => why.say(format!("A {} of {} stands there.", geometry.kind().word(), size_decimal(geometry.bytes())), theme.text()),
                None => why.say("Nothing that is known stands there now.", theme.text()),
            }
        }
        _ => {}
    }
    why.gap();
    for asked in renew.asked.iter().enumerate() {
        why.say(format!("{}. {}", asked.0 + 1, printable(&asked.1.text)), theme.staged());
    }
    if let Some(draft) = &renew.draft {
        draft.told.iter().for_each(|line| why.say(format!("· {line}"), theme.text()));
    }
    if let Some(change) = renew.change() {
        why.gap();
        let lost = &change.gate.lost;
        why.say(
            if lost.is_empty() { "Lost by this draft: nothing that was found." } else { "Lost by this draft" },
            theme.strong(),
        );
        let style = if lost.is_empty() { theme.text() } else { theme.bad() };
        change.gate.sentences().into_iter().for_each(|line| why.say(format!("{}.", crate::widget::capital(&line)), style));
        if let Some(seen) = &renew.seen {
            seen.against.iter().for_each(|line| why.say(format!("Refused: {line}."), theme.bad()));
            if seen.against.is_empty() && !change.fitted.is_empty() {
                why.say("Every file of what grows or shrinks was compared on the drive as it would be.", theme.good());
            }
            if seen.against.is_empty() && !change.made.is_empty() {
                why.say("What is made was opened on the drive as it would be, and held against every rule.", theme.good());
            }
        }
    }
    why.gap();
    why.say("Next", theme.strong());
    match renew.is_asked() {
        true => {
            why.say("· p: the plan, which is applied and undone as any other", theme.text());
            why.say("· backspace: take the last step back", theme.text());
        }
        false => why.say("· ↑↓ a row, enter changes it", theme.text()),
    }
    why
}
