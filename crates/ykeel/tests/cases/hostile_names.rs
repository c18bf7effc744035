//! Names on a drive that would steer the terminal, lead out of a folder, or look like options: every command shows them harmlessly, every
//! document stays one, and what is taken out stays below its folder.

use std::fs;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use crate::support::{Bench, text};
use serde_json::Value;

/// Names that a kernel lets stand in a folder.
const NAMES: [&[u8]; 12] = [
    b"clear\x1b[2J\x1b[1;1Hgone.txt",
    b"title\x1b]0;owned\x07.txt",
    b"two\nlines.csv",
    b"back\x08\x08\x08space.txt",
    b"tab\there.txt",
    b"turn\xe2\x80\xaetxt.exe",
    b"-rf",
    b"--json",
    b"; rm -rf quay",
    b"%2e%2e%2fescape.txt",
    b"not \xff\xfe text",
    b"\xc2\x9b31mraw.txt",
];

/// A drive whose folders and files have such names.
fn drive(bench: &Bench) -> PathBuf {
    let (image, point) = (bench.path("names.img"), bench.path("mounted"));
    fs::create_dir_all(&point).unwrap();
    fs::File::create(&image).unwrap().set_len(24 << 20).unwrap();
    let run = |command: &mut Command| {
        let output = command.output().unwrap();
        assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
    };
    run(Command::new("mkfs.ext4").args(["-q", "-F", "-L", "re\x1b[31md"]).arg(&image));
    run(Command::new("mount").args(["-o", "loop"]).arg(&image).arg(&point));
    let folder = point.join(std::ffi::OsString::from_vec(b"Quay\x1b[7m\r\nrota".to_vec()));
    fs::create_dir(&folder).unwrap();
    for name in NAMES {
        let text = format!("{}\x1b[5m of the Brackwater Line\r\n", String::from_utf8_lossy(name));
        fs::write(folder.join(std::ffi::OsString::from_vec(name.to_vec())), text.repeat(9)).unwrap();
    }
    std::os::unix::fs::symlink("/etc/\x1b[31mhosts", point.join("link")).unwrap();
    run(Command::new("umount").arg(&point));
    image
}

/// True for signs that steer a terminal or turn a line around.
fn steers(sign: char) -> bool {
    (sign.is_control() && sign != '\n')
        || matches!(sign, '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}' | '\u{200E}' | '\u{200F}')
}

fn harmless(output: &Output, said: &str) {
    for (what, bytes) in [("output", &output.stdout), ("errors", &output.stderr)] {
        let text = std::str::from_utf8(bytes).unwrap_or_else(|_| panic!("{said}: {what} is no text"));
        let found = text.chars().find(|sign| steers(*sign));
        assert_eq!(found, None, "{said}: {what}: {}", text.escape_debug().take(4000).collect::<String>());
    }
}

fn below(folder: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let kind = entry.file_type().unwrap();
        if kind.is_dir() {
            all.extend(below(&entry.path()));
        } else {
            all.push(entry.path());
        }
    }
    all
}

#[test]
fn no_command_hands_a_steering_sign_on() {
    let bench = Bench::new();
    let image = drive(&bench);
    let image = text(&image);
    for command in [
        &["ladder", image][..],
        &["sweep", image],
        &["sweep", image, "--reach", "surface"],
        &["files", image, "--volume", "n1"],
        &["files", image, "--volume", "n1", "--recursive"],
        &["files", image, "--volume", "n1", "--find", "*"],
        &["files", image, "--volume", "n1", "--find", "\u{1b}[2J"],
        &["files", image, "--volume", "n1", "no\u{1b}such"],
        &["check", image, "--volume", "n1"],
        &["structures", image, "--volume", "n1"],
        &["mend", image],
        &["bytes", image, "--at", "0"],
        &["yard", "."],
    ] {
        let said = command.join(" ").escape_debug().to_string();
        harmless(&bench.run(command), &said);
        // The same as a document: one, and with nothing that steers either.
        let output = bench.run(&[command, &["--json"]].concat());
        harmless(&output, &format!("{said} --json"));
        let parsed: Result<Value, _> = serde_json::from_slice(&output.stdout);
        assert!(
            parsed.is_ok(),
            "{said} --json: {}",
            String::from_utf8_lossy(&output.stdout).chars().take(300).collect::<String>()
        );
    }
}

#[test]
fn files_of_any_name_come_out_below_the_folder_that_was_named() {
    let bench = Bench::new();
    let image = drive(&bench);
    let to = bench.path("out");
    let output = bench.run(&["extract", text(&image), "--volume", "n1", "--to", text(&to), "--json"]);
    harmless(&output, "extract");
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(told["whole"], NAMES.len() + 1, "{}", told["failed"]);
    let paths = below(&to);
    let files: Vec<&PathBuf> = paths.iter().filter(|path| !text(path).contains("ykeel-manifest")).collect();
    assert_eq!(files.len(), NAMES.len() + 1, "{files:?}");
    for path in &files {
        let name = path.strip_prefix(&to).unwrap().to_str().expect("names that come out are text");
        assert!(!name.chars().any(steers), "{}", name.escape_debug());
        assert!(!name.split('/').any(|part| part == ".." || part.is_empty()), "{name}");
    }
    // Each has its own content, and its line in the manifest says what it was called.
    let lines = told["files"].as_array().unwrap();
    for line in lines.iter().filter(|line| line["part"] == "file") {
        let saved = to.join(line["saved_as"].as_str().unwrap());
        let content = fs::read(&saved).unwrap();
        assert!(content.ends_with(b"of the Brackwater Line\r\n") && content.len() as u64 == line["bytes"].as_u64().unwrap());
    }
    let outside = fs::read_dir(to.parent().unwrap()).unwrap().flatten().map(|entry| entry.file_name());
    assert!(outside.into_iter().all(|name| !name.to_string_lossy().contains("escape")));
}
