//! What the commands say of every drive of the yard: the ground that it rests on, and that no plan makes anything worse.

use std::fs;

use crate::support::{Bench, text, yard};
use serde_json::Value;

/// The drives of the yard, as paths to open.
fn drives() -> Vec<std::path::PathBuf> {
    let mut drives: Vec<_> = fs::read_dir(yard())
        .unwrap()
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.extension().is_some_and(|end| end == "img") || path.to_string_lossy().ends_with(".drive.toml"))
        .collect();
    drives.sort();
    drives
}

/// How bad a rung is.
fn rank(state: &Value) -> usize {
    ["sound", "untested", "doubtful", "broken"].iter().position(|word| state == word).unwrap()
}

/// Every rung of a ladder by volume and name: of the drive under an empty id.
fn rungs(ladder: &Value) -> Vec<((String, String), usize)> {
    let of = |id: &str, rungs: &Value| -> Vec<((String, String), usize)> {
        let each = rungs.as_array().unwrap().iter();
        each.map(|rung| ((id.to_string(), rung["rung"].as_str().unwrap().to_string()), rank(&rung["state"]))).collect()
    };
    let volumes = ladder["volumes"].as_array().unwrap().iter();
    let of_volumes = volumes.flat_map(|volume| of(volume["id"].as_str().unwrap(), &volume["rungs"]));
    of("", &ladder["rungs"]).into_iter().chain(of_volumes).collect()
}

#[test]
fn no_plan_of_the_yard_leaves_a_rung_lower_and_each_states_its_coverage() {
    let bench = Bench::new();
    let (mut plans, mut whole) = (0, 0);
    for path in drives() {
        let output = bench.command().args(["mend", text(&path), "--json"]).output().unwrap();
        let Ok(document) = serde_json::from_slice::<Value>(&output.stdout) else {
            assert!(matches!(output.status.code(), Some(3..=5)), "{}: {output:?}", path.display());
            continue;
        };
        let open = document["coverage"]["unexplained"].as_array().unwrap();
        assert!(open.is_empty(), "{}: mend sweeps what nothing explains: {open:?}", path.display());
        whole += 1;
        if document["after"].is_null() {
            continue;
        }
        plans += 1;
        assert_eq!(document["plan"]["lowers"], Value::Array(Vec::new()), "{}", path.display());
        let after: std::collections::BTreeMap<_, _> = rungs(&document["after"]).into_iter().collect();
        for (rung, now) in rungs(&document["now"]) {
            // Entries that led nowhere may be gone; what was untested may turn out to be anything.
            if let Some(then) = after.get(&rung).filter(|_| now != 1) {
                assert!(*then <= now, "{}: {rung:?} was {now}, would be {then}", path.display());
            }
        }
    }
    assert!(plans > 12 && whole > 24, "{plans} plans, {whole} drives");
}

#[test]
fn the_ladder_says_what_it_rests_on_and_a_tree_streams_as_one_document() {
    let bench = Bench::new();
    let stick = bench.copy("purser-stick.img");
    let ladder = bench.run(&["ladder", text(&stick)]);
    let said = String::from_utf8(ladder.stdout).unwrap();
    assert!(said.contains("coverage: ") && said.contains("lowest broken: 5 Table"), "{said}");
    let (code, tree) = bench.json(&["files", text(&stick), "--volume", "n1", "--recursive"]);
    let (plain, listed) =
        (bench.run(&["files", text(&stick), "--volume", "n1", "--recursive"]), tree["entries"].as_array().unwrap());
    assert_eq!(code, 0);
    assert_eq!(String::from_utf8(plain.stdout).unwrap().lines().count(), listed.len());
    assert!(
        listed.iter().all(|entry| entry["path"].is_string() && entry["bytes"].is_u64()) && tree["summary"]["kind"].is_string()
    );
}

#[test]
fn a_listing_with_deleted_files_says_what_its_format_keeps_of_them() {
    let bench = Bench::new();
    let stick = bench.copy("purser-stick.img");
    let (code, told) = bench.json(&["files", text(&stick), "--volume", "n1", "--deleted"]);
    assert_eq!(code, 0);
    assert!(told["kept_of_deleted"].as_str().is_some_and(|kept| kept.contains("deleted file")), "{told}");
    let (_, plain) = bench.json(&["files", text(&stick), "--volume", "n1"]);
    assert!(plain["kept_of_deleted"].is_null(), "nobody asked");
}
