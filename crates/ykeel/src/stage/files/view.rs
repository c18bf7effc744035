//! Files: the tree of a volume, a preview, and what is taken out.

use keel_core::files::{Extracted, FileGround, Hit, Outcome};
use keel_format::{Existence, NodeKind};
use keel_source::{counted, printable, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect, Size};
use ratatui::widgets::Widget;
use ratatui_image::Image;

use super::preview::{Preview, ViewAs};
use super::search::{said, weighed};
use super::{State, adrift};
use crate::app::App;
use crate::stage::Drive;
use crate::widget::why::Why;
use crate::widget::{bar, columns, cut, first_shown, hex, put, wrap};

/// Row of the first entry.
const TOP: u16 = 2;

/// The list and the preview below it, or beside it where there is room.
fn split(area: Rect) -> (Rect, Rect) {
    let height = area.height / 2;
    (Rect { height, ..area }, Rect { y: area.y + height, height: area.height - height, ..area })
}

/// Cells that a picture may fill in a middle of this size.
pub(super) fn preview_size(middle: Rect) -> Size {
    let preview = split(middle).1;
    Size::new(preview.width.saturating_sub(2).max(1), preview.height.saturating_sub(2).max(1))
}

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let files = &drive.files;
    if files.volume.is_none() {
        let closed = "No volume is open. Choose a find in the Sweep (5) and press enter; ~ shows the files that no volume holds.";
        let waits = files.adrift.waits();
        let text = files.problem.as_deref().or(waits.as_deref()).unwrap_or(closed);
        for (y, line) in wrap(text, usize::from(area.width.saturating_sub(4))).iter().enumerate() {
            put(buf, area, 2, 2 + u16::try_from(y).unwrap_or(0), line, app.theme.text());
        }
        return Why::default();
    }
    let (list, preview) = split(area);
    draw_list(app, files, list, buf);
    draw_preview(app, files, preview, buf);
    why(app, drive)
}

/// How many entries are shown, and by what they were narrowed down.
fn shown(files: &State) -> String {
    let count = counted(files.count(), "entry", "entries");
    let (before, behind) = files.order.filter.parts();
    let wrong = files.wrong.as_ref().map(|wrong| format!("  {wrong}")).unwrap_or_default();
    match (files.order.typing, before.is_empty() && behind.is_empty()) {
        (true, _) => format!("{count} of {}  / {before}▏{behind}{wrong}", files.listed()),
        (false, true) => count,
        (false, false) => format!("{count} of {}  / {before}{behind}{wrong}", files.listed()),
    }
}

fn draw_list(app: &App, files: &State, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let find = files.find.as_ref();
    let other = if files.adrift.is_open() { "adrift" } else { "-" };
    let name = find.map_or(other, |find| find.name());
    let folder = files.folder();
    let marked = weighed(files);
    let marked = if marked.is_empty() { marked } else { format!("  {marked}") };
    let count = format!("{}{marked}{}", shown(files), if files.show_deleted { "  with deleted" } else { "" });
    let count = cut(&count, usize::from(area.width).saturating_sub(20));
    let counted = columns(&count) + 1;
    let title = said(files).unwrap_or_else(|| format!("{name} /{folder}"));
    let title = cut(&title, usize::from(area.width).saturating_sub(counted + 3));
    put(buf, area, 1, 0, &title, theme.strong());
    put(buf, area, area.width.saturating_sub(u16::try_from(counted).unwrap_or(0)), 0, &count, theme.dim());
    let adrift = files.adrift.is_open();
    let times = area.width.saturating_sub(if adrift { 49 } else { 36 });
    put(buf, area, 3, 1, "name", theme.dim());
    let heads = if adrift { "state                 bytes  made" } else { "         bytes  changed" };
    put(buf, area, times, 1, heads, theme.dim());
    let height = usize::from(area.height.saturating_sub(TOP + 1));
    let first = first_shown(files.selected, files.count(), height);
    let names = Rect { width: times.saturating_sub(1), ..area };
    for (row, hit) in files.rows().enumerate().skip(first).take(height) {
        let y = TOP + u16::try_from(row - first).unwrap_or(0);
        let (entry, path) = (&hit.entry, hit.path());
        let mark = if files.is_marked(&path) { "✓" } else { " " };
        let (sign, style) = match (entry.existence, entry.kind) {
            (Existence::Deleted, _) => ("×", theme.doubt()),
            (Existence::Named, NodeKind::File) => ("∅", theme.bad()),
            (_, NodeKind::Directory) => ("▸", theme.strong()),
            (_, NodeKind::Link) => ("↷", theme.text()),
            (_, NodeKind::File) => (" ", theme.text()),
        };
        let name = if files.shows_found() { &path } else { &entry.name };
        put(buf, names, 0, y, &format!("{mark}{sign} {name}"), style);
        let bytes = if entry.kind == NodeKind::Directory { String::new() } else { entry.bytes.to_string() };
        let time = entry.times.modified.map(|stamp| stamp.to_string()).unwrap_or_default();
        if adrift {
            let (state, bytes) = files.adrift.row(entry);
            put(buf, area, times, y, &format!("{state:<13}{bytes:>14}  {time:.19}"), theme.dim());
        } else {
            put(buf, area, times, y, &format!("{bytes:>14}  {time:.19}"), theme.dim());
        }
        if row == files.selected {
            bar(buf, area, y, theme.selected());
        }
    }
    if files.count() == 0 {
        let text = if files.list_job.is_some() || files.search_job.is_some() { "reading" } else { "nothing here" };
        put(buf, area, 3, TOP, files.problem.as_deref().unwrap_or(text), theme.dim());
    }
}

