//! Taking files out, with a manifest that proves what came out.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use keel_format::{Deleted, Entry, Finding, NodeKind, Severity, Volume};
use keel_source::SharedSource;
use sha2::{Digest, Sha256};

use super::ground::{FileGround, GroundJudge};
use super::manifest::{Extracted, MOST_NAMESAKES, ManifestEntry, Outcome, Part, Unfinished, by_sort, compare, write_manifest};
use super::name::{numbered, safe_component};
use super::path::{Resolved, resolve};
use super::put;
use super::taken_before::{Before, is_same, mark_of};
use crate::error::{CoreError, file_error};
use crate::job::Desk;

/// Bytes of a file read at once; the cancel flag is tested as often.
const STEP: usize = 1 << 20;
/// The most streams of one file that are taken out.
const MOST_STREAMS: usize = 256;
/// The longest file with holes that is taken out, in bytes.
const MOST_SPARSE: u64 = 16 << 40;

/// Progress of an extraction.
#[derive(Debug, Clone)]
pub struct ExtractProgress {
    /// Files done.
    pub files: u64,
    /// Bytes written.
    pub bytes: u64,
    /// Path of the file in work.
    pub path: String,
}

/// Takes `paths` (files, or folders with all below them; none: everything) out of `volume`, which lies on `source`, into folder `to`.
/// Nothing that is there already is overwritten or followed; what an earlier extraction of the same volume left there, whole, is not
/// read again; `judge` says what is left of each file's ground. What was done is noted in
/// the journal of the drive's case.
///
/// # Errors
/// [`CoreError::Unknown`] for a path that is not there; [`CoreError::File`] when the target folder or the manifest
/// cannot be written; [`Refusal::OwnMedium`](crate::Refusal) where the folder lies on the drive itself. A single file's failure is in the
/// manifest, not an error.
pub fn take_out<'a>(
    source: &SharedSource,
    (volume, judge): (&'a dyn Volume, GroundJudge<'a>),
    paths: &[String],
    to: &Path,
    desk: &'a Desk<ExtractProgress>,
) -> Result<Extracted, CoreError> {
    crate::whose::not_on_its_own_medium(source.as_ref(), to)?;
    let extracted = extract(source.identity().key().as_str(), (volume, judge), paths, to, desk)?;
    crate::case::note(source.as_ref(), "extract", &extracted.line());
    Ok(extracted)
}

/// As [`take_out`], of a volume alone; `drive` is what tells its drive from others.
pub(super) fn extract<'a>(
    drive: &str,
    (volume, judge): (&'a dyn Volume, GroundJudge<'a>),
    paths: &[String],
    to: &Path,
    desk: &'a Desk<ExtractProgress>,
) -> Result<Extracted, CoreError> {
    fs::create_dir_all(to).map_err(file_error("create", to))?;
    let Wanted { files: wanted, folders, findings } = wanted(volume, paths)?;
    let of = mark_of(drive, volume);
    let before = Before::read(to, &of);
    has_room(volume, &wanted, &before, to)?;
    let unfinished = Unfinished::begin(to, &of)?;
    let mut run = Run {
        volume,
        judge,
        to,
        desk,
        before,
        bytes: 0,
        made: HashSet::new(),
        files: Vec::new(),
        saved: HashSet::new(),
        unfinished,
    };
    let mut cancelled = false;
    for item in wanted {
        if desk.cancel().is_cancelled() {
            cancelled = true;
            break;
        }
        cancelled |= run.take(&item).is_break();
    }
    run.dress_folders(&folders);
    let (files, unfinished, old) = (run.files, run.unfinished, run.before);
    let count = |state| files.iter().filter(|file| file.state == state).count() as u64;
    let compared = compare(to, &files);
    let mut extracted = Extracted {
        of,
        whole: count(Outcome::Whole),
        partly_unreadable: count(Outcome::PartlyUnreadable),
        failed: count(Outcome::Failed),
        was_there: files.iter().filter(|file| file.was_there).count() as u64,
        sorts: by_sort(&files),
        not_their_own: files.iter().filter(|file| file.ground != FileGround::Whole).count() as u64,
        bytes: run.bytes,
        compared,
        cancelled,
        manifest: PathBuf::new(),
        findings,
        files,
    };
    extracted.manifest = write_manifest(to, &extracted)?;
    unfinished.end();
    // What they said stands in the new one, as far as it came; what it did not come to is known from them the next time.
    if !cancelled {
        old.end();
    }
    Ok(extracted)
}

