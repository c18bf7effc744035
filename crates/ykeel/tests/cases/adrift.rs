//! Files adrift by command: on drives of the demo and on volumes of the system's formatters, one made over the other.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::path::Path;
use std::process::Command;

use crate::support::{Bench, expected, fingerprint, sha256, text};
use serde_json::Value;

/// Kinds that prove themselves.
const PROVEN: [&str; 9] = ["png", "jpg", "gif", "zip", "docx", "xlsx", "gz", "pdf", "ogg"];

fn files_below(folder: &Path) -> Vec<std::path::PathBuf> {
    let mut all = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        if entry.path().is_dir() { all.extend(files_below(&entry.path())) } else { all.push(entry.path()) }
    }
    all
}

/// Hashes of everything that was taken out.
fn taken(folder: &Path) -> BTreeSet<String> {
    files_below(folder).iter().filter(|path| path.extension().is_none_or(|end| end != "jsonl")).map(|path| sha256(path)).collect()
}

fn suffix(path: &str) -> &str {
    path.rsplit_once('.').map_or("", |(_, suffix)| suffix)
}

#[test]
fn every_file_of_a_known_kind_is_known_by_its_content_alone() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let before = fingerprint(&image);
    let drive = text(&image);
    let to = bench.path("adrift");
    let code = bench.run(&["extract", drive, "--adrift", "--everywhere", "--same", "--to", text(&to)]).status.code();
    assert_eq!((code, fingerprint(&image)), (Some(0), before));
    let (found, mut missed, mut count) = (taken(&to), Vec::new(), 0);
    for label in ["TICKETS", "PURSER"] {
        for (path, hash) in expected("purser-stick", label) {
            if PROVEN.contains(&suffix(&path)) {
                count += 1;
                missed.extend((!found.contains(&hash)).then_some(path));
            }
        }
    }
    // The smallest stand inside of records, not at a sector.
    assert!(count > 10 && missed.len() * 10 <= count, "{} of {count} are not among them: {missed:?}", missed.len());
    // What is called whole is one of them, byte for byte.
    let manifest = fs::read_to_string(to.join("ykeel-adrift.jsonl")).unwrap();
    let known: BTreeSet<String> =
        ["TICKETS", "PURSER"].iter().flat_map(|label| expected("purser-stick", label)).map(|(_, hash)| hash).collect();
    for line in manifest.lines().skip(1) {
        let entry: Value = serde_json::from_str(line).unwrap();
        if entry["state"] == "whole" {
            let saved = to.join(entry["saved_as"].as_str().unwrap());
            assert!(known.contains(&sha256(&saved)), "{entry}");
        }
    }
    // The same command again takes nothing twice.
    let again = bench.run(&["extract", drive, "--adrift", "--everywhere", "--same", "--to", text(&to)]);
    assert!(String::from_utf8_lossy(&again.stdout).contains("were there already"), "{again:?}");
    assert_eq!(taken(&to).len(), found.len());
}

