//! Reading one copy of a GPT and comparing two.

use keel_source::{ByteOffset, ByteRange, Lba, SectorCount, Source};
use uuid::Uuid;

use super::layout::{REVISION, RawEntry, RawHeader, SIGNATURE};
use crate::table::{Partition, Role, TypeCode};
use crate::{Finding, FormatError, Problem, Severity, View, read_bytes, read_lenient};

/// The largest entry array that is read, in bytes: 64 times what the standard asks for.
const LARGEST_ARRAY: u64 = 1 << 20;

/// Which of the two copies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Copy {
    /// At LBA 1.
    Primary,
    /// At the last LBA.
    Backup,
}

impl Copy {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Primary => "primary",
            Self::Backup => "backup",
        }
    }
}

/// The checked fields of a header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HeaderFields {
    /// `MyLBA`.
    pub my: Lba,
    /// `AlternateLBA`.
    pub alternate: Lba,
    /// `FirstUsableLBA`.
    pub first_usable: Lba,
    /// `LastUsableLBA`, inclusive.
    pub last_usable: Lba,
    /// `DiskGUID`.
    pub disk: Uuid,
    /// `PartitionEntryLBA`.
    pub array: Lba,
    /// `NumberOfPartitionEntries`.
    pub count: u32,
    /// `SizeOfPartitionEntry` in bytes.
    pub entry_bytes: u32,
    /// `PartitionEntryArrayCRC32`.
    pub array_crc: u32,
}

/// What one copy says.
#[derive(Debug, Clone)]
pub struct GptReading {
    /// Which copy.
    pub copy: Copy,
    /// Header, when its signature and checksum hold.
    pub header: Option<HeaderFields>,
    /// True when at least the signature is there.
    pub signature: bool,
    /// True when the array's checksum holds.
    pub array_sound: bool,
    /// The entries in use (also from an array whose checksum fails, as a hint).
    pub partitions: Vec<Partition>,
    /// What is wrong with this copy.
    pub findings: Vec<Finding>,
}

impl GptReading {
    /// True when anything of this copy is there.
    #[must_use]
    pub fn is_present(&self) -> bool {
        self.signature
    }

    /// True when header and array hold.
    #[must_use]
    pub fn is_sound(&self) -> bool {
        self.header.is_some() && self.array_sound
    }
}

/// Reads and checks a header at `lba`. Field by field: signature, revision, size, checksum, own place, usable range,
/// entry size (a multiple of 8 from 128 up to 4096) and array size (up to 1 MiB).
///
/// # Errors
/// [`FormatError`] of the first field that does not hold.
pub fn read_header(source: &dyn Source, lba: Lba) -> Result<HeaderFields, FormatError> {
    let header = header_anywhere(source, lba)?;
    if header.my != lba {
        let at = lba.offset(source.sector_size()) + 24;
        return Err(FormatError::value("GPT header", at, "MyLBA", header.my.0, "the LBA it stands at"));
    }
    Ok(header)
}

/// As [`read_header`], of a header that may say it stands elsewhere.
fn header_anywhere(source: &dyn Source, lba: Lba) -> Result<HeaderFields, FormatError> {
    let sector = source.sector_size();
    let at = lba.offset(sector);
    let bytes = read_bytes(source, at, sector.0 as usize, "GPT header")?;
    let view = View::new("GPT header", at, &bytes);
    let raw: &RawHeader = view.at(0, "header")?;
    if &raw.signature != SIGNATURE {
        return Err(view.wrong(0, "Signature", u64::from_le_bytes(raw.signature), "EFI PART"));
    }
    if raw.revision.get() != REVISION {
        return Err(view.wrong(8, "Revision", u64::from(raw.revision.get()), "0x00010000"));
    }
    let size = raw.header_size.get();
    if !(92..=sector.0).contains(&size) {
        return Err(view.wrong(12, "HeaderSize", u64::from(size), "92 up to one sector"));
    }
    let mut crc = crc32fast::Hasher::new();
    crc.update(view.slice(0, 16, "header")?);
    crc.update(&[0; 4]);
    crc.update(view.slice(20, size as usize - 20, "header")?);
    let computed = crc.finalize();
    let found = raw.header_crc32.get();
    if computed != found {
        return Err(view.error(16, Problem::Checksum { field: "HeaderCRC32", found, computed }));
    }
    if raw.first_usable_lba.get() > raw.last_usable_lba.get() {
        return Err(view.wrong(40, "FirstUsableLBA", raw.first_usable_lba.get(), "not above LastUsableLBA"));
    }
    let entry_bytes = raw.size_of_partition_entry.get();
    if !(128..=4096).contains(&entry_bytes) || !entry_bytes.is_multiple_of(8) {
        return Err(view.wrong(84, "SizeOfPartitionEntry", u64::from(entry_bytes), "128 to 4096, a multiple of 8"));
    }
    let count = raw.number_of_partition_entries.get();
    if count == 0 || u64::from(count) * u64::from(entry_bytes) > LARGEST_ARRAY {
        return Err(view.wrong(80, "NumberOfPartitionEntries", u64::from(count), "an array of 1 byte to 1 MiB"));
    }
    Ok(HeaderFields {
        my: Lba(raw.my_lba.get()),
        alternate: Lba(raw.alternate_lba.get()),
        first_usable: Lba(raw.first_usable_lba.get()),
        last_usable: Lba(raw.last_usable_lba.get()),
        disk: Uuid::from_bytes_le(raw.disk_guid),
        array: Lba(raw.partition_entry_lba.get()),
        count,
        entry_bytes,
        array_crc: raw.partition_entry_array_crc32.get(),
    })
}

