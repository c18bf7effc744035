//! The boot sector, superblock or header of every kind, bit by bit: damage is refused or read, and never more than that.

use std::ops::ControlFlow;
use std::sync::Arc;

use crate::support::{Bench, noise, surface};
use keel_format::clue::Clues;
use keel_format::{Deleted, Geometry, registry};
use keel_source::{ByteOffset, MemorySource, Overlay, SharedSource};

/// A fresh volume of each kind, by name.
fn volumes() -> Vec<(&'static str, SharedSource)> {
    let made = |bytes: u64, program: &str, arguments: &[&str]| {
        let bench = Bench::new(bytes);
        bench.format(program, arguments);
        crate::support::in_memory(&bench)
    };
    let hfs = crate::support::new_hfs_plus(4 << 20, 4096, "X", false);
    vec![
        ("NTFS", made(8 << 20, "mkfs.ntfs", &["-Q", "-F", "-q"])),
        ("FAT12", made(4 << 20, "mkfs.vfat", &["-F", "12"])),
        ("FAT16", made(16 << 20, "mkfs.vfat", &["-F", "16"])),
        ("FAT32", made(40 << 20, "mkfs.vfat", &["-F", "32", "-s", "1"])),
        ("exFAT", made(8 << 20, "mkfs.exfat", &[])),
        ("ext2", made(4 << 20, "mkfs.ext4", &["-q", "-F", "-t", "ext2"])),
        ("ext4", made(8 << 20, "mkfs.ext4", &["-q", "-F"])),
        ("HFS+", crate::support::in_memory(&hfs)),
    ]
}

