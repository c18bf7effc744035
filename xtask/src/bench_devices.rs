//! `cargo xtask bench --devices`: devices read at their rate, on a loop device of this machine; and what emulated drives lose, on the
//! bench of the guest.

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use anyhow::{Context, ensure};
use keel_source::PageBuf;

use crate::bench_guest::{self, Adapter, Drive};
use crate::content::Dice;
use crate::guest::{self, root, run};
use crate::measure::{Figure, RUNS, forget, median, noise, once, row};
use crate::setup;

/// Bytes of the device that is read.
const READ: u64 = 4 << 30;
/// `O_DIRECT`, as the kernel calls it on this machine.
const PAST_MEMORY: i32 = rustix::fs::OFlags::DIRECT.bits().cast_signed();
/// The rate at which the share of a core is told, in bytes per second.
const TOLD_AT: f64 = 500e6;
/// Error patterns that are copied.
const PATTERNS: usize = 20;
/// Bytes of a drive with a pattern.
const SICK: usize = 8 << 20;

/// Prints every figure of devices.
pub(crate) fn run_all() -> anyhow::Result<()> {
    setup::install(&["time"])?;
    run("cargo", &["build", "--release", "--quiet", "--workspace"])?;
    let work = root().join("target/bench");
    fs::create_dir_all(&work)?;
    let release = |name: &str| root().join("target/release").join(name).to_string_lossy().into_owned();
    let (ykeel, own) = (release("ykeel"), release("xtask"));
    rates(&work, &ykeel, &own)?;
    patterns(Path::new(&ykeel))?;
    appearing(Path::new(&ykeel))
}

/// The plain loop: 1 MiB requests past the system's memory, one after the other; into a file, durable at the end, where `to` is one.
pub(crate) fn direct_loop(from: &str, to: Option<&str>) -> anyhow::Result<()> {
    let device = OpenOptions::new().read(true).custom_flags(PAST_MEMORY).open(from)?;
    let mut to = to.map(File::create_new).transpose()?;
    let (mut buf, mut at, mut sum) = (PageBuf::new(1 << 20), 0, 0u64);
    loop {
        let count = device.read_at(&mut buf, at)?;
        if count == 0 {
            break;
        }
        at += count as u64;
        sum = sum.wrapping_add(u64::from(buf[0]));
        if let Some(to) = &mut to {
            to.write_all(&buf[..count])?;
        }
    }
    std::hint::black_box(sum);
    if let Some(to) = to {
        to.sync_all()?;
    }
    Ok(())
}

/// A loop device over `image` that reads past the system's memory, detached when it goes.
struct Attached(String);

impl Attached {
    fn over(image: &str) -> anyhow::Result<Self> {
        let output = Command::new("losetup").args(["--find", "--show", "--read-only", "--direct-io=on", image]).output()?;
        ensure!(output.status.success(), "losetup: {}", String::from_utf8_lossy(&output.stderr));
        Ok(Self(String::from_utf8_lossy(&output.stdout).trim().to_string()))
    }
}

impl Drop for Attached {
    fn drop(&mut self) {
        let _ = Command::new("losetup").args(["--detach", &self.0]).status();
    }
}

fn rates(work: &Path, ykeel: &str, own: &str) -> anyhow::Result<()> {
    let image = noise(&work.join("device.img"), READ)?;
    let device = Attached::over(&image)?;
    let to = work.join("copied.img").to_string_lossy().into_owned();
    let gone = || {
        let _ = fs::remove_file(&to);
        let _ = fs::remove_file(format!("{to}.ykcopy"));
    };
    let (mut plain, mut sweep, mut kept, mut copy) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for _ in 0..RUNS {
        plain.push(once(&[own, "direct-loop", &device.0])?);
        forget()?;
        sweep.push(once(&[ykeel, "sweep", &device.0, "--reach", "surface", "--json"])?);
        gone();
        kept.push(once(&[own, "direct-loop", &device.0, &to])?);
        gone();
        copy.push(once(&[ykeel, "copy", &device.0, &to, "--json"])?);
    }
    gone();
    let (plain, sweep, kept, copy) = (median(plain), median(sweep), median(kept), median(copy));
    let against = |own: Figure, plain: Figure| {
        let share = own.user / (READ as f64 / TOLD_AT) * 100.0;
        let rate = plain.seconds / own.seconds;
        format!("{rate:.2} of the loop's rate (hold 0.95); {share:.0} % of a core at 500 MB/s (hold 25)")
    };
    row("plain direct 1 MiB loop, loop device of 4 GiB", plain, "");
    row("surface sweep of the same device", sweep, &against(sweep, plain));
    row("the loop into a file, durable", kept, "");
    row("copy of the same device", copy, &against(copy, kept));
    Ok(())
}

