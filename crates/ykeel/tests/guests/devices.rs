//! Real drives: the kernel's own adapters and drivers with emulated hardware behind them, and `ykeel` on top.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use crate::bench::{Adapter, Drive};
use crate::guest::{alone, guest};

fn on_the_bench(drives: &[Drive], script: &str) -> Vec<String> {
    let _alone = alone();
    let limit = Duration::from_secs(900 + 45 * u64::from(pulls()));
    crate::bench::run(&guest(), Path::new(env!("CARGO_BIN_EXE_ykeel")), drives, script, limit).unwrap()
}

/// Points of an apply at which the drive is pulled: as many as are asked for, a few where the tests are all run.
fn pulls() -> u32 {
    std::env::var("YKEEL_PULLS").ok().and_then(|count| count.parse().ok()).unwrap_or(3)
}

/// Drives with bad sectors that are asked for their ladders too: the kernel takes its time over each of these sectors.
const ASKED: [&str; 4] = ["sata", "nvme4kn", "scsi4kn", "virtio"];

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

/// What every script begins with: the node of a drive by its serial number, whatever the adapter, waited for; and the code of a drive.
const SCRIPT: &str = r#"
find_node() {
  for d in /sys/block/*; do
    s=$(cat $d/serial $d/device/serial 2>/dev/null | tr -d ' \n')
    [ -z "$s" ] && s=$(dd if=$d/device/vpd_pg80 bs=1 skip=4 2>/dev/null | tr -d ' \n\0')
    u=$(readlink -f $d); while [ -z "$s" ] && [ "$u" != / ]; do [ -f $u/idVendor ] && s=$(cat $u/serial); u=${u%/*}; [ -z "$u" ] && u=/; done
    [ "$s" = "$1" ] && echo /dev/${d##*/} && return
  done
}
node() { i=0; while [ $i -lt 100 ]; do n=$(find_node $1); [ -n "$n" ] && [ -b $n ] && echo $n && return; sleep 0.1; i=$((i+1)); done; }
gone() { i=0; while [ $i -lt 100 ] && [ -n "$(find_node $1)" ]; do sleep 0.1; i=$((i+1)); done; }
code() { ykeel undo $2 --confirm AAA-AAA 2>&1 | grep 'the code of this drive is' | tr ' ' '\n' | tail -1; }
planned() { ykeel mend $1 | grep 'confirmation code' | tr ' ' '\n' | tail -1; }
sum() { (cd $1 && find . -name 'crossing*' | sort | while read -r f; do cat "$f"; done | sha256sum | cut -d' ' -f1); }
flat() { tr -d '\n' < $1; echo; }
"#;

