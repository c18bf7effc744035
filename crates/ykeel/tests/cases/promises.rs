//! Promises of the commands: what is no drive is refused at once, and nothing of ours comes to lie on the drive that is worked on.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::support::{Bench, fingerprint, text};

fn system(program: &str, arguments: &[&str]) -> String {
    let output = Command::new(program).args(arguments).output().unwrap();
    assert!(output.status.success(), "{program} {arguments:?}: {output:?}");
    String::from_utf8(output.stdout).unwrap().trim().to_string()
}

#[test]
fn sources_that_are_no_drives_are_refused_at_once() {
    let bench = Bench::new();
    let (pipe, socket) = (bench.path("pipe.img"), bench.path("socket.img"));
    system("mkfifo", &[text(&pipe)]);
    let _listener = std::os::unix::net::UnixListener::bind(&socket).unwrap();
    let folder = bench.folder.path().join("folder.img");
    fs::create_dir(&folder).unwrap();
    for (path, what) in [
        (pipe.as_path(), "a pipe"),
        (socket.as_path(), "a socket"),
        (Path::new("/dev/zero"), "a device without places"),
        (Path::new("/dev/null"), "a device without places"),
        (folder.as_path(), "a folder"),
    ] {
        for command in ["ladder", "sweep", "mend", "files"] {
            let began = Instant::now();
            let output = bench.run(&[command, text(path)]);
            assert!(began.elapsed() < Duration::from_secs(5), "{command} {path:?}");
            let told = String::from_utf8_lossy(&output.stderr).into_owned();
            assert_eq!(output.status.code(), Some(3), "{command} {path:?}: {told}");
            assert!(told.contains(what), "{command} {path:?}: {told}");
        }
    }
}

#[test]
fn nothing_of_ours_comes_to_lie_on_the_drive_that_is_worked_on() {
    let bench = Bench::new();
    let image = bench.path("drive.img");
    fs::File::create(&image).unwrap().set_len(96 << 20).unwrap();
    let device = system("losetup", &["--find", "--show", text(&image)]);
    system("mkfs.ext4", &["-q", "-F", &device]);
    let point = bench.path("point");
    fs::create_dir(&point).unwrap();
    system("mount", &[&device, text(&point)]);
    fs::create_dir_all(point.join("Crossings/deep")).unwrap();
    fs::write(point.join("Crossings/sheet.txt"), "Brackwater Line").unwrap();
    system("sync", &[]);
    // A link from outside leads there as well.
    let door = bench.path("door");
    std::os::unix::fs::symlink(point.join("Crossings"), &door).unwrap();
    let told: Vec<String> = [text(&image), device.as_str()]
        .iter()
        .flat_map(|source| {
            let inside = |name: &str| point.join(name).to_string_lossy().into_owned();
            let through = |name: &str| door.join(name).to_string_lossy().into_owned();
            let runs: [Vec<String>; 6] = [
                vec!["report".into(), (*source).into(), "--out".into(), inside("report.pdf")],
                vec!["report".into(), (*source).into(), "--out".into(), through("deep/keel.svg")],
                vec!["extract".into(), (*source).into(), "--volume".into(), "n1".into(), "--to".into(), inside("out/new")],
                vec!["copy".into(), (*source).into(), through("copy.img")],
                vec!["copy".into(), (*source).into(), text(&bench.path("good.img")).into(), "--log".into(), inside("log.ykcopy")],
                vec!["reads".into(), (*source).into(), "--log-file".into(), through("keel.log")],
            ];
            runs.map(|arguments| {
                let output = bench.run(&arguments.iter().map(String::as_str).collect::<Vec<_>>());
                format!("{:?} {:?} {}", arguments, output.status.code(), String::from_utf8_lossy(&output.stderr))
            })
        })
        .collect();
    let mut names: Vec<String> =
        fs::read_dir(&point).unwrap().map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    let mut inner: Vec<String> = fs::read_dir(point.join("Crossings"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    inner.sort();
    system("umount", &[text(&point)]);
    system("losetup", &["--detach", &device]);
    for told in &told {
        assert!(told.contains("Some(4)") && told.contains("would be written onto the drive that is worked on"), "{told}");
    }
    assert_eq!(names, ["Crossings", "lost+found"]);
    assert_eq!(inner, ["deep", "sheet.txt"]);
}

#[test]
fn the_way_back_is_on_disk_and_told_before_the_first_write() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let before = fingerprint(&image);
    // A bare name, and nobody who listens.
    let mut command = bench.command();
    let output = command
        .args(["mend", text(&image), "--apply", "--yes", "--bundle", "way-back.ykundo"])
        .stdout(Stdio::null())
        .output()
        .unwrap();
    assert!(output.status.success(), "{output:?}");
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    let bundle = bench.path("way-back.ykundo").canonicalize().unwrap();
    assert!(told.contains("the way back is") && told.contains("way-back.ykundo"), "{told}");
    assert!(bundle.is_file());
    assert_ne!(fingerprint(&image), before);
    let undone = bench.run(&["undo", "way-back.ykundo"]);
    assert!(undone.status.success(), "{undone:?}");
    assert_eq!(fingerprint(&image), before);
}

#[test]
fn a_fill_wants_the_code_of_an_image_too() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let before = fingerprint(&image);
    for (arguments, code) in [(&["--fill"][..], 4), (&["--fill", "--yes"], 2), (&["--fill", "--confirm", "AAA-AAA"], 4)] {
        let output = bench.run(&[&["fathom", text(&image)], arguments].concat());
        assert_eq!(output.status.code(), Some(code), "{output:?}");
    }
    assert_eq!(fingerprint(&image), before);
}

