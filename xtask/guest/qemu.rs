//! The command that boots the guest; shared by the tasks and the tests.

use std::path::Path;
use std::process::{Command, Stdio};

/// qemu with the guest of `folder`, the kernel parameters `parameters`, and each drive with its options; those of the
/// device behind it follow a semicolon.
pub(crate) fn qemu<'a>(folder: &Path, parameters: &str, drives: impl IntoIterator<Item = (&'a Path, &'a str)>) -> Command {
    let mut qemu = Command::new("qemu-system-x86_64");
    qemu.args(["-accel", "tcg,thread=multi", "-m", "1024", "-nographic", "-no-reboot", "-nodefaults"]);
    qemu.args(["-serial", "stdio", "-monitor", "none", "-net", "none"]);
    qemu.arg("-kernel").arg(folder.join("vmlinuz")).arg("-initrd").arg(folder.join("initrd.gz"));
    qemu.args(["-append", &format!("console=ttyS0 quiet loglevel=1 panic=1 {parameters}")]);
    for (number, (drive, options)) in drives.into_iter().enumerate() {
        let (options, device) = options.split_once(';').unwrap_or((options, ""));
        qemu.arg("-drive").arg(format!("file={},format=raw,if=none,id=d{number}{options}", drive.display()));
        qemu.arg("-device").arg(format!("virtio-blk-pci,drive=d{number}{device}"));
    }
    qemu.stdin(Stdio::null());
    qemu
}
