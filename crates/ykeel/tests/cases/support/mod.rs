//! The demo yard and the command, for the tests.
#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::OnceLock;

use keel_source::{ByteOffset, FileSource, SectorSize, Source};
use serde_json::Value;

pub mod tmux;

/// The `ykeel` that was built with these tests.
pub const YKEEL: &str = env!("CARGO_BIN_EXE_ykeel");

/// The demo yard, laid out once by each build of `ykeel` for the tests of all files; nothing may be written to it.
pub fn yard() -> &'static Path {
    // In the folder that the build keeps for tests: one yard for all of them, since each takes most of a gigabyte.
    static YARD: OnceLock<PathBuf> = OnceLock::new();
    YARD.get_or_init(|| {
        let rooms = Path::new(env!("CARGO_TARGET_TMPDIR"));
        let (folder, stamp) = (rooms.join("yard"), rooms.join("yard.stamp"));
        let lock = fs::File::create(rooms.join("yard.lock")).unwrap();
        lock.lock().unwrap();
        let program = fs::metadata(YKEEL).unwrap();
        let laid_by = format!("{} {:?}", program.len(), program.modified().unwrap());
        if fs::read_to_string(&stamp).ok().as_ref() != Some(&laid_by) {
            let _ = fs::remove_file(&stamp);
            let _ = fs::remove_dir_all(&folder);
            fs::create_dir_all(&folder).unwrap();
            let output = Command::new(YKEEL).args(["demo", "--no-screens", "--dir"]).arg(&folder).output().unwrap();
            assert!(output.status.success(), "{output:?}");
            fs::write(&stamp, laid_by).unwrap();
        }
        folder
    })
}

/// A bench with a state folder of its own, and copies of demo drives that may be written.
pub struct Bench {
    pub folder: tempfile::TempDir,
}

impl Bench {
    pub fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// A copy of a demo image.
    pub fn copy(&self, name: &str) -> PathBuf {
        self.copy_as(name, name)
    }

    /// A copy of a demo image under another name; holes stay holes, drives of 30 GB fit everywhere.
    pub fn copy_as(&self, name: &str, other: &str) -> PathBuf {
        let to = self.path(other);
        let status = Command::new("cp").arg("--sparse=always").arg(yard().join(name)).arg(&to).status().unwrap();
        assert!(status.success());
        to
    }

    /// A copy of a simulated demo drive, with its surface.
    pub fn drive(&self, name: &str) -> PathBuf {
        let file = format!("{name}.drive.toml");
        fs::copy(yard().join(&file), self.path(&file)).unwrap();
        if yard().join(name).is_dir() {
            fs::create_dir_all(self.path(name)).unwrap();
            self.copy(&format!("{name}/surface.img"));
        }
        self.path(&file)
    }

    /// A command with its state kept on this bench.
    pub fn command(&self) -> Command {
        let mut command = Command::new(YKEEL);
        command.env("YKEEL_STATE", self.path("state")).current_dir(self.folder.path());
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        self.command().args(arguments).output().unwrap()
    }

    /// Runs a command with `--json`: its exit code and document.
    pub fn json(&self, arguments: &[&str]) -> (i32, Value) {
        let output = self.command().args(arguments).arg("--json").output().unwrap();
        let document = serde_json::from_slice(&output.stdout).unwrap_or_else(|error| panic!("{error}: {output:?}"));
        (output.status.code().unwrap(), document)
    }
}

/// SHA-256 of every file of a demo volume, by its path.
pub fn expected(drive: &str, label: &str) -> Vec<(String, String)> {
    let text = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/expected.json")).unwrap();
    let all: Value = serde_json::from_str(&text).unwrap();
    let files = all[drive][label].as_object().unwrap();
    files.iter().map(|(path, hash)| (path.clone(), hash.as_str().unwrap().to_string())).collect()
}

/// SHA-256 of a file.
pub fn sha256(path: &Path) -> String {
    let output = Command::new("sha256sum").arg(path).output().unwrap();
    String::from_utf8_lossy(&output.stdout).split(' ').next().unwrap().to_string()
}

/// Every byte of a sparse image that is not zero, as one number: equal for images that read alike.
pub fn fingerprint(image: &Path) -> u64 {
    let source = FileSource::open(image, SectorSize(512)).unwrap();
    let mut hasher = DefaultHasher::new();
    let mut buf = vec![0; 4096];
    let mut at = ByteOffset(0);
    while let Some(data) = source.next_data(at) {
        at = ByteOffset(data.start.0 / 4096 * 4096);
        while at < data.end {
            let len = buf.len().min((source.len() - at.0) as usize);
            source.read_at(at, &mut buf[..len]).unwrap();
            if buf[..len].iter().any(|byte| *byte != 0) {
                (at.0, &buf[..len]).hash(&mut hasher);
            }
            at = at + len as u64;
        }
    }
    hasher.finish()
}

pub fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}
