//! `cargo xtask shots`: a picture of each main view, from the demo, in a real terminal window.

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::Duration;

use anyhow::{Context, ensure};

use crate::guest::{root, run};
use crate::setup;

use crate::tmux::Session;

/// The display of the pictures; nothing else is expected there.
const DISPLAY: &str = ":97";
const SERVER: &str = "ykeel-shots";

/// A process that ends with this value.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn start(program: &str, arguments: &[&str]) -> anyhow::Result<Running> {
    let mut command = Command::new(program);
    command.args(arguments).env("DISPLAY", DISPLAY).stdout(Stdio::null()).stderr(Stdio::null());
    Ok(Running(command.spawn().with_context(|| format!("cannot start {program}"))?))
}

/// Takes every picture into `docs/screenshots`.
pub(crate) fn take() -> anyhow::Result<()> {
    setup::install(&["tmux", "xvfb", "xterm", "imagemagick", "fonts-dejavu-core"])?;
    run("cargo", &["build", "--release", "--quiet", "--package", "ykeel"])?;
    // Paths are seen in some pictures: a place that every machine has.
    let yard = std::env::temp_dir().join("brackwater");
    let _ = fs::remove_dir_all(&yard);
    fs::create_dir_all(&yard)?;
    let ykeel = root().join("target/release/ykeel");
    let _display = start("Xvfb", &[DISPLAY, "-screen", "0", "1300x790x24", "-nolisten", "tcp"])?;
    thread::sleep(Duration::from_millis(800));
    let command = format!("YKEEL_STATE={0}/state {1} demo --dir {0}/yard --fresh", yard.display(), ykeel.display());
    let session = Session::start(SERVER, 160, 45, &yard, &command);
    let _window = start(
        "xterm",
        &[
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "10",
            "-geometry",
            "160x45+0+0",
            "-bg",
            "#101418",
            "-fg",
            "#d8dee4",
            "-b",
            "4",
            "-e",
            "tmux",
            "-u",
            "-L",
            SERVER,
            "attach",
        ],
    )?;
    session.wait_for("backup-shelf");
    thread::sleep(Duration::from_millis(1200));
    walk(&session)
}