fn json(lines: &[String], word: &str, name: &str) -> serde_json::Value {
    let found = told(lines, word, name);
    let text = found.first().unwrap_or_else(|| panic!("nothing was told of {word} {name}: {}", lines.join("\n")));
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

fn sha256(bytes: &[u8], folder: &Path) -> String {
    let path = folder.join("hashed");
    fs::write(&path, bytes).unwrap();
    let output = Command::new("sha256sum").arg(&path).output().unwrap();
    String::from_utf8_lossy(&output.stdout).split_whitespace().next().unwrap().to_string()
}

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
        ("uas512e", Adapter::Uas, (512, 4096)),
    ];
    let (mut drives, mut contents) = (Vec::new(), Vec::new());
    for (index, (name, adapter, sectors)) in kinds.into_iter().enumerate() {
        let image = folder.path().join(name);
        contents.push(noise(&image, bytes, 77 + index as u64));
        let mut drive = Drive { sectors, ..Drive::new(name, &image, adapter) };
        // One by itself, two neighbours, one at the very start and one at the very end of a request, and the last one.
        drive.bad = vec![5000 + index as u64, 9001, 9002, 12_288, 14_335, bytes as u64 / 512 - 1];
        drives.push(drive);
    }
    for (name, adapter) in [("hubbed", Adapter::Usb), ("protected", Adapter::Scsi)] {
        let image = folder.path().join(name);
        noise(&image, bytes, 3);
        drives.push(Drive { behind_hub: name == "hubbed", read_only: name == "protected", ..Drive::new(name, &image, adapter) });
        contents.push(Vec::new());
    }
    let script = format!(
        r#"{SCRIPT}
for name in hubbed protected; do ykeel ladder $(node $name) --json > /tmp/out; echo "@@LADDER $name $(flat /tmp/out)"; done
for name in {names}; do
  d=$(node $name)
  ykeel copy $d /tmp/$name.img --again 1 --json > /tmp/out; echo "@@EXIT $name $?"
  echo "@@COPY $name $(flat /tmp/out)"
  echo "@@HASH $name $(sha256sum < /tmp/$name.img)"
  rm /tmp/$name.img
done
for name in {asked}; do ykeel ladder $(node $name) --json > /tmp/out; echo "@@LADDER $name $(flat /tmp/out)"; done
ykeel health $(node sata) --self-test short --wait --json > /tmp/out; echo "@@EXIT test $?"; echo "@@HEALTH sata $(flat /tmp/out)"
ykeel health $(node sata) --self-test extended --wait > /dev/null; ykeel health $(node sata) > /tmp/out; echo "@@TOLD sata $(flat /tmp/out)"
ykeel health $(node nvme4kn) --json > /tmp/out; echo "@@HEALTH nvme $(flat /tmp/out)"
"#,
        names = kinds.map(|(name, ..)| name).join(" "),
        asked = ASKED.join(" "),
    );
    let lines = on_the_bench(&drives, &script);
    let tests = &json(&lines, "HEALTH", "sata")["self_tests"];
    assert_eq!(told(&lines, "EXIT", "test"), ["0"], "{}", lines.join("\n"));
    assert_eq!(
        (tests["tests"][0]["is_extended"].as_bool(), tests["tests"][0]["outcome"].as_str()),
        (Some(false), Some("passed"))
    );
    assert!(told(&lines, "TOLD", "sata")[0].contains("extended: passed"), "{:?}", told(&lines, "TOLD", "sata"));
    assert_eq!(
        json(&lines, "HEALTH", "nvme")["reading"]["nvme"]["critical_warning"].as_u64(),
        Some(0),
        "{:?}",
        told(&lines, "HEALTH", "nvme")
    );
    assert!(
        json(&lines, "LADDER", "hubbed").to_string().contains("behind QEMU QEMU USB Hub"),
        "{:?}",
        told(&lines, "LADDER", "hubbed")
    );
    assert!(json(&lines, "LADDER", "protected").to_string().contains("the system takes no writes for it"));
    for (drive, mut content) in drives.iter().zip(contents).filter(|(_, content)| !content.is_empty()) {
        let name = &drive.name;
        let sector = u64::from(drive.sectors.0);
        let mut missing: Vec<(u64, u64)> = Vec::new();
        for bad in &drive.bad {
            let start = bad * 512 / sector * sector;
            content[start as usize..(start + sector) as usize].fill(0);
            match missing.last_mut() {
                Some(last) if start <= last.1 => last.1 = start + sector,
                _ => missing.push((start, start + sector)),
            }
        }
        let copy = json(&lines, "COPY", name);
        let ranges = copy["missing"].as_array().unwrap().iter();
        let ranges: Vec<(u64, u64)> =
            ranges.map(|range| (range["start"].as_u64().unwrap(), range["end"].as_u64().unwrap())).collect();
        assert_eq!(ranges, missing, "{name}");
        assert_eq!(told(&lines, "HASH", name)[0].split(' ').next(), Some(sha256(&content, folder.path()).as_str()), "{name}");
        if !ASKED.contains(&name.as_str()) {
            continue;
        }
        let ladder = json(&lines, "LADDER", name);
        assert_eq!(ladder["drive"]["serial"].as_str(), Some(name.as_str()));
        let text = ladder.to_string();
        let transport = match drive.adapter {
            Adapter::Sata => "attached by SATA at 1.5 Gbit/s, ata",
            Adapter::Nvme => "attached by NVMe",
            Adapter::Usb | Adapter::Uas | Adapter::Reader => "attached by USB",
            Adapter::Scsi => "attached by SCSI",
            Adapter::Virtio => "attached by virtual disk",
        };
        assert!(text.contains(transport), "{name}: {text}");
        // The kernel's own word for the place is on the rung of reads. Of others it says no more than a few in a while.
        if drive.adapter == Adapter::Sata {
            assert!(text.contains("; the kernel: ") || text.contains("the kernel at "), "{name}: {text}");
        }
    }
}

