//! The NTFS structures that stand twice: boot sector and first MFT records.

mod first;

use keel_source::{ByteOffset, SharedSource};

use first::First;

use super::layout::{DATA, VOLUME_INFORMATION};
use super::record::Record;
use super::{NtfsGeometry, NtfsVolume, make};
use crate::structure::{Compute, Computed, Field, Form, Structure};
use crate::{FormatError, Problem, View, Volume, read_bytes};

/// Fields of the boot sector.
pub(super) const BOOT: &[Field] = &[
    Field::new("OemId", 3, 8, Form::Text, "nothing recognises the volume as NTFS"),
    Field::new("BytesPerSector", 11, 2, Form::Little, "every place in the volume is taken wrong"),
    Field::new("SectorsPerCluster", 13, 1, Form::Little, "every place in the volume is taken wrong"),
    Field::new("Media", 21, 1, Form::Little, ""),
    Field::new("SectorsPerTrack", 24, 2, Form::Little, ""),
    Field::new("NumberOfHeads", 26, 2, Form::Little, ""),
    Field::new("HiddenSectors", 28, 4, Form::Little, "starting the operating system from it"),
    Field::new("TotalSectors", 40, 8, Form::Little, "the end of the volume, and where the backup is looked for"),
    Field::new("MftStartLcn", 48, 8, Form::Little, "no file is found"),
    Field::new("Mft2StartLcn", 56, 8, Form::Little, "the mirror is looked for elsewhere"),
    Field::new("ClustersPerFileRecordSegment", 64, 1, Form::Little, "no file record reads"),
    Field::new("ClustersPerIndexBuffer", 68, 1, Form::Little, "no large folder reads"),
    Field::new("VolumeSerialNumber", 72, 8, Form::Bytes, ""),
    Field::new("Signature", 510, 2, Form::Bytes, "the sector is not taken for a boot sector"),
];

/// Fields of a file record's header.
pub(super) const RECORD: &[Field] = &[
    Field::new("Magic", 0, 4, Form::Text, "the record is not read"),
    Field::new("UpdateSequenceOffset", 4, 2, Form::Little, "the record is taken for a torn write"),
    Field::new("UpdateSequenceSize", 6, 2, Form::Little, "the record is taken for a torn write"),
    Field::new("LogFileSequenceNumber", 8, 8, Form::Little, ""),
    Field::new("SequenceNumber", 16, 2, Form::Little, "references to the file do not meet"),
    Field::new("HardLinkCount", 18, 2, Form::Little, ""),
    Field::new("FirstAttributeOffset", 20, 2, Form::Little, "no attribute is read"),
    Field::new("Flags", 22, 2, Form::Little, "the record counts as free"),
    Field::new("UsedSize", 24, 4, Form::Little, "attributes are cut"),
    Field::new("AllocatedSize", 28, 4, Form::Little, "the record is not read"),
    Field::new("BaseFileRecord", 32, 8, Form::Little, ""),
    Field::new("NextAttributeId", 40, 2, Form::Little, ""),
    Field::new("RecordNumber", 44, 4, Form::Little, ""),
];

/// Records that the mirror keeps, by their customary names.
const MIRRORED: [(u64, &str); 4] = [(0, "$MFT"), (1, "$MFTMirr"), (2, "$LogFile"), (3, "$Volume")];

/// The structures of the volume in `window`, whose first sector is `hidden` sectors into the drive.
#[must_use]
pub fn structures(window: &SharedSource, geometry: &NtfsGeometry, hidden: u32, compute: Compute) -> Vec<Structure> {
    let volume = NtfsVolume::open(SharedSource::clone(window), *geometry).ok();
    let lost = volume.as_ref().filter(|volume| first::are_lost(volume)).map(first::compute);
    let first = lost.as_ref().and_then(|lost| lost.as_ref().ok());
    // Without them nothing stated where the mirror is.
    let geometry = &NtfsGeometry { mirror_lcn: first.map_or(geometry.mirror_lcn, |first| first.mirror_lcn), ..*geometry };
    let mut structures = vec![boot(window, geometry, hidden, (volume.as_ref(), compute))];
    if let Some(volume) = &volume {
        let read = |(number, name): &(u64, &str)| record(window, geometry, volume, (*number, name), (first, compute));
        structures.extend(MIRRORED.iter().filter_map(read));
    }
    structures
}

fn boot(
    window: &SharedSource,
    geometry: &NtfsGeometry,
    hidden: u32,
    (volume, compute): (Option<&NtfsVolume>, Compute),
) -> Structure {
    let size = geometry.bytes_per_sector.max(512) as usize;
    let judge = |at: ByteOffset, bytes: &[u8]| {
        let view = View::new("boot sector", at, bytes);
        let found = NtfsGeometry::parse(view)?;
        if view.slice(510, 2, "Signature")? != [0x55, 0xAA] {
            return Err(view.wrong(510, "Signature", u64::from(view.u16(510, "Signature")?), "55 AA"));
        }
        match found.is_same_volume(geometry) {
            true => Ok(()),
            false => Err(view.error(0, Problem::Coding("its numbers are those of another volume"))),
        }
    };
    let places = (ByteOffset(0), &[geometry.backup_at()][..]);
    let read = Structure::read(window, "NTFS boot sector", size, places, &judge, &|bytes| bytes);
    let read = read.with_computed(compute, || volume.map(|volume| computed(geometry, hidden, size, volume)));
    Structure { fields: BOOT.to_vec(), renews_copies: true, ..read }
}

