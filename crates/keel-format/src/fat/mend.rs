//! The FAT structures that stand twice or can be computed: boot sector and FSInfo.

use keel_source::{ByteOffset, SharedSource};

use super::{FatGeometry, FatVolume, make};
use crate::structure::{Compute, Computed, Field, Form, Structure};
use crate::{FormatError, Problem, View, Volume, VolumeKind};

const ALL: &str = "every place in the volume is taken wrong";

/// Fields of the boot sector that all kinds share.
pub(super) const COMMON: [Field; 14] = [
    Field::new("BS_jmpBoot", 0, 3, Form::Bytes, "the sector is not taken for a boot sector"),
    Field::new("BS_OEMName", 3, 8, Form::Text, ""),
    Field::new("BPB_BytsPerSec", 11, 2, Form::Little, ALL),
    Field::new("BPB_SecPerClus", 13, 1, Form::Little, ALL),
    Field::new("BPB_RsvdSecCnt", 14, 2, Form::Little, "the FAT is looked for elsewhere"),
    Field::new("BPB_NumFATs", 16, 1, Form::Little, "root and data are looked for elsewhere"),
    Field::new("BPB_RootEntCnt", 17, 2, Form::Little, "the data is looked for elsewhere"),
    Field::new("BPB_TotSec16", 19, 2, Form::Little, "the end of the volume"),
    Field::new("BPB_Media", 21, 1, Form::Little, "the volume is not taken for FAT"),
    Field::new("BPB_FATSz16", 22, 2, Form::Little, "root and data are looked for elsewhere"),
    Field::new("BPB_SecPerTrk", 24, 2, Form::Little, ""),
    Field::new("BPB_NumHeads", 26, 2, Form::Little, ""),
    Field::new("BPB_HiddSec", 28, 4, Form::Little, "starting the operating system from it"),
    Field::new("BPB_TotSec32", 32, 4, Form::Little, "the end of the volume"),
];
/// Fields behind them on FAT12 and FAT16.
pub(super) const NARROW: [Field; 3] = [
    Field::new("BS_VolID", 39, 4, Form::Bytes, ""),
    Field::new("BS_VolLab", 43, 11, Form::Text, ""),
    Field::new("BS_FilSysType", 54, 8, Form::Text, ""),
];
/// Fields behind them on FAT32.
pub(super) const WIDE: [Field; 9] = [
    Field::new("BPB_FATSz32", 36, 4, Form::Little, "the data is looked for elsewhere"),
    Field::new("BPB_ExtFlags", 40, 2, Form::Little, "the wrong copy of the FAT is used"),
    Field::new("BPB_FSVer", 42, 2, Form::Little, "the volume is refused"),
    Field::new("BPB_RootClus", 44, 4, Form::Little, "no file is found"),
    Field::new("BPB_FSInfo", 48, 2, Form::Little, "the free space is counted anew at each mount"),
    Field::new("BPB_BkBootSec", 50, 2, Form::Little, "the backup is looked for elsewhere"),
    Field::new("BS_VolID", 67, 4, Form::Bytes, ""),
    Field::new("BS_VolLab", 71, 11, Form::Text, ""),
    Field::new("BS_FilSysType", 82, 8, Form::Text, ""),
];
pub(super) const SIGNATURE: Field =
    Field::new("Signature_word", 510, 2, Form::Bytes, "the sector is not taken for a boot sector");
/// Fields of the FSInfo sector.
pub(super) const FS_INFO: [Field; 5] = [
    Field::new("FSI_LeadSig", 0, 4, Form::Text, "the counts are not believed"),
    Field::new("FSI_StrucSig", 484, 4, Form::Text, "the counts are not believed"),
    Field::new("FSI_Free_Count", 488, 4, Form::Little, "the free space is shown wrong"),
    Field::new("FSI_Nxt_Free", 492, 4, Form::Little, ""),
    Field::new("FSI_TrailSig", 508, 4, Form::Bytes, "the counts are not believed"),
];
/// `FSI_Nxt_Free` and `FSI_Free_Count` that say nothing.
const UNKNOWN: u32 = u32::MAX;

/// The structures of the volume in `window`, whose first sector is `hidden` sectors into the drive.
#[must_use]
pub fn structures(window: &SharedSource, geometry: &FatGeometry, hidden: u32, compute: Compute) -> Vec<Structure> {
    let volume = FatVolume::open(SharedSource::clone(window), *geometry).ok();
    let mut structures = vec![boot(window, geometry, hidden, (volume.as_ref(), compute))];
    if geometry.kind == VolumeKind::Fat32 && geometry.fs_info > 0 && u32::from(geometry.fs_info) < geometry.reserved_sectors {
        structures.push(fs_info(window, geometry, (volume.as_ref(), compute)));
    }
    structures
}

