//! The commands without screens, on the demo's drives.

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::time::Duration;

use crate::support::{Bench, expected, fingerprint, sha256, text, yard};
use serde_json::Value;

fn lowest(document: &Value) -> (String, String) {
    let word = |value: &Value| value.as_str().unwrap_or("-").to_string();
    (word(&document["lowest_broken"]["rung"]), word(&document["lowest_broken"]["volume"]))
}

#[test]
fn the_ladder_names_the_lowest_broken_rung_of_every_demo_drive() {
    let bench = Bench::new();
    for (drive, rung, volume) in [
        ("purser-stick.img", "table", "-"),
        ("ticket-office.img", "table", "-"),
        ("engine-log.drive.toml", "table", "-"),
        ("harbour-camera.img", "boot_sector", "n1"),
        ("winch-room.drive.toml", "reads", "-"),
        ("galley.img", "-", "-"),
    ] {
        let (code, document) = bench.json(&["ladder", text(&yard().join(drive))]);
        assert_eq!((code, lowest(&document)), (0, (rung.into(), volume.into())), "{drive}");
        let rungs = document["rungs"].as_array().unwrap();
        assert_eq!(rungs.len(), 5);
        // An image has neither link nor attributes; a drive answers, and its capacity waits for Fathom.
        for name in ["link", "health", "capacity"] {
            let rung = rungs.iter().find(|rung| rung["rung"] == name).unwrap();
            let answers = name == "link" && drive.ends_with(".toml");
            assert_eq!(rung["state"], if answers { "sound" } else { "untested" }, "{drive} {name}");
            assert!(!rung["note"].as_str().unwrap().is_empty());
        }
    }
    let (_, winch) = bench.json(&["ladder", text(&yard().join("winch-room.drive.toml"))]);
    assert_eq!(winch["rungs"][2]["findings"][0]["at_byte"], 0);
}

#[test]
fn the_whole_story_of_the_pursers_stick() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let drive = text(&image);
    let before = fingerprint(&image);
    let (code, sweep) = bench.json(&["sweep", drive]);
    let find = &sweep["finds"][1];
    assert_eq!(
        (code, find["kind"].as_str(), find["label"].as_str(), find["grade"].as_str()),
        (0, Some("ntfs"), Some("PURSER"), Some("certain"))
    );
    assert_eq!(
        (find["start_lba"].as_u64(), find["sectors"].as_u64(), find["inside"].is_null()),
        (Some(3001 * 2048), Some(9000 * 2048), true)
    );
    assert_eq!(
        (sweep["layout"]["scheme"].as_str(), sweep["layout"]["entries"][0]["role"].as_str()),
        (Some("mbr"), Some("primary"))
    );
    let (code, plan) = bench.json(&["mend", drive]);
    assert_eq!((code, plan["plan"]["edits"].as_array().unwrap().len(), lowest(&plan["after"]).0), (0, 1, "-".into()));
    assert_eq!(fingerprint(&image), before, "a plan writes nothing");
    assert_eq!(bench.run(&["mend", drive, "--apply", "--confirm", "AAA-AAA"]).status.code(), Some(4));
    assert_eq!(bench.run(&["mend", drive, "--apply"]).status.code(), Some(4));
    let confirm = plan["plan"]["code"].as_str().unwrap();
    let (code, applied) = bench.json(&["mend", drive, "--apply", "--confirm", confirm]);
    assert_eq!((code, lowest(&applied["applied"]["ladder"]).0), (0, "-".into()));
    let (code, empty) = bench.json(&["mend", drive]);
    assert_eq!((code, empty["plan"]["edits"].as_array().unwrap().len()), (5, 0));
    let out = bench.path("out");
    let two = ["extract", drive, "--volume", "n2", "Voyage register.csv", "Pictures/boat-03.jpg", "--to", text(&out)];
    let (code, extracted) = bench.json(&two);
    assert_eq!((code, extracted["whole"].as_u64(), extracted["compared"].as_bool()), (0, Some(2), Some(true)));
    let wanted = expected("purser-stick", "PURSER");
    let (_, again) = bench.json(&two);
    assert_eq!((&again["was_there"], &again["whole"]), (&extracted["whole"], &extracted["whole"]), "all of it is there");
    for file in extracted["files"].as_array().unwrap() {
        let (path, hash) = (file["path"].as_str().unwrap(), file["sha256"].as_str().unwrap());
        assert!(wanted.contains(&(path.into(), hash.into())) && sha256(&out.join(path)) == hash, "{path}");
    }
    let bundle = applied["applied"]["bundle"].as_str().unwrap();
    let (code, undone) = bench.json(&["undo", bundle]);
    assert_eq!((code, undone["now"].as_str()), (0, Some("as before the apply")));
    assert_eq!(fingerprint(&image), before);
    assert_eq!(bench.run(&["undo", bundle, "--finish"]).status.code(), Some(0));
    assert_eq!(bench.run(&["undo", bundle]).status.code(), Some(0));
    assert_eq!(fingerprint(&image), before);
    // The drive lies elsewhere now: what is told is of the one that was put back.
    assert_eq!(bench.run(&["undo", bundle, "--finish"]).status.code(), Some(0));
    let moved = bench.path("moved.img");
    fs::rename(&image, &moved).unwrap();
    let (code, undone) = bench.json(&["undo", bundle, "--source", text(&moved)]);
    assert_eq!((code, undone["source"].as_str(), undone["now"].as_str()), (0, moved.to_str(), Some("as before the apply")));
    assert_eq!(fingerprint(&moved), before);
}