/// What is to be taken out.
#[derive(Default)]
struct Wanted {
    /// Files and links.
    files: Vec<Resolved>,
    /// The folders on the way.
    folders: Vec<Resolved>,
    /// What was met while they were listed.
    findings: Vec<Finding>,
}

/// The files and links that `paths` ask for, and the folders on the way.
fn wanted(volume: &dyn Volume, paths: &[String]) -> Result<Wanted, CoreError> {
    let mut wanted = Wanted::default();
    let everything = [String::new()];
    for path in if paths.is_empty() { &everything } else { paths } {
        let found = resolve(volume, path)?;
        if found.entry.kind != NodeKind::Directory {
            wanted.files.push(found);
            continue;
        }
        let own = match (found.folder.as_str(), found.entry.name.as_str()) {
            (_, "") => String::new(),
            ("", name) => name.to_string(),
            (folder, name) => format!("{folder}/{name}"),
        };
        let findings = volume.walk(Deleted::Hide, &mut |below| {
            let inside = own.is_empty()
                || below.folder == own
                || below.folder.strip_prefix(own.as_str()).is_some_and(|rest| rest.starts_with('/'));
            if inside {
                let item = Resolved { folder: below.folder.to_string(), entry: below.entry.clone() };
                if item.entry.kind == NodeKind::Directory { wanted.folders.push(item) } else { wanted.files.push(item) }
            }
            ControlFlow::Continue(())
        })?;
        wanted.findings.extend(findings.into_iter().filter(|finding| finding.severity > Severity::Note));
    }
    Ok(wanted)
}

/// What the files take at most is free at `to`, but for those that are there already.
fn has_room(volume: &dyn Volume, wanted: &[Resolved], before: &Before, to: &Path) -> Result<(), CoreError> {
    let most = volume.summary().bytes;
    // A file that claims more than the volume can hold is refused by itself.
    let missing = wanted.iter().filter(|item| !before.knows(&path_of(item), item));
    let wanted: u64 = missing.map(|item| item.entry.bytes).filter(|bytes| *bytes <= most).fold(0, u64::saturating_add);
    put::has_room(to, wanted)
}

struct Run<'a> {
    volume: &'a dyn Volume,
    judge: GroundJudge<'a>,
    to: &'a Path,
    desk: &'a Desk<ExtractProgress>,
    before: Before,
    bytes: u64,
    made: HashSet<PathBuf>,
    files: Vec<ManifestEntry>,
    /// Where they were put, below the target folder.
    saved: HashSet<PathBuf>,
    unfinished: Unfinished,
}