fn boot(
    window: &SharedSource,
    geometry: &FatGeometry,
    hidden: u32,
    (volume, compute): (Option<&FatVolume>, Compute),
) -> Structure {
    let wide = geometry.kind == VolumeKind::Fat32;
    let judge = |at: ByteOffset, bytes: &[u8]| {
        let view = View::new("boot sector", at, bytes);
        let found = FatGeometry::parse(view)?;
        if view.slice(510, 2, "Signature_word")? != [0x55, 0xAA] {
            return Err(view.wrong(510, "Signature_word", u64::from(view.u16(510, "Signature_word")?), "55 AA"));
        }
        match found.is_same_volume(geometry) {
            true => Ok(()),
            false => Err(view.error(0, Problem::Coding("its numbers are those of another volume"))),
        }
    };
    let sector = u64::from(geometry.bytes_per_sector);
    let copies: Vec<ByteOffset> = Some(geometry.backup)
        .filter(|backup| wide && *backup > 0)
        .map(|at| ByteOffset(u64::from(at) * sector))
        .into_iter()
        .collect();
    let read =
        Structure::read(window, format!("{} boot sector", geometry.kind.word()), 512, (ByteOffset(0), &copies), &judge, &|b| b);
    let tail: &[Field] = if wide { &WIDE } else { &NARROW };
    let read = read.with_computed(compute, || volume.map(|volume| computed(geometry, hidden, volume)));
    Structure { fields: [&COMMON[..], tail, &[SIGNATURE]].concat(), renews_copies: true, ..read }
}

/// The boot sector from FATs, root directory and data area.
fn computed(geometry: &FatGeometry, hidden: u32, volume: &FatVolume) -> Computed {
    let mut label = *b"NO NAME    ";
    if let Some(text) = volume.summary().label.as_deref().filter(|text| text.is_ascii()) {
        let signs = text.bytes().chain(std::iter::repeat(b' '));
        label.iter_mut().zip(signs).for_each(|(slot, sign)| *slot = sign);
    }
    let fats = geometry.fats;
    let (first, cluster) = (geometry.fat_at(0), geometry.cluster_bytes());
    let witnesses = vec![
        ("BPB_BytsPerSec", format!("FATs and directory clusters stand on multiples of {} bytes", geometry.bytes_per_sector)),
        ("BPB_SecPerClus", format!("with {cluster} bytes a cluster, dot entries of folders name the clusters they stand in")),
        ("BPB_RsvdSecCnt", format!("the first FAT stands {} bytes into the volume", first.0)),
        ("BPB_NumFATs", format!("{fats} FATs of the same length stand one behind the other")),
        ("BPB_RootEntCnt", "the root directory ends where cluster 2 begins".to_string()),
        ("BPB_Media", "the first byte of the FAT".to_string()),
        ("BPB_FATSz16", "from one FAT to the next".to_string()),
        ("BPB_FATSz32", "from one FAT to the next".to_string()),
        ("BPB_TotSec16", format!("the FAT counts {} clusters", geometry.cluster_count())),
        ("BPB_TotSec32", format!("the FAT counts {} clusters", geometry.cluster_count())),
        ("BPB_RootClus", "the directory cluster without dot entries that the folders lead up to".to_string()),
        ("BPB_HiddSec", "where the volume starts on the drive".to_string()),
        ("BS_VolLab", "the volume label in the root directory".to_string()),
    ];
    Computed { bytes: make::boot_sector(geometry, hidden, &label), witnesses }
}

fn fs_info(window: &SharedSource, geometry: &FatGeometry, (volume, compute): (Option<&FatVolume>, Compute)) -> Structure {
    let judge = |at: ByteOffset, bytes: &[u8]| -> Result<(), FormatError> {
        let view = View::new("FSInfo", at, bytes);
        let marks =
            [(0, "FSI_LeadSig", &b"RRaA"[..]), (484, "FSI_StrucSig", b"rrAa"), (508, "FSI_TrailSig", &[0, 0, 0x55, 0xAA])];
        for (offset, field, mark) in marks {
            if view.slice(offset, 4, field)? != mark {
                return Err(view.wrong(offset, field, u64::from(view.u32(offset, field)?), "the mark of the specification"));
            }
        }
        Ok(())
    };
    let place = |sector: u16| ByteOffset(u64::from(sector) * u64::from(geometry.bytes_per_sector));
    let copy = geometry
        .backup
        .checked_add(geometry.fs_info)
        .filter(|sector| geometry.backup > 0 && u32::from(*sector) < geometry.reserved_sectors);
    let copies: Vec<ByteOffset> = copy.map(place).into_iter().collect();
    let read = Structure::read(window, "FSInfo sector", 512, (place(geometry.fs_info), &copies), &judge, &|bytes| bytes);
    let computed = |volume: &FatVolume| {
        let free = volume.free_clusters();
        let mut bytes = vec![0; 512];
        let numbers = [(488, free.unwrap_or(UNKNOWN).to_le_bytes()), (492, UNKNOWN.to_le_bytes())];
        let marks = [(0, *b"RRaA"), (484, *b"rrAa"), (508, [0, 0, 0x55, 0xAA])];
        for (at, value) in marks.into_iter().chain(numbers) {
            bytes.get_mut(at..at + 4).into_iter().for_each(|slot| slot.copy_from_slice(&value));
        }
        let says = match free {
            Some(free) => format!("{free} entries of the FAT are free"),
            None => "the FAT is too large to be counted here; the system counts it at the next mount".to_string(),
        };
        Computed { bytes, witnesses: vec![("FSI_Free_Count", says)] }
    };
    let read = read.with_computed(compute, || volume.map(computed));
    Structure { fields: FS_INFO.to_vec(), renews_copies: true, ..read }
}
