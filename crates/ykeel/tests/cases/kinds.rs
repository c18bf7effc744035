//! Every drive of the demo yard, headless: its volumes are found, settled, and their files come out as they went in.

use std::fs;
use std::path::Path;

use crate::support::{Bench, expected, sha256, text, yard};
use serde_json::Value;

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
        ("lookout-camera", 1),
        ("dry-dock", 1),
        ("wheelhouse", 1),
        ("deck-camera", 1),
        ("linen-store", 1),
        ("skipper-mirror", 1),
        ("deck-recorder", 1),
    ] {
        let image = bench.copy(&format!("{drive}.img"));
        let output = bench.run(&["mend", text(&image), "--also", "journal", "--apply", "--yes"]);
        assert_eq!(output.status.code(), Some(0), "{drive}: {output:?}");
        let (code, ladder) = bench.json(&["ladder", text(&image)]);
        assert_eq!((code, &ladder["lowest_broken"]), (0, &Value::Null), "{drive}");
        let volumes = ladder["volumes"].as_array().unwrap();
        assert_eq!(volumes.len(), entries, "{drive}");
        let states = volumes.iter().flat_map(|volume| volume["rungs"].as_array().unwrap()).map(|rung| &rung["state"]);
        assert!(states.clone().all(|state| state == "sound"), "{drive}: {:?}", states.collect::<Vec<_>>());
    }
}

#[test]
fn check_structures_and_prove_tell_what_they_see_to_scripts() {
    let bench = Bench::new();
    let recorder = yard().join("deck-recorder.img");
    let (code, document) = bench.json(&["check", text(&recorder)]);
    let rules = document["volumes"][0]["rules"].as_array().unwrap();
    let journal = rules.iter().find(|rule| rule["rule"] == "journal").unwrap();
    assert_eq!((code, &journal["findings"][0]["severity"]), (0, &Value::from("broken")));
    assert_eq!(journal["mending"]["is_safe"], false);
    assert!(journal["mending"]["loses"].as_str().unwrap().contains("last seconds"));
    // Without being asked for, what costs something is not staged, and the plan says so.
    let (code, plan) = bench.json(&["mend", text(&recorder)]);
    assert_eq!((code, plan["plan"]["edits"].as_array().unwrap().len()), (5, 0));
    assert!(plan["withheld"][0]["why"].as_str().unwrap().contains("mend --also"), "{plan}");

    let dock = yard().join("dry-dock.img");
    let (code, document) = bench.json(&["structures", text(&dock), "--volume", "n1"]);
    let boot = &document["structures"][0];
    assert_eq!((code, &boot["best"], &boot["main"]["holds"]), (0, &Value::from("computed"), &Value::from(false)));
    let field = boot["fields"].as_array().unwrap().iter().find(|field| field["name"] == "MftStartLcn").unwrap();
    assert_eq!(
        (&field["main"], &field["computed"], &field["differs"]),
        (&Value::from("0"), &Value::from("4"), &Value::from(true))
    );
    assert!(field["witness"].as_str().unwrap().contains("record 0") && field["breaks"] == "no file is found");
    assert_eq!(document["structures"][1]["best"], "copy");

    let (code, proof) = bench.json(&["prove", text(&dock), "--volume", "n1"]);
    assert_eq!((code, &proof["mounted"]), (5, &Value::from(false)), "{proof}");
    let mended = bench.copy("dry-dock.img");
    assert_eq!(bench.run(&["mend", text(&mended), "--apply", "--yes"]).status.code(), Some(0));
    let (code, proof) = bench.json(&["prove", text(&mended), "--volume", "n1"]);
    assert_eq!(
        (code, &proof["mounted"], &proof["different"]),
        (0, &Value::from(true), &Value::from(Vec::<Value>::new())),
        "{proof}"
    );
    assert_eq!(proof["same"], proof["sampled"]);
}

