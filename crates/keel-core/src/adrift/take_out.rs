//! Files adrift, taken out into folders by what they are and when they were made, with a manifest; what was taken out before stays.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};

use keel_adrift::State;
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::{Deserialize, Serialize};

use super::Adrift;
use crate::error::{CoreError, file_error};
use crate::files::numbered;
use crate::job::{Cancel, Desk};

/// The manifest: a line for each file, written as they are taken out.
const MANIFEST: &str = "ykeel-adrift.jsonl";
/// End of the name of a file while it is written.
const UNFINISHED: &str = ".unfinished";
/// The most namesakes in one folder.
const MOST_NAMESAKES: u32 = 100_000;
/// Bytes read at once.
const STEP: u64 = 1 << 20;

/// Which files are meant.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Chosen {
    /// By their ids; none: all.
    pub ids: Vec<String>,
    /// By suffix or by sort; none: all.
    pub kinds: Vec<String>,
    /// The fewest bytes.
    pub least: u64,
    /// By state; none: all.
    pub states: Vec<State>,
    /// Also those that have the content of another one.
    pub same: bool,
}

impl Chosen {
    /// True where `file` is meant.
    #[must_use]
    pub fn takes(&self, file: &Adrift) -> bool {
        let is_kind = |word: &String| word == file.kind || word == file.sort.word();
        // Who names a file means it.
        let named = self.ids.contains(&file.id);
        named
            || self.ids.is_empty()
                && (self.kinds.is_empty() || self.kinds.iter().any(is_kind))
                && file.bytes >= self.least
                && (self.states.is_empty() || self.states.contains(&file.state))
                && (self.same || file.same_as.is_none())
    }
}

/// How a file came out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TakenState {
    /// As it was judged, every byte read: whole.
    Whole,
    /// As it was judged, every byte read: plausible.
    Plausible,
    /// What is left of it, every byte read.
    Cut,
    /// Some of its bytes could not be read; the manifest says which. They are zeros in the file.
    Damaged,
}

/// A line of the manifest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TakenOutEntry {
    /// Its id.
    pub id: String,
    /// Path below the folder.
    pub saved_as: String,
    /// First byte on the drive.
    pub at_byte: ByteOffset,
    /// Length in bytes.
    pub bytes: u64,
    /// Its ground.
    pub extents: Vec<(ByteOffset, u64)>,
    /// How it came out.
    pub state: TakenState,
    /// Why, as half a sentence.
    pub why: String,
    /// Bytes of the file that could not be read: offset and length.
    pub unreadable: Vec<(u64, u64)>,
    /// BLAKE3 of what was written.
    pub blake3: String,
}

/// How far it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TakeOutProgress {
    /// Files done.
    pub files: usize,
    /// Files in all.
    pub of: usize,
    /// Bytes written.
    pub bytes: u64,
}

/// What was taken out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct TakenOut {
    /// Every file, those of earlier runs too.
    pub files: Vec<TakenOutEntry>,
    /// Of those, how many were there already.
    pub was_there: usize,
    /// Bytes written in this run.
    pub bytes: u64,
    /// The manifest.
    pub manifest: PathBuf,
    /// True when it was stopped: the same call goes on.
    pub cancelled: bool,
}

impl TakenOut {
    /// Files by how they came out.
    #[must_use]
    pub fn count(&self, state: TakenState) -> usize {
        self.files.iter().filter(|file| file.state == state).count()
    }
}

