//! MBR or GPT, and which role each volume gets.

use keel_format::table::gpt::{self, make::array_sectors};
use keel_format::table::{Partition, Role, Scheme, TableReading, TypeCode};
use keel_source::{ByteOffset, ByteRange, Lba, SectorCount, SectorSize, SharedSource};

use super::{Choices, LayoutEntry, LeftOut};
use crate::sweep::Find;

/// The largest LBA an MBR entry can hold.
const MBR_REACH: u64 = u32::MAX as u64;

/// The scheme and why.
pub(super) fn choose(source: &SharedSource, table: &TableReading, finds: &[Find], choices: &Choices) -> (Scheme, String) {
    if let Some(scheme) = choices.scheme {
        return (scheme, "chosen by the technician".into());
    }
    for copy in [&table.primary, &table.backup] {
        if copy.is_sound() && (table.mbr.protective || table.mbr.partitions.is_empty()) {
            return (Scheme::Gpt, format!("the {} GPT is sound", copy.copy.word()));
        }
    }
    if table.mbr.protective {
        return (Scheme::Gpt, "a protective MBR is left of a GPT".into());
    }
    if table.mbr.signature && !(table.mbr.partitions.is_empty() && table.mbr.extended.is_empty()) {
        return (Scheme::Mbr, "sector 0 is an MBR with entries".into());
    }
    if table.primary.is_present() || table.backup.is_present() {
        return (Scheme::Gpt, "remains of a GPT header stand at the edge of the drive".into());
    }
    let sectors = source.len() / source.sector_size().bytes();
    if sectors > MBR_REACH {
        return (Scheme::Gpt, "the drive has more sectors than an MBR can number".into());
    }
    let volumes = finds.iter().filter(|find| find.inside.is_none()).count();
    if volumes > 4 {
        return (Scheme::Gpt, format!("{volumes} volumes, and nothing is left of a chain of logical partitions"));
    }
    (Scheme::Mbr, "nothing of a GPT is left, and an MBR has room for these volumes".into())
}

/// The ground where volumes may lie: behind the table, before its copy.
pub(super) fn usable_ground(source: &SharedSource, table: &TableReading, scheme: Scheme) -> ByteRange {
    let sector = source.sector_size();
    let all = source.len() / sector.bytes();
    let (first, end) = match scheme {
        Scheme::Mbr => (1, all),
        Scheme::Gpt => {
            let header = table.primary.header.or(table.backup.header);
            let array = header.map_or_else(
                || array_sectors(128, 128, sector),
                |header| array_sectors(header.count, header.entry_bytes, sector),
            );
            (2 + array, all.saturating_sub(1 + array))
        }
    };
    ByteRange::new(Lba(first).offset(sector), Lba(end).offset(sector))
}

/// Entries for the chosen finds. Entries of a sound old copy whose ground no chosen find contradicts are kept as they
/// are: a volume of a kind not known here must not vanish from the table.
pub(super) fn roles(
    source: &SharedSource,
    table: &TableReading,
    scheme: Scheme,
    chosen: &[&Find],
    left_out: &mut Vec<LeftOut>,
) -> Vec<LayoutEntry> {
    let sector = source.sector_size();
    let former = former_entries(table, scheme);
    let ground = usable_ground(source, table, scheme);
    let mut entries: Vec<LayoutEntry> = Vec::new();
    for partition in &former {
        let range = partition.range(sector);
        let find = chosen.iter().find(|find| partition.holds(find.range(), sector));
        let contradicted =
            chosen.iter().any(|other| find.is_none_or(|find| find.id != other.id) && other.range().overlap(range).is_some());
        if contradicted || (find.is_none() && !ground.covers(range)) {
            continue;
        }
        entries.push(kept_entry(partition, find.copied()));
    }
    let mut rest: Vec<&Find> =
        chosen.iter().filter(|find| !entries.iter().any(|entry| entry.find.as_ref() == Some(&find.id))).copied().collect();
    rest.sort_by_key(|find| find.start_byte);
    match scheme {
        Scheme::Gpt => add_gpt(&mut entries, &rest, sector),
        Scheme::Mbr => add_mbr(&mut entries, &rest, sector, left_out),
    }
    entries.sort_by_key(|entry| entry.first);
    entries
}

fn former_entries(table: &TableReading, scheme: Scheme) -> Vec<Partition> {
    match scheme {
        Scheme::Mbr => table.mbr.partitions.clone(),
        Scheme::Gpt if table.primary.is_sound() => table.primary.partitions.clone(),
        Scheme::Gpt if table.backup.is_sound() => table.backup.partitions.clone(),
        Scheme::Gpt => Vec::new(),
    }
}

fn kept_entry(partition: &Partition, find: Option<&Find>) -> LayoutEntry {
    let fits = find.is_none_or(|find| partition.type_code.fits(find.kind));
    let scheme = if partition.role == Role::Gpt { Scheme::Gpt } else { Scheme::Mbr };
    let (type_code, why) = match find {
        Some(find) if fits => (
            partition.type_code,
            format!("a table entry of the drive states this start and length, and {} stands there", find.id),
        ),
        Some(find) => (
            TypeCode::for_volume(scheme, find.kind, find.bytes),
            format!("the entry's type {} does not fit {}: changed", partition.type_code, find.kind.word()),
        ),
        None => {
            (partition.type_code, "a table entry of the drive; what stands there is of no kind known here, so it is kept".into())
        }
    };
    LayoutEntry {
        find: find.map(|find| find.id.clone()),
        slot: partition.slot,
        role: partition.role,
        type_code,
        first: partition.first,
        sectors: partition.sectors,
        name: partition.name.clone().unwrap_or_default(),
        unique: partition.unique,
        attributes: partition.attributes,
        why,
    }
}

