//! Table sectors for a layout, as edits of what differs.

use keel_format::table::gpt::make::{NewEntry as NewGptEntry, NewTable};
use keel_format::table::mbr::make::{NewEntry, NewLogical, ebr_sectors, mbr_sector, protective_sector};
use keel_format::table::{Role, Scheme, TableReading, TypeCode};
use keel_format::{read_bytes, table};
use keel_source::{ByteOffset, Lba, SharedSource};
use uuid::{Builder, Uuid};

use super::{Belongs, Edit, Intent, Order};
use crate::layout::scheme::{array_shape, extended_around, former_extended};
use crate::layout::{Layout, LayoutEntry};

/// What should stand at a place.
pub(crate) struct Wanted {
    pub(crate) lba: Lba,
    pub(crate) bytes: Vec<u8>,
    pub(crate) structure: &'static str,
    pub(crate) order: Order,
}

impl Wanted {
    /// What it is written with: a header rests on its array, and an entry of the MBR on the EBRs that it leads to.
    fn group(&self) -> &'static str {
        match self.structure {
            "backup GPT entry array" | "backup GPT header" => "backup GPT",
            "EBR" | "MBR" => "MBR",
            _ => "primary GPT",
        }
    }
}

/// Every sector that the table needs to state `layout`: place and bytes, whether it stands there already or not.
pub(super) fn wanted_sectors(source: &SharedSource, reading: &TableReading, layout: &Layout) -> Vec<(ByteOffset, Vec<u8>)> {
    if layout.entries.is_empty() || layout.whole_drive {
        return Vec::new();
    }
    let sector = source.sector_size();
    wanted(source, reading, layout).into_iter().map(|wanted| (wanted.lba.offset(sector), wanted.bytes)).collect()
}

fn wanted(source: &SharedSource, reading: &TableReading, layout: &Layout) -> Vec<Wanted> {
    stated(source, reading, layout).unwrap_or_default()
}

/// The sectors of a table that states `layout`. `None` where none can, and for a scheme that is read and left as it is.
pub(crate) fn stated(source: &SharedSource, reading: &TableReading, layout: &Layout) -> Option<Vec<Wanted>> {
    match layout.scheme {
        Scheme::Gpt => gpt(source, reading, layout),
        Scheme::Mbr => mbr(source, reading, layout),
        Scheme::Apm => None,
    }
}

/// The edits that make the drive's table state `layout`. None when it does already, or when there is nothing to state.
pub(super) fn edits(source: &SharedSource, reading: &TableReading, layout: &Layout) -> Vec<Edit> {
    let stands = (states(reading, layout) || is_cut_short(source, reading, layout)) && !layout.new_ids;
    if layout.entries.is_empty() || stands {
        return Vec::new();
    }
    let reason = reason(reading, layout);
    wanted(source, reading, layout).into_iter().filter_map(|wanted| changed(source, &wanted, &reason)).collect()
}

/// True when a sound table says just this.
fn states(reading: &TableReading, layout: &Layout) -> bool {
    reading.is_sound() && has_just_these(reading, layout)
}

fn has_just_these(reading: &TableReading, layout: &Layout) -> bool {
    let same = |entry: &LayoutEntry| {
        reading.partitions.iter().any(|old| {
            (old.first, old.sectors, old.type_code, old.attributes)
                == (entry.first, entry.sectors, entry.type_code, entry.attributes)
        })
    };
    reading.scheme == Some(layout.scheme) && reading.partitions.len() == layout.entries.len() && layout.entries.iter().all(same)
}

/// True when all that is wrong with the table follows from the drive's or image's end, which comes before that of a
/// volume: the table is right, and a backup GPT at this end would stand on the volume's ground.
fn is_cut_short(source: &SharedSource, reading: &TableReading, layout: &Layout) -> bool {
    let sector = source.sector_size();
    let reaches = layout.entries.iter().any(|entry| entry.range(sector).end.0 > source.len());
    let main = layout.scheme != Scheme::Gpt || (reading.primary.is_sound() && reading.mbr.protective);
    reaches && main && has_just_these(reading, layout)
}