#[test]
fn every_file_of_every_demo_volume_comes_out_as_it_went_in() {
    let bench = Bench::new();
    for (drive, image, volumes) in [
        ("purser-stick", "purser-stick.img", &["TICKETS", "PURSER"][..]),
        ("ticket-office", "ticket-office.img", &["OFFICE", "ARCHIVE"]),
        ("engine-log", "engine-log/surface.img", &["ENGINE", "LOGBOOK", "SPARES"]),
        ("harbour-camera", "harbour-camera.img", &["CAMERA"]),
        ("winch-room", "winch-room.drive.toml", &["WINCH"]),
        ("galley", "galley.img", &["GALLEY", "MENUS"]),
    ] {
        for (index, label) in volumes.iter().enumerate() {
            let out = bench.path(label);
            let id = format!("n{}", index + 1);
            let (code, extracted) = bench.json(&["extract", text(&yard().join(image)), "--volume", &id, "--to", text(&out)]);
            let mut got: Vec<(String, String)> = extracted["files"]
                .as_array()
                .unwrap()
                .iter()
                .map(|file| (file["path"].as_str().unwrap().into(), file["sha256"].as_str().unwrap().into()))
                .collect();
            got.sort();
            let mut wanted = expected(drive, label);
            wanted.sort();
            assert_eq!((code, got.len()), (0, wanted.len()), "{label}");
            assert!(got == wanted, "{label}");
        }
    }
}

#[test]
fn the_engine_log_gets_its_table_and_its_hidden_volume_back() {
    let bench = Bench::new();
    let image = bench.path("engine.img");
    let status = std::process::Command::new("cp")
        .arg("--sparse=always")
        .arg(yard().join("engine-log/surface.img"))
        .arg(&image)
        .status()
        .unwrap();
    assert!(status.success());
    let (_, document) = bench.json(&["mend", text(&image), "--only", "table", "--apply", "--yes"]);
    let entries = document["layout"]["entries"].as_array().unwrap();
    let ground: Vec<_> =
        entries.iter().map(|entry| (entry["first"].as_u64().unwrap(), entry["sectors"].as_u64().unwrap())).collect();
    assert_eq!((ground[0], ground[1], ground[2].0), ((2048, 6000 * 2048), (6001 * 2048, 9000 * 2048), 15_001 * 2048));
    assert_eq!(document["layout"]["scheme"], "gpt");
    assert_eq!(lowest(&document["applied"]["ladder"]), ("boot_sector".into(), "n2".into()));
}

#[test]
fn the_camera_card_gets_its_boot_sector_back() {
    let bench = Bench::new();
    let image = bench.copy("harbour-camera.img");
    let (_, table) = bench.json(&["mend", text(&image), "--only", "table"]);
    assert!(table["plan"]["edits"].as_array().unwrap().is_empty());
    let (code, document) = bench.json(&["mend", text(&image), "--apply", "--yes"]);
    assert_eq!((code, document["plan"]["edits"][0]["structure"].as_str()), (0, Some("FAT32 boot sector of n1")));
    assert_eq!(lowest(&document["applied"]["ladder"]).0, "-");
}

#[test]
fn a_drive_that_fails_reads_is_refused_and_a_repaired_copy_is_saved() {
    let bench = Bench::new();
    let drive = yard().join("winch-room.drive.toml");
    let refused = bench.run(&["mend", text(&drive), "--apply", "--yes"]);
    assert_eq!(refused.status.code(), Some(4));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("save a repaired copy"));
    let copy = bench.path("winch.img");
    assert_eq!(bench.json(&["mend", text(&drive), "--save-as", text(&copy)]).0, 0);
    let (_, healed) = bench.json(&["ladder", text(&copy)]);
    assert_eq!(lowest(&healed).0, "-");
    assert_eq!(bench.run(&["mend", text(&drive), "--save-as", text(&copy)]).status.code(), Some(5), "nothing is overwritten");
}