impl Run<'_> {
    fn take(&mut self, item: &Resolved) -> ControlFlow<()> {
        let path = path_of(item);
        self.desk.tell(ExtractProgress { files: self.files.len() as u64, bytes: self.bytes, path: path.clone() });
        let is_link = item.entry.kind == NodeKind::Link;
        let mut line = self.line(path, item, if is_link { Part::Link } else { Part::File });
        let saved = if is_link { self.save_link(item, &mut line) } else { self.save(item, "", &mut line) };
        let whole = line.saved_as.is_some();
        match saved {
            Ok(flow) => {
                self.done(line);
                flow?;
            }
            Err(why) => self.done(ManifestEntry { why: Some(why), ..line }),
        }
        if whole && !is_link { self.take_streams(item) } else { ControlFlow::Continue(()) }
    }

    fn line(&self, path: String, item: &Resolved, part: Part) -> ManifestEntry {
        ManifestEntry {
            part,
            path,
            target: None,
            saved_as: None,
            bytes: item.entry.bytes,
            unreadable_bytes: 0,
            blake3: None,
            sha256: None,
            times: item.entry.times,
            state: Outcome::Failed,
            was_there: false,
            ground: self.judge.of(&item.entry),
            why: None,
        }
    }

    /// Takes out what belongs to a file beside its content, each as a file of its own.
    fn take_streams(&mut self, item: &Resolved) -> ControlFlow<()> {
        let streams = self.volume.streams(item.entry.id).unwrap_or_default();
        for stream in streams.into_iter().filter(|stream| !stream.name.is_empty()).take(MOST_STREAMS) {
            let mut line = self.line(format!("{}:{}", path_of(item), stream.name), item, Part::Stream);
            match self.save(item, &stream.name, &mut line) {
                Ok(flow) => {
                    self.done(line);
                    flow?;
                }
                Err(why) => self.done(ManifestEntry { why: Some(why), ..line }),
            }
        }
        ControlFlow::Continue(())
    }

    fn done(&mut self, entry: ManifestEntry) {
        self.unfinished.note(&entry);
        self.saved.extend(entry.saved_as.as_ref().map(PathBuf::from));
        self.files.push(entry);
    }

    /// Makes a link of this system that leads where the volume's one does. It is never followed here.
    fn save_link(&mut self, item: &Resolved, line: &mut ManifestEntry) -> Result<ControlFlow<()>, String> {
        let target = self.volume.link_target(item.entry.id).ok_or("where it leads is not said in a form known here")?;
        let folder = self.folder(&item.folder)?;
        let name = safe_component(&item.entry.name);
        for number in 1..MOST_NAMESAKES {
            let relative = folder.join(if number == 1 { name.clone() } else { numbered(&name, number) });
            match std::os::unix::fs::symlink(&target, self.to.join(&relative)) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                    let there = fs::read_link(self.to.join(&relative));
                    line.was_there = there.is_ok_and(|there| there.to_string_lossy() == target);
                    if !line.was_there {
                        continue;
                    }
                }
                Err(error) => return Err(error.to_string()),
                Ok(()) => {}
            }
            line.saved_as = Some(relative.to_string_lossy().into_owned());
            line.bytes = target.len() as u64;
            line.state = Outcome::Whole;
            line.target = Some(target);
            return Ok(ControlFlow::Continue(()));
        }
        Err("no name is left for it".into())
    }

    fn save(&mut self, item: &Resolved, stream_name: &str, line: &mut ManifestEntry) -> Result<ControlFlow<()>, String> {
        if line.ground == FileGround::Gone {
            return Err(FileGround::Gone.sentence().into());
        }
        if self.before.fill(line, self.desk.cancel()) {
            return Ok(ControlFlow::Continue(()));
        }
        let mut stream = self.volume.open(item.entry.id, stream_name).map_err(|error| error.to_string())?;
        line.bytes = stream.bytes();
        self.can_be(item, stream_name, line.bytes)?;
        let folder = self.folder(&item.folder)?;
        let name = match stream_name {
            "" => safe_component(&item.entry.name),
            stream => safe_component(&format!("{}.{stream}.stream", item.entry.name)),
        };
        let (mut file, part) = put::create(self.to, &folder, &name).map_err(|error| error.to_string())?;
        let (mut blake, mut sha) = (blake3::Hasher::new(), Sha256::new());
        let mut buf = vec![0; STEP];
        let mut at = 0;
        while at < line.bytes {
            if self.desk.cancel().is_cancelled() {
                // A half-written file is worse than none.
                drop(file);
                let _ = fs::remove_file(self.to.join(&part));
                line.why = Some("cancelled".into());
                return Ok(ControlFlow::Break(()));
            }
            let len = usize::try_from(line.bytes - at).unwrap_or(STEP).min(STEP);
            let piece = &mut buf[..len];
            line.unreadable_bytes += stream.read(at, piece).iter().map(|range| range.len()).sum::<u64>();
            file.write_all(piece).map_err(|error| error.to_string())?;
            blake.update(piece);
            sha.update(&*piece);
            at += len as u64;
            self.bytes += len as u64;
        }
        file.sync_all().map_err(|error| error.to_string())?;
        set_time(&file, &item.entry);
        if let Some(mode) = self.volume.mode(item.entry.id) {
            // The owner can always read and write what was taken out; nothing runs as somebody else.
            let _ = file.set_permissions(fs::Permissions::from_mode(mode & 0o777 | 0o600));
        }
        let blake = blake.finalize();
        let there = if line.unreadable_bytes == 0 { self.twin(&folder, &name, line.bytes, blake) } else { None };
        line.was_there = there.is_some();
        let relative = match there {
            None => put::finish(self.to, &part, &folder, &name).map_err(|error| error.to_string())?,
            Some(there) => {
                let _ = fs::remove_file(self.to.join(&part));
                there
            }
        };
        line.blake3 = Some(blake.to_hex().to_string());
        line.sha256 = Some(sha.finalize().iter().map(|byte| format!("{byte:02x}")).collect());
        line.saved_as = Some(relative.to_string_lossy().into_owned());
        line.state = if line.unreadable_bytes == 0 { Outcome::Whole } else { Outcome::PartlyUnreadable };
        Ok(ControlFlow::Continue(()))
    }

    /// Makes folders that hold nothing, and gives all of them their times and modes, the deepest first: what is put into a
    /// folder changes its time.
    fn dress_folders(&mut self, folders: &[Resolved]) {
        let mut paths: Vec<(PathBuf, &Resolved)> = Vec::new();
        for folder in folders {
            if let Ok(relative) = self.folder(&path_of(folder)) {
                paths.push((relative, folder));
            }
        }
        paths.sort_by_key(|(relative, _)| std::cmp::Reverse(relative.components().count()));
        for (relative, folder) in paths {
            let Ok(opened) = File::open(self.to.join(relative)) else { continue };
            if let Some(mode) = self.volume.mode(folder.entry.id) {
                let _ = opened.set_permissions(fs::Permissions::from_mode(mode & 0o777 | 0o700));
            }
            set_time(&opened, &folder.entry);
        }
    }

    /// Makes the folder below the target, component by component; a link or file in the way is not followed.
    fn folder(&mut self, folder: &str) -> Result<PathBuf, String> {
        let mut relative = PathBuf::new();
        for part in folder.split('/').filter(|part| !part.is_empty()) {
            relative.push(safe_component(part));
            if self.made.contains(&relative) {
                continue;
            }
            put::make_folder(&self.to.join(&relative)).map_err(|error| error.to_string())?;
            self.made.insert(relative.clone());
        }
        Ok(relative)
    }

    /// A file is not longer than what the volume can hold, but for holes in it.
    fn can_be(&self, item: &Resolved, stream_name: &str, bytes: u64) -> Result<(), String> {
        let most = self.volume.summary().bytes;
        if bytes <= most {
            return Ok(());
        }
        let extents = if stream_name.is_empty() { self.volume.extents(item.entry.id).unwrap_or_default() } else { Vec::new() };
        let holes: u64 = extents.iter().filter(|extent| extent.volume_at.is_none()).map(|extent| extent.bytes).sum();
        let sparse = bytes.saturating_sub(holes) <= most && bytes <= MOST_SPARSE;
        sparse.then_some(()).ok_or_else(|| format!("it says that it is {bytes} bytes long, more than its volume can hold"))
    }

    /// A file under the same name that has the same content. It is none that was taken out here: each of these keeps its own.
    fn twin(&self, folder: &Path, name: &str, bytes: u64, blake: blake3::Hash) -> Option<PathBuf> {
        let relative = folder.join(name);
        let hash = blake.to_hex();
        let other = !self.saved.contains(&relative);
        (other && is_same(&self.to.join(&relative), bytes, hash.as_str(), self.desk.cancel())).then_some(relative)
    }
}

/// The path of an item in its volume.
fn path_of(item: &Resolved) -> String {
    if item.folder.is_empty() { item.entry.name.clone() } else { format!("{}/{}", item.folder, item.entry.name) }
}

/// Gives the file the time its content was changed.
fn set_time(file: &File, entry: &Entry) {
    let modified = entry.times.modified.and_then(|stamp| stamp.civil().to_zoned(jiff::tz::TimeZone::UTC).ok());
    if let Some(modified) = modified {
        let _ = file.set_modified(modified.timestamp().into());
    }
}
