//! `ykeel files`.

use std::io::Write;
use std::ops::ControlFlow;

use keel_core::copy::{self, Touched};
use keel_core::files::{self, FileGround, GroundJudge, Query};
use keel_core::sweep::{Find, Reach, readable};
use keel_format::{Deleted, Entry, Existence, Finding, NodeKind, StreamInfo, Volume, VolumeSummary};
use keel_source::{SharedSource, printable, size_decimal};
use serde::Serialize;

use super::shared::{cancel, find, open, print_json, sweep};
use crate::cli::SourceArgs;
use crate::exit::Ended;
use crate::out::Json;
use crate::out::tell;

/// What to list.
pub(super) struct Asked<'a> {
    pub(super) volume: Option<&'a str>,
    pub(super) path: &'a str,
    pub(super) recursive: bool,
    pub(super) deleted: bool,
    pub(super) find: Option<&'a str>,
    pub(super) streams: bool,
    pub(super) missing: bool,
}

#[derive(Serialize)]
struct Line {
    path: String,
    #[serde(flatten)]
    entry: Entry,
    /// What is left of the ground of a deleted file.
    #[serde(skip_serializing_if = "Option::is_none")]
    ground: Option<FileGround>,
}

#[derive(Serialize)]
struct Document<'a> {
    volume: &'a str,
    summary: &'a VolumeSummary,
    path: &'a str,
    entries: Vec<Line>,
    streams: Vec<StreamInfo>,
    findings: Vec<Finding>,
    /// With `--deleted`: what the format keeps of a deleted file.
    #[serde(skip_serializing_if = "Option::is_none")]
    kept_of_deleted: Option<&'static str>,
}

pub(super) fn run(args: &SourceArgs, asked: &Asked<'_>) -> anyhow::Result<()> {
    let query = Query::typed(asked.find.unwrap_or_default()).map_err(|wrong| Ended::WrongUse(wrong.to_string()))?;
    let source = open(args)?;
    let swept = sweep(&source, Reach::Doubt)?;
    if asked.missing {
        return missing(args, &source, &swept.finds, asked.volume);
    }
    let Some(find) = chosen(&swept.finds, asked.volume)? else {
        let told = |find: &Find| {
            let name = printable(find.name());
            format!("{} ({} {name}, {})", find.id, find.kind.word(), size_decimal(find.bytes))
        };
        let all: Vec<String> = swept.finds.iter().map(told).collect();
        return Err(Ended::WrongUse(format!("choose one with --volume: {}", all.join(", "))).into());
    };
    let volume = files::open(&source, find)?;
    let taken = files::taken(&source, &swept.finds, find);
    let judge =
        taken.as_ref().map_or_else(|| GroundJudge::new(volume.as_ref()), |taken| GroundJudge::under(volume.as_ref(), taken));
    let older = find.is_former();
    let resolved = files::resolve(volume.as_ref(), asked.path)?;
    let deleted = if asked.deleted || query.wants_deleted() { Deleted::Show } else { Deleted::Hide };
    let mut document = Document {
        volume: &find.id,
        summary: volume.summary(),
        path: asked.path,
        entries: Vec::new(),
        streams: Vec::new(),
        findings: Vec::new(),
        kept_of_deleted: find.kind.kept_of_deleted().filter(|_| deleted == Deleted::Show),
    };
    if !args.json {
        document.kept_of_deleted.iter().for_each(|kept| tell!("ykeel: {}: {kept}", find.kind.word()));
    }
    if resolved.entry.kind != NodeKind::Directory || asked.streams {
        document.streams = volume.streams(resolved.entry.id)?;
        let ground = ground_of(&judge, older, &resolved.entry);
        document.entries.push(Line { path: asked.path.trim_start_matches('/').to_string(), entry: resolved.entry, ground });
    } else if asked.recursive || !query.is_empty() {
        return tree(args, (volume.as_ref(), &judge, older), &document, (asked.path, &query), deleted);
    } else {
        let (entries, findings) = files::entries(volume.as_ref(), resolved.entry.id, deleted)?;
        let base = asked.path.trim_matches('/');
        let line = |entry: Entry| Line {
            path: if base.is_empty() { entry.name.clone() } else { format!("{base}/{}", entry.name) },
            ground: ground_of(&judge, older, &entry),
            entry,
        };
        document.entries = entries.into_iter().map(line).collect();
        document.findings = findings;
    }
    if args.json {
        return print_json(&document);
    }
    let mut out = std::io::stdout().lock();
    for line in &document.entries {
        print_line(&mut out, &line.path, &line.entry, line.ground)?;
    }
    for stream in document.streams.iter().filter(|stream| !stream.name.is_empty() || stream.storage != "plain") {
        writeln!(out, "    stream {:?}  {}  {}", printable(&stream.name), stream.bytes, stream.storage)?;
    }
    for finding in &document.findings {
        tell!("ykeel: {}: {}", finding.what, finding.how);
    }
    Ok(())
}

/// The find asked for; when none is named the only one, or the only one that stands by itself.
fn chosen<'a>(finds: &'a [Find], name: Option<&str>) -> anyhow::Result<Option<&'a Find>> {
    let mut present = readable(finds);
    match (name, finds, (present.next(), present.next())) {
        (Some(name), ..) => find(finds, name).map(Some),
        (None, [only], _) | (None, _, (Some(only), None)) => Ok(Some(only)),
        (None, [], _) => Err(keel_core::CoreError::Nothing("no volume was found on this drive").into()),
        (None, ..) => Ok(None),
    }
}

