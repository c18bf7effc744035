//! What reads through a volume: the same sampled files, before and after.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_format::{Deleted, Entry, Geometry, NodeKind, Volume, is_nameless, read_whole, registry};
use keel_source::{SharedSource, Window, printable};
use serde::Serialize;

use super::prove::{Proof, prove};
use crate::find::{Find, readable};
use crate::job::Cancel;
use crate::ladder::samples;

/// The most of each sampled file that is read, in bytes.
const SAMPLED_BYTES: usize = 1 << 20;
/// The most files of the look before that are sought where they may stand now.
const MOST_SOUGHT: usize = 4096;
/// The most files that are counted.
const MOST_COUNTED: u64 = 10_000_000;

/// What a look into a volume found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Look {
    /// True when its tree can be read.
    pub opens: bool,
    /// Files that it lists.
    pub counted: u64,
    /// Sampled files that read whole: path, and hash of the first MiB.
    pub files: BTreeMap<String, String>,
}

/// Opens the volume in `window` and reads a sample of its files.
#[must_use]
pub fn look(window: &SharedSource, geometry: &Geometry) -> Look {
    let Ok(volume) = geometry.open(SharedSource::clone(window)) else { return Look::default() };
    let read = |(path, entry): (String, Entry)| Some((path, hashed(volume.as_ref(), &entry)?));
    let files = samples(volume.as_ref(), &Cancel::default()).into_iter().filter_map(read).collect();
    let mut counted = 0;
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        counted += u64::from(found.entry.kind == NodeKind::File);
        if counted < MOST_COUNTED { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    Look { opens: true, counted, files }
}

/// The hash of the first MiB of a file that reads whole.
fn hashed(volume: &dyn Volume, file: &Entry) -> Option<String> {
    let mut stream = volume.open(file.id, "").ok()?;
    let (bytes, whole) = read_whole(stream.as_mut(), SAMPLED_BYTES);
    whole.then(|| blake3::hash(&bytes).to_hex().to_string())
}

/// Looks again into a volume as it would be: at its own sample, and at the files that were read `now`. One that no folder names now
/// may stand elsewhere then: it is known by its name and its content.
pub(super) fn look_again(window: &SharedSource, geometry: &Geometry, now: &Look) -> Look {
    let mut then = look(window, geometry);
    let Ok(volume) = geometry.open(SharedSource::clone(window)) else { return then };
    let name = |path: &str| path.rsplit('/').next().unwrap_or_default().to_string();
    let lacking: Vec<&String> = now.files.keys().filter(|path| !then.files.contains_key(*path)).collect();
    if lacking.is_empty() {
        return then;
    }
    let nameless: BTreeMap<String, &String> =
        lacking.iter().filter(|path| is_nameless(path)).map(|path| (name(path), *path)).collect();
    let mut found: Vec<(String, Entry)> = Vec::new();
    let _ = volume.walk(Deleted::Hide, &mut |item| {
        let path = format!("{}/{}", item.folder, item.entry.name);
        let sought = if lacking.contains(&&path) { Some(&path) } else { nameless.get(&item.entry.name).copied() };
        found.extend(sought.filter(|_| item.entry.kind == NodeKind::File).map(|path| (path.clone(), item.entry.clone())));
        if found.len() < MOST_SOUGHT { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    for (path, entry) in found {
        let same = |hash: &String| now.files.get(&path) == Some(hash);
        if let Some(hash) = hashed(volume.as_ref(), &entry).filter(same) {
            then.files.insert(path, hash);
        }
    }
    then
}

/// The path of a file that reads `now` and does not read the same `then`, control characters made visible.
#[must_use]
pub fn lost(now: &Look, then: &Look) -> Option<String> {
    now.files.iter().find(|(path, hash)| then.files.get(*path) != Some(hash)).map(|(path, _)| printable(path))
}

/// What was proven of one volume after an apply.
#[derive(Debug, Clone, Serialize)]
pub struct Proven {
    /// The find.
    pub find: String,
    /// Files listed before and after.
    pub counted: [u64; 2],
    /// Sampled files that read whole before and after.
    pub sampled: [u64; 2],
    /// A file that read before and does not read the same now.
    pub lost: Option<String>,
    /// What a kernel made of it.
    pub kernel: Option<Proof>,
    /// Why no kernel was asked.
    pub no_kernel: Option<String>,
}

/// A look into every volume that can be read, as the finds describe it: what `proven` compares with.
#[must_use]
pub fn looks(source: &SharedSource, finds: &[Find]) -> BTreeMap<String, Look> {
    let open = readable(finds);
    open.map(|find| (find.id.clone(), look(&window(source, find), &find.geometry))).collect()
}

/// Looks again, now through what the drive itself states, and lets the kernel mount what stands.
#[must_use]
pub fn proven(source: &SharedSource, finds: &[Find], before: &BTreeMap<String, Look>) -> Vec<Proven> {
    let one = |(id, then): (&String, &Look)| {
        let find = finds.iter().find(|find| find.id == *id)?;
        let geometry = registry::boot_sector(source.as_ref(), find.start_byte)?;
        let now = look_again(&window(source, find), &geometry, then);
        let kernel = prove(source, find);
        Some(Proven {
            find: id.clone(),
            counted: [then.counted, now.counted],
            sampled: [then.files.len() as u64, now.files.len() as u64],
            lost: lost(then, &now),
            no_kernel: kernel.as_ref().err().map(ToString::to_string),
            kernel: kernel.ok(),
        })
    };
    before.iter().filter_map(one).collect()
}

fn window(source: &SharedSource, find: &Find) -> SharedSource {
    Arc::new(Window::new(Arc::clone(source), find.range()))
}