/// The boot sector from the volume's own metadata.
fn computed(geometry: &NtfsGeometry, hidden: u32, size: usize, volume: &NtfsVolume) -> Computed {
    let mut geometry = *geometry;
    let record = volume.record(0).ok();
    if geometry.serial == 0 {
        // The serial number stands nowhere else. A new one, the same each time.
        let numbers = [geometry.total_sectors, geometry.mft_lcn, geometry.mirror_lcn].map(u64::to_le_bytes).concat();
        let (low, high) =
            (crc32fast::hash(&numbers), crc32fast::hash(volume.summary().label.as_deref().unwrap_or("-").as_bytes()));
        geometry.serial = u64::from(high) << 32 | u64::from(low);
    }
    let mut bytes = make::boot_sector(&geometry, hidden);
    bytes.resize(size, 0);
    let runs = record.as_ref().and_then(|record| record.attribute(super::layout::DATA, "")).map(|_| ());
    let by_runs = if runs.is_some() { "the run list of $MFT" } else { "the run list in the mirror of $MFT" };
    let clusters = geometry.clusters();
    let witnesses = vec![
        ("BytesPerSector", format!("record, index and cluster sizes are multiples of {}", geometry.bytes_per_sector)),
        ("SectorsPerCluster", format!("with {} bytes a cluster, {by_runs} leads to file records", geometry.cluster_bytes)),
        ("HiddenSectors", "where the volume starts on the drive".to_string()),
        ("TotalSectors", format!("$Bitmap and $BadClus count {clusters} clusters")),
        ("MftStartLcn", format!("record 0 stands there, and {by_runs} says the same")),
        ("Mft2StartLcn", "the run list of $MFTMirr".to_string()),
        ("ClustersPerFileRecordSegment", format!("file records say they are {} bytes long", geometry.record_bytes)),
        ("ClustersPerIndexBuffer", format!("index blocks stand {} bytes apart", geometry.index_bytes)),
        ("VolumeSerialNumber", "kept nowhere else; a new one where it is lost".to_string()),
    ];
    Computed { bytes, witnesses }
}

/// True when every attribute of the record reads, and what it must have is there: the MFT and its mirror begin where the boot sector says.
/// A record of which a part was overwritten is never written over its copy.
fn is_whole(record: &Record, number: u64, geometry: &NtfsGeometry) -> bool {
    let begins = |lcn: u64| {
        let runs = record.attribute(DATA, "").and_then(|data| data.runs(geometry.clusters()).ok());
        runs.and_then(|runs| runs.first()?.lcn) == Some(lcn)
    };
    let has = match number {
        0 => begins(geometry.mft_lcn),
        1 => begins(geometry.mirror_lcn),
        2 => record.attribute(DATA, "").is_some(),
        _ => record.attribute(VOLUME_INFORMATION, "").is_some(),
    };
    has && record.attributes().all(|attribute| attribute.is_ok())
}

fn record(
    window: &SharedSource,
    geometry: &NtfsGeometry,
    volume: &NtfsVolume,
    (number, name): (u64, &str),
    (first, compute): (Option<&First>, Compute),
) -> Option<Structure> {
    let size = geometry.record_bytes as usize;
    let main = volume.mft().position(geometry, number)?;
    let copy = geometry.cluster_at(geometry.mirror_lcn) + number * size as u64;
    let parsed = |at: ByteOffset, bytes: &[u8]| -> Result<Record, FormatError> {
        let record = Record::parse(bytes.to_vec(), at)?;
        let wrong = |why| FormatError::new("file record", at, Problem::Coding(why));
        if !record.is_in_use() || record.number().is_some_and(|own| own != number) {
            return Err(wrong("it is a record of another number, or free"));
        }
        match is_whole(&record, number, geometry) {
            true => Ok(record),
            false => Err(wrong("its attributes are cut off, or lead elsewhere than they must")),
        }
    };
    let own = read_bytes(window.as_ref(), main, size, "file record").ok().and_then(|bytes| parsed(main, &bytes).ok());
    let judge = |at: ByteOffset, bytes: &[u8]| -> Result<(), FormatError> {
        let record = parsed(at, bytes)?;
        // Drivers compare what is in use of both and refuse a volume whose mirror says something else.
        let differs = own.as_ref().is_some_and(|own| at != main && own.used() != record.used());
        match differs {
            false => Ok(()),
            true => {
                Err(FormatError::new("file record", at, Problem::Coding("it is of another time than the record that it mirrors")))
            }
        }
    };
    let name = format!("MFT record {number} ({name})");
    let read = Structure::read(window, name, size, (main, &[copy]), &judge, &|bytes| bytes);
    let computed = || {
        let first = first?;
        let bytes = first.records.get(usize::try_from(number).ok()?)?.clone();
        Some(Computed { bytes, witnesses: vec![("Magic", first.says.clone())] })
    };
    let read = read.with_computed(compute, computed);
    Some(Structure { fields: RECORD.to_vec(), renews_copies: true, ..read })
}
