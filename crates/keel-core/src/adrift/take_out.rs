//! Files adrift, taken out into folders by what they are and when they were made, with a manifest; what was taken out before stays.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::FileExt;
use std::path::{Component, Path, PathBuf};

use keel_adrift::State;
use keel_source::own::{self, Over};
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource};
use serde::{Deserialize, Serialize};

use super::Adrift;
use crate::error::{CoreError, file_error};
use crate::files::{is_same, put};
use crate::job::{Cancel, Desk};

/// The manifest: a line for each file, written as they are taken out.
const MANIFEST: &str = "ykeel-adrift.jsonl";
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
    /// Path by a record that leads to its first byte.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
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
    /// What the journal says of it: counts, and the manifest with its hash.
    fn line(&self) -> serde_json::Value {
        let count = |state| self.count(state);
        let hash = fs::read(&self.manifest).map(|bytes| blake3::hash(&bytes).to_hex().to_string()).ok();
        serde_json::json!({
            "whole": count(TakenState::Whole), "plausible": count(TakenState::Plausible), "cut": count(TakenState::Cut),
            "partly_unreadable": count(TakenState::Damaged), "bytes": self.bytes, "was_there": self.was_there, "cancelled": self.cancelled,
            "manifest": self.manifest, "blake3": hash,
        })
    }

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
    let key = source.identity().key();
    let before = before(&manifest, &key);
    let stands = |file: &Adrift, cancel: &Cancel| {
        let entry = before.get(&file.at_byte).filter(|entry| entry.extents == file.extents)?;
        let saved = Path::new(&entry.saved_as);
        let is_below = saved.components().all(|part| matches!(part, Component::Normal(_)));
        (is_below && is_same(&to.join(saved), entry.bytes, &entry.blake3, cancel)).then_some(entry)
    };
    let missing = files.iter().filter(|file| !before.contains_key(&file.at_byte)).map(|file| file.bytes);
    put::has_room(to, missing.fold(0, u64::saturating_add))?;
    let mut lines = begin(&manifest, &key)?;
    let mut out = TakenOut { manifest: manifest.clone(), ..TakenOut::default() };
    for (done, file) in files.iter().enumerate() {
        if desk.cancel().is_cancelled() {
            out.cancelled = true;
            break;
        }
        desk.tell(TakeOutProgress { files: done, of: files.len(), bytes: out.bytes });
        if let Some(entry) = stands(file, desk.cancel()) {
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
    crate::case::note(source.as_ref(), "extract", &out.line());
    Ok(out)
}

/// What an earlier run says that it took out of the same drive, by place; the last line of a place counts.
fn before(manifest: &Path, key: &str) -> HashMap<ByteOffset, TakenOutEntry> {
    let Ok(file) = File::open(manifest) else { return HashMap::new() };
    let mut lines = BufReader::new(file).lines().map_while(Result::ok);
    if lines.next().is_none_or(|head| head != self::head(key)) {
        return HashMap::new();
    }
    let entries = lines.filter_map(|line| serde_json::from_str::<TakenOutEntry>(&line).ok());
    entries.map(|entry| (entry.at_byte, entry)).collect()
}

/// First line of a manifest.
fn head(key: &str) -> String {
    serde_json::json!({ "adrift_of": key }).to_string()
}

/// The manifest, to be written on; that of another drive, and what is no file, is left alone.
fn begin(manifest: &Path, key: &str) -> Result<File, CoreError> {
    let writing = file_error("write", manifest);
    match File::create_new(manifest) {
        Ok(mut file) => {
            writeln!(file, "{}", head(key)).map_err(writing)?;
            Ok(file)
        }
        Err(_) => {
            let ours = |head_bytes: &[u8], _: &[u8]| head_bytes.starts_with(format!("{}\n", head(key)).as_bytes());
            own::may_stand(manifest, Over::Ours(&ours)).map_err(file_error("go on with", manifest))?;
            let mut file = fs::OpenOptions::new().read(true).append(true).open(manifest).map_err(file_error("open", manifest))?;
            // A line that a crash cut stays, and is none; the next one begins anew.
            let mut last = [b'\n'];
            let end = file.metadata().map_err(file_error("read", manifest))?.len();
            file.read_exact_at(&mut last, end.saturating_sub(1)).map_err(file_error("read", manifest))?;
            if last != [b'\n'] {
                file.write_all(b"\n").map_err(writing)?;
            }
            Ok(file)
        }
    }
}

/// Folders of a file: its sort, its kind, and the month in which it was made.
pub(super) fn folders_of(file: &Adrift) -> Vec<&str> {
    let month = file.made.as_deref().and_then(|made| made.get(..7));
    let month = month.filter(|month| month.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-'));
    [Some(file.sort.word()), Some(file.kind), month].into_iter().flatten().collect()
}

/// Takes one file out; none where that was stopped, and nothing of it stays.
fn one(source: &SharedSource, file: &Adrift, to: &Path, cancel: &Cancel) -> Result<Option<TakenOutEntry>, CoreError> {
    let mut folder = PathBuf::new();
    for part in folders_of(file) {
        folder.push(part);
        put::make_folder(&to.join(&folder)).map_err(file_error("create", &to.join(&folder)))?;
    }
    let (mut target, part) = put::create(to, &folder, &file.name).map_err(file_error("create", &to.join(&folder)))?;
    let beside = to.join(&part);
    let (mut hasher, mut bad, mut done) = (blake3::Hasher::new(), RangeSet::default(), 0);
    let mut buf = vec![0; STEP as usize];
    for (at, bytes) in &file.extents {
        for from in (0..*bytes).step_by(STEP as usize) {
            if cancel.is_cancelled() {
                drop(target);
                let _ = fs::remove_file(&beside);
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
    let saved = put::finish(to, &part, &folder, &file.name).map_err(file_error("name", &beside))?;
    let state = match file.state {
        _ if bad.bytes() > 0 => TakenState::Damaged,
        State::Whole => TakenState::Whole,
        State::Plausible => TakenState::Plausible,
        State::Cut => TakenState::Cut,
    };
    let unreadable: Vec<(u64, u64)> = bad.ranges().iter().map(|range| (range.start.0, range.len())).collect();
    Ok(Some(TakenOutEntry {
        id: file.id.clone(),
        saved_as: saved.to_string_lossy().into_owned(),
        path: file.path.clone(),
        at_byte: file.at_byte,
        bytes: done,
        extents: file.extents.clone(),
        state,
        why: file.why.clone(),
        unreadable,
        blake3: hasher.finalize().to_hex().to_string(),
    }))
}
