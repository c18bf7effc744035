//! MBR or GPT, and which role each volume gets.

use keel_format::table::gpt::{self, make::array_sectors};
use keel_format::table::{Partition, Role, Scheme, TableReading};
use keel_source::{ByteRange, Lba, SectorCount, SharedSource, counted};

use super::remains::{self, Purpose};
use super::{Choices, LayoutEntry};
use crate::find::{Find, Grade};

/// The largest LBA an MBR entry can hold.
pub(super) const MBR_REACH: u64 = u32::MAX as u64;

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
    if table.scheme == Some(Scheme::Apm) {
        return (Scheme::Apm, "an Apple partition map stands behind sector 0; it is read and left as it is".into());
    }
    if table.mbr.protective {
        return (Scheme::Gpt, "a protective MBR is left of a GPT".into());
    }
    if table.mbr.signature && !(table.mbr.partitions.is_empty() && table.mbr.extended.is_empty()) {
        return (Scheme::Mbr, "sector 0 is an MBR with entries".into());
    }
    // A backup GPT would stand on the ground of a volume that reaches behind the end.
    let reaches = |find: &&Find| find.is_outer() && find.grade >= Grade::Strong && find.range().end.0 > source.len();
    if let Some(cut) = finds.iter().find(reaches)
        && source.identity().bytes <= source.len()
    {
        return (Scheme::Mbr, format!("a backup GPT at this end would overwrite ground of {}, which reaches behind it", cut.id));
    }
    if table.primary.is_present() || table.backup.is_present() {
        return (Scheme::Gpt, "remains of a GPT header stand at the edge of the drive".into());
    }
    if let Some((size, other)) = keel_format::table::read_in_other_size(source)
        && (other.primary.is_sound() || other.backup.is_sound())
    {
        return (Scheme::Gpt, format!("a GPT stands here that was written for sectors of {} bytes", size.0));
    }
    if let Some(displaced) = gpt::displaced(source.as_ref()) {
        return (Scheme::Gpt, format!("a GPT stands at {}, not in its own place", displaced.at));
    }
    let sectors = source.len() / source.sector_size().bytes();
    if sectors > MBR_REACH {
        return (Scheme::Gpt, "the drive has more sectors than an MBR can number".into());
    }
    let outer = || finds.iter().filter(|find| find.is_outer() && find.grade >= Grade::Strong);
    if let Some(find) = outer().find(|find| remains::ebr_before(source, find).is_some()) {
        return (Scheme::Mbr, format!("an EBR that states {} still stands before it", find.id));
    }
    if let Some(find) = outer().find(|find| remains::purpose(source, find) == Some(Purpose::Efi)) {
        return (Scheme::Gpt, format!("{} starts computers by EFI, which is customary on a GPT", find.id));
    }
    let volumes = finds.iter().filter(|find| find.is_outer()).count();
    if volumes > 4 {
        return (
            Scheme::Gpt,
            format!("{}, and nothing is left of a chain of logical partitions", counted(volumes, "volume", "volumes")),
        );
    }
    (Scheme::Mbr, "nothing of a GPT is left, and an MBR has room for these volumes".into())
}

/// The ground where volumes may lie: behind the table, before its copy.
pub(super) fn usable_ground(source: &SharedSource, table: &TableReading, scheme: Scheme) -> ByteRange {
    let sector = source.sector_size();
    let all = source.len() / sector.bytes();
    let (first, end) = match scheme {
        Scheme::Mbr | Scheme::Apm => (1, all),
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

/// True for an entry that may be one though nothing that was found supports it: it lies on the drive and starts where tables
/// put partitions. What overwrote sector 0 with anything looks like entries too.
pub(super) fn is_believable(source: &SharedSource, entry: &Partition) -> bool {
    let sector = source.sector_size();
    let range = entry.range(sector);
    let customary = range.start.0.is_multiple_of(1 << 20) || entry.first.0.is_multiple_of(63);
    let checked = entry.role.scheme() != Scheme::Mbr;
    checked || (customary && range.end.0 <= source.len() && entry.attributes & 0x7F == 0)
}

/// The former extended partition, where it may have been one.
pub(crate) fn former_extended<'a>(source: &SharedSource, table: &'a TableReading) -> Option<&'a Partition> {
    let on_drive = |entry: &&Partition| {
        let range = entry.range(source.sector_size());
        let known = table.mbr.partitions.iter().any(|logical| logical.role == Role::Logical);
        range.start.0 < source.len() && (known || is_believable(source, entry))
    };
    table.mbr.extended.iter().find(on_drive)
}

/// The extended partition around the logicals of `entries`: from the first EBR to the last end.
pub(crate) fn extended_around(entries: &[LayoutEntry], former: Option<&Partition>) -> Option<(Lba, SectorCount)> {
    let logicals: Vec<&LayoutEntry> = entries.iter().filter(|entry| entry.role == Role::Logical).collect();
    // The first EBR opens the extended partition: where it still stands, or right before its volume.
    let first = logicals.iter().map(|entry| entry.ebr.map_or(entry.first.0.saturating_sub(1), |ebr| ebr.0)).min()?;
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
