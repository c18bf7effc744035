//! A bench of emulated drives on real adapters: SATA, NVMe, USB, SCSI and virtio, with bad sectors, slowness and plugs that can be pulled,
//! and `ykeel` inside. Shared by the tasks and the tests.
#![allow(dead_code)]

use std::fmt::Write as _;
use std::io::{BufRead, BufReader, Write as _};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use std::{fs, io, thread};

/// The port of the machine that a hub is plugged into, and one of the hub's own.
const HUB: &str = "usb-hub,bus=xhci.0,port=4";
const HUB_PORT: &str = ",port=4.1";

/// What a drive is attached to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Adapter {
    /// AHCI; its drives have a health page, and sectors of 512 bytes.
    Sata,
    Nvme,
    /// USB mass storage, bulk only.
    Usb,
    /// USB attached SCSI.
    Uas,
    Scsi,
    Virtio,
    /// A card reader by USB, without a card: `insert` puts the image into it.
    Reader,
}

/// A drive on the bench. Its serial number is its name.
#[derive(Debug, Clone)]
pub(crate) struct Drive {
    pub(crate) name: String,
    pub(crate) image: PathBuf,
    pub(crate) adapter: Adapter,
    /// Logical and physical sector in bytes.
    pub(crate) sectors: (u32, u32),
    /// Sectors of 512 bytes that do not read.
    pub(crate) bad: Vec<u64>,
    /// Sectors of 512 bytes that do not take writes.
    pub(crate) bad_writes: Vec<u64>,
    /// Bytes that it delivers in a second.
    pub(crate) rate: Option<u64>,
    pub(crate) read_only: bool,
    /// Not plugged in at the start.
    pub(crate) away: bool,
    /// Behind a hub, one of USB.
    pub(crate) behind_hub: bool,
}

impl Drive {
    pub(crate) fn new(name: &str, image: &Path, adapter: Adapter) -> Self {
        Self {
            name: name.into(),
            image: image.into(),
            adapter,
            sectors: (512, 512),
            bad: Vec::new(),
            bad_writes: Vec::new(),
            rate: None,
            read_only: false,
            away: false,
            behind_hub: false,
        }
    }

    /// What stands behind it: the image, through whatever makes it fail or slow.
    fn block(&self, folder: &Path) -> io::Result<Vec<String>> {
        let name = &self.name;
        if self.adapter == Adapter::Reader {
            return Ok(Vec::new());
        }
        let file = self.image.canonicalize()?;
        let mut below = format!("driver=file,filename={},node-name=f-{name},locking=off", file.display());
        let mut nodes = Vec::new();
        let mut under = format!("f-{name}");
        if !(self.bad.is_empty() && self.bad_writes.is_empty()) {
            let mut rules = String::new();
            for (sectors, what) in [(&self.bad, "read"), (&self.bad_writes, "write")] {
                for sector in sectors {
                    let _ = writeln!(
                        rules,
                        "[inject-error]\nevent = \"none\"\niotype = \"{what}\"\nerrno = \"5\"\nsector = \"{sector}\"\nonce = \"off\"\n"
                    );
                }
            }
            let config = folder.join(format!("{name}.conf"));
            fs::write(&config, rules)?;
            nodes.push(std::mem::take(&mut below));
            below = format!("driver=blkdebug,config={},image={under},node-name=e-{name}", config.display());
            under = format!("e-{name}");
        }
        nodes.push(below);
        if self.rate.is_some() {
            nodes.push(format!("driver=throttle,throttle-group=t-{name},file={under},node-name=s-{name}"));
            under = format!("s-{name}");
        }
        let read_only = if self.read_only { ",read-only=on" } else { "" };
        nodes.push(format!("driver=raw,file={under},node-name=n-{name}{read_only}"));
        Ok(nodes)
    }