/// A drive with an ext4 and a FAT volume whose table is gone, and what is in their files.
fn lost_table(folder: &Path, name: &str) -> PathBuf {
    let tree = folder.join("tree");
    fs::create_dir_all(tree.join("Voyages")).unwrap();
    for number in 0..20 {
        fs::write(tree.join(format!("Voyages/crossing {number}.txt")), format!("Saltholm to Brackwater {number}\n").repeat(300))
            .unwrap();
    }
    let run = |program: &str, arguments: &[&str]| {
        let output = Command::new(program).args(arguments).output().unwrap();
        assert!(output.status.success(), "{program}: {output:?}");
    };
    let image = folder.join(name);
    let drive = fs::File::create(&image).unwrap();
    drive.set_len(160 << 20).unwrap();
    let text = |path: &Path| path.to_string_lossy().into_owned();
    for (kind, at, bytes) in [("ext4", 1_u64 << 20, 48_u64 << 20), ("vfat", 64 << 20, 80 << 20)] {
        let volume = folder.join("volume");
        fs::File::create(&volume).unwrap().set_len(bytes).unwrap();
        match kind {
            "ext4" => run("mkfs.ext4", &["-q", "-F", "-L", "OFFICE", "-d", &text(&tree), &text(&volume)]),
            _ => {
                run("mkfs.vfat", &["-n", "CARDS", &text(&volume)]);
                run("mcopy", &["-s", "-i", &text(&volume), &text(&tree.join("Voyages")), "::"]);
            }
        }
        let mut buffer = fs::read(&volume).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&drive, &buffer, at).unwrap();
        buffer.clear();
    }
    image
}

