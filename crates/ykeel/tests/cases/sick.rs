//! Sick and lying drives, the whole way without screens: intake, ladder, health, reads, copy, capacity, files, report.

use std::fs;
use std::path::Path;

use crate::support::{Bench, expected, fingerprint, sha256, text};
use serde_json::Value;

fn rung<'a>(document: &'a Value, name: &str) -> &'a Value {
    document["rungs"].as_array().unwrap().iter().find(|rung| rung["rung"] == name).unwrap()
}

fn said(bench: &Bench, arguments: &[&str]) -> (i32, String) {
    let output = bench.run(arguments);
    let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    (output.status.code().unwrap(), text)
}

fn is_pdf(path: &Path, pages: usize) {
    let bytes = fs::read(path).unwrap();
    let count = bytes.windows(12).filter(|window| *window == b"/Type /Page\n").count();
    assert!(bytes.starts_with(b"%PDF-") && count >= pages, "{count} pages");
}

#[test]
fn a_sick_drive_goes_the_whole_way_from_intake_to_report() {
    let bench = Bench::new();
    let drive = bench.drive("mess-room");
    let (drive, copy) = (text(&drive), bench.path("mess-copy.img"));
    let copy = text(&copy);
    // Intake.
    let (code, case) = bench.json(&["case", "open", drive, "--client", "Brackwater Line", "--symptom", "raw"]);
    assert_eq!((code, case["case"]["client"].as_str()), (0, Some("Brackwater Line")));
    let (_, known) = bench.json(&["case", "tell", drive, "Data error (cyclic redundancy check)"]);
    assert_eq!(known[0]["symptom"], "read_errors");
    let (_, case) = bench.json(&["case", "check", drive, "other_cable", "no", "--note", "the short one"]);
    assert!(!case["may_be_at_fault"].as_array().unwrap().iter().any(|cause| cause == "the cable"));
    assert_eq!(bench.run(&["case", "check", drive, "other_moon", "no"]).status.code(), Some(2));
    // Ladder: the lowest rung that does not hold is the reads.
    let (_, ladder) = bench.json(&["ladder", drive]);
    assert_eq!(
        (ladder["lowest_broken"]["rung"].as_str(), rung(&ladder, "health")["state"].as_str()),
        (Some("reads"), Some("doubtful"))
    );
    // Writing to it is refused before there is a copy.
    let (code, text_of) = said(&bench, &["mend", drive, "--apply", "--yes"]);
    assert!(code == 4 && text_of.contains("copy it first"), "{text_of}");
    // Copy, proven by its hashes; the places that come at the third try came.
    let (code, copied) = bench.json(&["copy", drive, copy, "--verify"]);
    assert_eq!((code, copied["stopped"].is_null()), (0, true));
    let missing = copied["bytes"].as_u64().unwrap() - copied["copied_bytes"].as_u64().unwrap();
    assert!((512..200_000).contains(&missing), "{missing}");
    assert_eq!(copied["verified"]["verified_bytes"], copied["copied_bytes"]);
    // Sweep, plan and files on the copy.
    let (_, sweep) = bench.json(&["sweep", copy]);
    assert_eq!(sweep["finds"][0]["label"], "TICKETS");
    assert_eq!(bench.run(&["mend", copy, "--apply", "--yes"]).status.code(), Some(0));
    let (_, after) = bench.json(&["ladder", copy]);
    assert_eq!(rung(&after, "table")["state"], "sound");
    let (_, lacking) = bench.json(&["files", copy, "--missing"]);
    let lacking = lacking.to_string();
    assert!(lacking.contains("Voyage register.csv"), "{lacking}");
    let out = bench.path("out");
    bench.run(&["extract", copy, "--volume", "n1", "--to", text(&out)]);
    let wanted = expected("purser-stick", "TICKETS");
    let whole = wanted.iter().filter(|(path, hash)| sha256(&out.join(path)) == *hash).count();
    assert!(whole + 3 >= wanted.len() && whole < wanted.len(), "{whole} of {}", wanted.len());
    // Report, with a journal that is whole, and notes when it is not.
    let pdf = bench.path("report.pdf");
    assert_eq!(bench.run(&["report", drive, "--out", text(&pdf)]).status.code(), Some(0));
    is_pdf(&pdf, 6);
    hand_over(&bench, drive, copy);
    let (code, verified) = bench.json(&["case", "verify", drive]);
    assert!(code == 0 && verified["whole"] == true && verified["lines"].as_u64().unwrap() >= 7, "{verified}");
    let folder = case["folder"].as_str().unwrap();
    let journal = Path::new(folder).join("journal.jsonl");
    let lines = fs::read_to_string(&journal).unwrap();
    fs::write(&journal, lines.replacen("the short one", "the other one", 1)).unwrap();
    assert_eq!(bench.json(&["case", "verify", folder]).0, 5);
}