/// Opens what a boot structure states and lists its root: no panic, whatever it is.
fn look_into(geometry: &Geometry, source: &SharedSource) -> bool {
    let Ok(volume) = geometry.open(Arc::clone(source)) else { return false };
    let mut names = 0;
    let listed = volume.list(volume.root(), Deleted::Show, &mut |_| {
        names += 1;
        if names < 1000 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    listed.is_ok()
}

#[test]
fn every_flipped_bit_of_a_boot_structure_is_refused_or_read() {
    for (name, volume) in volumes() {
        let whole = registry::boot_sector(volume.as_ref(), ByteOffset(0)).expect(name);
        assert!(look_into(&whole, &volume), "{name} as it was made");
        let at = whole.boot_at();
        let mut sector = vec![0; 512];
        volume.read_at(at, &mut sector).unwrap();
        let (mut refused, mut accepted, mut same) = (0, 0, 0);
        for bit in 0..512 * 8 {
            let mut overlay = Overlay::new(Arc::clone(&volume));
            overlay.lay(at + bit / 8, &[sector[bit as usize / 8] ^ (1 << (bit % 8))]);
            let source: SharedSource = Arc::new(overlay);
            match registry::boot_sector(source.as_ref(), ByteOffset(0)) {
                None => refused += 1,
                Some(found) if found == whole => same += 1,
                Some(found) => {
                    accepted += 1;
                    let _ = look_into(&found, &source);
                }
            }
        }
        assert!(refused > 20, "{name}: {refused} refused, {accepted} accepted, {same} without meaning");
        // Checksummed kinds refuse what the others read as another volume; all but the bit that says that they are.
        let summed = name == "ext4";
        assert_eq!(accepted + same <= 1, summed, "{name}: {refused} refused, {accepted} accepted, {same} without meaning");
    }
}

#[test]
fn extreme_values_in_every_word_of_a_boot_structure_never_panic_or_fill_memory() {
    for (name, volume) in volumes() {
        let whole = registry::boot_sector(volume.as_ref(), ByteOffset(0)).expect(name);
        for offset in (0..512).step_by(2) {
            for value in [[0, 0], [0xFF, 0xFF], [0, 0x80], [1, 0], [0xFF, 0x7F]] {
                let mut overlay = Overlay::new(Arc::clone(&volume));
                overlay.lay(whole.boot_at() + offset, &value);
                let source: SharedSource = Arc::new(overlay);
                if let Some(found) = registry::boot_sector(source.as_ref(), ByteOffset(0)) {
                    let _ = look_into(&found, &source);
                    let _ = (found.copies(), found.bytes(), found.least_sector(), crate::support::main_repairs(&found, &source));
                }
            }
        }
    }
}

#[test]
fn volumes_that_are_cut_anywhere_are_read_as_far_as_they_go() {
    for (name, volume) in volumes() {
        let mut bytes = vec![0; volume.len() as usize];
        volume.read_at(ByteOffset(0), &mut bytes).unwrap();
        let whole = registry::boot_sector(volume.as_ref(), ByteOffset(0)).expect(name);
        for len in [512, 1024, 1536, 4096, 10_000, 65_536, 1 << 20, (1 << 20) + 512, 3 << 20] {
            let cut: SharedSource = Arc::new(MemorySource::new("cut", bytes[..len].to_vec(), 512));
            let _ = look_into(&whole, &cut);
            if let Some(found) = registry::boot_sector(cut.as_ref(), ByteOffset(0)) {
                let _ = found.open(Arc::clone(&cut)).map(|volume| volume.examine());
            }
            for format in registry::FORMATS {
                let _ = (format.infer)(&cut, &surface(&cut));
            }
        }
    }
}

#[test]
fn noise_zeros_and_ones_hold_no_volume() {
    for (name, bytes) in [("noise", noise(77, 32 << 20)), ("zeros", vec![0; 8 << 20]), ("ones", vec![0xFF; 8 << 20])] {
        let drive: SharedSource = Arc::new(MemorySource::new(name, bytes, 512));
        let clues = surface(&drive);
        let found: usize = registry::FORMATS.iter().map(|format| (format.infer)(&drive, &clues).len()).sum();
        assert_eq!(found, 0, "{name}");
    }
}

#[test]
fn clues_of_workers_put_together_are_those_of_one() {
    for (name, volume) in volumes() {
        let mut bytes = vec![0; volume.len() as usize];
        volume.read_at(ByteOffset(0), &mut bytes).unwrap();
        let whole = surface(&volume);
        let mut together = Clues::default();
        // The pieces come in any order, and each sees a little behind its own part.
        let pieces: Vec<usize> = (0..bytes.len()).step_by(192 << 10).collect();
        for at in pieces.into_iter().rev() {
            let end = (at + (192 << 10)).min(bytes.len());
            let behind = (end + 4096).min(bytes.len());
            let mut own = Clues::default();
            own.look(ByteOffset(at as u64), &bytes[at..behind], end - at);
            together.append(own);
        }
        together.tidy();
        assert_eq!(together, whole, "{name}");
        assert!(whole.count() > 0 && whole.leads() > 0, "{name}");
    }
}

#[test]
fn whatever_field_is_damaged_the_structure_is_put_back_as_it_was_or_still_states_the_volume() {
    for (name, volume) in volumes() {
        let whole = registry::boot_sector(volume.as_ref(), ByteOffset(0)).expect(name);
        let structures = whole.structures(&volume, ByteOffset(0), keel_format::Compute::All);
        assert!(structures.iter().all(|structure| structure.main.holds()), "{name}");
        let (mut restored, mut tolerated) = (0, 0);
        for structure in &structures {
            for field in &structure.fields {
                let Some(bytes) = field.of(&structure.main.bytes) else { continue };
                let inverted: Vec<u8> = bytes.iter().map(|byte| !byte).collect();
                let mut overlay = Overlay::new(Arc::clone(&volume));
                overlay.lay(structure.main.at + field.offset as u64, &inverted);
                let damaged: SharedSource = Arc::new(overlay);
                let now = whole.structures(&damaged, ByteOffset(0), keel_format::Compute::WhereNeeded);
                let Some(now) = now.iter().find(|now| now.name == structure.name) else { continue };
                if now.main.holds() {
                    tolerated += 1;
                    continue;
                }
                if now.copies.is_empty() && now.computed.is_none() {
                    // Descriptors of a volume of one group stand once and follow from nothing else.
                    assert!(now.repairs().is_empty(), "{name}: {}", structure.name);
                    continue;
                }
                let repairs = now.repairs();
                let repair = repairs.iter().find(|repair| repair.is_main);
                let repair = repair.unwrap_or_else(|| panic!("{name}: {} of {} is not put back", field.name, structure.name));
                let mut overlay = Overlay::new(damaged);
                overlay.lay(repair.at, &repair.bytes);
                let mended: SharedSource = Arc::new(overlay);
                let again = whole.structures(&mended, ByteOffset(0), keel_format::Compute::WhereNeeded);
                let again = again.iter().find(|again| again.name == structure.name).expect(name);
                assert!(again.main.holds(), "{name}: {} of {}: {:?}", field.name, structure.name, again.main.why_not);
                restored += 1;
            }
        }
        assert!(restored >= 4, "{name}: {restored} put back, {tolerated} without meaning");
    }
}