    /// The device that the guest sees.
    fn device(&self, port: usize) -> String {
        let name = &self.name;
        let (logical, physical) = self.sectors;
        let sizes = format!(",logical_block_size={logical},physical_block_size={physical}");
        match self.adapter {
            Adapter::Sata => {
                format!("ide-hd,drive=n-{name},bus=ahci.{port},serial={name},id={name},physical_block_size={physical}")
            }
            Adapter::Nvme => format!("nvme,drive=n-{name},serial={name},id={name}{sizes}"),
            Adapter::Usb => {
                let port = if self.behind_hub { HUB_PORT } else { "" };
                format!("usb-storage,drive=n-{name},bus=xhci.0,serial={name},id={name},removable=on{sizes}{port}")
            }
            // The disk of a `usb-uas`, which is there before it.
            Adapter::Uas => format!("scsi-hd,drive=n-{name},bus=u-{name}.0,serial={name},id={name}{sizes}"),
            Adapter::Scsi => format!("scsi-hd,drive=n-{name},bus=scsi.0,serial={name},id={name}{sizes}"),
            Adapter::Reader => format!("scsi-hd,drive=d-{name},bus=b-{name}.0,serial={name},id={name},removable=on{sizes}"),
            Adapter::Virtio => format!("virtio-blk-pci,drive=n-{name},serial={name},id={name}{sizes}"),
        }
    }
}

/// What the script wants of whoever stands at the bench: a line `@@HOST pull NAME`, `@@HOST plug NAME` or `@@HOST insert NAME`, then it
/// goes on.
fn hand(line: &str, drives: &[Drive], monitor: &mut UnixStream) -> io::Result<()> {
    let mut words = line.split_whitespace();
    let (Some(what), Some(name)) = (words.next(), words.next()) else { return Ok(()) };
    let command = match what {
        "pull" => format!("device_del {name}\n"),
        "insert" => {
            let image = drives.iter().find(|drive| drive.name == name).map(|drive| drive.image.display().to_string());
            format!("change d-{name} {} raw\n", image.unwrap_or_default())
        }
        "plug" => {
            let device = drives.iter().find(|drive| drive.name == name).map(|drive| drive.device(0));
            let port = words.next().map(|port| format!(",port={port}")).unwrap_or_default();
            format!("device_add {}{port}\n", device.unwrap_or_default())
        }
        _ => return Ok(()),
    };
    monitor.write_all(command.as_bytes())
}

/// Boots the guest of `folder` with `drives` and runs `script` in it as root, with `program` as `ykeel`. Drives are as they come out:
/// what is written stays in the images. Answers with what was printed, line by line.
pub(crate) fn run(folder: &Path, program: &Path, drives: &[Drive], script: &str, limit: Duration) -> io::Result<Vec<String>> {
    let work = tempfile::tempdir()?;
    let initrd = packed(folder, program, script, work.path())?;
    let socket = work.path().join("monitor");
    let mut qemu = Command::new("qemu-system-x86_64");
    qemu.args([
        "-accel",
        "tcg,thread=multi",
        "-machine",
        "q35",
        "-m",
        "1280",
        "-smp",
        "2",
        "-nographic",
        "-no-reboot",
        "-nodefaults",
    ]);
    qemu.args(["-serial", "stdio", "-net", "none"]);
    qemu.arg("-monitor").arg(format!("unix:{},server=on,wait=off", socket.display()));
    qemu.args(["-device", "ich9-ahci,id=ahci", "-device", "qemu-xhci,id=xhci", "-device", "virtio-scsi-pci,id=scsi"]);
    qemu.arg("-kernel").arg(folder.join("vmlinuz")).arg("-initrd").arg(initrd);
    qemu.args(["-append", "console=ttyS0 quiet loglevel=1 panic=1"]);
    if drives.iter().any(|drive| drive.behind_hub) {
        qemu.args(["-device", HUB]);
    }
    let mut port = 0;
    for drive in drives {
        if let Some(rate) = drive.rate {
            qemu.arg("-object").arg(format!("throttle-group,id=t-{},x-bps-read={rate}", drive.name));
        }
        for node in drive.block(work.path())? {
            qemu.arg("-blockdev").arg(node);
        }
        if drive.away {
            continue;
        }
        if drive.adapter == Adapter::Reader {
            qemu.arg("-drive").arg(format!("if=none,id=d-{}", drive.name));
            qemu.arg("-device").arg(format!("usb-bot,id=b-{},bus=xhci.0", drive.name));
        }
        if drive.adapter == Adapter::Uas {
            qemu.arg("-device").arg(format!("usb-uas,id=u-{},bus=xhci.0", drive.name));
        }
        qemu.arg("-device").arg(drive.device(port));
        port += usize::from(drive.adapter == Adapter::Sata);
    }
    let mut qemu = qemu.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn()?;
    let until = Instant::now() + limit;
    let told = watch(&mut qemu, &socket, drives, until);
    let _ = qemu.kill();
    let output = qemu.wait_with_output()?;
    match told {
        Ok(lines) if lines.iter().any(|line| line == "@@END") => Ok(lines),
        Ok(lines) => {
            let last = lines.iter().rev().take(30).rev().cloned().collect::<Vec<_>>().join("\n");
            Err(io::Error::other(format!("the bench did not finish:\n{last}\n{}", String::from_utf8_lossy(&output.stderr))))
        }
        Err(error) => Err(error),
    }
}