/// The same for the client, in German, and for a court: what the copy lacks is told, the drive that fails is not read for a hash.
fn hand_over(bench: &Bench, drive: &str, copy: &str) {
    let page = bench.path("client.html");
    assert_eq!(bench.run(&["report", drive, "--for", "client", "--language", "de", "--out", text(&page)]).status.code(), Some(0));
    let html = fs::read_to_string(&page).unwrap();
    for said in
        ["<html lang=\"de\">", "Teile des Datenträgers sind nicht mehr lesbar", "konnten nicht kopiert werden", "Er fällt aus"]
    {
        assert!(html.contains(said), "{said}: {html}");
    }
    assert!(!html.contains("SHA-256"));
    assert_eq!(bench.run(&["report", drive, "--for", "court", "--out", text(&page)]).status.code(), Some(0));
    let html = fs::read_to_string(&page).unwrap();
    let name = Path::new(copy).file_name().unwrap().to_str().unwrap();
    assert!(html.contains("not hashed, so as not to read a failing drive once more"), "{html}");
    assert!(html.contains(name) && html.contains("The journal of the case, line by line"));
    // What is no language, no whom and no form is refused before anything is read.
    for wrong in [["--language", "xx"], ["--for", "nobody"], ["--drawing", "keel"]] {
        let [option, value] = wrong;
        let output = bench.run(&["report", drive, option, value, "--out", text(&page)]);
        assert_eq!(output.status.code(), Some(2), "{wrong:?}: {output:?}");
    }
}

#[test]
fn a_drive_that_wraps_is_proven_fitted_and_still_gives_its_files() {
    let bench = Bench::new();
    let path = bench.drive("tide-stick");
    let drive = text(&path);
    let surface = bench.path("tide-stick/surface.img");
    let before = fingerprint(&surface);
    let (code, told) = said(&bench, &["fathom", drive]);
    assert!(code == 4 && told.contains("confirmation code of this drive is"), "{told}");
    let (_, weak) = bench.json(&["fathom", drive, "--estimate"]);
    assert_eq!((weak["sureness"].as_str(), weak["nature"]["is"].as_str()), (Some("weak"), Some("wraps")));
    let (code, verdict) = bench.json(&["fathom", drive, "--yes", "--largest-cache", "64"]);
    assert_eq!((code, verdict["proven_bytes"].as_u64(), verdict["exact"].as_bool()), (0, Some(4_009_754_624), Some(true)));
    assert_eq!((verdict["restored"]["whole"].as_bool(), fingerprint(&surface)), (Some(true), before));
    // From here on every stage sees what is stored.
    let (_, ladder) = bench.json(&["ladder", drive]);
    assert_eq!(ladder["lowest_broken"]["rung"], "capacity");
    let (_, sweep) = bench.json(&["sweep", drive]);
    let find = &sweep["finds"][0];
    assert!(find["bytes"].as_u64().unwrap() < 4_009_754_624 && find["behind"]["why"].is_null(), "{find}");
    let (code, _) = bench.json(&["mend", drive, "--apply", "--yes"]);
    assert_eq!(code, 0);
    let (_, after) = bench.json(&["ladder", drive]);
    assert_eq!(rung(&after, "table")["state"], "sound");
    assert!(after["volumes"][0]["rungs"].as_array().unwrap().iter().all(|rung| rung["state"] != "broken"));
    let out = bench.path("out");
    bench.run(&["extract", drive, "--volume", "n1", "--to", text(&out)]);
    for (path, hash) in expected("tide-stick", "TIDES") {
        assert_eq!(sha256(&out.join(path)), hash);
    }
    let svg = bench.path("capacity.svg");
    assert_eq!(bench.run(&["report", drive, "--drawing", "capacity", "--out", text(&svg)]).status.code(), Some(0));
    assert!(fs::read_to_string(&svg).unwrap().contains("claims 64.0 GB, stores 4.0 GB"));
}