#[test]
fn a_version_is_taken_by_name_for_a_structure_or_a_single_field() {
    let bench = Bench::new();
    let camera = yard().join("deck-camera.img");
    let staged = |take: &str| bench.json(&["mend", text(&camera), "--only", "boot", "--take", take]);
    let serial = |plan: &Value| plan["plan"]["edits"][0]["after"].as_str().unwrap()[200..208].to_string();
    let (_, copy) = bench.json(&["mend", text(&camera), "--only", "boot"]);
    let (code, computed) = staged("n1/exFAT boot region=computed");
    assert_eq!(code, 0);
    assert!(computed["plan"]["edits"][0]["reason"].as_str().unwrap().contains("computed from"), "{computed}");
    let (code, field) = staged("n1/exFAT boot region.PartitionOffset=computed");
    assert_eq!((code, serial(&field)), (0, serial(&copy)));
    assert!(field["plan"]["edits"][0]["reason"].as_str().unwrap().contains("1 field is taken from elsewhere"), "{field}");
    let (code, by_hand) = staged("n1/exFAT boot region.PercentInUse=value:0x0C");
    assert_eq!(code, 0, "{}", by_hand["withheld"]);
    assert!(by_hand["plan"]["edits"][0]["reason"].as_str().unwrap().contains("set by hand: PercentInUse"));
    let group = by_hand["plan"]["edits"][0]["group"].as_str().unwrap().to_string();
    let (code, dropped) = bench.json(&["mend", text(&camera), "--only", "boot", "--without", &group]);
    assert_eq!((code, dropped["dropped"].as_array().unwrap().len()), (5, 1), "nothing is left of the plan");
    let said = bench.run(&["mend", text(&camera), "--only", "boot", "--without", &group]);
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    assert!(said.contains("plan: empty; 1 edit was dropped") && !said.contains("nothing that was looked at"), "{said}");
    assert_eq!(bench.run(&["mend", text(&camera), "--without", "no such group"]).status.code(), Some(2));
    let (_, set) = bench.json(&["sweep", text(&camera), "--set", "n1=length 100 sectors"]);
    assert_eq!(set["code"].as_u64(), Some(2), "a word too many: {set}");
    let (_, set) = bench.json(&["sweep", text(&camera), "--set", "n1=length 16380000"]);
    assert!(set["layout"]["by_hand"][0]["speaks"].as_array().unwrap().iter().any(|says| says["for_it"] == false), "{set}");
    for (wrong, code) in [("n1/exFAT boot region", 2), ("n1/no such=copy", 2), ("n1/exFAT boot region.Nothing=copy", 2)] {
        let output = bench.run(&["mend", text(&camera), "--take", wrong]);
        assert_eq!(output.status.code(), Some(code), "{wrong}: {output:?}");
    }
}

/// An NTFS volume by the system's formatter and driver, of which the records of some files were overwritten.
fn with_lost_records(bench: &Bench, lost: &[&str]) -> std::path::PathBuf {
    let (image, point) = (bench.path("lost.img"), bench.path("mounted"));
    fs::create_dir_all(&point).unwrap();
    fs::File::create(&image).unwrap().set_len(32 << 20).unwrap();
    let run = |command: &mut std::process::Command| assert!(command.output().unwrap().status.success(), "{command:?}");
    run(std::process::Command::new("mkfs.ntfs").args(["-Q", "-F", "-q"]).arg(&image));
    run(std::process::Command::new("ntfs-3g").arg(&image).arg(&point));
    fs::create_dir(point.join("Rota")).unwrap();
    for name in ["ropes.txt", "fenders.txt", "tide table.txt"] {
        fs::write(point.join("Rota").join(name), format!("{name} of the Brackwater Line\n").repeat(300)).unwrap();
    }
    run(std::process::Command::new("umount").arg(&point));
    let mut bytes = fs::read(&image).unwrap();
    for name in lost {
        let units: Vec<u8> = name.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let holds = |record: &[u8]| record.starts_with(b"FILE") && record.windows(units.len()).any(|part| part == units);
        bytes.chunks_mut(1024).filter(|record| record[22] == 1 && holds(record)).for_each(|record| record.fill(0x77));
    }
    fs::write(&image, bytes).unwrap();
    image
}

#[test]
fn names_without_records_are_listed_found_and_written_down_as_missing() {
    let bench = Bench::new();
    let image = with_lost_records(&bench, &["ropes.txt", "tide table.txt"]);
    let (code, document) = bench.json(&["files", text(&image), "--volume", "n1", "Rota"]);
    assert_eq!(code, 0);
    let listed: Vec<(&str, &str)> = document["entries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| (entry["name"].as_str().unwrap(), entry["existence"].as_str().unwrap()))
        .collect();
    assert_eq!(listed, [("fenders.txt", "present"), ("ropes.txt", "named"), ("tide table.txt", "named")]);
    let plain = bench.run(&["files", text(&image), "--volume", "n1", "--find", "is:named"]);
    let plain = String::from_utf8(plain.stdout).unwrap();
    assert_eq!(plain.lines().filter(|line| line.contains("named") && line.contains("(gone)")).count(), 2, "{plain}");
    let others = bench.run(&["files", text(&image), "--volume", "n1", "--find", "is:present !is:folder"]);
    assert_eq!(String::from_utf8(others.stdout).unwrap().lines().filter(|line| line.contains(".txt")).count(), 1);
    let to = bench.path("out");
    let output = bench.run(&["extract", text(&image), "--volume", "n1", "--to", text(&to), "--json"]);
    assert_eq!(output.status.code(), Some(5), "something is missing");
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((&told["whole"], &told["failed"]), (&1.into(), &2.into()));
    let lines = told["files"].as_array().unwrap();
    let gone: Vec<&str> =
        lines.iter().filter(|line| line["ground"] == "gone").map(|line| line["path"].as_str().unwrap()).collect();
    assert_eq!(gone, ["Rota/ropes.txt", "Rota/tide table.txt"]);
    assert!(told["findings"].to_string().contains("2 files are listed by the names that folders keep of them"));
    assert!(to.join("Rota/fenders.txt").exists() && !to.join("Rota/ropes.txt").exists());
}
