//! What was taken out, as its manifests say.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::{Component, Path, PathBuf};

use serde::Deserialize;
use serde_json::Value;

use super::content::{Branch, Counted, Sample, Thinned, grow, is_decoded, places, sample_of};
use crate::case::JournalLine;
use crate::files::Sort;

/// The largest manifest that is read, in bytes.
const LARGEST: u64 = 1 << 30;

/// What one extraction left.
#[derive(Debug, Clone, PartialEq)]
pub struct TakenAccount {
    /// When, in UTC, as the journal has it.
    pub at: String,
    /// The manifest.
    pub manifest: PathBuf,
    /// BLAKE3 of the manifest as the journal noted it.
    pub blake3: Option<String>,
    /// Whether the manifest has that hash now; none where it is not there any more.
    pub stands: Option<bool>,
    /// Files by sort.
    pub sorts: BTreeMap<Sort, Counted>,
    /// Folders to depth two.
    pub tree: Vec<Branch>,
    /// A sample of the pictures, as they lie there.
    pub pictures: Vec<Sample>,
    /// Files that did not come out whole, the first ones by path, with what became of them.
    pub hurt: Vec<(String, String)>,
}

/// A file in either manifest, as far as it is asked for.
#[derive(Deserialize)]
struct Line {
    #[serde(default)]
    part: Option<String>,
    #[serde(default)]
    path: Option<String>,
    #[serde(default)]
    saved_as: Option<String>,
    #[serde(default)]
    bytes: u64,
    state: String,
    #[serde(default)]
    ground: Option<String>,
}

#[derive(Deserialize)]
struct Document {
    files: Vec<Line>,
}

/// Files named one by one in [`TakenAccount::hurt`].
const MOST_HURT: usize = 200;

/// What was taken out, the last word of the journal on each manifest.
pub(super) fn taken(journal: &[JournalLine]) -> Vec<TakenAccount> {
    let mut last: BTreeMap<PathBuf, &JournalLine> = BTreeMap::new();
    for line in journal.iter().filter(|line| line.event == "extract") {
        if let Some(manifest) = line.detail.get("manifest").and_then(Value::as_str) {
            last.insert(PathBuf::from(manifest), line);
        }
    }
    last.into_iter().map(|(manifest, line)| one(manifest, line)).collect()
}

fn one(manifest: PathBuf, line: &JournalLine) -> TakenAccount {
    let blake3 = line.detail.get("blake3").and_then(Value::as_str).map(str::to_string);
    let bytes = read(&manifest);
    let stands = bytes.as_ref().map(|bytes| Some(blake3::hash(bytes).to_hex().to_string()) == blake3);
    let mut account = TakenAccount {
        at: line.at.clone(),
        blake3,
        stands,
        sorts: BTreeMap::new(),
        tree: Vec::new(),
        pictures: Vec::new(),
        hurt: Vec::new(),
        manifest,
    };
    let (mut tree, mut pictures) = (BTreeMap::new(), Thinned::default());
    for line in bytes.as_deref().map(lines).unwrap_or_default() {
        add(&mut account, &line, &mut tree);
        let saved = line.saved_as.filter(|saved| is_decoded(saved) && is_below(saved));
        saved.into_iter().for_each(|saved| pictures.add(saved));
    }
    account.tree = tree.into_values().collect();
    let folder = account.manifest.parent().map(Path::to_path_buf).unwrap_or_default();
    let shown = places(pictures.kept.len()).filter_map(|at| pictures.kept.get(at));
    account.pictures = shown.filter_map(|saved| sample_of(&folder.join(saved), saved.rsplit('/').next()?)).collect();
    account
}

fn read(manifest: &Path) -> Option<Vec<u8>> {
    let file = File::open(manifest).ok()?;
    let is_read = file.metadata().is_ok_and(|metadata| metadata.is_file() && metadata.len() <= LARGEST);
    let mut bytes = Vec::new();
    (is_read && file.take(LARGEST).read_to_end(&mut bytes).is_ok()).then_some(bytes)
}

/// Its files; what a crash cut names none.
fn lines(manifest: &[u8]) -> Vec<Line> {
    match serde_json::from_slice::<Document>(manifest) {
        Ok(document) => document.files,
        Err(_) => {
            BufReader::new(manifest).lines().map_while(Result::ok).filter_map(|line| serde_json::from_str(&line).ok()).collect()
        }
    }
}

fn is_below(saved: &str) -> bool {
    Path::new(saved).components().all(|part| matches!(part, Component::Normal(_)))
}

/// Counts a file.
fn add(account: &mut TakenAccount, line: &Line, tree: &mut BTreeMap<String, Branch>) {
    // Streams and links count with nothing.
    if line.part.as_deref().is_some_and(|part| part != "file") {
        return;
    }
    let path = line.path.as_deref().or(line.saved_as.as_deref()).unwrap_or_default().trim_start_matches('/');
    let mut own = Counted { bytes: line.bytes, ..Counted::default() };
    let is_own = line.ground.as_deref().is_none_or(|ground| ground == "whole");
    match line.state.as_str() {
        "whole" if is_own => (own.whole, own.whole_bytes) = (1, own.bytes),
        "failed" => own.missing = 1,
        _ => own.damaged = 1,
    }
    if own.whole == 0 && account.hurt.len() < MOST_HURT {
        let why = if line.state == "whole" { line.ground.clone().unwrap_or_default() } else { line.state.clone() };
        account.hurt.push((path.to_string(), why.replace('_', " ")));
    }
    let sort = account.sorts.entry(Sort::of(line.saved_as.as_deref().unwrap_or(path))).or_default();
    *sort = sort.and(own);
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    grow(tree, folder, line.bytes);
}