#[test]
fn a_sick_drive_is_copied_gone_on_with_and_repaired_from_the_copy() {
    let bench = Bench::new();
    let drive = yard().join("winch-room.drive.toml");
    let copy = bench.path("winch.img");
    let (code, told) = bench.json(&["copy", text(&drive), text(&copy), "--passes", "sound"]);
    assert_eq!((code, told["resumed"].as_bool(), told["failed_bytes"].as_u64()), (0, Some(false), Some(0)));
    assert!(told["missing"][0]["end"].as_u64().unwrap() > 512, "the first pass passes over what is near trouble: {told}");
    let stopped = bench.run(&["copy", text(&drive), text(&copy), "--stop-errors", "1"]);
    assert_eq!(stopped.status.code(), Some(5), "{stopped:?}");
    let (code, told) = bench.json(&["copy", text(&drive), text(&copy)]);
    assert_eq!(
        (code, told["resumed"].as_bool(), told["missing"].to_string()),
        (0, Some(true), r#"[{"end":512,"start":0}]"#.into())
    );
    let (_, ladder) = bench.json(&["ladder", text(&copy)]);
    let reads = &ladder["rungs"][2];
    assert_eq!((reads["state"].as_str(), reads["findings"][0]["at_byte"].as_u64()), (Some("doubtful"), Some(0)), "{reads}");
    assert_eq!(lowest(&ladder).0, "table", "the next step is what lay in sector 0");
    let (_, lacking) = bench.json(&["files", text(&copy), "--missing"]);
    let counts: Vec<usize> = lacking.as_array().unwrap().iter().map(|volume| volume["files"].as_array().unwrap().len()).collect();
    assert!(!counts.is_empty() && counts.iter().all(|count| *count == 0), "{lacking}");
    let saved = bench.path("saved.img");
    assert_eq!(bench.json(&["mend", text(&copy), "--save-as", text(&saved)]).0, 0);
    assert_eq!(lowest(&bench.json(&["ladder", text(&saved)]).1).0, "-");
    for (arguments, words) in [
        (["copy", text(&copy), text(&copy)], "onto the drive"),
        (["copy", text(&drive), text(&saved)], "nothing is overwritten"),
        (["copy", text(&saved), text(&copy)], "another drive"),
    ] {
        let refused = bench.run(&arguments);
        assert!(refused.status.code() == Some(4) && String::from_utf8_lossy(&refused.stderr).contains(words), "{refused:?}");
    }
    let nowhere = bench.path("no folder/c.img");
    assert_eq!(bench.run(&["copy", text(&drive), text(&nowhere)]).status.code(), Some(3));
}

#[test]
fn a_copy_that_is_killed_goes_on_and_an_interrupted_one_says_so() {
    let bench = Bench::new();
    let image = bench.path("long.img");
    let bytes: Vec<u8> = (0..32u64 << 20).map(|at| (at * 31 % 253) as u8 + 1).collect();
    (0..16).for_each(|part| {
        let file = File::options().create(true).truncate(false).write(true).open(&image).unwrap();
        file.write_all_at(&bytes, part * bytes.len() as u64).unwrap();
    });
    let copy = bench.path("copy.img");
    let mut ends = Vec::new();
    for (turn, signal) in ["-KILL", "-INT", "-KILL", "-INT"].into_iter().enumerate() {
        let mut child = bench.command().args(["copy", text(&image), text(&copy)]).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(60 + 40 * turn as u64));
        let _ = std::process::Command::new("kill").args([signal, &child.id().to_string()]).status();
        ends.push(child.wait().unwrap().code());
    }
    assert!(ends.iter().all(|end| matches!(end, None | Some(0 | 130))), "{ends:?}");
    let (code, told) = bench.json(&["copy", text(&image), text(&copy)]);
    assert_eq!((code, told["missing"].to_string()), (0, "[]".into()));
    assert_eq!(sha256(&copy), sha256(&image));
}

#[test]
fn a_healthy_drive_gets_an_empty_plan_and_exit_code_5() {
    let bench = Bench::new();
    let (code, document) = bench.json(&["mend", text(&yard().join("galley.img"))]);
    assert_eq!((code, document["plan"]["edits"].as_array().unwrap().len()), (5, 0));
}

#[test]
fn bad_input_is_told_by_name_with_its_exit_code() {
    let bench = Bench::new();
    let write = |name: &str, bytes: &[u8]| fs::write(bench.path(name), bytes).unwrap();
    write("empty.img", &[]);
    write("small.img", &[7; 511]);
    write("wrong.drive.toml", b"version = 1\nclaimed_bytes = 4096\ncolour = 3\nidentity = { model = \"m\", serial = \"s\" }\n");
    fs::create_dir(bench.path("folder")).unwrap();
    for (name, words) in [
        ("empty.img", "holds 0 bytes"),
        ("small.img", "511 bytes"),
        ("folder", "is a folder"),
        ("none.img", "cannot open"),
        ("wrong.drive.toml", "line 3"),
    ] {
        for command in ["ladder", "sweep", "mend", "files"] {
            let output = bench.run(&[command, name]);
            let told = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(
                output.status.code() == Some(3) && told.contains(words) && told.contains(name),
                "{command} {name}: {output:?}"
            );
            assert!(output.stdout.is_empty());
        }
    }
    assert!(String::from_utf8_lossy(&bench.run(&["ladder", "wrong.drive.toml"]).stderr).contains("colour"));
    assert_eq!(bench.run(&["ladder"]).status.code(), Some(2));
    assert_eq!(bench.run(&["ladder", "small.img", "--sector-size", "500"]).status.code(), Some(2));
    assert_eq!(bench.run(&["files", text(&yard().join("galley.img")), "--volume", "n9"]).status.code(), Some(2));
    write("broken.ykundo", b"YKUNDO\r\nnonsense");
    assert_eq!(bench.run(&["undo", "broken.ykundo"]).status.code(), Some(4));
}