#[test]
fn a_drive_that_drops_is_proven_and_each_volume_told_what_becomes_of_it() {
    let bench = Bench::new();
    let path = bench.drive("bargain-stick");
    let drive = text(&path);
    let (_, verdict) = bench.json(&["fathom", drive, "--yes", "--largest-cache", "64"]);
    assert_eq!((verdict["proven_bytes"].as_u64(), verdict["nature"]["is"].as_str()), (Some(2_004_877_312), Some("drops")));
    let (_, sweep) = bench.json(&["sweep", drive]);
    assert_eq!(sweep["finds"][0]["label"], "BARGAIN");
    assert!(sweep["finds"][0]["behind"]["whole_files"].as_u64().unwrap() > 0);
    // The second volume lies wholly behind the true end.
    let (_, ladder) = bench.json(&["ladder", drive]);
    let gone = ladder["volumes"].as_array().unwrap().iter().find(|volume| volume["id"] == "p2").unwrap();
    assert!(
        gone["rungs"][0]["state"] == "broken"
            && gone["rungs"][0]["findings"][0]["what"].as_str().unwrap().contains("wholly behind")
    );
}

#[test]
fn each_sick_drive_of_the_yard_names_its_own_rung() {
    let bench = Bench::new();
    for (name, lowest, broken_or_doubtful) in [
        ("gangway", Value::Null, ("link", "doubtful")),
        ("boiler-room", "health".into(), ("health", "broken")),
        ("car-deck", "link".into(), ("link", "broken")),
        ("radio-room", Value::Null, ("reads", "doubtful")),
    ] {
        let path = bench.drive(name);
        let (code, ladder) = bench.json(&["ladder", text(&path)]);
        assert_eq!((code, &ladder["lowest_broken"]["rung"]), (0, &lowest), "{name}");
        let (rung_name, state) = broken_or_doubtful;
        assert_eq!(rung(&ladder, rung_name)["state"], state, "{name}");
    }
    let path = bench.drive("boiler-room");
    let (code, health) = bench.json(&["health", text(&path)]);
    assert!(code == 0 && health["standing"] == "failing" && health["reading"]["nvme"]["media_errors"] == 311);
    let path = bench.drive("car-deck");
    assert_eq!(bench.run(&["health", text(&path)]).status.code(), Some(5));
    assert_eq!(bench.run(&["copy", text(&path), text(&bench.path("none.img"))]).status.code(), Some(5));
    assert_eq!(bench.run(&["fathom", text(&path), "--yes"]).status.code(), Some(5));
    for command in ["sweep", "mend", "check", "reads"] {
        let code = bench.run(&[command, text(&path)]).status.code();
        assert!(matches!(code, Some(0 | 5)), "{command} on a drive of no bytes: {code:?}");
    }
    // The slow part and the dropping link show when all of it is read, and in its copy.
    let path = bench.drive("radio-room");
    let (_, survey) = bench.json(&["reads", text(&path), "--full"]);
    assert!(survey["link_lost"].as_u64().unwrap() > 0 || survey["classes"].to_string().contains("slow"), "{}", survey["classes"]);
    let (code, copied) = bench.json(&["copy", text(&path), text(&bench.path("radio.img"))]);
    assert_eq!((code, copied["copied_bytes"] == copied["bytes"]), (0, true));
}

#[test]
fn nonsense_is_refused_with_the_codes_of_the_contract() {
    let bench = Bench::new();
    let broken = bench.path("odd.drive.toml");
    fs::write(&broken, "version = 1\nclaimed_bytes = 4096\nidentity = { model = \"m\", serial = \"s\" }\ncapacity = { real_bytes = 9000, lie = \"wraps\" }\n").unwrap();
    let (code, told) = said(&bench, &["ladder", text(&broken)]);
    assert!(code == 3 && told.contains("line 4") && told.contains("real_bytes"), "{told}");
    let galley = bench.copy("galley.img");
    assert_eq!(bench.run(&["case", "show", text(&galley)]).status.code(), Some(2));
    assert_eq!(bench.run(&["report", text(&galley), "--out", "x.txt"]).status.code(), Some(2));
    assert_eq!(bench.run(&["report", text(&galley), "--drawing", "capacity", "--out", "x.svg"]).status.code(), Some(5));
    assert_eq!(bench.run(&["fathom", text(&galley), "--restore"]).status.code(), Some(5));
    assert_eq!(bench.run(&["fathom", text(&galley), "--fill", "--yes"]).status.code(), Some(2));
    let words = bench.json(&["case", "words"]).1;
    assert!(words["symptoms"].as_array().unwrap().len() > 10 && words["checks"].as_array().unwrap().len() == 11);
}