/// Reads the copy whose header stands at `lba`, with its array. Never fails: what is wrong is a finding.
#[must_use]
pub fn read_copy(source: &dyn Source, lba: Lba, copy: Copy) -> GptReading {
    let at = lba.offset(source.sector_size());
    let mut reading =
        GptReading { copy, header: None, signature: false, array_sound: false, partitions: Vec::new(), findings: Vec::new() };
    let header = match read_header(source, lba) {
        Ok(header) => header,
        Err(error) => {
            reading.signature = !error.is_unreadable() && !is_signature_error(&error);
            let what = match reading.signature {
                true => format!("the {} GPT header is damaged", copy.word()),
                false => format!("there is no {} GPT header", copy.word()),
            };
            reading.findings.push(Finding::at(Severity::Broken, at, what, error.to_string()));
            return reading;
        }
    };
    reading.signature = true;
    reading.header = Some(header);
    match read_array(source, &header) {
        Ok((array, crc)) => {
            reading.array_sound = crc == header.array_crc;
            if !reading.array_sound {
                let what = format!("the {} GPT entry array is damaged", copy.word());
                let how = format!("PartitionEntryArrayCRC32 is 0x{:08x}, computed 0x{crc:08x}", header.array_crc);
                reading.findings.push(Finding::at(Severity::Broken, header.array.offset(source.sector_size()), what, how));
            }
            take_entries(source, &header, &array, &mut reading);
        }
        Err(error) => {
            let what = format!("the {} GPT entry array cannot be read", copy.word());
            reading.findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
        }
    }
    reading
}

fn is_signature_error(error: &FormatError) -> bool {
    matches!(error.problem, Problem::Value { field: "Signature", .. })
}

fn read_array(source: &dyn Source, header: &HeaderFields) -> Result<(Vec<u8>, u32), FormatError> {
    let len = header.count as usize * header.entry_bytes as usize;
    let array = read_bytes(source, header.array.offset(source.sector_size()), len, "GPT entry array")?;
    let crc = crc32fast::hash(&array);
    Ok((array, crc))
}

fn take_entries(source: &dyn Source, header: &HeaderFields, array: &[u8], reading: &mut GptReading) {
    let base = header.array.offset(source.sector_size());
    for (index, bytes) in array.chunks_exact(header.entry_bytes as usize).enumerate() {
        let at = base + (index * header.entry_bytes as usize) as u64;
        let Ok(raw) = View::new("GPT entry", at, bytes).at::<RawEntry>(0, "entry") else { continue };
        if raw.partition_type_guid == [0; 16] {
            continue;
        }
        let (first, last) = (raw.starting_lba.get(), raw.ending_lba.get());
        let slot = u32::try_from(index + 1).unwrap_or(u32::MAX);
        if first > last || first < header.first_usable.0 || last > header.last_usable.0 {
            let what = format!("GPT entry {slot} lies outside the usable ground: LBA {first} to {last}");
            reading.findings.push(Finding::at(Severity::Broken, at, what, "StartingLBA and EndingLBA"));
            if first > last {
                continue;
            }
        }
        reading.partitions.push(Partition {
            slot,
            role: Role::Gpt,
            first: Lba(first),
            sectors: SectorCount((last - first).saturating_add(1)),
            type_code: TypeCode::Gpt(Uuid::from_bytes_le(raw.partition_type_guid)),
            name: Some(name(&raw.partition_name)).filter(|name| !name.is_empty()),
            unique: Some(Uuid::from_bytes_le(raw.unique_partition_guid)),
            attributes: raw.attributes.get(),
            entry_at: at,
        });
    }
}