#[test]
fn a_signal_ends_a_command_within_a_second_whatever_it_waits_for() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let (code, opened) = bench.json(&["case", "open", text(&image)]);
    assert_eq!(code, 0, "{opened}");
    let journal = system("find", &[text(bench.folder.path()), "-name", "journal.jsonl"]);
    // Somebody else writes the journal and does not come to an end: the command waits where no flag is looked at.
    let held = fs::File::open(&journal).unwrap();
    rustix::fs::flock(&held, rustix::fs::FlockOperation::NonBlockingLockExclusive).unwrap();
    let mut quickest = Duration::MAX;
    for signal in ["-TERM", "-INT", "-HUP"] {
        let mut child = bench
            .command()
            .args(["case", "tell", text(&image), "it fell"])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(1500));
        assert_eq!(child.try_wait().unwrap(), None, "it waits");
        let began = Instant::now();
        system("kill", &[signal, &child.id().to_string()]);
        let status = child.wait().unwrap();
        quickest = quickest.min(began.elapsed());
        assert!(began.elapsed() < Duration::from_secs(8), "{signal}: {:?}", began.elapsed());
        assert_eq!(status.code(), Some(130), "{signal}");
    }
    // What runs beside it may keep one of them from the processor.
    assert!(quickest < Duration::from_millis(1500), "{quickest:?}");
    drop(held);
    let told = bench.run(&["case", "tell", text(&image), "it fell"]);
    assert!(told.status.success(), "{told:?}");
    assert_eq!(bench.run(&["case", "verify", text(&image)]).status.code(), Some(0));
}

#[test]
fn output_that_nobody_reads_or_that_finds_no_room_is_no_panic() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    for arguments in [&["ladder"][..], &["sweep"], &["sweep", "--json"], &["files", "--volume", "n1", "--recursive"]] {
        let mut child =
            bench.command().args(arguments).arg(&image).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        drop(child.stdout.take());
        let output = child.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(!told.contains("panicked") && output.status.code() == Some(0), "{arguments:?}: {output:?}");
        let full = fs::File::options().write(true).open("/dev/full").unwrap();
        let output = bench.command().args(arguments).arg(&image).stdout(full).output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(!told.contains("panicked") && output.status.code() == Some(5), "{arguments:?}: {output:?}");
        assert!(told.contains("No space left"), "{told}");
    }
}

#[test]
fn the_screens_give_the_terminal_back_when_they_are_asked_to_end_or_to_stop() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let server = format!("ykeel-ending-{}", std::process::id());
    let session = crate::support::tmux::Session::start(&server, 160, 45, bench.folder.path(), "bash --norc -i");
    session.line(&format!(
        "echo be\"\"fore; YKEEL_STATE={} {} {}",
        text(&bench.path("state")),
        crate::support::YKEEL,
        text(&image)
    ));
    session.keys(&["Enter"]);
    session.wait_for("YELLOW KEEL");
    // Stopped as the shell stops programs, with what stood there before, and going on.
    session.keys(&["C-z"]);
    session.wait_until("the shell", |screen| {
        screen.contains("Stopped") && screen.contains("before") && !screen.contains("YELLOW KEEL")
    });
    session.line("fg");
    session.keys(&["Enter"]);
    session.wait_for("YELLOW KEEL");
    let own = system("pgrep", &["-f", text(&image)]);
    let began = Instant::now();
    system("kill", &["-TERM", &own]);
    session.wait_until("the shell again", |screen| screen.contains("Stopped") && !screen.contains("YELLOW KEEL"));
    assert!(began.elapsed() < Duration::from_secs(3), "{:?}", began.elapsed());
    session.line("echo code=$?; stty -a");
    session.keys(&["Enter"]);
    let screen = session.wait_for("icanon");
    assert!(screen.contains("code=130"), "{screen}");
    let modes: Vec<&str> = screen.split_whitespace().map(|word| word.trim_end_matches(';')).collect();
    assert!(modes.contains(&"icanon") && modes.contains(&"echo"), "{screen}");
}