/// A line of a tree, as JSON: written as it is read.
#[derive(Serialize)]
struct TreeLine<'a> {
    path: &'a str,
    #[serde(flatten)]
    entry: &'a Entry,
    #[serde(skip_serializing_if = "Option::is_none")]
    ground: Option<FileGround>,
}

/// The whole tree below a folder, or what of it meets a query, line by line as it is read; as JSON one document, written as it is read as well.
fn tree(
    args: &SourceArgs,
    (volume, judge, older): (&dyn Volume, &GroundJudge<'_>, bool),
    document: &Document<'_>,
    (base, query): (&str, &Query),
    deleted: Deleted,
) -> anyhow::Result<()> {
    let base = base.trim_matches('/');
    let mut out = Json::new(std::io::BufWriter::with_capacity(1 << 16, std::io::stdout().lock()));
    if args.json {
        write!(out, "{{\"volume\":")?;
        serde_json::to_writer(&mut out, document.volume)?;
        write!(out, ",\"summary\":")?;
        serde_json::to_writer(&mut out, document.summary)?;
        write!(out, ",\"path\":")?;
        serde_json::to_writer(&mut out, document.path)?;
        if let Some(kept) = document.kept_of_deleted {
            write!(out, ",\"kept_of_deleted\":")?;
            serde_json::to_writer(&mut out, kept)?;
        }
        write!(out, ",\"entries\":[")?;
    }
    let (mut broken, mut path, mut first) = (None, String::new(), true);
    let findings = volume.walk(deleted, &mut |found| {
        let below =
            base.is_empty() || found.folder == base || found.folder.strip_prefix(base).is_some_and(|rest| rest.starts_with('/'));
        if below && query.meets(found.entry) {
            path.clear();
            if !found.folder.is_empty() {
                path.push_str(found.folder);
                path.push('/');
            }
            path.push_str(&found.entry.name);
            let ground = ground_of(judge, older, found.entry);
            let written = match args.json {
                true => {
                    let separator = if std::mem::take(&mut first) { "\n" } else { ",\n" };
                    let line = TreeLine { path: &path, entry: found.entry, ground };
                    write!(out, "{separator}").and_then(|()| Ok(serde_json::to_writer(&mut out, &line)?))
                }
                false => print_line(&mut out, &path, found.entry, ground),
            };
            if let Err(error) = written {
                broken = Some(error);
                return ControlFlow::Break(());
            }
        }
        if cancel().is_cancelled() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    if let Some(error) = broken {
        return Err(error.into());
    }
    if args.json {
        write!(out, "\n],\"streams\":[],\"findings\":")?;
        serde_json::to_writer(&mut out, &findings)?;
        writeln!(out, "}}")?;
    }
    out.flush()?;
    if cancel().is_cancelled() {
        return Err(Ended::Cancelled.into());
    }
    Ok(())
}

/// What is left of the ground of a deleted file or one of which only the name is left, and of every file of an older generation; of the others it is told in the
/// manifest.
fn ground_of(judge: &GroundJudge<'_>, older: bool, entry: &Entry) -> Option<FileGround> {
    ((older || entry.existence != Existence::Present) && entry.kind == NodeKind::File).then(|| judge.of(entry))
}

fn print_line(out: &mut dyn Write, path: &str, entry: &Entry, ground: Option<FileGround>) -> std::io::Result<()> {
    let state = ground.map(|ground| format!("  ({})", ground.word())).unwrap_or_default();
    let kind = match (entry.kind, entry.existence) {
        (_, Existence::Deleted) => "deleted",
        (NodeKind::File, Existence::Named) => "named",
        (NodeKind::Directory, _) => "folder",
        (NodeKind::Link, _) => "link",
        (NodeKind::File, _) => "",
    };
    let time = entry.times.modified.map(|stamp| stamp.to_string()).unwrap_or_default();
    writeln!(out, "{:>14}  {time:<20}  {kind:<7}  {}{state}", entry.bytes, printable(path))
}

#[derive(Serialize)]
struct Lacking<'a> {
    volume: &'a str,
    files: Vec<Touched>,
}

/// Names the files of which a copy lacks something, in one volume or in all of them.
fn missing(args: &SourceArgs, source: &SharedSource, finds: &[Find], volume: Option<&str>) -> anyhow::Result<()> {
    let chosen: Vec<&Find> = match volume {
        Some(id) => vec![find(finds, id)?],
        None => readable(finds).collect(),
    };
    let mut volumes = Vec::new();
    for find in chosen {
        volumes.push(Lacking { volume: &find.id, files: copy::touched(source, find)? });
    }
    if args.json {
        return print_json(&volumes);
    }
    let mut out = std::io::stdout().lock();
    for volume in &volumes {
        for file in &volume.files {
            let (path, first) = (printable(&file.path), file.first_at.0);
            writeln!(out, "{}  {path}  {} bytes missing, the first at byte {first}", volume.volume, file.missing_bytes)?;
        }
    }
    if volumes.iter().all(|volume| volume.files.is_empty()) {
        writeln!(out, "no file lacks anything")?;
    }
    Ok(())
}