/// Takes `files` of `source` out into `to`, or goes on with it. Nothing that is there is overwritten. What was done is noted in the journal
/// of the drive's case.
///
/// # Errors
/// [`CoreError::File`] when a file or the manifest cannot be written; [`Refusal::OwnMedium`](crate::Refusal) where the folder lies on the
/// drive itself.
pub fn take_out(
    source: &SharedSource,
    files: &[&Adrift],
    to: &Path,
    desk: &Desk<TakeOutProgress>,
) -> Result<TakenOut, CoreError> {
    crate::whose::not_on_its_own_medium(source.as_ref(), to)?;
    fs::create_dir_all(to).map_err(file_error("create", to))?;
    let manifest = to.join(MANIFEST);
    let before = before(&manifest, to, &source.identity().key());
    let mut lines = begin(&manifest, &source.identity().key())?;
    let mut out = TakenOut { manifest: manifest.clone(), ..TakenOut::default() };
    for (done, file) in files.iter().enumerate() {
        if desk.cancel().is_cancelled() {
            out.cancelled = true;
            break;
        }
        desk.tell(TakeOutProgress { files: done, of: files.len(), bytes: out.bytes });
        if let Some(entry) = before.get(&(file.at_byte, file.bytes)) {
            out.was_there += 1;
            out.files.push(entry.clone());
            continue;
        }
        let Some(entry) = one(source, file, to, desk.cancel())? else {
            out.cancelled = true;
            break;
        };
        writeln!(lines, "{}", serde_json::to_string(&entry).unwrap_or_default()).map_err(file_error("write", &manifest))?;
        out.bytes += entry.bytes;
        out.files.push(entry);
    }
    lines.sync_all().map_err(file_error("flush", &manifest))?;
    let counts: Vec<String> = [TakenState::Whole, TakenState::Plausible, TakenState::Cut, TakenState::Damaged]
        .map(|state| {
            format!(
                "{} {}",
                out.count(state),
                serde_json::to_value(state).ok().and_then(|word| word.as_str().map(str::to_string)).unwrap_or_default()
            )
        })
        .into();
    crate::case::note(
        source.as_ref(),
        "extract",
        &serde_json::json!({ "adrift": counts.join(", "), "bytes": out.bytes, "manifest": manifest }),
    );
    Ok(out)
}

/// What an earlier run took out of the same drive, as far as it still stands there with the same content.
fn before(manifest: &Path, to: &Path, key: &str) -> HashMap<(ByteOffset, u64), TakenOutEntry> {
    let Ok(file) = File::open(manifest) else { return HashMap::new() };
    let mut lines = BufReader::new(file).lines().map_while(Result::ok);
    if lines.next().is_none_or(|head| head != self::head(key)) {
        return HashMap::new();
    }
    let entries = lines.filter_map(|line| serde_json::from_str::<TakenOutEntry>(&line).ok());
    let stands = |entry: &TakenOutEntry| {
        let path = Path::new(&entry.saved_as);
        let is_below = path.components().all(|part| matches!(part, std::path::Component::Normal(_)));
        let path = to.join(path);
        let is_as_long = is_below && fs::symlink_metadata(&path).is_ok_and(|there| there.is_file() && there.len() == entry.bytes);
        is_as_long && hash_of(&path).is_some_and(|hash| hash == entry.blake3)
    };
    entries.filter(stands).map(|entry| ((entry.at_byte, entry.bytes), entry)).collect()
}

/// BLAKE3 of a file of this system.
fn hash_of(path: &Path) -> Option<String> {
    let mut hasher = blake3::Hasher::new();
    std::io::copy(&mut File::open(path).ok()?, &mut hasher).ok()?;
    Some(hasher.finalize().to_hex().to_string())
}

/// First line of a manifest.
fn head(key: &str) -> String {
    serde_json::json!({ "adrift_of": key }).to_string()
}

/// The manifest, to be written on; that of another drive is left alone.
fn begin(manifest: &Path, key: &str) -> Result<File, CoreError> {
    match File::create_new(manifest) {
        Ok(mut file) => {
            writeln!(file, "{}", head(key)).map_err(file_error("write", manifest))?;
            Ok(file)
        }
        Err(_) => {
            let mut first = String::new();
            let opened = File::open(manifest).map_err(file_error("read", manifest))?;
            BufReader::new(opened).read_line(&mut first).map_err(file_error("read", manifest))?;
            if first.trim_end() != head(key) {
                return Err(CoreError::Nothing("the folder holds what was taken out of another drive: name another folder"));
            }
            fs::OpenOptions::new().append(true).open(manifest).map_err(file_error("write", manifest))
        }
    }
}