#[test]
fn what_was_done_to_a_drive_is_in_the_journal_of_its_case_with_its_hashes() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    assert_eq!(bench.json(&["case", "open", text(&image)]).0, 0);
    assert!(bench.run(&["mend", text(&image), "--save-as", text(&bench.path("repaired.img"))]).status.success());
    let (code, applied) = bench.json(&["mend", text(&image), "--apply", "--yes"]);
    assert_eq!(code, 0);
    let bundle = applied["applied"]["bundle"].as_str().unwrap().to_string();
    assert!(bench.run(&["extract", text(&image), "--volume", "n1", "--to", text(&bench.path("out"))]).status.success());
    assert!(bench.run(&["undo", &bundle]).status.success());
    assert!(bench.run(&["undo", "--finish", &bundle]).status.success());
    let journal = system("find", &[text(bench.folder.path()), "-name", "journal.jsonl"]);
    let lines: Vec<serde_json::Value> =
        fs::read_to_string(&journal).unwrap().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let of = |event: &str| lines.iter().find(|line| line["event"] == event).unwrap_or_else(|| panic!("no {event}: {lines:?}"));
    for event in ["save", "apply", "undo", "finish"] {
        assert_eq!(of(event)["detail"]["drive"]["bytes"], fs::metadata(&image).unwrap().len(), "{event}");
    }
    let edit = &of("apply")["detail"]["edits"][0];
    assert!(edit["before"] != edit["after"] && edit["after"].as_str().unwrap().len() == 64, "{edit}");
    assert_eq!(of("apply")["detail"]["bundle"], bundle.as_str());
    assert!(of("undo")["detail"]["result"].as_str().unwrap().contains("compared"));
    assert_eq!(of("extract")["detail"]["blake3"].as_str().unwrap().len(), 64);
    assert_eq!(bench.run(&["case", "verify", text(&image)]).status.code(), Some(0));
}

#[test]
fn what_only_reads_works_where_nothing_can_be_kept_and_says_what_is_not() {
    let bench = Bench::new();
    let image = bench.copy("purser-stick.img");
    let without = |state: &Path, arguments: &[&str]| {
        let output = bench.command().args(arguments).env("YKEEL_STATE", state).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    // A folder that cannot be made; and one on a disk that is full.
    let (nowhere, full) = (Path::new("/dev/null/state").to_path_buf(), bench.path("full"));
    fs::create_dir(&full).unwrap();
    system("mount", &["-t", "tmpfs", "-o", "size=4k", "none", text(&full)]);
    fs::write(full.join("last.bin"), [7; 4096]).unwrap();
    let mut seen = Vec::new();
    for (number, state) in [nowhere, full.clone()].iter().enumerate() {
        let (out, pdf) = (bench.path(&format!("out{number}")), bench.path(&format!("report{number}.pdf")));
        for arguments in [
            &["ladder", text(&image)][..],
            &["sweep", text(&image), "--reach", "surface"],
            &["mend", text(&image)],
            &["reads", text(&image)],
            &["check", text(&image)],
            &["files", text(&image), "--volume", "n1"],
            &["extract", text(&image), "--volume", "n1", "--to", text(&out)],
            &["fathom", text(&image), "--estimate"],
            &["report", text(&image), "--out", text(&pdf)],
        ] {
            let (code, told) = without(state, arguments);
            seen.push((arguments[0].to_string(), code, told));
        }
    }
    // What writes to the drive keeps a way back first, or does not begin.
    let before = fingerprint(&image);
    let refused = without(&full, &["mend", text(&image), "--apply", "--yes"]);
    let probed = without(&full, &["fathom", text(&image), "--yes"]);
    system("umount", &[text(&full)]);
    for (command, code, told) in seen {
        assert_eq!(code, Some(0), "{command}: {told}");
        // The others sweep no surface of this drive: they have nothing to keep.
        let keeps = matches!(command.as_str(), "sweep" | "reads" | "fathom");
        assert!(told.contains("not kept") || !keeps, "{command}: {told}");
    }
    assert!(refused.0 != Some(0) && probed.0 != Some(0), "{refused:?} {probed:?}");
    assert_eq!(fingerprint(&image), before);
}

#[test]
fn state_is_never_put_on_the_drive_that_is_looked_at() {
    let bench = Bench::new();
    let image = bench.path("drive.img");
    fs::File::create(&image).unwrap().set_len(64 << 20).unwrap();
    let device = system("losetup", &["--find", "--show", text(&image)]);
    system("mkfs.ext4", &["-q", "-F", &device]);
    let point = bench.path("point");
    fs::create_dir(&point).unwrap();
    system("mount", &[&device, text(&point)]);
    let state = point.join("state");
    let told: Vec<(bool, String)> = [&["sweep", &device, "--reach", "surface"][..], &["reads", &device]]
        .iter()
        .map(|arguments| {
            let output = bench.command().args(*arguments).env("YKEEL_STATE", &state).output().unwrap();
            (output.status.success(), String::from_utf8_lossy(&output.stderr).into_owned())
        })
        .collect();
    let left = state.exists();
    system("umount", &[text(&point)]);
    system("losetup", &["--detach", &device]);
    for (worked, told) in told {
        assert!(worked && told.contains("not kept"), "{told}");
    }
    assert!(!left, "nothing was written to the volume that was looked at");
}