#[test]
fn a_table_that_is_put_back_shows_its_volumes_at_once_and_they_attach_and_detach() {
    let folder = tempfile::tempdir().unwrap();
    let image = lost_table(folder.path(), "office");
    let card = folder.path().join("card");
    fs::copy(&image, &card).unwrap();
    let drives = [Drive::new("office", &image, Adapter::Usb), Drive::new("card", &card, Adapter::Reader)];
    let script = format!(
        r#"{SCRIPT}
nodes() {{ echo "@@NODES $1 $(ls $d* 2>/dev/null | tr '\n' ' ')"; }}
d=$(node office)
put_back() {{ ykeel mend $d --apply --confirm $(planned $d) --json > /tmp/out; echo "@@EXIT mend $?"; echo "@@MEND $1 $(flat /tmp/out)"; bundle=$(ls -t /tmp/state/ykeel/*/*.ykundo | head -1); }}
put_back first; nodes first
mount -t ext4 -o ro,noload ${{d}}1 /mnt && echo "@@SUM first $(sum /mnt)"
c=$(code $d $bundle)
ykeel undo $bundle --confirm $c > /tmp/out 2>&1; echo "@@EXIT mounted $?"; echo "@@SAID mounted $(flat /tmp/out)"
umount /mnt
ykeel attach $d --json > /tmp/out; echo "@@EXIT attach $?"; echo "@@ATTACH office $(flat /tmp/out)"
for at in $(grep '"at"' /tmp/out | sed 's/.*: "\(.*\)",/\1/'); do echo "@@SUM $(basename $at) $(sum $at)"; touch $at/x 2>/dev/null && echo "@@WROTE $at"; done
ykeel undo $bundle --confirm $c > /tmp/out 2>&1; echo "@@EXIT attached $?"; echo "@@SAID attached $(flat /tmp/out)"
ykeel detach $d > /tmp/out; echo "@@EXIT detach $?"; echo "@@LEFT detach $(ls -d /tmp/state/ykeel/*/attached 2>/dev/null | wc -l) $(grep -c ykeel /proc/mounts)"
ykeel undo $bundle --confirm $c --json > /tmp/out; echo "@@EXIT undo $?"; echo "@@UNDO whole $(flat /tmp/out)"; nodes undone
# Somebody looks into a volume while the table is undone: the other one goes all the same.
put_back again
sleep 100 < ${{d}}2 & held=$!
ykeel undo $bundle --confirm $c --json > /tmp/out; echo "@@EXIT held $?"; echo "@@UNDO held $(flat /tmp/out)"; nodes held
put_back around; nodes around
kill $held
ykeel attach $d --volume n2 --at /tmp/cards > /tmp/out; echo "@@SUM one $(sum /tmp/cards)"
mount -t ext4 -o ro,noload ${{d}}1 /mnt
ykeel release $d > /tmp/out; echo "@@EXIT release $?"; echo "@@SAID release $(flat /tmp/out)"
sleep 0.5; nodes released; d=$(ls /dev/sd?); echo "@@NODE card $d"
ykeel yard --devices --json > /tmp/out; echo "@@YARD empty $(flat /tmp/out)"
ykeel ladder $d > /tmp/out 2>&1; echo "@@EXIT empty $?"; echo "@@SAID empty $(flat /tmp/out)"
# As udev does: the kernel looks for media every second, and what is put in is opened.
echo 1000 > /sys/block/$(basename $d)/events_poll_msecs
ykeel yard --watch --json > /tmp/watch & watch=$!
echo "@@HOST insert card"; i=0; while [ "$(cat /sys/block/$(basename $d)/size)" = 0 ] && [ $i -lt 100 ]; do sleep 0.2; head -c 0 < $d 2>/dev/null; i=$((i+1)); done
i=0; while ! grep -q '"has_medium": *true' /tmp/watch && [ $i -lt 100 ]; do sleep 0.2; i=$((i+1)); done; kill $watch; echo "@@SIZE card $(cat /sys/block/$(basename $d)/size)"
ykeel sweep $d --json > /tmp/out; echo "@@SWEEP card $(flat /tmp/out)"; grep -c '"has_medium": *true' /tmp/watch | while read -r count; do echo "@@WATCH card $count"; done
echo "@@LEFT release $(grep -c -e ykeel -e cards -e /mnt /proc/mounts)"
"#
    );
    let lines = on_the_bench(&drives, &script);
    let one = |word: &str, name: &str| told(&lines, word, name).first().map(|text| text.trim().to_string()).unwrap_or_default();
    let exits = ["mend", "attach", "detach", "undo", "held", "release"];
    exits.iter().for_each(|name| assert_eq!(one("EXIT", name), "0", "{name}: {}", lines.join("\n")));
    assert_eq!((one("EXIT", "mounted"), one("EXIT", "attached")), ("4".into(), "4".into()));
    assert!(one("SAID", "mounted").contains("mounted at /mnt"));
    // Whichever of the two the system names first.
    let said = one("SAID", "attached");
    assert!(said.contains("/attached/n") && said.contains(", through loop"), "{said}");
    assert_eq!(one("NODES", "first"), "/dev/sda /dev/sda1 /dev/sda2");
    let appeared = &json(&lines, "MEND", "first")["applied"]["appeared"];
    assert_eq!((appeared["way"].as_str(), appeared["nodes"].as_array().map(Vec::len)), (Some("whole"), Some(2)));
    // At once: no unplugging, no minute of waiting; the machine is emulated, and may have to share its processor.
    assert!(appeared["took_ms"].as_u64().unwrap() < 10_000, "{appeared}");
    let content: String = told(&lines, "SUM", "first")[0].into();
    assert_eq!(content.len(), 64);
    for name in ["n1-OFFICE", "n2-CARDS", "one"] {
        assert_eq!(one("SUM", name), content, "{name}: {}", lines.join("\n"));
    }
    assert!(!lines.iter().any(|line| line.starts_with("@@WROTE")), "what is attached takes no writes");
    assert_eq!(one("LEFT", "detach"), "0 0");
    assert_eq!(
        (one("NODES", "undone").as_str(), json(&lines, "UNDO", "whole")["appeared"]["way"].as_str()),
        ("/dev/sda", Some("whole"))
    );
    let held = &json(&lines, "UNDO", "held")["appeared"];
    assert_eq!(held["way"].as_str(), Some("one_by_one"));
    assert!(held["left"].to_string().contains("/dev/sda2 is in use"), "{held}");
    assert_eq!(one("NODES", "held"), "/dev/sda /dev/sda2", "the one that is looked into stays");
    assert_eq!(one("NODES", "around"), "/dev/sda /dev/sda1 /dev/sda2");
    assert_eq!(json(&lines, "MEND", "around")["applied"]["appeared"]["nodes"][0]["start"].as_u64(), Some(1 << 20));
    assert!(one("SAID", "release").ends_with("it can be pulled now"), "{}", one("SAID", "release"));
    // A reader without a card is there, and says so; what is put into it is looked at.
    let yard = json(&lines, "YARD", "empty");
    let reader = &yard["attached"][0];
    assert_eq!((reader["path"].as_str(), reader["bytes"].as_u64()), (Some(one("NODE", "card").as_str()), Some(0)), "{yard}");
    assert_eq!((reader["has_medium"].as_bool(), reader["is_removable"].as_bool()), (Some(false), Some(true)));
    assert_eq!(one("EXIT", "empty"), "3");
    assert!(one("SAID", "empty").contains("no medium in it"), "{}", one("SAID", "empty"));
    assert_eq!(one("SIZE", "card"), "327680", "the card is there by itself");
    assert!(one("WATCH", "card").parse::<u32>().is_ok_and(|count| count > 0), "{}", lines.join("\n"));
    let labels: Vec<String> =
        json(&lines, "SWEEP", "card")["finds"].as_array().unwrap().iter().map(|find| find["label"].to_string()).collect();
    assert_eq!(labels, ["\"OFFICE\"", "\"CARDS\""]);
    assert_eq!((one("NODES", "released").as_str(), one("LEFT", "release").as_str()), ("", "0"));
}

#[test]
fn a_drive_that_is_pulled_and_put_back_is_the_same_one_and_work_goes_on() {
    let folder = tempfile::tempdir().unwrap();
    let image = lost_table(folder.path(), "moved");
    let whole = sha256(&fs::read(&image).unwrap(), folder.path());
    let swept = folder.path().join("swept");
    fs::copy(&image, &swept).unwrap();
    // Long enough to be pulled while it is swept.
    fs::File::options().write(true).open(&swept).unwrap().set_len(1200 << 20).unwrap();
    let other = folder.path().join("other");
    noise(&other, 8 << 20, 5);
    // Another one is put into the first one's port meanwhile, and takes its name.
    let away = |drive: Drive| Drive { away: true, ..drive };
    let drives = [
        Drive { rate: Some(16 << 20), ..Drive::new("moved", &image, Adapter::Usb) },
        away(Drive::new("other", &other, Adapter::Usb)),
        away(Drive::new("swept", &swept, Adapter::Usb)),
    ];
    // As many points of an apply as are asked for, over the time that it takes.
    let count = pulls();
    let delays =
        (1..=count).map(|point| format!("{:.2}", 1.6 * f64::from(point) / f64::from(count))).collect::<Vec<_>>().join(" ");
    let script = format!(
        r#"{SCRIPT}
d=$(node moved); echo "@@NODE first $d"
ykeel yard --watch --json > /tmp/watch & watch=$!
timeout=/sys/block/$(basename $d)/device/timeout; echo "@@SET before $(cat $timeout)"
ykeel copy $d /tmp/copy.img --system-timeout 7 --json > /tmp/out & work=$!
sleep 3; echo "@@SET during $(cat $timeout)"; echo "@@HOST pull moved"; gone moved
echo "@@HOST plug other"; node other > /dev/null; sleep 1
ykeel copy $(node other) /tmp/other.img > /dev/null; echo "@@HASH other $(sha256sum < /tmp/other.img)"; rm /tmp/other.img
echo "@@HOST plug moved 3"; d=$(node moved); echo "@@NODE second $d"
wait $work; echo "@@EXIT copy $?"; echo "@@SET after $(cat /sys/block/$(basename $d)/device/timeout)"; echo "@@COPY moved $(flat /tmp/out)"; echo "@@HASH copy $(sha256sum < /tmp/copy.img)"; rm /tmp/copy.img
ykeel ladder $d --json > /tmp/out; echo "@@LADDER moved $(flat /tmp/out)"
echo "@@HOST pull moved"; gone moved
echo "@@HOST plug swept"; d=$(node swept)
ykeel sweep $d --reach surface --json > /tmp/out & work=$!
sleep 2; echo "@@HOST pull swept"; gone swept; sleep 1; echo "@@HOST plug swept 4"; node swept > /dev/null
wait $work; echo "@@EXIT sweep $?"; echo "@@SWEEP swept $(flat /tmp/out)"
# Pulled at any moment of an apply: as before, or as applied, and its bundle leads back.
d=$(node swept); before=$(dd if=$d bs=1M count=1 2>/dev/null | sha256sum); c=$(planned $d)
for delay in {delays}; do
  rm -f /tmp/state/ykeel/*/*.ykundo
  ykeel mend $(node swept) --apply --confirm $c > /tmp/out 2>&1 & work=$!
  sleep $delay; echo "@@HOST pull swept"; gone swept; echo "@@HOST plug swept"; d=$(node swept)
  wait $work; code=$?
  bundle=$(ls /tmp/state/ykeel/*/*.ykundo 2>/dev/null | head -1); undone=none
  if [ -n "$bundle" ]; then ykeel undo $bundle --confirm $c > /tmp/out 2>&1; undone=$?; [ $undone = 0 ] || cat /tmp/out; fi
  after=$(dd if=$d bs=1M count=1 2>/dev/null | sha256sum)
  [ "$before" = "$after" ] && same=yes || same=no
  echo "@@APPLY point $delay code=$code undo=$undone same=$same"
done
# Without root: a member of the group reads, and what wants more says so.
printf 'root:x:0:0:root:/:/bin/sh\ntech:x:1000:6:tech:/tmp:/bin/sh\nguest:x:1001:1001:guest:/tmp:/bin/sh\n' > /etc/passwd; printf 'disk:x:6:tech\nguest:x:1001:\n' > /etc/group
d=$(node swept); chown 0:6 $d; chmod 660 $d; chmod 777 /tmp; mkdir /tmp/s; chmod 777 /tmp/s
as() {{ u=$1; shift; su $u -c "PATH=/bin HOME=/tmp XDG_STATE_HOME=/tmp/s/$u $*" 2>&1 | tr '\n' ' '; echo; }}
echo "@@USER guest $(as guest ykeel sweep $d)"
echo "@@USER tech $(as tech ykeel sweep $d)"
echo "@@USER health $(as tech ykeel health $d)"
echo "@@USER attach $(as tech ykeel attach $d)"
echo "@@USER ladder $(as tech ykeel ladder $d)"
kill $watch; grep -o '/dev/[^"]* \(is gone\|was plugged in\)' /tmp/watch | while read -r line; do echo "@@WATCH seen $line"; done
"#
    );
    let lines = on_the_bench(&drives, &script);
    let one = |word: &str, name: &str| told(&lines, word, name).first().map(|text| text.trim().to_string()).unwrap_or_default();
    assert_eq!(one("NODE", "first"), "/dev/sda", "{}", lines.join("\n"));
    assert_ne!(one("NODE", "second"), "/dev/sda", "its name is another drive's: {}", lines.join("\n"));
    assert_eq!(one("EXIT", "copy"), "0", "{}", lines.join("\n"));
    let usual = one("SET", "before");
    assert_eq!((one("SET", "during"), one("SET", "after")), ("7".into(), usual), "{}", lines.join("\n"));
    let copy = json(&lines, "COPY", "moved");
    assert_eq!((copy["link_drops"].as_u64(), copy["missing"].as_array().map(Vec::len)), (Some(1), Some(0)), "{copy}");
    assert!(one("HASH", "copy").starts_with(&whole), "not a byte of the other one is in it");
    let ladder = json(&lines, "LADDER", "moved").to_string();
    assert!(!ladder.contains("went off the link"), "what was before it was plugged in last is not told of it: {ladder}");
    assert_eq!(one("EXIT", "sweep"), "0", "{}", lines.join("\n"));
    let swept = json(&lines, "SWEEP", "swept");
    let starts: Vec<Option<u64>> = swept["finds"].as_array().unwrap().iter().map(|find| find["start_byte"].as_u64()).collect();
    assert_eq!(starts, [Some(1 << 20), Some(64 << 20)], "{swept}");
    assert_eq!(swept["bad"].as_array().map_or(0, Vec::len), 0, "being away is no bad place: {swept}");
    let points = told(&lines, "APPLY", "point");
    assert_eq!(points.len(), count as usize);
    for point in points {
        assert!(point.contains("same=yes") && !point.contains("undo=4") && !point.contains("undo=1"), "{}", lines.join("\n"));
    }
    assert!(one("USER", "guest").contains("group `disk`"), "{}", one("USER", "guest"));
    assert!(one("USER", "tech").contains("OFFICE") && one("USER", "tech").contains("CARDS"), "{}", one("USER", "tech"));
    assert!(one("USER", "health").contains("only root may ask"), "{}", one("USER", "health"));
    assert!(one("USER", "attach").contains("wants root"), "{}", one("USER", "attach"));
    assert!(one("USER", "ladder").contains("log is not for this user"), "{}", one("USER", "ladder"));
    let seen = told(&lines, "WATCH", "seen").join("\n");
    assert!(seen.contains("(QEMU QEMU HARDDISK moved) is gone") || seen.contains("moved) is gone"), "{seen}");
    assert!(seen.matches("moved) was plugged in").count() >= 2 && seen.contains("other) was plugged in"), "{seen}");
}