/// Sectors that a copy loses of drives with seeded bad places: exactly those are to be missing.
fn patterns(ykeel: &Path) -> anyhow::Result<()> {
    let folder = tempfile::tempdir()?;
    let mut dice = Dice::new(14);
    let mut drives = Vec::new();
    for number in 0..PATTERNS {
        let name = format!("p{number:02}");
        let image = folder.path().join(&name);
        let content: Vec<u8> = (0..SICK / 8).flat_map(|_| dice.next().to_le_bytes()).collect();
        fs::write(&image, content)?;
        let (adapter, sectors) = match number % 4 {
            0 => (Adapter::Scsi, (512, 512)),
            1 => (Adapter::Scsi, (512, 4096)),
            2 => (Adapter::Scsi, (4096, 4096)),
            _ => (Adapter::Virtio, (512, 4096)),
        };
        let mut drive = Drive { sectors, ..Drive::new(&name, &image, adapter) };
        let all = (SICK / 512) as u64;
        for _ in 0..1 + dice.below(12) {
            let (from, long) = (dice.below(all), 1 + dice.below(24));
            drive.bad.extend(from..(from + long).min(all));
        }
        drive.bad.sort_unstable();
        drive.bad.dedup();
        drives.push(drive);
    }
    let script = "for d in /sys/block/sd* /sys/block/vd*; do n=/dev/${d##*/}\n\
        s=$(cat $d/serial 2>/dev/null); [ -n \"$s\" ] || s=$(dd if=$d/device/vpd_pg80 bs=1 skip=4 2>/dev/null | tr -d ' \\n\\0')\n\
        ykeel copy $n /tmp/c.img --json > /tmp/o; echo \"@@COPY $s $(tr -d '\\n' < /tmp/o)\"; echo \"@@HASH $s $(sha256sum < /tmp/c.img)\"; rm /tmp/c.img*; done";
    let lines = bench_guest::run(&guest::build()?, ykeel, &drives, script, Duration::from_secs(900))?;
    let (mut exact, mut lost, mut took) = (0, 0, 0);
    for drive in &drives {
        let prefix = format!("@@COPY {} ", drive.name);
        let told =
            lines.iter().find_map(|line| line.strip_prefix(&prefix)).with_context(|| format!("{} was not copied", drive.name))?;
        let copy: serde_json::Value = serde_json::from_str(told)?;
        let sector = u64::from(drive.sectors.0);
        let mut wanted: Vec<u64> = drive.bad.iter().map(|bad| bad * 512 / sector).collect();
        wanted.dedup();
        let number = |value: &serde_json::Value| value.as_u64().unwrap_or(0);
        let ranges = copy["missing"].as_array().map(Vec::as_slice).unwrap_or_default();
        let missing: Vec<u64> =
            ranges.iter().flat_map(|range| number(&range["start"]) / sector..number(&range["end"]) / sector).collect();
        let mut content = fs::read(&drive.image)?;
        for missing in &missing {
            let at = usize::try_from(missing * sector)?;
            content[at..at + sector as usize].fill(0);
        }
        let hash = lines.iter().find_map(|line| line.strip_prefix(&format!("@@HASH {} ", drive.name)));
        let same = hash.is_some_and(|hash| hash.starts_with(&sha256(&content)));
        exact += usize::from(missing == wanted && same);
        lost += missing.len();
        took += number(&copy["took_ms"]);
    }
    println!(
        "{PATTERNS} error patterns on emulated drives: {exact} lost exactly the bad sectors ({lost}), in {took} ms (hold {PATTERNS})"
    );
    ensure!(exact == PATTERNS, "a copy lost more or less than the bad sectors");
    Ok(())
}

fn sha256(bytes: &[u8]) -> String {
    use sha2::{Digest, Sha256};
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// From the plug to the row, by the kernel's own clock.
fn appearing(ykeel: &Path) -> anyhow::Result<()> {
    let folder = tempfile::tempdir()?;
    let image = folder.path().join("stick");
    File::create(&image)?.set_len(64 << 20)?;
    let drives = [Drive { away: true, ..Drive::new("stick", &image, Adapter::Usb) }];
    let script = "ykeel yard --watch > /tmp/w & sleep 2\n\
        for turn in 1 2 3 4 5; do : > /tmp/w; echo '@@HOST plug stick'; until grep -q plugged /tmp/w; do :; done; t1=$(cut -d' ' -f1 /proc/uptime)\n\
        t0=$(dmesg | grep 'Attached SCSI' | tail -1 | tr -d '[' | tr ']' ' ' | sed 's/^ *//' | cut -d' ' -f1); echo \"@@ROW $t0 $t1\"\n\
        echo '@@HOST pull stick'; sleep 2; done";
    let lines = bench_guest::run(&guest::build()?, ykeel, &drives, script, Duration::from_secs(300))?;
    let times: Vec<f64> = lines
        .iter()
        .filter_map(|line| line.strip_prefix("@@ROW ")?.split_once(' '))
        .filter_map(|(from, to)| Some((to.trim().parse::<f64>().ok()? - from.trim().parse::<f64>().ok()?).max(0.0)))
        .collect();
    ensure!(!times.is_empty(), "no plug was seen: {}", lines.join("\n"));
    let worst = times.iter().copied().fold(0.0, f64::max);
    println!("from the kernel's disk to the row, {} plugs in the emulated machine: at most {worst:.2} s (hold 1)", times.len());
    Ok(())
}