/// Folder of a file: its sort, and the month in which it was made.
fn folder_of(file: &Adrift) -> PathBuf {
    let month = file
        .made
        .as_deref()
        .and_then(|made| made.get(..7))
        .filter(|month| month.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-'));
    let folder = Path::new(file.sort.word()).join(file.kind);
    month.map_or_else(|| folder.clone(), |month| folder.join(month))
}

/// Takes one file out; none where that was stopped, and nothing of it stays.
fn one(source: &SharedSource, file: &Adrift, to: &Path, cancel: &Cancel) -> Result<Option<TakenOutEntry>, CoreError> {
    let folder = to.join(folder_of(file));
    fs::create_dir_all(&folder).map_err(file_error("create", &folder))?;
    // Its name is taken at once; what is written goes beside it until it is whole.
    let path = fresh(&folder, &file.name)?;
    let mut beside = path.clone().into_os_string();
    beside.push(UNFINISHED);
    let beside = PathBuf::from(beside);
    let mut target = File::create(&beside).map_err(file_error("create", &beside))?;
    let (mut hasher, mut bad, mut done) = (blake3::Hasher::new(), RangeSet::default(), 0);
    let mut buf = vec![0; STEP as usize];
    for (at, bytes) in &file.extents {
        for from in (0..*bytes).step_by(STEP as usize) {
            if cancel.is_cancelled() {
                drop(target);
                let _ = fs::remove_file(&beside);
                let _ = fs::remove_file(&path);
                return Ok(None);
            }
            let piece = buf.get_mut(..usize::try_from((bytes - from).min(STEP)).unwrap_or(0)).unwrap_or_default();
            if let Err(error) = source.read_at(*at + from, piece) {
                let own = ByteRange::sized(*at + from, piece.len() as u64);
                // As bytes of the file.
                let inside = error.bad.iter().filter_map(|range| range.overlap(own));
                inside.for_each(|range| bad.add(ByteRange::sized(ByteOffset(done + (range.start - own.start)), range.len())));
            }
            hasher.update(piece);
            target.write_all(piece).map_err(file_error("write", &beside))?;
            done += piece.len() as u64;
        }
    }
    target.sync_all().map_err(file_error("flush", &beside))?;
    fs::rename(&beside, &path).map_err(file_error("name", &path))?;
    let state = match file.state {
        _ if bad.bytes() > 0 => TakenState::Damaged,
        State::Whole => TakenState::Whole,
        State::Plausible => TakenState::Plausible,
        State::Cut => TakenState::Cut,
    };
    let saved_as = path.strip_prefix(to).unwrap_or(&path).to_string_lossy().into_owned();
    let unreadable: Vec<(u64, u64)> = bad.ranges().iter().map(|range| (range.start.0, range.len())).collect();
    Ok(Some(TakenOutEntry {
        id: file.id.clone(),
        saved_as,
        at_byte: file.at_byte,
        bytes: done,
        extents: file.extents.clone(),
        state,
        why: file.why.clone(),
        unreadable,
        blake3: hasher.finalize().to_hex().to_string(),
    }))
}

/// An empty file that was not there, called `name` or by the first number behind it that nobody has.
fn fresh(folder: &Path, name: &str) -> Result<PathBuf, CoreError> {
    for number in 1..MOST_NAMESAKES {
        let path = folder.join(if number == 1 { name.to_string() } else { numbered(name, number) });
        match File::create_new(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(file_error("create", &path)(error)),
            Ok(_) => return Ok(path),
        }
    }
    Err(CoreError::Nothing("no name is left for a file"))
}
