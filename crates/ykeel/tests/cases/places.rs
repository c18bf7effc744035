//! Places, settings and the log, as commands, on the demo's drives.

use std::fs;

use crate::support::{Bench, fingerprint, text};

#[test]
fn a_place_shows_its_structure_where_it_leads_and_whose_it_is() {
    let bench = Bench::new();
    let stick = bench.copy("purser-stick.img");
    let before = fingerprint(&stick);
    let (code, boot) = bench.json(&["bytes", text(&stick), "lba 2048"]);
    assert_eq!((code, boot["structure"]["name"].as_str(), boot["find"].as_str()), (0, Some("FAT boot sector"), Some("n1")));
    assert_eq!(boot["bytes"].as_str().unwrap().len(), 1024);
    let fields = boot["structure"]["fields"].as_array().unwrap();
    let backup = fields.iter().find(|field| field["name"] == "BPB_BkBootSec").unwrap();
    let place = backup["leads_to"].as_u64().unwrap().to_string();
    let (_, copy) = bench.json(&["bytes", text(&stick), &place]);
    assert_eq!(copy["structure"]["name"], "FAT boot sector", "its backup");
    let (code, found) = bench.json(&["bytes", text(&stick), "0", "--find", "hex: 46494c4530", "--whose"]);
    assert_eq!((code, found["structure"]["name"].as_str()), (0, Some("NTFS file record")));
    assert!(found["owner"]["path"].as_str().unwrap().contains("$MFT"), "{}", found["owner"]);
    let last = found["at"].as_u64().unwrap();
    let (code, back) = bench.json(&["bytes", text(&stick), &last.to_string(), "--find", "hex: 46494c4530", "--back"]);
    assert!(code == 5 && back["found"]["at"].is_null(), "nothing stands before the first one: {back}");
    let shown = String::from_utf8(bench.run(&["bytes", text(&stick), "1 MiB", "--length", "32"]).stdout).unwrap();
    assert!(shown.contains("100000  eb 58 90") && shown.contains("-> byte"), "{shown}");
    assert_eq!(fingerprint(&stick), before, "nothing was written");
    for wrong in ["a long way", "99 TB", "lba -1", "101%"] {
        assert_eq!(bench.run(&["bytes", text(&stick), wrong]).status.code(), Some(2), "{wrong}");
    }
    assert_eq!(bench.run(&["bytes", text(&stick), "0", "--find", "hex: xy"]).status.code(), Some(2));
    assert_eq!(bench.run(&["bytes", text(&stick), "--back"]).status.code(), Some(2), "back goes with a search");
}

#[test]
fn settings_are_shown_and_wrong_ones_end_every_command_with_their_line() {
    let bench = Bench::new();
    let file = bench.path("config.toml");
    let with = |text: &str, arguments: &[&str]| {
        fs::write(&file, text).unwrap();
        bench.command().env("YKEEL_CONFIG", &file).args(arguments).output().unwrap()
    };
    let shown = with("theme = \"light\"\n[folders]\ncopies = \"/bench/copies\"\n", &["config", "--json"]);
    let shown: serde_json::Value = serde_json::from_slice(&shown.stdout).unwrap();
    assert_eq!((shown["is_there"].as_bool(), shown["settings"]["theme"].as_str()), (Some(true), Some("light")));
    assert_eq!(shown["settings"]["folders"]["copies"], "/bench/copies");
    let over = with("theme = \"light\"\n", &["config", "--theme", "dark"]);
    assert!(String::from_utf8_lossy(&over.stdout).contains("theme = \"dark\""), "the command line goes before the file");
    for command in [&["config"][..], &["yard", "."], &["demo", "--no-screens"]] {
        let wrong = with("\nthema = \"dark\"\n", command);
        let told = String::from_utf8_lossy(&wrong.stderr).into_owned();
        assert!(wrong.status.code() == Some(2) && told.contains("line 2") && told.contains("thema"), "{command:?}: {told}");
    }
}

#[test]
fn the_log_says_what_was_done_and_is_never_a_drive() {
    let bench = Bench::new();
    let (galley, stick) = (bench.copy("galley.img"), bench.copy("purser-stick.img"));
    let log = bench.path("keel.log");
    assert_eq!(bench.run(&["reads", text(&galley), "--log-file", text(&log)]).status.code(), Some(0));
    assert_eq!(bench.run(&["bytes", text(&galley), "nowhere", "--log-file", text(&log)]).status.code(), Some(2));
    let written = fs::read_to_string(&log).unwrap();
    for part in [
        "# Yellow Keel log",
        "command      reads ",
        "open         galley.img",
        "reads        {",
        "ended        done",
        "is no place",
    ] {
        assert!(written.contains(part), "{part}: {written}");
    }
    assert_eq!(written.lines().count(), written.lines().filter(|line| !line.trim().is_empty()).count());
    let before = fingerprint(&stick);
    assert_eq!(bench.run(&["reads", text(&galley), "--log-file", text(&stick)]).status.code(), Some(5));
    assert_eq!(fingerprint(&stick), before, "an image is no log");
}
