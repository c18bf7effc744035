//! What a driver shows of a volume and what our reader does, in the same words; and trees of everything that a format may hold.
#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs::{self, File};
use std::ops::ControlFlow;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::Command;

use keel_format::{Deleted, NodeKind, Stamp, Volume, VolumeKind, read_whole};

use super::{many_files, noise, prose, run, write_tree};

/// What a driver or a reader shows of one node.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Seen {
    Folder { mode: Option<u32> },
    File { mode: Option<u32>, content: Vec<u8>, modified: Option<String>, attributes: BTreeMap<String, Vec<u8>> },
    Link { target: String },
}

/// A name as the reader spells it.
fn spelled(path: &Path, below: &Path) -> String {
    let bytes = path.strip_prefix(below).unwrap().as_os_str().as_bytes();
    let mut text = String::new();
    for chunk in bytes.utf8_chunks() {
        text.push_str(chunk.valid());
        chunk.invalid().iter().for_each(|byte| write!(text, "\\x{byte:02X}").unwrap());
    }
    text
}

/// The same without modes, for kinds that keep none: a driver shows those that it was mounted with.
pub fn without_modes(seen: BTreeMap<String, Seen>) -> BTreeMap<String, Seen> {
    let bare = |what| match what {
        Seen::Folder { .. } => Seen::Folder { mode: None },
        Seen::File { content, modified, attributes, .. } => Seen::File { mode: None, content, modified, attributes },
        link @ Seen::Link { .. } => link,
    };
    seen.into_iter().map(|(path, what)| (path, bare(what))).collect()
}

/// Holds what is read against what a driver showed.
///
/// # Panics
/// At the first that differs, by its path.
pub fn agree(wanted: &BTreeMap<String, Seen>, seen: &BTreeMap<String, Seen>, said: &str) {
    let missing = wanted.keys().find(|path| !seen.contains_key(*path));
    let more = seen.keys().find(|path| !wanted.contains_key(*path));
    assert_eq!((missing, more), (None, None), "{said}");
    for (path, what) in wanted {
        let own = &seen[path];
        if own == what {
            continue;
        }
        let (Seen::File { content, .. }, Seen::File { content: read, .. }) = (what, own) else {
            panic!("{said}: {path}: {what:?}, read as {own:?}");
        };
        assert_eq!((content.len(), content == read), (read.len(), true), "{said}: content of {path}");
        let bare = |what: &Seen| match what {
            Seen::File { mode, modified, attributes, .. } => format!("{mode:?} {modified:?} {attributes:?}"),
            _ => String::new(),
        };
        panic!("{said}: {path}: {}, read as {}", bare(what), bare(own));
    }
}

/// Everything below `folder`, as the kernel's driver shows it.
pub fn as_the_driver(folder: &Path) -> BTreeMap<String, Seen> {
    let attributes = attributes_below(folder);
    let mut seen = BTreeMap::new();
    let mut below = vec![folder.to_path_buf()];
    while let Some(next) = below.pop() {
        for entry in fs::read_dir(next).unwrap() {
            let path = entry.unwrap().path();
            let about = fs::symlink_metadata(&path).unwrap();
            let mode = Some(about.permissions().mode() & 0o7777);
            let what = if about.is_dir() {
                below.push(path.clone());
                Seen::Folder { mode }
            } else if about.is_symlink() {
                Seen::Link { target: fs::read_link(&path).unwrap().to_str().unwrap().into() }
            } else if about.is_file() {
                let own = attributes.get(path.as_os_str().as_bytes()).cloned().unwrap_or_default();
                let modified = Stamp::from_unix(about.mtime(), u32::try_from(about.mtime_nsec()).unwrap());
                let modified = modified.map(|stamp| stamp.civil().to_string());
                Seen::File { mode, content: fs::read(&path).unwrap(), modified, attributes: own }
            } else {
                continue;
            };
            seen.insert(spelled(&path, folder), what);
        }
    }
    seen
}

/// Extended attributes of every file below `folder`, by the system's own tool.
fn attributes_below(folder: &Path) -> BTreeMap<Vec<u8>, BTreeMap<String, Vec<u8>>> {
    let output =
        Command::new("getfattr").args(["-R", "-P", "-h", "-d", "-m", "^user", "-e", "hex"]).arg(folder).output().unwrap();
    let mut all: BTreeMap<Vec<u8>, BTreeMap<String, Vec<u8>>> = BTreeMap::new();
    let mut path = Vec::new();
    for line in output.stdout.split(|byte| *byte == b'\n') {
        if let Some(name) = line.strip_prefix(b"# file: ") {
            path = [b"/", name].concat();
        } else if let Some((name, value)) = std::str::from_utf8(line).ok().and_then(|line| line.split_once('=')) {
            let digits = value.strip_prefix("0x").unwrap_or("");
            let bytes = (0..digits.len() / 2).map(|at| u8::from_str_radix(&digits[at * 2..at * 2 + 2], 16).unwrap()).collect();
            all.entry(path.clone()).or_default().insert(name.into(), bytes);
        }
    }
    all
}

