//! Every drive of the demo yard, headless: its volumes are found, settled, and their files come out as they went in.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use std::fs;
use std::path::Path;

use serde_json::Value;
use support::{Bench, expected, sha256, text, yard};

/// Takes every file of a volume out and compares the hashes.
fn comes_out(bench: &Bench, image: &Path, drive: &str, find: &Value) {
    let (id, label) = (find["id"].as_str().unwrap(), find["label"].as_str().unwrap());
    let to = bench.path(&format!("out-{drive}-{label}"));
    let output = bench.run(&["extract", text(image), "--volume", id, "--to", text(&to)]);
    assert_eq!(output.status.code(), Some(0), "{drive} {label}: {output:?}");
    let wanted = expected(drive, label);
    for (path, hash) in &wanted {
        assert_eq!(&sha256(&to.join(path)), hash, "{drive} {label}: {path}");
    }
    let count = walk(&to).into_iter().filter(|path| !path.ends_with("manifest.json") && !path.ends_with("manifest.csv")).count();
    assert!(count >= wanted.len(), "{drive} {label}: {count}");
}

fn walk(folder: &Path) -> Vec<String> {
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        if entry.path().is_dir() {
            files.extend(walk(&entry.path()));
        } else {
            files.push(entry.path().display().to_string());
        }
    }
    files
}

#[test]
fn volumes_of_every_readable_kind_give_back_their_files() {
    let bench = Bench::new();
    for (drive, labels) in [
        ("timetable-desk", vec!["COUNTER", "WINTER", "SUMMER", "DRAFTS"]),
        ("skipper-archive", vec!["SKIPPER"]),
        ("stores-box", vec!["STORES"]),
        ("chart-table", vec!["CHARTS", "SOUNDINGS"]),
        ("harbour-office", vec!["HARBOUR", "TIDES"]),
    ] {
        let image = yard().join(format!("{drive}.img"));
        let (code, document) = bench.json(&["sweep", text(&image)]);
        let finds = document["finds"].as_array().unwrap();
        let found: Vec<&str> = finds.iter().map(|find| find["label"].as_str().unwrap()).collect();
        assert_eq!((code, found), (0, labels), "{drive}");
        finds.iter().for_each(|find| comes_out(&bench, &image, drive, find));
    }
}

#[test]
fn an_older_generation_is_left_out_by_its_age_and_still_gives_back_its_files() {
    let bench = Bench::new();
    let image = yard().join("deckhand-laptop.img");
    let (_, document) = bench.json(&["sweep", text(&image), "--reach", "surface"]);
    let old = document["finds"].as_array().unwrap().iter().find(|find| find["label"] == "OLDLOG").unwrap();
    let left = document["layout"]["left_out"][0].clone();
    assert_eq!(left["find"], old["id"]);
    let why = left["why"].as_str().unwrap();
    assert!(why.contains("newest name in its root is of 2019-") && why.contains("theirs of 2026-"), "{why}");
    comes_out(&bench, &image, "deckhand-laptop", old);
    let held = bench.json(&["mend", text(&image), "--hold", old["id"].as_str().unwrap()]);
    assert_eq!(held.0, 0);
}

#[test]
fn a_disk_image_kept_as_a_file_is_inside_its_volume() {
    let bench = Bench::new();
    let image = yard().join("backup-shelf.img");
    let (_, document) = bench.json(&["sweep", text(&image), "--reach", "surface"]);
    let inner = document["finds"].as_array().unwrap().iter().find(|find| find["label"] == "STICK").unwrap();
    assert_eq!(inner["inside"], "n1");
    assert_eq!(inner["inside_file"], "Backups/old stick.img");
    assert_eq!(document["layout"]["entries"].as_array().unwrap().len(), 1);
}

#[test]
fn every_drive_of_the_yard_holds_as_planned() {
    let bench = Bench::new();
    for (drive, entries) in [
        ("timetable-desk", 4),
        ("chart-table", 2),
        ("backup-shelf", 1),
        ("skipper-archive", 1),
        ("stores-box", 1),
        ("fleet-register", 24),
        ("harbour-office", 2),
        ("engine-spare", 2),
    ] {
        let image = bench.copy(&format!("{drive}.img"));
        let output = bench.run(&["mend", text(&image), "--apply", "--yes"]);
        assert_eq!(output.status.code(), Some(0), "{drive}: {output:?}");
        let (code, ladder) = bench.json(&["ladder", text(&image)]);
        assert_eq!((code, &ladder["lowest_broken"]), (0, &Value::Null), "{drive}");
        let volumes = ladder["volumes"].as_array().unwrap();
        assert_eq!(volumes.len(), entries, "{drive}");
        let states = volumes.iter().flat_map(|volume| volume["rungs"].as_array().unwrap()).map(|rung| &rung["state"]);
        assert!(states.clone().all(|state| state == "sound"), "{drive}: {:?}", states.collect::<Vec<_>>());
    }
}
