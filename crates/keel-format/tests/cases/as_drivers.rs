//! Sound volumes of every kind, filled through a driver with all that the kind may hold: names, lengths, times, modes, links, attributes
//! and content are those that the driver shows.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::ops::ControlFlow;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Command;

use crate::support::shown::{
    Seen, agree, as_read, as_the_driver, attributes, everything, few_attributes, folders, large_attributes, links, pieces, times,
    without_modes,
};
use crate::support::{Bench, noise, prose, run};
use keel_format::{Deleted, Geometry, ext};

const MIB: u64 = 1 << 20;

/// Fills a volume through `driver` and holds what is read against what the driver shows once it was mounted again.
fn agrees(bench: &Bench, driver: &[&str], said: &str, keeps_modes: bool, fill: impl FnOnce(&Path)) {
    bench.fill(driver, fill);
    let mut wanted = BTreeMap::new();
    bench.fill(driver, |folder| wanted = as_the_driver(folder));
    wanted.retain(|path, _| path != "lost+found");
    let (_, volume) = bench.open(512);
    let mut seen = as_read(volume.as_ref());
    seen.retain(|path, _| path != "lost+found");
    if !keeps_modes {
        (wanted, seen) = (without_modes(wanted), without_modes(seen));
    }
    assert!(wanted.len() > 100, "{said}");
    agree(&wanted, &seen, said);
    assert_eq!(volume.examine(), [], "{said}");
}

#[test]
fn ext_with_every_set_of_features_is_as_the_driver_shows_it() {
    let sets: [(&[&str], u64); 8] = [
        (&["-t", "ext2"], 300),
        (&["-t", "ext3", "-b", "1024", "-I", "256"], 200),
        (&["-t", "ext4"], 400),
        (&["-t", "ext4", "-O", "inline_data", "-I", "512"], 300),
        (&["-t", "ext4", "-O", "ea_inode,large_dir", "-b", "1024"], 300),
        (&["-t", "ext4", "-O", "bigalloc,encrypt,verity,stable_inodes", "-C", "32768"], 600),
        (&["-t", "ext4", "-O", "^extents,^flex_bg,^64bit"], 300),
        (&["-t", "ext4", "-O", "^dir_index,^filetype,metadata_csum"], 300),
    ];
    for (options, mib) in sets {
        let bench = Bench::new(mib * MIB);
        bench.format("mkfs.ext4", &[options, &["-q", "-F", "-N", "12000"]].concat());
        agrees(&bench, &["mount", "-t", "ext4"], &format!("{options:?}"), true, |folder| {
            everything(folder);
            if options.concat().contains("ea_inode") {
                attributes(folder, &large_attributes()[..1]);
            }
        });
    }
}

/// Not every kernel has the tables for it: the system's formatter fills the volume itself.
#[test]
fn an_ext_whose_names_are_compared_without_case_reads_as_its_formatter_filled_it() {
    let bench = Bench::new(96 * MIB);
    let tree = bench.folder.path().join("tree");
    crate::support::write_tree(&tree, &crate::support::many_files());
    // It keeps whole seconds.
    run(Command::new("find").arg(&tree).args(["-exec", "touch", "-d", "2027-05-06 07:08:10", "{}", "+"]));
    let options = ["-q", "-F", "-O", "casefold,^metadata_csum", "-E", "encoding=utf8", "-d"];
    bench.format("mkfs.ext4", &[&options[..], &[tree.to_str().unwrap()]].concat());
    // `i_flags` of the folder: its names are compared without case.
    let (Geometry::Ext(geometry), volume) = bench.open(512) else { panic!("another kind") };
    let mut folder = None;
    volume
        .list(volume.root(), Deleted::Hide, &mut |entry| {
            folder = folder.or((entry.name == "Crossings").then_some(entry.id));
            ControlFlow::Continue(())
        })
        .unwrap();
    let number = u32::try_from(folder.unwrap().0).unwrap();
    let at = ext::ExtVolume::open(bench.source(512), geometry).unwrap().inode(number).unwrap().at.0 + 32;
    let image = File::options().read(true).write(true).open(&bench.image).unwrap();
    let mut flags = [0; 4];
    image.read_exact_at(&mut flags, at).unwrap();
    image.write_all_at(&(u32::from_le_bytes(flags) | 0x4000_0000).to_le_bytes(), at).unwrap();
    let (_, volume) = bench.open(512);
    let mut seen = as_read(volume.as_ref());
    seen.retain(|path, _| path != "lost+found");
    agree(&as_the_driver(&tree), &seen, "casefold");
}