fn reason(reading: &TableReading, layout: &Layout) -> String {
    let broken = reading.findings.iter().max_by_key(|finding| finding.severity).map(|finding| finding.what.clone());
    let entries = layout.entries.iter().filter_map(|entry| entry.find.clone()).collect::<Vec<_>>().join(", ");
    let entries = if entries.is_empty() { "the entries kept".to_string() } else { format!("entries for {entries}") };
    let otherwise =
        if layout.new_ids { "another drive has the same identifiers" } else { "the table does not state these volumes" };
    let broken = broken.unwrap_or_else(|| otherwise.into());
    format!("{broken}; the {} is written with {entries} ({})", layout.scheme.word(), layout.scheme_why)
}

/// The sectors of `wanted` that differ from what stands there, as one edit from the first to the last of them.
pub(crate) fn changed(source: &SharedSource, wanted: &Wanted, reason: &str) -> Option<Edit> {
    let sector = source.sector_size();
    let at = wanted.lba.offset(sector);
    let mut before = vec![0; wanted.bytes.len()];
    let readable = source.read_at(at, &mut before).is_ok();
    let size = wanted.bytes.len().min(sector.0 as usize);
    let differs =
        |index: &usize| before.get(index * size..(index + 1) * size) != wanted.bytes.get(index * size..(index + 1) * size);
    let count = wanted.bytes.len() / size;
    let (mut first, mut last) = (0, count);
    if readable {
        first = (0..count).find(differs)?;
        last = (0..count).rev().find(differs)? + 1;
    }
    let part = |bytes: &[u8]| bytes.get(first * size..last * size).unwrap_or_default().to_vec();
    Some(Edit {
        structure: wanted.structure.into(),
        at_byte: at + (first * size) as u64,
        before: if readable { part(&before) } else { Vec::new() },
        after: part(&wanted.bytes).into(),
        intent: Intent::Repair,
        belongs: Belongs::to(format!("table/{}", wanted.group())),
        order: wanted.order,
        reason: reason.into(),
    })
}

/// A random-looking GUID that is the same each time the same plan is staged.
fn guid(source: &SharedSource, purpose: &str) -> Uuid {
    let hash = blake3::hash(format!("{} {purpose}", source.identity().key()).as_bytes());
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&hash.as_bytes()[..16]);
    Builder::from_random_bytes(bytes).into_uuid()
}

fn former_sector(source: &SharedSource, at: ByteOffset) -> Vec<u8> {
    read_bytes(source.as_ref(), at, 512, "sector").unwrap_or_else(|_| vec![0; 512])
}

fn gpt(source: &SharedSource, reading: &TableReading, layout: &Layout) -> Option<Vec<Wanted>> {
    let sector = source.sector_size();
    let drive_sectors = source.len() / sector.bytes();
    let (count, entry_bytes) = array_shape(reading);
    let disk = [&reading.primary, &reading.backup].iter().find_map(|copy| copy.header.map(|header| header.disk));
    let top = layout.entries.iter().map(|entry| entry.slot).max().unwrap_or(0).min(count);
    let blank = NewGptEntry {
        type_guid: Uuid::nil(),
        unique: Uuid::nil(),
        first: Lba(0),
        sectors: keel_source::SectorCount(0),
        attributes: 0,
        name: String::new(),
    };
    // Slots keep their numbers; unused ones between them stay empty.
    let mut entries = vec![blank; top as usize];
    for entry in &layout.entries {
        let TypeCode::Gpt(type_guid) = entry.type_code else { return None };
        let slot = entries.get_mut((entry.slot as usize).checked_sub(1)?)?;
        *slot = NewGptEntry {
            type_guid,
            unique: match entry.unique {
                Some(known) if !layout.new_ids => known,
                Some(known) => guid(source, &format!("instead of {known}")),
                None => guid(source, &format!("partition at {}", entry.first)),
            },
            first: entry.first,
            sectors: entry.sectors,
            attributes: entry.attributes,
            name: entry.name.clone(),
        };
    }
    let disk = match layout.disk.or(disk) {
        Some(known) if !layout.new_ids => known,
        Some(known) => guid(source, &format!("instead of {known}")),
        None => guid(source, "disk"),
    };
    let made = NewTable { disk, entries, count, entry_bytes }.sectors(drive_sectors, sector)?;
    let [primary_header, primary_array] = made.primary;
    let [backup_array, backup_header] = made.backup;
    let mut wanted = vec![
        Wanted { lba: backup_array.0, bytes: backup_array.1, structure: "backup GPT entry array", order: Order::Copy },
        Wanted { lba: backup_header.0, bytes: backup_header.1, structure: "backup GPT header", order: Order::Copy },
        Wanted { lba: primary_array.0, bytes: primary_array.1, structure: "primary GPT entry array", order: Order::Primary },
        Wanted { lba: primary_header.0, bytes: primary_header.1, structure: "primary GPT header", order: Order::Primary },
    ];
    if !reading.mbr.protective || !reading.mbr.signature {
        let bytes = protective_sector(&former_sector(source, ByteOffset(0)), drive_sectors);
        wanted.push(Wanted { lba: Lba(0), bytes, structure: "protective MBR", order: Order::Primary });
    }
    Some(wanted)
}