#[test]
fn a_drive_that_shows_half_of_itself_shows_all_when_told_and_its_case_goes_on() {
    let bench = Bench::new();
    let whole = bench.copy("purser-stick.img");
    let bytes = fs::metadata(&whole).unwrap().len();
    let shown = bytes / 2 / 512 * 512;
    let describe = |means: &str| {
        let text = format!(
            "version = 1\nclaimed_bytes = {shown}\nnative_bytes = {bytes}\nnative_means = \"{means}\"\nidentity = {{ model = \"Mudlark\", serial = \"BL-0099\" }}\n[[backing]]\nfile = \"purser-stick.img\"\n"
        );
        fs::write(bench.path("half.drive.toml"), text).unwrap();
    };
    describe("host_protected");
    let drive = bench.path("half.drive.toml");
    let drive = text(&drive);
    bench.json(&["case", "open", drive, "--client", "Brackwater Line"]);
    let label = format!("label {} GB", bytes / 1_000_000_000);
    assert!(said(&bench, &["case", "tell", drive, &label]).1.contains("kept; its label says"));
    let (_, ladder) = bench.json(&["ladder", drive]);
    let capacity = rung(&ladder, "capacity");
    assert!(capacity["state"] == "doubtful" && capacity["findings"].to_string().contains("its label says"), "{capacity}");
    let (code, told) = said(&bench, &["widen", drive]);
    assert!(code == 0 && told.contains("host protected area") && told.contains(&format!("({} bytes)", bytes - shown)), "{told}");
    // Without a code, and with another one, nothing happens.
    for wrong in [&["--apply"][..], &["--apply", "--confirm", "AAA-AAA"], &["--apply", "--lasting", "--confirm", "AAA-AAA"]] {
        let (code, _) = said(&bench, &[&["widen", drive], wrong].concat());
        assert_eq!((code, bench.json(&["widen", drive]).0), (4, 0), "{wrong:?}");
    }
    let (_, document) = bench.json(&["widen", drive]);
    let passing = document["opening"]["code"].as_str().unwrap().to_string();
    let (code, widened) = bench.json(&["widen", drive, "--apply", "--confirm", &passing]);
    assert_eq!((code, widened["widened"]["shown_bytes"].as_u64()), (0, Some(bytes)));
    assert!(widened["widened"]["holds"].as_array().is_some_and(|holds| !holds.is_empty()), "{widened}");
    // What lay behind the former end is found and read, as of the whole drive.
    let find = |document: &Value| {
        let finds = document["finds"].as_array().unwrap().iter();
        finds.map(|find| (find["kind"].to_string(), find["start_byte"].as_u64(), find["bytes"].as_u64())).collect::<Vec<_>>()
    };
    let (_, of_whole) = bench.json(&["sweep", text(&whole)]);
    let (_, of_drive) = bench.json(&["sweep", drive]);
    assert_eq!(find(&of_drive), find(&of_whole));
    // The same drive: its case goes on, and tells what was done.
    let (_, case) = bench.json(&["case", "show", drive]);
    let journal = fs::read_to_string(Path::new(case["folder"].as_str().unwrap()).join("journal.jsonl")).unwrap();
    assert!(case["case"]["client"] == "Brackwater Line" && journal.contains("\"end\""), "{case}\n{journal}");
    // Told back; and with its power cut it forgets.
    let (_, document) = bench.json(&["widen", drive, "--back"]);
    assert_eq!(document["former"]["bytes"].as_u64(), Some(shown));
    assert_eq!(bench.json(&["widen", drive, "--back", "--apply", "--yes"]).0, 0);
    assert_eq!(bench.json(&["widen", drive, "--back"]).0, 5, "it shows its former end");
    bench.json(&["widen", drive, "--apply", "--yes"]);
    assert_eq!(bench.json(&["widen", drive]).0, 5, "nothing is hidden");
    assert_eq!(bench.run(&["release", drive]).status.code(), Some(0));
    assert_eq!(bench.json(&["widen", drive]).0, 0, "its power was cut");
    // One that remembers is opened for good only.
    describe("accessible_max");
    assert_eq!(bench.run(&["widen", drive, "--apply", "--yes"]).status.code(), Some(5));
    let lasting = document["opening"]["lasting_code"].clone();
    assert!(lasting.is_null(), "it was wide then");
    let (_, document) = bench.json(&["widen", drive]);
    let lasting = document["opening"]["lasting_code"].as_str().unwrap();
    assert_eq!(bench.json(&["widen", drive, "--lasting", "--apply", "--confirm", lasting]).0, 0);
    bench.run(&["release", drive]);
    assert_eq!(bench.json(&["widen", drive]).0, 5, "it holds to it");
}