#[test]
fn ntfs_is_as_the_driver_shows_it() {
    for options in [&["-c", "4096"][..], &["-c", "512"], &["-c", "65536"], &["-c", "2048", "-s", "1024"]] {
        let bench = Bench::new(400 * MIB);
        bench.format("mkfs.ntfs", &[options, &["-Q", "-F", "-q"]].concat());
        let driver = ["ntfs-3g", "-o", "streams_interface=xattr,compression"];
        agrees(&bench, &driver, &format!("{options:?}"), false, |folder| {
            let packed = folder.join("packed");
            fs::create_dir(&packed).unwrap();
            run(Command::new("setfattr").args(["-h", "-n", "system.ntfs_attrib_be", "-v", "0x00000810"]).arg(&packed));
            for (name, bytes) in [("a.txt", prose(2, 700_003)), ("b.bin", noise(8, 200_000)), ("c.bin", vec![0; 300_000])] {
                fs::write(packed.join(name), bytes).unwrap();
            }
            folders(folder);
            pieces(folder);
            links(folder);
            // The driver rounds parts of seconds before 1970 up.
            times(folder, "1955-02-03 04:05:06");
            attributes(folder, &few_attributes());
        });
    }
}

#[test]
fn exfat_is_as_the_driver_shows_it() {
    for options in [&["-c", "4K"][..], &["-c", "512"], &["-c", "256K"]] {
        let bench = Bench::new(600 * MIB);
        bench.format("mkfs.exfat", options);
        agrees(&bench, &["mount.exfat-fuse", "-o", "rw"], &format!("{options:?}"), false, |folder| {
            folders(folder);
            fs::write(folder.join("noise.bin"), noise(3, 3_000_001)).unwrap();
            // Some files are deleted, so that others lie in pieces.
            (0..200).for_each(|number| fs::write(folder.join(format!("gone {number}.bin")), noise(number, 9000)).unwrap());
            (0..200).step_by(2).for_each(|number| fs::remove_file(folder.join(format!("gone {number}.bin"))).unwrap());
            fs::write(folder.join("in pieces.bin"), noise(77, 700_000)).unwrap();
            let grown = File::create(folder.join("grown.bin")).unwrap();
            grown.set_len(400_000).unwrap();
            run(Command::new("touch").args(["-d", "2031-02-03 04:05:06.12"]).arg(folder.join("noise.bin")));
        });
    }
}

/// Without a driver of the kernel the system's tools for these volumes take everything out.
#[test]
fn fat_is_as_the_systems_tools_take_it_out() {
    for (width, options, mib) in
        [("32", &["-s", "1"][..], 120), ("32", &["-s", "16"], 1100), ("16", &["-s", "4"], 100), ("12", &["-s", "16"], 20)]
    {
        let bench = Bench::new(mib * MIB);
        bench.format("mkfs.vfat", &[options, &["-F", width]].concat());
        let tree = bench.folder.path().join("tree");
        let out = bench.folder.path().join("out");
        fs::create_dir_all(&out).unwrap();
        crate::support::write_tree(&tree, &crate::support::many_files());
        fs::create_dir(tree.join("Tallies")).unwrap();
        for number in 0..300 {
            fs::write(tree.join(format!("Tallies/a tally with number {number} of the quay.txt")), prose(number, 5)).unwrap();
        }
        run(Command::new("find").arg(&tree).args(["-exec", "touch", "-d", "2027-05-06 07:08:10", "{}", "+"]));
        let tool = |program: &str| {
            let mut command = Command::new(program);
            command.env("MTOOLS_SKIP_CHECK", "1").env("LC_ALL", "C.UTF-8").env("TZ", "UTC").arg("-i").arg(&bench.image);
            command
        };
        let tops = fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path());
        run(tool("mcopy").args(["-s", "-m"]).args(tops).arg("::"));
        run(tool("mcopy").args(["-s", "-m", "-n", "::"]).arg(&out));
        let (_, volume) = bench.open(512);
        let (wanted, seen) = (without_modes(as_the_driver(&out)), without_modes(as_read(volume.as_ref())));
        assert!(wanted.len() > 300 && matches!(wanted.get("SHORT.TXT"), Some(Seen::File { .. })));
        agree(&wanted, &seen, &format!("FAT{width} {options:?}"));
        assert_eq!(volume.examine(), [], "FAT{width} {options:?}");
    }
}