fn name(raw: &[u8; 72]) -> String {
    let units = raw.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair)).take_while(|unit| *unit != 0);
    char::decode_utf16(units).map(|sign| sign.unwrap_or('\u{fffd}')).collect()
}

/// A GPT that says it stands elsewhere: everything behind it is shifted alike.
#[derive(Debug, Clone)]
pub struct Displaced {
    /// Where its header stands.
    pub at: ByteOffset,
    /// Bytes by which it stands behind (or, negative, before) its own place.
    pub shift: i64,
    /// The ground of its entries, moved by the shift.
    pub ground: Vec<ByteRange>,
}

/// Looks for a sound header that is not in its own place in the first 4 MiB and the last one, where a bridge's reserved
/// area or a cut at the front would have moved it.
#[must_use]
pub fn displaced(source: &dyn Source) -> Option<Displaced> {
    const FRONT: u64 = 4 << 20;
    const BACK: u64 = 1 << 20;
    let sector = source.sector_size();
    let back = source.len().saturating_sub(BACK) / sector.bytes() * sector.bytes();
    let places = [(0, FRONT.min(source.len())), (back, source.len() - back)];
    places.into_iter().find_map(|(from, len)| {
        let (bytes, _) = read_lenient(source, ByteOffset(from), usize::try_from(len).ok()?, "edge of the drive").ok()?;
        let mut sectors = bytes.chunks_exact(sector.0 as usize).enumerate();
        sectors.find_map(|(index, bytes)| {
            let at = ByteOffset(from + index as u64 * sector.bytes());
            bytes.starts_with(SIGNATURE).then(|| displaced_at(source, at)).flatten()
        })
    })
}

fn displaced_at(source: &dyn Source, at: ByteOffset) -> Option<Displaced> {
    let sector = source.sector_size();
    let header = header_anywhere(source, at.lba(sector)).ok()?;
    let bytes_of = |lba: Lba| i64::try_from(lba.0.checked_mul(sector.bytes())?).ok();
    let shift = i64::try_from(at.0).ok()?.checked_sub(bytes_of(header.my)?)?;
    let moved = |lba: Lba| Some(ByteOffset(u64::try_from(bytes_of(lba)?.checked_add(shift)?).ok()?));
    let array_at = moved(header.array)?.lba(sector);
    let (array, crc) = read_array(source, &HeaderFields { array: array_at, ..header }).ok()?;
    if shift == 0 || crc != header.array_crc {
        return None;
    }
    let mut reading = GptReading {
        copy: Copy::Primary,
        header: Some(header),
        signature: true,
        array_sound: true,
        partitions: Vec::new(),
        findings: Vec::new(),
    };
    take_entries(source, &header, &array, &mut reading);
    let ground =
        reading.partitions.iter().filter_map(|entry| Some(ByteRange::sized(moved(entry.first)?, entry.sectors.bytes(sector))));
    Some(Displaced { at, shift, ground: ground.collect() })
}

/// Adds what two sound copies disagree on, and a backup that is not at the end.
pub fn compare(primary: &GptReading, backup: &GptReading, source: &dyn Source, findings: &mut Vec<Finding>) {
    let last = Lba((source.len() / source.sector_size().bytes()).saturating_sub(1));
    if let Some(header) = primary.header
        && header.alternate != last
    {
        let at = header.my.offset(source.sector_size()) + 32;
        let what = format!("the primary GPT says its backup is at {}; the last sector of the drive is {last}", header.alternate);
        findings.push(Finding::at(Severity::Doubt, at, what, "AlternateLBA against the length of the drive"));
    }
    if primary.is_sound()
        && backup.is_sound()
        && primary.header.map(|h| (h.disk, h.array_crc)) != backup.header.map(|h| (h.disk, h.array_crc))
    {
        let what = "the two copies of the GPT differ";
        findings.push(Finding::at(Severity::Doubt, ByteOffset(0), what, "DiskGUID and array checksum of both headers"));
    }
}
