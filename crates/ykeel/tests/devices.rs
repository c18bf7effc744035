//! Real drives: the kernel's own adapters and drivers with emulated hardware behind them, and `ykeel` on top.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "../../../xtask/guest/bench.rs"]
mod bench;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use bench::{Adapter, Drive};

/// The guest, built when it is not there yet (`cargo xtask test` does it before).
fn guest() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let folder = std::env::var_os("YKEEL_GUEST").map_or_else(|| root.join("target/guest"), PathBuf::from);
    let status = Command::new("bash").arg(root.join("xtask/guest/build.sh")).arg(&folder).status().unwrap();
    assert!(status.success(), "the guest could not be built; run the tests by `cargo xtask test`");
    folder
}

fn on_the_bench(drives: &[Drive], script: &str) -> Vec<String> {
    bench::run(&guest(), Path::new(env!("CARGO_BIN_EXE_ykeel")), drives, script, Duration::from_secs(900)).unwrap()
}

/// Bytes that repeat nowhere.
fn noise(path: &Path, bytes: usize, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    let content: Vec<u8> = (0..bytes / 8)
        .flat_map(|_| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state.to_le_bytes()
        })
        .collect();
    fs::write(path, &content).unwrap();
    content
}

/// The lines behind `@@word name`.
fn told<'a>(lines: &'a [String], word: &str, name: &str) -> Vec<&'a str> {
    let prefix = format!("@@{word} {name} ");
    lines.iter().filter_map(|line| line.strip_prefix(&prefix)).collect()
}

/// Finds the node of a drive by its serial number, whatever the adapter.
const NODE: &str = r#"
node() {
  for d in /sys/block/*; do
    s=$(cat $d/serial $d/device/serial 2>/dev/null | tr -d ' \n')
    [ -z "$s" ] && s=$(dd if=$d/device/vpd_pg80 bs=1 skip=4 2>/dev/null | tr -d ' \n\0')
    [ "$s" = "$1" ] && echo /dev/${d##*/} && return
  done
}
"#;

#[test]
fn exactly_the_bad_sectors_are_missing_from_a_copy() {
    let folder = tempfile::tempdir().unwrap();
    let bytes = 16 << 20;
    let kinds = [
        ("sata", Adapter::Sata, (512, 512)),
        ("sata512e", Adapter::Sata, (512, 4096)),
        ("nvme4kn", Adapter::Nvme, (4096, 4096)),
        ("usb512e", Adapter::Usb, (512, 4096)),
        ("scsi4kn", Adapter::Scsi, (4096, 4096)),
        ("virtio", Adapter::Virtio, (512, 512)),
        ("uas", Adapter::Uas, (512, 4096)),
    ];
    let mut drives = Vec::new();
    let mut contents = Vec::new();
    for (index, (name, adapter, sectors)) in kinds.into_iter().enumerate() {
        let image = folder.path().join(name);
        contents.push(noise(&image, bytes, 77 + index as u64));
        let mut drive = Drive { sectors, ..Drive::new(name, &image, adapter) };
        // One by itself, two neighbours, one at the very start and one at the very end of a request, and the last one.
        drive.bad = vec![5000 + index as u64, 9001, 9002, 12_288, 14_335, bytes as u64 / 512 - 1];
        drives.push(drive);
    }
    let script = format!(
        r#"{NODE}
for name in {names}; do
  d=$(node $name); echo "@@NODE $name $d"
  t=$(date +%s)
  ykeel copy $d /tmp/$name.img --again 1 --json > /tmp/$name.json; echo "@@EXIT $name $?"
  echo "@@TOOK $name $(( $(date +%s) - t ))"
  echo "@@JSON $name $(tr -d '\n' < /tmp/$name.json)"
  echo "@@HASH $name $(sha256sum < /tmp/$name.img)"
  rm /tmp/$name.img
done
dmesg | tail -20
"#,
        names = kinds.map(|(name, ..)| name).join(" ")
    );
    let lines = on_the_bench(&drives, &script);
    panic!("{}", lines.join("\n"));
}

#[test]
fn explore() {
    let folder = tempfile::tempdir().unwrap();
    let mut drives = Vec::new();
    for (name, adapter) in [("sata", Adapter::Sata), ("nvme", Adapter::Nvme), ("usb", Adapter::Usb), ("uas", Adapter::Uas)] {
        noise(&folder.path().join(name), 16 << 20, 3);
        drives.push(Drive::new(name, &folder.path().join(name), adapter));
    }
    let script = r#"
for d in /sys/block/sd* /sys/block/nvme*; do
 p=$(readlink -f $d); echo "== $d $p"
 for f in removable ro size device/vendor device/model device/rev device/serial device/wwid device/type device/timeout device/queue_depth device/state device/firmware_rev wwid queue/rotational queue/dma_alignment queue/max_sectors_kb queue/max_hw_sectors_kb queue/max_segments queue/scheduler queue/read_ahead_kb events device/evt_media_change; do [ -e $d/$f ] && echo "$f: $(cat $d/$f 2>&1)"; done
 echo "pg80: $(od -c $d/device/vpd_pg80 2>/dev/null | head -3)"; ls $d/device
done
for l in /sys/class/ata_link/link*; do echo "$l: $(cat $l/sata_spd) $(cat $l/hw_sata_spd_limit) $(cat $l/sata_spd_limit)"; readlink -f $l; done
for l in /sys/class/ata_device/dev*; do echo "$l: $(cat $l/class) $(cat $l/spdn_cnt) $(cat $l/trim) ; $(cat $l/ering); $(cat $l/gscr | head -2)"; readlink -f $l; head -c 400 $l/id; done
for u in /sys/bus/usb/devices/*; do echo "$u $(cat $u/speed $u/version $u/product $u/manufacturer $u/serial $u/idVendor $u/bDeviceClass 2>/dev/null | tr '\n' '|') $(readlink -f $u/driver) $(readlink $u/port/peer)"; done
readlink -f /sys/class/nvme/nvme0; ls /sys/class/nvme/nvme0; cat /sys/class/nvme/nvme0/address; ls $(readlink -f /sys/class/nvme/nvme0/device) | grep link
"#;
    panic!("{}", on_the_bench(&drives, script).join("\n"));
}