fn draw_preview(app: &App, files: &State, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let line = "─".repeat(usize::from(area.width));
    put(buf, area, 0, 0, &line, theme.line());
    let Some(Hit { entry, .. }) = files.selected_entry() else { return };
    let inner = Rect { x: area.x + 1, y: area.y + 1, width: area.width.saturating_sub(2), height: area.height.saturating_sub(1) };
    let preview = files.preview.as_ref().filter(|preview| preview.id == entry.id);
    let Some(preview) = preview else {
        let text = match entry.kind {
            NodeKind::Directory => "a folder; enter opens it",
            _ if files.preview_job.is_some() => "reading",
            _ => "",
        };
        put(buf, inner, 0, 1, text, theme.dim());
        return;
    };
    let view = match (files.view, &preview.picture) {
        (ViewAs::Hex, _) => "bytes",
        (_, Some(_)) => "picture",
        _ if preview.text.is_some() => "text",
        _ if preview.about.is_some() => "what it says",
        _ => "bytes",
    };
    put(buf, area, 2, 0, &format!(" {} as {view} ", entry.name), theme.strong());
    if let Some(problem) = &preview.problem {
        put(buf, inner, 0, 0, problem, theme.bad());
    }
    match view {
        "picture" => {
            if let Some(picture) = &preview.picture {
                Image::new(picture).render(inner.intersection(buf.area), buf);
            }
        }
        "text" => draw_text(app, preview, inner, buf),
        "what it says" => draw_about(app, preview, inner, buf),
        _ => draw_hex(app, preview, inner, buf),
    }
}

fn draw_text(app: &App, preview: &Preview, area: Rect, buf: &mut Buffer) {
    let Some((text, _)) = &preview.text else { return };
    for (y, line) in text.lines().take(usize::from(area.height)).enumerate() {
        let line = printable(&line.replace('\t', "    "));
        put(buf, area, 0, u16::try_from(y).unwrap_or(0), &line, app.theme.text());
    }
}

/// What an archive lists, or what a document, sound or film says of itself.
fn draw_about(app: &App, preview: &Preview, area: Rect, buf: &mut Buffer) {
    let Some(about) = &preview.about else { return };
    let said = about.says.iter().map(|(word, value)| (format!("{word:<16}{}", printable(value)), app.theme.text()));
    let head = std::iter::once((about.form.to_string(), app.theme.strong()));
    let problem = about.problem.iter().map(|why| (format!("not read to its end: {}", printable(why)), app.theme.bad()));
    let listed =
        about.listing.iter().map(|listed| (format!("{:>14}  {}", listed.bytes, printable(&listed.path)), app.theme.text()));
    let more = about.more.then(|| ("               and more".to_string(), app.theme.dim()));
    for (y, (line, style)) in (0..area.height).zip(head.chain(said).chain(problem).chain(listed).chain(more)) {
        put(buf, area, 0, y, &line, style);
    }
}

fn draw_hex(app: &App, preview: &Preview, area: Rect, buf: &mut Buffer) {
    for (index, bytes) in preview.bytes.chunks(16).take(usize::from(area.height)).enumerate() {
        let y = u16::try_from(index).unwrap_or(0);
        hex::line(buf, area, y, index as u64 * 16, bytes, app.theme, |_| false);
    }
}