/// Everything in `volume`, as the reader shows it.
pub fn as_read(volume: &dyn Volume) -> BTreeMap<String, Seen> {
    let mut nodes = Vec::new();
    let findings = volume.walk(Deleted::Hide, &mut |found| {
        nodes.push((found.path(), found.entry.clone()));
        ControlFlow::Continue(())
    });
    assert_eq!(findings.unwrap(), []);
    let stream = |id, name: &str| {
        let mut stream = volume.open(id, name).unwrap();
        let (bytes, whole) = read_whole(stream.as_mut(), 1 << 27);
        assert!(whole && stream.bytes() == bytes.len() as u64);
        bytes
    };
    let seen = nodes.into_iter().map(|(path, entry)| {
        let mode = volume.mode(entry.id);
        let what = match entry.kind {
            NodeKind::Directory => Seen::Folder { mode },
            NodeKind::Link => Seen::Link { target: volume.link_target(entry.id).unwrap() },
            NodeKind::File => {
                // Drivers show alternate streams as attributes of users.
                let spelled = |name: &str| {
                    if volume.summary().kind == Some(VolumeKind::Ntfs) { format!("user.{name}") } else { name.to_string() }
                };
                let named = volume.streams(entry.id).unwrap().into_iter().filter(|stream| !stream.name.is_empty());
                let named = named.filter(|stream| spelled(&stream.name).starts_with("user."));
                let attributes = named.map(|info| (spelled(&info.name), stream(entry.id, &info.name))).collect();
                let modified = entry.times.modified.map(|stamp| stamp.civil().to_string());
                Seen::File { mode, content: stream(entry.id, ""), modified, attributes }
            }
        };
        (path, what)
    });
    seen.collect()
}

/// Files, folders, links and attributes of every form that a system of its own kind knows.
pub fn everything(folder: &Path) {
    folders(folder);
    pieces(folder);
    links(folder);
    // Kinds without extents keep no room that was never written.
    let set_aside = Command::new("fallocate").args(["-l", "3MiB"]).arg(folder.join("never written.bin")).output().unwrap();
    if !set_aside.status.success() {
        File::create(folder.join("never written.bin")).unwrap().set_len(3 << 20).unwrap();
    }
    fs::write(folder.join(std::ffi::OsString::from_vec(b"not \xff text".to_vec())), b"it is").unwrap();
    fs::set_permissions(folder.join("few pieces.bin"), fs::Permissions::from_mode(0o4750)).unwrap();
    times(folder, "1955-02-03 04:05:06.5");
    run(Command::new("mkfifo").arg(folder.join("pipe")));
    run(Command::new("mknod").arg(folder.join("device")).args(["c", "9", "9"]));
    attributes(folder, &few_attributes());
}

/// Folders of few and of very many names.
pub fn folders(folder: &Path) {
    write_tree(folder, &many_files());
    for (name, count) in [("block", 30), ("leaf", 400), ("node", 6000)] {
        fs::create_dir(folder.join(name)).unwrap();
        for number in 0..count {
            File::create(folder.join(format!("{name}/the crossing with number {number:05} of the year.txt"))).unwrap();
        }
    }
}

/// Files of many extents, and with holes.
pub fn pieces(folder: &Path) {
    // Extents that lie apart, far more than an inode holds, and never in one piece.
    let file = File::create(folder.join("sparse log.bin")).unwrap();
    (0..2500u64).for_each(|number| file.write_all_at(&noise(number, 700), number * 16_384 + 5).unwrap());
    let small = File::create(folder.join("few pieces.bin")).unwrap();
    (0..4u64).for_each(|number| small.write_all_at(&prose(number as usize, 5000), number << 20).unwrap());
    small.set_len(9 << 20).unwrap();
}

/// Symbolic links of several lengths, and a file of two names.
pub fn links(folder: &Path) {
    symlink("block/x", folder.join("short link")).unwrap();
    symlink("y".repeat(1000), folder.join("long link")).unwrap();
    symlink("z".repeat(400), folder.join("link between")).unwrap();
    fs::hard_link(folder.join("sparse log.bin"), folder.join("leaf/same again.bin")).unwrap();
}

/// Times with parts of a second, and an `early` one before those that systems count from.
pub fn times(folder: &Path, early: &str) {
    run(Command::new("touch").args(["-d", "2031-02-03 04:05:06.123456789"]).arg(folder.join("few pieces.bin")));
    run(Command::new("touch").args(["-d", early]).arg(folder.join("SHORT.TXT")));
}

/// Attributes as every system takes them: path, name, value.
pub fn few_attributes() -> Vec<(String, String, String)> {
    let mut list = vec![("SHORT.TXT".to_string(), "berth".to_string(), "two".to_string())];
    list.extend((0..12).map(|number| ("few pieces.bin".to_string(), format!("note{number}"), "w".repeat(number * 2))));
    list
}

/// Attributes of which one is longer than a block, and of which there are very many.
pub fn large_attributes() -> Vec<(String, String, String)> {
    let mut list = vec![("sparse log.bin".to_string(), "long".to_string(), "v".repeat(40_000))];
    let path = "Crossings/Week number 03 of the year.csv";
    list.extend((0..300).map(|number| (path.to_string(), format!("berth{number}"), "q".repeat(200))));
    list
}

/// Sets attributes of files.
pub fn attributes(folder: &Path, list: &[(String, String, String)]) {
    let mut dump = String::new();
    for (path, name, value) in list {
        writeln!(dump, "# file: {}\nuser.{name}=\"{value}\"\n", folder.join(path).display()).unwrap();
    }
    let list = tempfile::NamedTempFile::new().unwrap();
    fs::write(list.path(), dump).unwrap();
    run(Command::new("setfattr").arg("--restore").arg(list.path()));
}