fn mbr(source: &SharedSource, reading: &TableReading, layout: &Layout) -> Option<Vec<Wanted>> {
    let code = |entry: &LayoutEntry| match entry.type_code {
        TypeCode::Mbr(code) => Some(code),
        TypeCode::Gpt(_) | TypeCode::Apm(_) => None,
    };
    let mut slots: [Option<NewEntry>; 4] = [None; 4];
    for entry in layout.entries.iter().filter(|entry| entry.role == Role::Primary) {
        let slot = slots.get_mut((entry.slot as usize).checked_sub(1)?)?;
        *slot = Some(NewEntry {
            os_type: code(entry)?,
            boot_indicator: u8::try_from(entry.attributes & 0x80).ok()?,
            starting_lba: u32::try_from(entry.first.0).ok()?,
            size_in_lba: u32::try_from(entry.sectors.0).ok()?,
        });
    }
    let mut wanted = Vec::new();
    let former_container = former_extended(source, reading);
    if let Some((start, sectors)) = extended_around(&layout.entries, former_container) {
        let kept_slot = former_container
            .and_then(|old| (old.slot as usize).checked_sub(1))
            .filter(|slot| slots.get(*slot).is_some_and(Option::is_none));
        let slot = kept_slot.or_else(|| slots.iter().position(Option::is_none))?;
        *slots.get_mut(slot)? = Some(NewEntry {
            os_type: if start.0 + sectors.0 > 1024 * 255 * 63 { 0x0F } else { 0x05 },
            boot_indicator: 0,
            starting_lba: u32::try_from(start.0).ok()?,
            size_in_lba: u32::try_from(sectors.0).ok()?,
        });
        let logicals: Vec<&LayoutEntry> = layout.entries.iter().filter(|entry| entry.role == Role::Logical).collect();
        let chain: Option<Vec<NewLogical>> = logicals
            .iter()
            .enumerate()
            .map(|(index, entry)| {
                // The first EBR opens the extended partition; the others stand right before their partition, unless an
                // old one is known.
                let old = || entry.ebr.or_else(|| old_ebr(source, reading, entry)).unwrap_or(Lba(entry.first.0 - 1));
                let ebr = if index == 0 { start } else { old() };
                Some(NewLogical { ebr, first: entry.first, sectors: entry.sectors, os_type: code(entry)? })
            })
            .collect();
        for (lba, bytes) in ebr_sectors(start, &chain?)? {
            wanted.push(Wanted { lba, bytes, structure: "EBR", order: Order::Copy });
        }
    }
    let entries: Vec<NewEntry> = slots
        .into_iter()
        .map(|slot| slot.unwrap_or(NewEntry { os_type: 0, boot_indicator: 0, starting_lba: 0, size_in_lba: 0 }))
        .collect();
    let former = former_sector(source, ByteOffset(0));
    let former = if reading.mbr.is_volume { vec![0; 512] } else { former };
    let chosen = layout.disk.map(|disk| u32::try_from(disk.as_u128() & 0xFFFF_FFFF).unwrap_or(1).max(1));
    let signature = match chosen.unwrap_or(reading.mbr.disk_signature) {
        known if known != 0 && !layout.new_ids => known,
        known => {
            let fresh = guid(source, &format!("disk signature instead of {known}"));
            u32::try_from(fresh.as_u128() & 0xFFFF_FFFF).unwrap_or(1).max(1)
        }
    };
    let bytes = mbr_sector(&former, signature, &entries);
    wanted.push(Wanted { lba: Lba(0), bytes, structure: "MBR", order: Order::Primary });
    Some(wanted)
}

/// The EBR that points at this logical now.
fn old_ebr(source: &SharedSource, reading: &TableReading, entry: &LayoutEntry) -> Option<Lba> {
    let old = reading.mbr.partitions.iter().find(|old| old.role == table::Role::Logical && old.first == entry.first)?;
    Some(old.entry_at.lba(source.sector_size()))
}