fn why(app: &App, drive: &Drive) -> Why {
    let theme = app.theme;
    let files = &drive.files;
    if files.adrift.is_open() {
        return adrift::why(files, drive.sweep.starts.untold, theme);
    }
    let mut why = Why::default();
    why.say("Why", theme.strong());
    if let (Some(find), Some(volume)) = (&files.find, &files.volume) {
        let summary = volume.summary();
        why.say(format!("{} {}, {}", find.kind.word(), find.name(), size_decimal(find.bytes)), theme.text());
        why.say(
            format!("serial {}, clusters of {} B", summary.serial.as_deref().unwrap_or("-"), summary.cluster_bytes),
            theme.dim(),
        );
        let boot =
            find.witnesses.iter().any(|witness| witness.kind == keel_format::WitnessKind::BootSector && witness.weight > 0);
        if let Some(present) = &find.older_than {
            let says = format!("what is left of an older generation under {present}: each file says what is left of its ground");
            why.say(says, theme.doubt());
        } else if !boot {
            why.say("read without a boot sector: the layout comes from the volume's own metadata", theme.doubt());
        }
        if let Some(kept) = find.kind.kept_of_deleted().filter(|_| files.show_deleted) {
            why.say(format!("{}: {kept}", find.kind.word()), theme.dim());
        }
        why.gap();
    }
    if let Some(Hit { entry, .. }) = files.selected_entry() {
        why.say(printable(&entry.name), theme.strong());
        why.say(format!("{} bytes", entry.bytes), theme.text());
        for (what, time) in [("created", entry.times.created), ("changed", entry.times.modified), ("read", entry.times.accessed)]
        {
            if let Some(time) = time {
                why.say(format!("{what:<8} {time}"), theme.dim());
            }
        }
        if let Some(preview) = files.preview.as_ref().filter(|preview| preview.id == entry.id) {
            let deleted = if entry.existence == Existence::Deleted { "Deleted; " } else { "" };
            if preview.ground != FileGround::Whole || !deleted.is_empty() {
                why.say(format!("{deleted}{}: {}.", preview.ground.word(), preview.ground.sentence()), theme.doubt());
            }
            if let Some((width, height)) = preview.picture_size {
                why.say(format!("picture of {width} x {height}"), theme.dim());
            }
            if let Some((_, encoding)) = &preview.text {
                why.say(format!("text, {}", encoding.0), theme.dim());
            }
            if !preview.whole {
                why.say("part of it cannot be read", theme.bad());
            }
            for stream in preview.streams.iter().filter(|stream| !stream.name.is_empty() || stream.storage != "plain") {
                let name = if stream.name.is_empty() {
                    "main stream".to_string()
                } else {
                    format!("stream {}", printable(&stream.name))
                };
                why.say(format!("{name}: {} bytes, {}", stream.bytes, stream.storage), theme.dim());
            }
        }
        why.gap();
    }
    for finding in files.findings.iter().take(8) {
        why.say(format!("{}: {}", finding.what, finding.how), theme.doubt());
    }
    why.say("Next", theme.strong());
    for line in [
        "· space marks, e takes out what is marked",
        "· enter reads the whole file, b shows where it lies",
        "· * searches the whole volume, # shows its pictures side by side",
    ] {
        why.say(line, theme.text());
    }
    why
}

/// What an extraction did, in sentences.
pub(super) fn summary(done: &Extracted) -> String {
    let mut text = format!(
        "{} whole, {} partly unreadable, {} failed; {} bytes.\n",
        counted(done.whole, "file", "files"),
        done.partly_unreadable,
        done.failed,
        done.bytes
    );
    text.push_str(if done.compared {
        "Count and bytes on this system are those of the manifest.\n"
    } else {
        "Count or bytes on this system DIFFER from the manifest.\n"
    });
    if done.was_there > 0 {
        text.push_str(&format!("{} of them were there already, with the same content.\n", done.was_there));
    }
    for (sort, count) in &done.sorts {
        let other = [(count.damaged, "damaged"), (count.missing, "missing")].into_iter().filter(|(count, _)| *count > 0);
        let other: String = other.map(|(count, word)| format!(", {count} {word}")).collect();
        text.push_str(&format!("{:<12} {} whole{other}\n", sort.word(), count.whole));
    }
    if done.cancelled {
        text.push_str("It was stopped: the files so far are whole.\n");
    }
    for finding in done.findings.iter().take(4) {
        text.push_str(&format!("While the volume was listed: {} ({})\n", printable(&finding.what), printable(&finding.how)));
    }
    for file in done.files.iter().filter(|file| file.state != Outcome::Whole).take(6) {
        text.push_str(&format!("{}: {}\n", printable(&file.path), file.why.as_deref().unwrap_or("partly unreadable")));
    }
    text.push_str(&format!("manifest: {}", done.manifest.display()));
    text
}

/// Selects the entry that was clicked at.
pub(super) fn click(drive: &mut Drive, area: Rect, at: Position) {
    let (list, _) = split(area);
    let height = usize::from(list.height.saturating_sub(TOP + 1));
    let first = first_shown(drive.files.selected, drive.files.count(), height);
    let row = first + usize::from(at.y.saturating_sub(TOP));
    if at.y >= TOP && at.y < list.height && row < drive.files.count() {
        drive.files.selected = row;
    }
}
