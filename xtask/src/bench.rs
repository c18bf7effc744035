//! `cargo xtask bench`: the figures to hold, measured on whole processes.

use std::fs::{self, File};
use std::io::Read;
use std::path::Path;
use std::process::Command;
use std::time::Instant;

use anyhow::Context;

use crate::bench_copy;
use crate::drives;
use crate::guest::{self, root, run};
use crate::measure::{Figure, RUNS, forget, median, noise, once, row};
use crate::setup;
use crate::tmux;

/// Bytes of the surface that is swept.
const SURFACE: u64 = 8 << 30;
/// Files on the volume that is listed.
const FILES: usize = 200_000;

/// Prints every figure.
pub(crate) fn run_all() -> anyhow::Result<()> {
    setup::install(&[
        "time",
        "tmux",
        "ntfs-3g",
        "e2fsprogs",
        "dosfstools",
        "exfatprogs",
        "exfat-fuse",
        "mtools",
        "qemu-system-x86",
        "cpio",
        "kmod",
    ])?;
    run("cargo", &["build", "--release", "--quiet", "--workspace"])?;
    let work = root().join("target/bench");
    fs::create_dir_all(&work)?;
    let ykeel = root().join("target/release/ykeel").to_string_lossy().into_owned();
    let own = root().join("target/release/xtask").to_string_lossy().into_owned();
    println!("median of {RUNS} runs of whole processes, {} cores", std::thread::available_parallelism()?);
    surface(&work, &ykeel, &own)?;
    bench_copy::healthy(&work, &ykeel, &own)?;
    landmarks(&work, &ykeel)?;
    start(&work, &ykeel)?;
    listing(&work, &ykeel)
}

/// The plain loop: 1 MiB reads, one after the other.
pub(crate) fn read_loop(path: &str) -> anyhow::Result<()> {
    let mut file = File::open(path)?;
    let mut buf = vec![0; 1 << 20];
    let mut sum = 0u64;
    loop {
        let count = file.read(&mut buf)?;
        if count == 0 {
            break;
        }
        sum = sum.wrapping_add(u64::from(buf[0]));
    }
    std::hint::black_box(sum);
    Ok(())
}

fn surface(work: &Path, ykeel: &str, own: &str) -> anyhow::Result<()> {
    let path = noise(&work.join("surface.img"), SURFACE)?;
    let (mut plain, mut sweep) = (Vec::new(), Vec::new());
    once(&[own, "read-loop", &path])?;
    for _ in 0..RUNS {
        plain.push(once(&[own, "read-loop", &path])?);
        forget()?;
        sweep.push(once(&[ykeel, "sweep", &path, "--reach", "surface", "--json"])?);
    }
    let again = once(&[ykeel, "sweep", &path, "--reach", "surface", "--json"])?;
    let (plain, sweep) = (median(plain), median(sweep));
    row("plain 1 MiB read loop, cached 8 GiB", plain, "");
    row("surface sweep, the same file", sweep, &format!("{:.2}x of the loop (hold 1.0x or less)", sweep.seconds / plain.seconds));
    row("a second sweep of it, unchanged", again, "(hold instant)");
    let holes = work.join("holes.img");
    File::create(&holes)?.set_len(4_000_000_000_000)?;
    let holes = holes.to_string_lossy().into_owned();
    let figures = (0..RUNS)
        .map(|_| forget().and_then(|()| once(&[ykeel, "sweep", &holes, "--reach", "surface", "--json"])))
        .collect::<anyhow::Result<_>>()?;
    row("surface sweep, 4 TB of holes", median(figures), "(hold seconds)");
    Ok(())
}

fn landmarks(work: &Path, ykeel: &str) -> anyhow::Result<()> {
    let yard = work.join("yard");
    once(&[ykeel, "demo", "--no-screens", "--dir", &yard.to_string_lossy()])?;
    for drive in ["purser-stick.img", "ticket-office.img", "engine-log.drive.toml"] {
        let path = yard.join(drive).to_string_lossy().into_owned();
        let figures =
            (0..RUNS).map(|_| once(&[ykeel, "sweep", &path, "--reach", "landmarks", "--json"])).collect::<anyhow::Result<_>>()?;
        row(&format!("landmarks sweep, {drive}"), median(figures), "(hold 2 s)");
    }
    Ok(())
}

fn start(work: &Path, ykeel: &str) -> anyhow::Result<()> {
    let figures = (0..RUNS).map(|_| once(&[ykeel, "--help"])).collect::<anyhow::Result<_>>()?;
    row("ykeel --help", median(figures), "(hold 30 ms)");
    let yard = work.join("yard");
    let mut times = Vec::new();
    for run in 0..RUNS {
        let begun = Instant::now();
        // A server that is on its way out would take the next session with it.
        let session = tmux::Session::start(&format!("ykeel-bench-{run}"), 160, 45, &yard, ykeel);
        session.wait_for("backup-shelf");
        times.push(Figure { seconds: begun.elapsed().as_secs_f64(), kib: 0, user: 0.0 });
    }
    row("first screen, with the start of a tmux server", median(times), "(hold 150 ms)");
    Ok(())
}

/// The kinds that are listed, and the bytes of a volume that holds [`FILES`] files.
const KINDS: [(&str, u64); 5] =
    [("ntfs", 1 << 30), ("ext4", 2 << 30), ("vfat", 2 << 30), ("exfat", 2 << 30), ("hfsplus", 2 << 30)];