#[test]
fn an_error_is_a_document_where_one_was_asked_for() {
    let bench = Bench::new();
    let galley = yard().join("galley.img");
    let sick = yard().join("winch-room.drive.toml");
    for (arguments, code, words) in [
        (vec!["ladder", "none.img"], 3, "none.img"),
        (vec!["ladder"], 2, "<SOURCE>"),
        (vec!["sweep", text(&galley), "--reach", "everywhere"], 2, "everywhere"),
        (vec!["files", text(&galley), "--volume", "n9"], 2, "n9"),
        (vec!["files", text(&galley)], 2, "--volume"),
        (vec!["mend", text(&sick), "--apply", "--yes"], 4, ""),
    ] {
        let (ended, document) = bench.json(&arguments);
        assert_eq!(ended, code, "{arguments:?}: {document}");
        // What a command has to say for itself stands in its own document.
        if let Some(error) = document["error"].as_str() {
            assert!(error.contains(words) && !error.is_empty() && document["code"] == code, "{arguments:?}: {document}");
        } else {
            assert!(code == 4 && document["refused"].is_object() | document["refused"].is_string(), "{arguments:?}: {document}");
        }
        assert!(!bench.run(&arguments).stderr.is_empty(), "people are told as before");
    }
}

#[test]
fn a_word_that_is_no_command_opens_no_screens_and_names_the_one_that_may_be_meant() {
    let bench = Bench::new();
    for (word, told) in [("swep", "`ykeel sweep`"), ("fathm", "`ykeel fathom`"), ("quayside", "no drive quayside")] {
        let output = bench.run(&[word]);
        let stderr = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.code() == Some(2) && stderr.contains(told) && output.stdout.is_empty(), "{word}: {output:?}");
    }
    // A word that steers the terminal is not handed on to it.
    let output = bench.run(&["swe\u{1b}[31mp"]);
    assert!(output.status.code() == Some(2) && !output.stderr.contains(&0x1B), "{output:?}");
}

#[test]
fn completions_and_manual_pages_know_every_command() {
    let bench = Bench::new();
    let help = String::from_utf8(bench.run(&["--help"]).stdout).unwrap();
    let listed = help.split("Commands:").nth(1).unwrap().split("Arguments:").next().unwrap();
    let commands: Vec<&str> = listed
        .lines()
        .filter(|line| line.starts_with("  ") && !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next())
        .filter(|name| *name != "help")
        .collect();
    assert!(commands.len() >= 18 && commands.contains(&"fathom"), "{commands:?}");
    for shell in ["bash", "zsh", "fish"] {
        let output = bench.run(&["completions", shell]);
        let script = String::from_utf8(output.stdout).unwrap();
        assert!(output.status.success() && commands.iter().all(|name| script.contains(name)), "{shell}");
        assert!(script.contains("volumes-first"), "options are known, too");
    }
    fs::write(bench.path("ykeel.bash"), bench.run(&["completions", "bash"]).stdout).unwrap();
    let bash = std::process::Command::new("bash").arg("-n").arg(bench.path("ykeel.bash")).status().unwrap();
    assert!(bash.success(), "the shell takes it");
    assert!(bench.run(&["manual", "--to", "man"]).status.success());
    for name in &commands {
        let page = fs::read_to_string(bench.path("man").join(format!("ykeel-{name}.1"))).unwrap();
        assert!(page.contains(".TH") && page.contains(name), "{name}");
    }
    assert!(fs::read_to_string(bench.path("man/ykeel.1")).unwrap().contains("sector"));
    assert_eq!(bench.run(&["completions", "quay"]).status.code(), Some(2));
}

#[test]
fn drives_of_nothing_are_told_and_survived() {
    let bench = Bench::new();
    let noise: Vec<u8> = (0..16u64 << 20).map(|at| (at.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 37) as u8).collect();
    for (name, bytes) in [("zeros.img", vec![0; 16 << 20]), ("ones.img", vec![0xFF; 16 << 20]), ("noise.img", noise)] {
        fs::write(bench.path(name), bytes).unwrap();
        let (code, sweep) = bench.json(&["sweep", name, "--reach", "surface"]);
        assert_eq!((code, sweep["finds"].as_array().unwrap().len()), (0, 0), "{name}");
        assert_eq!(lowest(&bench.json(&["ladder", name]).1).0, "table", "{name}");
        assert_eq!(bench.run(&["mend", name]).status.code(), Some(5), "{name}");
        assert_eq!(bench.run(&["files", name]).status.code(), Some(5), "{name}");
    }
}

#[test]
fn a_sweep_stopped_by_a_signal_ends_with_130_and_goes_on() {
    let bench = Bench::new();
    fs::create_dir(bench.path("slow")).unwrap();
    let surface = File::create(bench.path("slow/surface.img")).unwrap();
    surface.set_len(40 << 30).unwrap();
    // Something to be found at once: the boot sector's clue is kept over the stop.
    let engine = File::open(yard().join("galley.img")).unwrap();
    let mut bytes = vec![0; 4 << 20];
    engine.read_exact_at(&mut bytes, 1 << 20).unwrap();
    surface.write_all_at(&bytes, 1 << 20).unwrap();
    let description = "version = 1\nclaimed_bytes = 42949672960\nknows_holes = false\nidentity = { model = \"m\", serial = \"s\" }\nbacking = [{ file = \"slow/surface.img\" }]\n";
    fs::write(bench.path("slow.drive.toml"), description).unwrap();
    let child = bench
        .command()
        .args(["sweep", "slow.drive.toml", "--reach", "surface", "--json"])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(1500));
    let killed = std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(killed.success());
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), output.stdout.len()), (Some(130), 0), "{output:?}");
    assert!(String::from_utf8_lossy(&output.stderr).contains("goes on from here"));
    let state = fs::read_dir(bench.path("state"))
        .unwrap()
        .flatten()
        .find_map(|drive| fs::read(drive.path().join("sweep.json")).ok())
        .unwrap();
    let state: Value = serde_json::from_slice(&state).unwrap();
    let done: u64 = state["done"]
        .as_array()
        .unwrap()
        .iter()
        .map(|range| range["end"].as_u64().unwrap() - range["start"].as_u64().unwrap())
        .sum();
    assert!(done > 0 && done < 42_949_672_960, "{done}");
}