fn watch(qemu: &mut std::process::Child, socket: &Path, drives: &[Drive], until: Instant) -> io::Result<Vec<String>> {
    let stdout = qemu.stdout.take().ok_or_else(|| io::Error::other("no output"))?;
    let (send, lines) = std::sync::mpsc::channel();
    thread::spawn(move || {
        let mut reader = BufReader::new(stdout);
        let mut line = Vec::new();
        while reader.read_until(b'\n', &mut line).is_ok_and(|count| count > 0) {
            if send.send(String::from_utf8_lossy(&line).trim_end().to_string()).is_err() {
                break;
            }
            line.clear();
        }
    });
    let begun = Instant::now();
    let mut monitor = None;
    let mut told = Vec::new();
    while let Ok(line) = lines.recv_timeout(until.saturating_duration_since(Instant::now())) {
        // The first line stands behind what the machine itself printed.
        let line = line.find("@@").map_or(line.as_str(), |at| line.get(at..).unwrap_or_default()).to_string();
        if let Some(wish) = line.strip_prefix("@@HOST ") {
            if monitor.is_none() {
                monitor = Some(UnixStream::connect(socket)?);
            }
            if let Some(monitor) = &mut monitor {
                hand(wish, drives, monitor)?;
            }
        }
        if let Some(log) = std::env::var_os("YKEEL_BENCH_LOG") {
            let mut log = fs::OpenOptions::new().append(true).create(true).open(log)?;
            writeln!(log, "{:>6.1} {line}", begun.elapsed().as_secs_f32())?;
        }
        let ended = line == "@@END";
        told.push(line);
        if ended {
            break;
        }
    }
    Ok(told)
}

/// The guest's own files, with the program and the script beside them.
fn packed(folder: &Path, program: &Path, script: &str, work: &Path) -> io::Result<PathBuf> {
    let root = work.join("root");
    fs::create_dir_all(root.join("bin"))?;
    let stripped = Command::new("objcopy").arg("--strip-all").arg(program).arg(root.join("bin/ykeel")).status()?;
    if !stripped.success() {
        return Err(io::Error::other("the program could not be packed"));
    }
    let libraries = Command::new("ldd").arg(program).output()?;
    for library in String::from_utf8_lossy(&libraries.stdout).split_whitespace().filter(|word| word.starts_with('/')) {
        let to = root.join(library.trim_start_matches('/'));
        fs::create_dir_all(to.parent().unwrap_or(&root))?;
        fs::copy(library, &to)?;
    }
    fs::write(root.join("script"), script)?;
    let initrd = work.join("initrd");
    fs::copy(folder.join("initrd.gz"), &initrd)?;
    // A second archive behind the first is unpacked over it; it begins at a multiple of four bytes.
    let mut file = fs::OpenOptions::new().append(true).open(&initrd)?;
    let len = file.metadata()?.len();
    file.write_all(&vec![0; usize::try_from(len.next_multiple_of(512) - len).unwrap_or(0)])?;
    let pack = "find . | cpio -o -H newc --quiet";
    let status = Command::new("sh").args(["-c", pack]).current_dir(&root).stdout(file).status()?;
    if !status.success() {
        return Err(io::Error::other("the program could not be packed"));
    }
    Ok(initrd)
}