fn new_entry(find: &Find, slot: u32, role: Role, why: String) -> LayoutEntry {
    let scheme = if role == Role::Gpt { Scheme::Gpt } else { Scheme::Mbr };
    LayoutEntry {
        find: Some(find.id.clone()),
        slot,
        role,
        type_code: TypeCode::for_volume(scheme, find.kind, find.bytes),
        first: find.start_lba,
        sectors: find.sectors,
        name: find.label.clone().unwrap_or_default(),
        unique: None,
        attributes: 0,
        why,
    }
}

fn add_gpt(entries: &mut Vec<LayoutEntry>, rest: &[&Find], sector: SectorSize) {
    for find in rest {
        let slot = (1..).find(|slot| entries.iter().all(|entry| entry.slot != *slot)).unwrap_or(u32::MAX);
        let aligned = find.start_byte.0 % (1 << 20) == 0;
        let why = format!("{} from {}{}", find.kind.word(), find.start_lba, if aligned { ", on a 1 MiB boundary" } else { "" });
        debug_assert!(find.start_byte.0 % sector.bytes() == 0, "finds start on sectors");
        entries.push(new_entry(find, slot, Role::Gpt, why));
    }
}

/// Up to four primaries; with more volumes the last ones become logicals of one extended partition, each with room
/// for its EBR before it.
fn add_mbr(entries: &mut Vec<LayoutEntry>, rest: &[&Find], sector: SectorSize, left_out: &mut Vec<LeftOut>) {
    let logical_before = entries.iter().any(|entry| entry.role == Role::Logical);
    let free = (1..=4u32).filter(|slot| entries.iter().all(|entry| entry.slot != *slot)).collect::<Vec<_>>();
    let room = free.len() - usize::from(logical_before && !free.is_empty());
    let primaries = if rest.len() <= room { rest.len() } else { room.saturating_sub(usize::from(!logical_before)) };
    let (first, last) = rest.split_at(primaries);
    for (find, slot) in first.iter().zip(&free) {
        if find.start_lba.0 > MBR_REACH || find.sectors.0 > MBR_REACH {
            left_out.push(LeftOut {
                find: find.id.clone(),
                why: "starts or ends behind what an MBR entry can number; choose GPT".into(),
            });
            continue;
        }
        let why = format!("primary: one of at most four entries, {slot} is free");
        entries.push(new_entry(find, *slot, Role::Primary, why));
    }
    for find in last {
        let ebr = find.start_byte.0.checked_sub(sector.bytes()).map(ByteOffset);
        let blocked = ebr.is_none_or(|ebr| ebr.0 == 0 || entries.iter().any(|entry| entry.range(sector).contains(ebr)));
        let broken_by = entries
            .iter()
            .any(|entry| entry.role == Role::Primary && last.first().is_some_and(|head| entry.first > head.start_lba));
        if free.is_empty() && !logical_before {
            left_out.push(LeftOut { find: find.id.clone(), why: "all four entries are taken; choose GPT".into() });
        } else if blocked {
            left_out.push(LeftOut {
                find: find.id.clone(),
                why: "cannot be logical: there is no free sector before it for its EBR".into(),
            });
        } else if broken_by {
            left_out.push(LeftOut {
                find: find.id.clone(),
                why: "cannot be logical: a primary lies between it and the other logicals".into(),
            });
        } else {
            let slot = 5 + u32::try_from(entries.iter().filter(|entry| entry.role == Role::Logical).count()).unwrap_or(0);
            entries.push(new_entry(
                find,
                slot,
                Role::Logical,
                "logical: more volumes than primary entries, and the sector before it is free for its EBR".into(),
            ));
        }
    }
}

/// The extended partition around the logicals of `entries`: from the first EBR to the last end.
pub(crate) fn extended_around(entries: &[LayoutEntry], former: Option<&Partition>) -> Option<(Lba, SectorCount)> {
    let logicals: Vec<&LayoutEntry> = entries.iter().filter(|entry| entry.role == Role::Logical).collect();
    let first = logicals.iter().map(|entry| entry.first.0).min()?.saturating_sub(1);
    let end = logicals.iter().map(|entry| entry.first.0 + entry.sectors.0).max()?;
    let (mut start, mut stop) = (first, end);
    // The former container is kept where it holds all logicals and no primary.
    if let Some(former) = former {
        let range = (former.first.0, former.first.0 + former.sectors.0);
        let primary = entries
            .iter()
            .any(|entry| entry.role == Role::Primary && entry.first.0 < range.1 && range.0 < entry.first.0 + entry.sectors.0);
        if range.0 <= first && end <= range.1 && !primary {
            (start, stop) = range;
        }
    }
    Some((Lba(start), SectorCount(stop - start)))
}

/// `NumberOfPartitionEntries` and `SizeOfPartitionEntry` of the sound copy, or what is customary.
pub(crate) fn array_shape(table: &TableReading) -> (u32, u32) {
    let copies: [&gpt::GptReading; 2] = [&table.primary, &table.backup];
    let header = copies.iter().find(|copy| copy.is_sound()).and_then(|copy| copy.header);
    header.map_or((128, 128), |header| (header.count, header.entry_bytes))
}