#[test]
fn listings_show_folders_deleted_entries_and_streams() {
    let bench = Bench::new();
    let drive = yard().join("galley.img");
    let (_, root) = bench.json(&["files", text(&drive), "--volume", "n1"]);
    let names: Vec<&str> = root["entries"].as_array().unwrap().iter().map(|entry| entry["name"].as_str().unwrap()).collect();
    assert!(
        names.contains(&"Fahrpläne") && names.contains(&"Roster ⛴ spring.txt") && !names.iter().any(|name| name.starts_with('$'))
    );
    let (_, notes) = bench.json(&["files", text(&drive), "--volume", "n2", "Notes", "--deleted"]);
    let deleted = notes["entries"].as_array().unwrap().iter().filter(|entry| entry["existence"] == "deleted").count();
    assert_eq!(deleted, 3);
    let (_, tree) = bench.json(&["files", text(&drive), "--volume", "@2048", "--recursive"]);
    assert_eq!(
        tree["entries"].as_array().unwrap().iter().filter(|entry| entry["kind"] == "file").count(),
        expected("galley", "GALLEY").len()
    );
    let (_, one) = bench.json(&["files", text(&drive), "--volume", "n1", "Voyage register.csv"]);
    assert_eq!(one["streams"][0]["storage"], "plain");
    assert_eq!(bench.run(&["files", text(&drive)]).status.code(), Some(2), "two volumes: one must be named");
    assert!(
        bench.run(&["--color", "16", "files", text(&drive), "--volume", "n1"]).status.success(),
        "before the command as behind it"
    );
    assert_eq!(bench.run(&[text(&drive), "ladder"]).status.code(), Some(2));
    let (_, found) = bench.json(&["files", text(&drive), "--volume", "n1", "--find", "sort:text >100"]);
    let found = found["entries"].as_array().unwrap();
    assert!(!found.is_empty() && found.iter().all(|entry| entry["bytes"].as_u64().unwrap() > 100), "{found:?}");
    let wrong = bench.run(&["files", text(&drive), "--volume", "n1", "--find", "since:May"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("since:2024-05"), "what is right is said");
}

#[test]
fn the_yard_lists_drives_with_what_was_told() {
    let bench = Bench::new();
    let (code, document) = bench.json(&["yard", text(yard())]);
    let drives = document["drives"].as_array().unwrap();
    assert_eq!((code, drives.len()), (0, 32));
    assert!(drives.iter().all(|drive| drive["problem"].is_null() && !drive["symptom"].as_str().unwrap().is_empty()));
    let drawing = bench.path("keel.svg");
    assert_eq!(bench.run(&["report", text(&yard().join("purser-stick.img")), "--out", text(&drawing)]).status.code(), Some(0));
    assert!(fs::read_to_string(drawing).unwrap().contains("NTFS PURSER"));
}

/// A loop device over an image, taken away again at the end.
struct Loop(String);

impl Loop {
    fn over(image: &std::path::Path) -> Self {
        let output = std::process::Command::new("losetup").args(["-f", "--show", "-P"]).arg(image).output().unwrap();
        assert!(output.status.success(), "{output:?}");
        Self(String::from_utf8(output.stdout).unwrap().trim().to_string())
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = std::process::Command::new("losetup").args(["-d", &self.0]).status();
    }
}

#[test]
fn a_block_device_wants_its_code_and_is_refused_while_it_is_mounted() {
    let bench = Bench::new();
    let image = bench.copy("harbour-camera.img");
    let device = Loop::over(&image);
    let before = fingerprint(&image);
    let (code, ladder) = bench.json(&["ladder", &device.0]);
    assert_eq!(
        (code, ladder["drive"]["link"].as_str(), ladder["drive"]["bytes"].as_u64()),
        (0, Some("block_device"), Some(7_948_206_080))
    );
    assert_eq!(ladder["drive"]["logical_sector"], 512);
    assert_eq!(bench.run(&["mend", &device.0, "--apply", "--yes"]).status.code(), Some(4), "--yes is not for devices");
    let (_, plan) = bench.json(&["mend", &device.0]);
    let confirm = plan["plan"]["code"].as_str().unwrap();
    let (code, applied) = bench.json(&["mend", &device.0, "--apply", "--confirm", confirm]);
    assert_eq!((code, lowest(&applied["applied"]["ladder"]).0), (0, "-".into()));
    let bundle = applied["applied"]["bundle"].as_str().unwrap();
    assert_eq!(bench.run(&["undo", bundle]).status.code(), Some(4), "undo of a device wants the code too");
    assert_eq!(bench.json(&["undo", bundle, "--confirm", confirm]).0, 0);
    assert_eq!(fingerprint(&image), before);
    // A file system of this system's own on the device: the drive is in use.
    assert!(std::process::Command::new("mkfs.ext4").args(["-q", "-F", &device.0, "64m"]).status().unwrap().success());
    let point = bench.path("point");
    fs::create_dir(&point).unwrap();
    assert!(std::process::Command::new("mount").arg(&device.0).arg(&point).status().unwrap().success());
    let refusals = [&device.0[..], text(&image)].map(|drive| {
        let source = keel_source::open(std::path::Path::new(drive), keel_source::OpenOptions::default()).unwrap();
        let leave = keel_source::Leave::by_code(source.identity(), &source.identity().code()).unwrap();
        source.open_target(&leave).map(|_| ()).unwrap_err().to_string()
    });
    assert!(std::process::Command::new("umount").arg(&point).status().unwrap().success());
    assert!(refusals.iter().all(|told| told.contains("in use by this system: mounted at")), "{refusals:?}");
}

#[test]
fn types_and_identifiers_are_changed_on_request_only() {
    let bench = Bench::new();
    let image = bench.copy("galley.img");
    let (code, _) = bench.json(&["mend", text(&image)]);
    assert_eq!(code, 5);
    let (code, plan) = bench.json(&["mend", text(&image), "--type", "n1=0x27"]);
    assert_eq!((code, plan["layout"]["entries"][0]["type"].as_u64()), (0, Some(0x27)));
    for wrong in ["n1", "n1=banana", "n9=0x07", "n1=0x00"] {
        assert_eq!(bench.run(&["mend", text(&image), "--type", wrong]).status.code(), Some(2), "{wrong}");
    }
    let before = fingerprint(&image);
    let (code, plan) = bench.json(&["mend", text(&image), "--new-id"]);
    assert_eq!((code, plan["plan"]["edits"].as_array().unwrap().len()), (0, 1));
    assert!(plan["plan"]["edits"][0]["reason"].as_str().unwrap().contains("another drive has the same identifiers"));
    assert_eq!(fingerprint(&image), before);
}

#[test]
fn a_drive_is_renewed_shown_converted_and_put_back_by_command() {
    let bench = Bench::new();
    let image = bench.path("bare.img");
    File::create(&image).unwrap().set_len(300 << 20).unwrap();
    let drive = text(&image);
    let (code, shown) = bench.json(&["renew", drive]);
    assert_eq!((code, shown["scheme"].is_null(), shown["entries"].as_array().unwrap().len()), (0, true, 0));
    // What is wrong is said in a sentence, and nothing is written.
    let before = fingerprint(&image);
    for (arguments, code, what) in [
        (vec!["--add", "exfat"], 5, "has no table"),
        (vec!["--table", "gpt", "--add", "wax"], 2, "no kind"),
        (vec!["--table", "gpt", "--add", "exfat,size=900 TB"], 5, "free piece"),
        (vec!["--table", "gpt", "--format", "1=exfat"], 5, "no entry 1"),
        (vec!["--table", "gpt", "--flag", "1=loud"], 2, "no mark"),
        (vec!["--convert", "gpt"], 5, "no table"),
        (vec!["--table", "gpt", "--add", "fat32,label=A LABEL OF MANY SIGNS"], 5, "label"),
    ] {
        let (ended, said) = bench.json(&[&["renew", drive], arguments.as_slice()].concat());
        assert_eq!(ended, code, "{arguments:?}: {said}");
        assert!(said["error"].to_string().contains(what), "{arguments:?}: {said}");
    }
    assert_eq!(fingerprint(&image), before);
    let two = ["--table", "mbr", "--add", "ntfs,size=100 MB,label=OFFICE", "--add", "fat32,label=STICK"];
    let (code, planned) = bench.json(&[&["renew", drive], two.as_slice()].concat());
    assert_eq!((code, planned["made"].as_array().unwrap().len(), planned["gate"]["words"].is_null()), (0, 2, true));
    assert_eq!((&planned["after"]["lowest_broken"], fingerprint(&image)), (&Value::Null, before));
    let (code, applied) = bench.json(&[&["renew", drive], two.as_slice(), &["--apply", "--yes"]].concat());
    assert_eq!((code, &applied["applied"]["ladder"]["lowest_broken"]), (0, &Value::Null));
    let bundle = applied["applied"]["bundle"].as_str().unwrap().to_string();
    let labels: Vec<&str> = applied["applied"]["ladder"]["volumes"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|volume| volume["label"].as_str())
        .collect();
    assert_eq!(labels, ["OFFICE", "STICK"]);
    // Converted, nothing is lost and no words are wanted; a new table over both wants them.
    let (code, converted) = bench.json(&["renew", drive, "--convert", "gpt", "--apply", "--yes"]);
    assert_eq!((code, converted["gate"]["lost"].as_array().unwrap().len()), (0, 0));
    let (_, shown) = bench.json(&["renew", drive]);
    assert_eq!((shown["scheme"].as_str(), shown["entries"][1]["kind"].as_str()), (Some("gpt"), Some("fat32")));
    let again = ["renew", drive, "--table", "none", "--add", "exfat", "--apply", "--yes"];
    let (code, refused) = bench.json(&again);
    assert!(code == 4 && refused["error"].to_string().contains("I give up what is on it"), "{refused}");
    let undo = converted["applied"]["bundle"].as_str().unwrap();
    assert_eq!(bench.json(&["undo", undo]).0, 0);
    // A volume that is made before another one takes no other's name: what stays is proven against itself.
    let (code, gone) =
        bench.json(&["renew", drive, "--delete", "1", "--apply", "--yes", "--override-words", "I give up what is on it"]);
    let (first, second) = (gone["applied"]["bundle"].as_str().unwrap().to_string(), &gone["applied"]["proof"]);
    assert_eq!((code, second.as_array().unwrap().len(), &second[0]["lost"]), (0, 1, &Value::Null));
    let words = ["--apply", "--yes", "--override-words", "I give up what is on it"];
    let (code, made) = bench.json(&[&["renew", drive, "--add", "exfat,size=60 MB,label=NEW"], words.as_slice()].concat());
    let made = &made["applied"];
    assert_eq!(
        (code, made["ladder"]["volumes"].as_array().unwrap().len(), &made["ladder"]["lowest_broken"]),
        (0, 2, &Value::Null)
    );
    let proof = &made["proof"].as_array().unwrap()[0];
    assert_eq!(
        (made["proof"].as_array().unwrap().len(), &proof["lost"], &proof["counted"][0]),
        (1, &Value::Null, &proof["counted"][1])
    );
    assert_eq!(proof["kernel"]["different"].as_array().map_or(0, Vec::len), 0, "{proof}");
    for bundle in [made["bundle"].as_str().unwrap(), &first] {
        assert_eq!(bench.json(&["undo", bundle]).0, 0);
    }
    assert_eq!(bench.json(&["undo", &bundle]).0, 0);
    assert_eq!(fingerprint(&image), before, "as it was");
}

#[test]
fn who_is_to_read_a_volume_decides_its_kind_and_recipes_are_the_usual_ways() {
    let bench = Bench::new();
    let image = bench.path("bare.img");
    File::create(&image).unwrap().set_len(64 << 30).unwrap();
    let drive = text(&image);
    let first = |arguments: &[&str]| {
        let (code, said) = bench.json(&[&["renew", drive], arguments].concat());
        assert_eq!(code, 0, "{said}");
        (said["answers"][0]["kind"].as_str().unwrap_or("-").to_string(), said["answers"][0]["serves"] == true)
    };
    assert_eq!(first(&["--for", "windows,macos,linux"]), ("exfat".into(), true));
    assert_eq!(first(&["--for", "linux"]), ("ext4".into(), true));
    let television = ["--for", "windows,television", "--written-by", "windows", "--largest-file", "20 GB"];
    assert_eq!(first(&television), ("ntfs".into(), true));
    let (code, said) = bench.json(&["renew", drive, "--for", "abacus"]);
    assert!(code == 2 && said["error"].to_string().contains("windows macos linux"), "{said}");
    // The answer is followed where a table is made and no kind is named.
    let (code, made) = bench.json(&["renew", drive, "--table", "gpt", "--for", "windows,macos"]);
    assert_eq!((code, made["made"][0]["kind"].as_str()), (0, Some("exfat")));
    let (code, made) = bench.json(&["renew", drive, "--recipe", "disk-linux=YARD", "--apply", "--yes"]);
    assert_eq!((code, made["made"][0]["kind"].as_str(), made["made"][0]["label"].as_str()), (0, Some("ext4"), Some("YARD")));
    assert_eq!(made["applied"]["ladder"]["lowest_broken"], Value::Null);
    let (code, said) = bench.json(&["renew", drive, "--recipe", "hammer"]);
    assert!(code == 2 && said["error"].to_string().contains("a stick for every computer"), "{said}");
}

#[test]
fn ground_is_overwritten_by_command_with_words_alone_and_vouched_for() {
    let bench = Bench::new();
    let image = bench.copy("pilot-cutter.img");
    let drive = text(&image);
    let before = fingerprint(&image);
    let words = ["--yes", "--words", "overwrite it"];
    for (arguments, code, what) in [
        (vec![], 4, "overwrite it"),
        (vec!["--yes", "--words", "do it"], 4, "overwrite it"),
        ([&["--range", "1000..2000"], words.as_slice()].concat(), 2, "whole sectors"),
        ([&["--range", "0..9000000000000"], words.as_slice()].concat(), 2, "behind the end"),
        ([&["--range", "5"], words.as_slice()].concat(), 2, "FROM..TO"),
        ([&["--pattern", "ones"], words.as_slice()].concat(), 2, "is no pattern"),
        ([&["--volume", "n9"], words.as_slice()].concat(), 2, "n9"),
        ([&["--pattern", "random", "--by-device"], words.as_slice()].concat(), 2, "makes zeros by itself"),
        ([&["--certificate", "wiped.txt"], words.as_slice()].concat(), 2, "FILE.pdf"),
        (vec!["--confirm", "AAA-AAA", "--words", "overwrite it"], 4, "confirmation code"),
    ] {
        let (ended, said) = bench.json(&[&["wipe", drive], arguments.as_slice()].concat());
        assert_eq!(ended, code, "{arguments:?}: {said}");
        assert!(said["error"].to_string().contains(what), "{arguments:?}: {said}");
    }
    assert_eq!(bench.run(&["wipe", drive, "--yes", "--words", "overwrite it", "--then", "hammer"]).status.code(), Some(2));
    assert_eq!(fingerprint(&image), before, "nothing was written");
    // The end of the drive, as a stuck device wants it; then all of it by the image itself, and handed back.
    let certificate = bench.path("wiped.pdf");
    let end = ["--range", "8000000000..8004304896", "--pattern", "random", "--certificate", text(&certificate)];
    let (code, done) = bench.json(&[&["wipe", drive], end.as_slice(), words.as_slice()].concat());
    assert_eq!((code, done["whole"].as_bool(), done["verified"].as_u64()), (0, Some(true), Some(4_304_896)));
    assert!(fs::read(&certificate).unwrap().starts_with(b"%PDF-") && done["beyond"].as_str().unwrap().contains("remapped"));
    let (_, still) = bench.json(&["ladder", drive]);
    assert_eq!((&still["lowest_broken"], still["volumes"].as_array().unwrap().len()), (&Value::Null, 4));
    let ended = bench.run(&[
        "wipe",
        drive,
        "--by-device",
        "--verify",
        "sample",
        "--then",
        "stick=CREW",
        "--yes",
        "--words",
        "overwrite it",
    ]);
    assert_eq!(ended.status.code(), Some(0), "{ended:?}");
    let (_, ladder) = bench.json(&["ladder", drive]);
    assert_eq!((&ladder["lowest_broken"], ladder["volumes"][0]["label"].as_str()), (&Value::Null, Some("CREW")));
}

#[test]
fn volumes_grow_and_shrink_by_command_and_a_recipe_of_ones_own_is_taken() {
    let bench = Bench::new();
    let image = bench.copy("galley.img");
    let drive = text(&image);
    let before = fingerprint(&image);
    let (code, planned) = bench.json(&["renew", drive, "--shrink", "1=least", "--grow", "2=rest", "--add", "ext4,label=CREW"]);
    assert_eq!((code, planned["gate"]["words"].is_null(), planned["fitted"].as_array().unwrap().len()), (0, true, 2));
    assert_eq!((planned["plan"]["lowers"].as_array().unwrap().len(), fingerprint(&image)), (0, before));
    let (code, applied) = bench.json(&["renew", drive, "--shrink", "1=least", "--grow", "2=rest", "--apply", "--yes"]);
    assert_eq!((code, &applied["applied"]["ladder"]["lowest_broken"]), (0, &Value::Null));
    let proof = applied["applied"]["proof"].as_array().unwrap();
    assert!(
        proof.len() == 2 && proof.iter().all(|proven| proven["lost"].is_null() && proven["counted"][0] == proven["counted"][1])
    );
    assert_eq!(bench.json(&["undo", applied["applied"]["bundle"].as_str().unwrap()]).0, 0);
    assert_eq!(fingerprint(&image), before);
    for (arguments, what) in [
        (["--grow", "1=rest"], "does not grow"),
        (["--shrink", "1=1 MB"], "the least that its content"),
        (["--shrink", "7=least"], "no entry 7"),
    ] {
        let (code, said) = bench.json(&[&["renew", drive], arguments.as_slice()].concat());
        assert!(code == 5 && said["error"].to_string().contains(what), "{said}");
    }
    let settings = bench.path("config.toml");
    fs::write(&settings, "[recipes.ferry]\nsays = \"the ferry's own\"\nsteps = [\"new gpt\", \"add exfat,size=60%,label=PICTURES\", \"add ext4\"]\n").unwrap();
    let bare = bench.path("bare.img");
    File::create(&bare).unwrap().set_len(8 << 30).unwrap();
    let output = bench
        .command()
        .env("YKEEL_CONFIG", &settings)
        .args(["renew", text(&bare), "--recipe", "ferry", "--json"])
        .output()
        .unwrap();
    let said: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((output.status.code(), said["made"].as_array().unwrap().len()), (Some(0), 2), "{said}");
}

#[test]
fn a_case_closes_with_the_layout_that_the_drive_has_then() {
    let bench = Bench::new();
    let image = bench.copy("new-berth.img");
    let drive = text(&image);
    assert_eq!(bench.json(&["case", "open", drive, "--client", "Brackwater Line"]).0, 0);
    // Nothing was changed: the drive is not read for it.
    assert!(bench.run(&["case", "close", drive]).status.success());
    let (_, closed) = bench.json(&["case", "show", drive]);
    assert!(closed["case"]["closed"].is_string() && closed["done"] == serde_json::json!(["The case was closed"]), "{closed}");
    assert!(bench.run(&["case", "close", drive, "--again"]).status.success());
    let adds = ["--add", "fat32,size=2GB,label=FERRY", "--add", "ext4,label=LOGS"];
    let renewed = bench.run(&[&["renew", drive, "--table", "gpt"][..], &adds, &["--apply", "--yes"]].concat());
    assert!(renewed.status.success(), "{renewed:?}");
    let (code, closed) = bench.json(&["case", "close", drive]);
    assert_eq!(code, 0, "{closed}");
    let done: Vec<&str> = closed["done"].as_array().unwrap().iter().filter_map(Value::as_str).collect();
    assert!(
        done[2].starts_with("A new layout was written, ") && done[2].ends_with("written, read back and compared"),
        "{done:?}"
    );
    let stands = done[3..].join("\n");
    for part in
        ["The case was closed; the drive stands as", "with GPT", "1: FAT32 FERRY, 2.0 GB from sector 2048", "2: ext4 LOGS, "]
    {
        assert!(stands.contains(part), "{part}: {stands}");
    }
    let report = bench.path("berth.pdf");
    assert!(bench.run(&["report", drive, "--out", text(&report)]).status.success());
    assert!(report.is_file());
    assert!(bench.run(&["case", "verify", drive]).status.success());
}