#[test]
fn what_a_new_volume_was_made_over_is_found_on_its_free_ground_and_what_it_holds_is_not() {
    let bench = Bench::new();
    let image = bench.path("over.img");
    File::create(&image).unwrap().set_len(320 << 20).unwrap();
    let run = |program: &str, arguments: &[&str]| {
        let output = Command::new(program).args(arguments).output().unwrap();
        assert!(output.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    };
    run("mkfs.vfat", &["-F", "32", text(&image)]);
    run("mmd", &["-i", text(&image), "::SHEETS"]);
    // Files of the demo, as somebody's own.
    let stick = bench.copy("purser-stick.img");
    let own = bench.path("own");
    assert!(bench.run(&["extract", text(&stick), "--volume", "n2", "--to", text(&own)]).status.success());
    let mut wanted = BTreeMap::new();
    for path in files_below(&own).into_iter().filter(|path| PROVEN.contains(&suffix(text(path)))) {
        let name = format!("::SHEETS/{}", path.file_name().unwrap().to_string_lossy().replace(' ', "_"));
        run("mcopy", &["-o", "-i", text(&image), text(&path), &name]);
        wanted.insert(sha256(&path), path);
    }
    run("mkfs.ext4", &["-q", "-F", "-E", "nodiscard", "-b", "4096", text(&image)]);
    let (code, listed) = bench.json(&["adrift", text(&image)]);
    assert_eq!(code, 0);
    let whole: Vec<&Value> = listed["adrift"].as_array().unwrap().iter().filter(|file| file["state"] == "whole").collect();
    // Documents of the demo have no table of their objects: nothing leads back.
    let proven = wanted.values().filter(|path| suffix(text(path)) != "pdf").count();
    assert_eq!(whole.len(), proven);
    assert!(whole.iter().all(|file| file["volume"] == "n2"), "they lie on the ground of the new volume");
    // The former volume's records still name them.
    let names: BTreeSet<String> =
        wanted.values().map(|path| path.file_name().unwrap().to_string_lossy().replace(' ', "_")).collect();
    let named = whole.iter().filter(|file| file["path"].is_string()).count();
    assert!(named * 20 >= whole.len() * 19, "{named} of {}", whole.len());
    for file in whole.iter().filter(|file| file["path"].is_string()) {
        assert!(names.contains(file["name"].as_str().unwrap()) && file["recorded_by"].is_string(), "{file}");
    }
    let to = bench.path("adrift");
    assert!(bench.run(&["extract", text(&image), "--adrift", "--state", "whole,plausible", "--to", text(&to)]).status.success());
    let found = taken(&to);
    let missed: Vec<_> = wanted.iter().filter(|(hash, _)| !found.contains(*hash)).collect();
    assert!(missed.is_empty(), "{missed:?}");
    for file in files_below(&to).iter().filter(|path| PROVEN.contains(&suffix(text(path)))) {
        let own = wanted.get(&sha256(file)).unwrap_or_else(|| panic!("{} is none of them", file.display()));
        let (name, own) = (file.file_name().unwrap().to_string_lossy(), own.file_name().unwrap().to_string_lossy());
        assert!(name == own.replace(' ', "_") || name.starts_with("byte "), "{name} is called {own}");
    }
    // What was taken out before is told no more, whichever manifest names it.
    let adrift = to.join("ykeel-adrift.jsonl");
    let since = |manifest: &Path| {
        let (code, left) = bench.json(&["adrift", text(&image), "--state", "whole", "--new-since", text(manifest)]);
        assert_eq!(code, 0);
        left["adrift"].as_array().unwrap().len()
    };
    assert_eq!((since(&adrift), since(&own.join("ykeel-manifest.json"))), (0, 0));
    let lines = fs::read_to_string(&adrift).unwrap();
    let (head, rest) = lines.split_once('\n').unwrap();
    let two: Vec<&str> = rest.lines().filter(|line| line.contains(r#""state":"whole""#)).take(2).collect();
    fs::write(bench.path("two.jsonl"), [&[head], two.as_slice()].concat().join("\n")).unwrap();
    assert_eq!(since(&bench.path("two.jsonl")), proven - 2);
    let none = bench.run(&["adrift", text(&image), "--new-since", text(&stick)]);
    assert_ne!(none.status.code(), Some(0), "an image is no manifest");
    // A volume that holds them: nothing is adrift but what it holds not.
    let sound = bench.copy("purser-stick.img");
    let (_, all) = bench.json(&["adrift", text(&sound), "--everywhere"]);
    let (_, free) = bench.json(&["adrift", text(&sound)]);
    let count = |document: &Value| document["adrift"].as_array().unwrap().len();
    assert!(count(&free) * 10 < count(&all), "{} of {}", count(&free), count(&all));
}

#[test]
fn files_adrift_are_chosen_by_kind_length_and_state_and_wrong_words_are_told() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let drive = text(&image);
    let ids = |arguments: &[&str]| -> Vec<Value> {
        let (code, document) = bench.json(&[&["adrift", drive, "--everywhere"], arguments].concat());
        assert_eq!(code, 0);
        document["adrift"].as_array().unwrap().clone()
    };
    let (all, pictures) = (ids(&[]), ids(&["--kinds", "pictures"]));
    assert!(!pictures.is_empty() && pictures.len() < all.len());
    assert!(pictures.iter().all(|file| file["sort"] == "pictures"));
    let large = ids(&["--kinds", "png,jpg", "--least", "20kB", "--state", "whole"]);
    assert!(large.iter().all(|file| file["bytes"].as_u64().unwrap() >= 20_000 && file["state"] == "whole"));
    for file in &all {
        let sum: u64 = file["extents"].as_array().unwrap().iter().map(|extent| extent[1].as_u64().unwrap()).sum();
        assert_eq!(file["bytes"].as_u64(), Some(sum), "{file}");
    }
    for (arguments, code) in [
        (&["adrift", drive, "--kinds", "moods"][..], 2),
        (&["adrift", drive, "--least", "many"], 2),
        (&["extract", drive, "--adrift", "a999999", "--to", text(&bench.path("none"))], 2),
        (&["extract", drive, "--to", text(&bench.path("none"))], 2),
        (&["extract", drive, "--volume", "n1", "--kinds", "jpg", "--to", text(&bench.path("none"))], 2),
        (&["adrift", text(&bench.path("nowhere.img"))], 3),
    ] {
        let output = bench.run(arguments);
        assert_eq!(output.status.code(), Some(code), "{arguments:?}: {output:?}");
    }
}