fn listing(work: &Path, ykeel: &str) -> anyhow::Result<()> {
    make_listings(work)?;
    for (kind, _) in KINDS {
        let path = work.join(format!("listing-{kind}.img")).to_string_lossy().into_owned();
        let figures =
            (0..RUNS).map(|_| once(&[ykeel, "files", &path, "--volume", "n1", "--recursive"])).collect::<anyhow::Result<_>>()?;
        let figure = median(figures);
        let rate = format!("{:.0} files a second", FILES as f64 / figure.seconds);
        row(&format!("listing of 200,000 files, {kind}"), figure, &rate);
        let mount: &[&str] = match kind {
            "ext4" => &["mount", "-t", "ext4", "-o", "loop,ro"],
            "ntfs" => &["ntfs-3g", "-o", "ro"],
            _ => continue,
        };
        let point = work.join("mounted");
        fs::create_dir_all(&point)?;
        let point = point.to_string_lossy().into_owned();
        let (program, options) = mount.split_first().context("a mount command")?;
        run(program, &[options, &[&path, &point]].concat())?;
        let figures = (0..RUNS).map(|_| once(&["find", &point, "-ls"])).collect::<anyhow::Result<Vec<_>>>();
        run("umount", &[&point])?;
        row(&format!("find -ls on the mounted {kind}"), median(figures?), "(to be beaten)");
    }
    Ok(())
}

/// Bare volumes of 200,000 small files: through drivers and tools of this machine, HFS+ in the guest, which takes its
/// time. They are kept for the next run.
fn make_listings(work: &Path) -> anyhow::Result<()> {
    let point = work.join("mounted");
    fs::create_dir_all(&point)?;
    for (kind, bytes) in KINDS {
        let image = work.join(format!("listing-{kind}.img"));
        if image.exists() {
            continue;
        }
        let unfinished = work.join(format!("listing-{kind}.part"));
        let (path, mounted) = (unfinished.to_string_lossy().into_owned(), point.to_string_lossy().into_owned());
        File::create(&unfinished)?.set_len(bytes)?;
        match kind {
            "ext4" => {
                run("mkfs.ext4", &["-q", "-F", "-N", "250000", "-L", "MANY", &path])?;
                fill_mounted(&point, &["mount", "-t", "ext4", "-o", "loop", &path, &mounted])?;
            }
            "ntfs" => {
                run("mkfs.ntfs", &["-Q", "-F", "-q", "-L", "MANY", &path])?;
                fill_mounted(&point, &["ntfs-3g", &path, &mounted])?;
            }
            "exfat" => {
                run("mkfs.exfat", &["-c", "4096", "-L", "MANY", &path])?;
                let device = Command::new("losetup").args(["--find", "--show", &path]).output()?;
                let device = String::from_utf8_lossy(&device.stdout).trim().to_string();
                let filled = fill_mounted(&point, &["mount.exfat-fuse", "-o", "rw", &device, &mounted]);
                run("losetup", &["--detach", &device])?;
                filled?;
            }
            "vfat" => {
                run("mkfs.vfat", &["-F", "32", "-n", "MANY", &path])?;
                let tree = work.join("tree");
                fs::create_dir_all(&tree)?;
                fill(&tree)?;
                let folders: Vec<String> =
                    fs::read_dir(&tree)?.flatten().map(|entry| entry.path().to_string_lossy().into_owned()).collect();
                for some in folders.chunks(50) {
                    let arguments: Vec<&str> =
                        ["-s", "-i", &path].into_iter().chain(some.iter().map(String::as_str)).chain(["::"]).collect();
                    run("mcopy", &arguments)?;
                }
                fs::remove_dir_all(&tree)?;
            }
            _ => fill_in_guest(work, kind, bytes, &unfinished)?,
        }
        fs::rename(&unfinished, &image)?;
    }
    Ok(())
}

/// Mounts by `command`, fills what is mounted at `point`, and unmounts it.
fn fill_mounted(point: &Path, command: &[&str]) -> anyhow::Result<()> {
    let (program, arguments) = command.split_first().context("a mount command")?;
    run(program, arguments)?;
    let filled = fill(point);
    run("umount", &[&point.to_string_lossy()])?;
    filled
}

fn fill_in_guest(work: &Path, kind: &str, bytes: u64, unfinished: &Path) -> anyhow::Result<()> {
    let (tree, tar) = (work.join("tree"), work.join("many.tar"));
    fs::create_dir_all(&tree)?;
    fill(&tree)?;
    run("tar", &["--format=ustar", "-C", &tree.to_string_lossy(), "-cf", &tar.to_string_lossy(), "."])?;
    fs::remove_dir_all(&tree)?;
    drives::format(kind, "MANY", bytes / 512, unfinished, (0, 512))?;
    guest::fill(&[guest::Filling { kind, volume: unfinished, place: None, tar: &tar }])?;
    fs::remove_file(&tar)?;
    Ok(())
}

fn fill(point: &Path) -> anyhow::Result<()> {
    for folder in 0..FILES / 500 {
        let folder = point.join(format!("Voyages {folder:03}"));
        fs::create_dir(&folder)?;
        for number in 0..500 {
            fs::write(folder.join(format!("crossing {number:05} of the season.txt")), b"Saltholm to Brackwater")?;
        }
    }
    Ok(())
}