/// The walk through the demo, with a picture of each stage.
fn walk(session: &Session) -> anyhow::Result<()> {
    let open = |name: &str| {
        session.keys(&["1", "/"]);
        session.line(name);
        session.keys(&["Enter"]);
    };
    open("boiler-room");
    intake(session);
    session.keys(&["/", "Escape", "A"]);
    session.wait_for("J: ");
    session.wait_until("every drive was asked", |screen| {
        !["asked", "asking", "settling"].iter().any(|word| screen.contains(&format!("{word} "))) && !screen.contains("J: ")
    });
    picture("1-yard")?;
    open("mess-room");
    session.keys(&["Enter"]);
    session.wait_for("copy it first");
    session.keys(&["3", "C", "Enter"]);
    session.wait_for("enter works on it");
    picture("13-copy")?;
    open("tide-stick");
    session.keys(&["Enter"]);
    session.wait_for("6 of 6 match");
    session.keys(&["4", "f"]);
    let asked = session.wait_for("Type the code of this drive");
    let is_code = |word: &&str| word.len() == 7 && word.as_bytes().get(3) == Some(&b'-');
    let code = asked.split("Type the code").nth(1).and_then(|rest| rest.split_whitespace().find(is_code)).unwrap_or_default();
    session.line(code);
    session.keys(&["Enter"]);
    session.wait_for("claims 64.0 GB, stores 4.0 GB");
    picture("14-fathom")?;
    open("purser-stick");
    session.keys(&["Enter"]);
    session.wait_until("a ladder", |screen| screen.contains("broken: no table") && !screen.contains("examining"));
    picture("2-ladder")?;
    open("engine-log");
    session.keys(&["Enter"]);
    session.wait_until("a ladder", |screen| screen.contains("lowest") || screen.contains("broken"));
    session.keys(&["s"]);
    session.wait_until("half of the surface", |screen| screen.contains("LOGBOOK"));
    picture("3-sweep-running")?;
    session.wait_until("the whole surface", |screen| screen.contains("; swept"));
    session.keys(&["Down"]);
    picture("4-sweep")?;
    session.keys(&["Enter"]);
    session.wait_for("Pictures");
    session.keys(&["Down", "Down", "Down", "Down", "Down", "Down", "Enter"]);
    session.wait_for("boat-01.jpg");
    session.keys(&["Down", "Down", "Space", "Space"]);
    session.wait_for("as picture");
    picture("5-files")?;
    session.keys(&["#"]);
    session.wait_until("all small pictures", |screen| screen.contains("Contact sheet") && !screen.contains("is being read"));
    picture("17-pictures")?;
    session.keys(&["Escape", "Left"]);
    session.wait_for("Voyage register.csv");
    session.keys(&["/"]);
    session.line("voyage");
    session.keys(&["Enter", "Enter"]);
    session.wait_for("text, UTF-8");
    picture("18-reader")?;
    session.keys(&["Escape"]);
    session.keys(&["8"]);
    session.wait_for("now → as planned");
    picture("6-plan")?;
    session.keys(&["a"]);
    session.wait_for("Type the code");
    picture("7-apply")?;
    session.keys(&["Escape"]);
    open("deckhand-laptop");
    session.keys(&["Enter"]);
    session.wait_until("a ladder", |screen| screen.contains("DECK") && screen.contains("10 of 10"));
    session.keys(&["S"]);
    session.wait_until("the whole surface", |screen| screen.contains("; swept") && screen.contains("OLDLOG"));
    session.keys(&["V"]);
    session.wait_until("both roots", |screen| screen.matches("newest change").count() == 2);
    picture("9-compare")?;
    session.keys(&["V", "K", "Home", "Right"]);
    picture("15-ground")?;
    session.keys(&["b"]);
    session.wait_for("exFAT boot sector");
    session.keys(&["Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down"]);
    picture("16-bytes")?;
    session.keys(&["Escape"]);
    open("linen-store");
    session.keys(&["Enter"]);
    session.wait_until("a ladder", |screen| screen.contains("LINEN"));
    session.keys(&["S"]);
    session.wait_until("the whole surface", |screen| screen.contains("; swept"));
    session.keys(&["7"]);
    session.wait_for("LINEN /");
    session.keys(&["~"]);
    session.wait_for("adrift /");
    session.wait_for("pictures");
    session.keys(&["Down", "Enter"]);
    session.wait_for("adrift /pictures");
    session.keys(&["Enter"]);
    session.wait_for("boat-05.jpg");
    session.keys(&["Space", "Space"]);
    session.wait_for("as picture");
    picture("8-adrift")?;
    open("fleet-register");
    session.keys(&["Enter"]);
    session.wait_until("a ladder", |screen| screen.contains("SHELDUCK") || screen.contains("broken"));
    session.keys(&["s"]);
    session.wait_until("the layout", |screen| screen.contains("24 in the layout; swept"));
    picture("10-many-volumes")?;
    open("dry-dock");
    session.keys(&["Enter"]);
    session.wait_until("a ladder", |screen| screen.contains("lowest") || screen.contains("broken"));
    session.keys(&["s"]);
    session.wait_until("the volume", |screen| screen.contains("DRYDOCK") && screen.contains("; swept"));
    session.keys(&["6"]);
    session.wait_for("from computed");
    session.keys(&["Right", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down"]);
    picture("11-mend")?;
    open("wheelhouse");
    session.keys(&["Enter"]);
    session.wait_until("a ladder", |screen| screen.contains("WHEEL"));
    session.keys(&["6"]);
    session.wait_for("rule: FAT copies");
    picture("12-check")?;
    open("galley");
    session.keys(&["Enter"]);
    session.wait_until("a ladder", |screen| screen.contains("MENUS") && screen.contains("10 of 10"));
    session.keys(&["9"]);
    session.wait_for("enter changes a row");
    session.keys(&["Down", "Enter"]);
    session.line("shrink least");
    session.keys(&["Enter"]);
    session.wait_for("Every file of what grows");
    session.keys(&["Down", "Enter"]);
    let typed: Vec<&str> = vec!["BSpace"; 30];
    session.keys(&typed);
    session.line("exfat,size=3GB,label=CREW");
    session.keys(&["Enter"]);
    session.wait_for("What is made was opened");
    picture("19-renew")
}

/// What the crew told of their stick, and the first checks.
fn intake(session: &Session) {
    session.keys(&["i", "Down", "Down", "Down", "Down", "Down", "Down", "Space", "Escape", "t"]);
    session.line("Data error (cyclic redundancy check)");
    session.keys(&["Enter", "B", "y", "Down", "n", "Down", "n", "Escape"]);
}

fn picture(name: &str) -> anyhow::Result<()> {
    thread::sleep(Duration::from_millis(700));
    let path = root().join("docs/screenshots").join(format!("{name}.png"));
    fs::create_dir_all(path.parent().unwrap_or(Path::new(".")))?;
    let status = Command::new("import")
        .env("DISPLAY", DISPLAY)
        .args(["-window", "root", "-depth", "8", "-colors", "64"])
        .arg(&path)
        .status()?;
    ensure!(status.success(), "the picture {name} could not be taken");
    println!("{}", path.display());
    Ok(())
}
