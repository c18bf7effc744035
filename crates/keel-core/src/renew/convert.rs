//! A table of one scheme becomes one of the other; no volume moves.

use keel_format::table::gpt::{self, BASIC_DATA};
use keel_format::table::{Role, Scheme, TypeCode, mbr};
use keel_format::{Geometry, VolumeKind};
use keel_source::{Lba, SectorCount, counted};

use super::draft::Draft;
use super::entry::{Drafted, NotDrafted, own_sectors};
use super::flags::{BOOT_INDICATOR, HIDDEN, LEGACY_ACTIVE, REQUIRED};

/// Entries that an MBR holds beside an extended one.
const BESIDE_EXTENDED: usize = 3;

pub(super) fn convert(draft: &mut Draft, to: Scheme) -> Result<(), NotDrafted> {
    if draft.scheme == Some(to) {
        return Err(NotDrafted(format!("the table is {} already", if to == Scheme::Mbr { "an MBR" } else { "a GPT" })));
    }
    match (draft.scheme, to) {
        (Some(Scheme::Mbr), Scheme::Gpt) => to_gpt(draft)?,
        (Some(Scheme::Gpt), Scheme::Mbr) => to_mbr(draft)?,
        (_, Scheme::Apm) => return Err(NotDrafted("an Apple partition map is read and not made here".into())),
        (Some(from), _) => return Err(NotDrafted(format!("a {} is not converted here: make a new table", from.word()))),
        (None, _) => return Err(NotDrafted("this drive has no table that could be converted: make a new one".into())),
    }
    draft.scheme = Some(to);
    draft.is_converted = true;
    Ok(())
}

/// What systems look for behind an entry, by what stands there.
fn kind_of(entry: &Drafted) -> Option<VolumeKind> {
    entry.stands.as_ref().map(Geometry::kind)
}

/// The types of both schemes that mean the same where no volume tells: `OSType` and `PartitionTypeGUID`.
const SAME: &[(u8, uuid::Uuid)] = &[
    (0xEF, gpt::EFI_SYSTEM),
    (0x27, gpt::RECOVERY),
    (0x82, gpt::LINUX_SWAP),
    (0x8E, gpt::LINUX_LVM),
    (0xFD, gpt::LINUX_RAID),
    (0xAF, gpt::HFS_PLUS),
    (0x83, gpt::LINUX_DATA),
];

fn guid_for(code: u8, entry: &Drafted) -> uuid::Uuid {
    let by_type = SAME.iter().find(|(own, _)| *own == code).map(|(_, guid)| *guid);
    let by_kind = kind_of(entry).map(|kind| kind.facts().gpt.0);
    // EFI and recovery volumes are told by their types; the others by what they hold.
    match (code, by_kind) {
        (0xEF | 0x27, _) | (_, None) => by_type.unwrap_or(BASIC_DATA),
        (_, Some(guid)) => guid,
    }
}

fn code_for(guid: uuid::Uuid, entry: &Drafted, bytes: u64) -> u8 {
    let by_type = SAME.iter().find(|(_, own)| *own == guid).map(|(code, _)| *code);
    match (guid, kind_of(entry)) {
        (gpt::EFI_SYSTEM | gpt::RECOVERY, _) => by_type.unwrap_or(0x07),
        (_, Some(kind)) => kind.facts().mbr.for_length(bytes),
        (_, None) => by_type.unwrap_or(0x07),
    }
}

fn to_gpt(draft: &mut Draft) -> Result<(), NotDrafted> {
    draft.scheme = Some(Scheme::Gpt);
    draft.array = (128, 128);
    let usable = draft.usable();
    if usable.is_empty() {
        return Err(NotDrafted(format!("{} sectors are too few for a GPT", draft.drive)));
    }
    let sector = draft.sector;
    let mut told = Vec::new();
    for entry in &mut draft.entries {
        if entry.first.0 < usable.start {
            return Err(NotDrafted(format!(
                "a GPT needs the first {} sectors of the drive, and entry {} begins at sector {}: {} missing",
                usable.start,
                entry.slot,
                entry.first.0,
                counted(usize::try_from(usable.start - entry.first.0).unwrap_or(usize::MAX), "sector is", "sectors are")
            )));
        }
        shorten(entry, usable.end, sector, &mut told)?;
    }
    let starts = draft.entries.iter().any(|entry| entry.attributes & BOOT_INDICATOR != 0);
    if starts {
        told.push(
            "a system that starts by the code in sector 0 starts no longer: a GPT is started by EFI, or by a loader that is installed anew"
                .into(),
        );
    }
    for (entry, slot) in draft.entries.iter_mut().zip(1..) {
        let TypeCode::Mbr(code) = entry.type_code else { continue };
        let plain = mbr::hidden_form(code);
        let active = if entry.attributes & BOOT_INDICATOR != 0 { LEGACY_ACTIVE } else { 0 };
        entry.attributes = active | if plain.is_some() { HIDDEN } else { 0 };
        entry.type_code = TypeCode::Gpt(guid_for(plain.unwrap_or(code), entry));
        (entry.role, entry.slot, entry.unique, entry.ebr) = (Role::Gpt, slot, None, None);
    }
    draft.told.extend(told);
    Ok(())
}

/// Ends an entry at sector `end`, where its volume ends before that.
fn shorten(entry: &mut Drafted, end: u64, sector: keel_source::SectorSize, told: &mut Vec<String>) -> Result<(), NotDrafted> {
    let over = entry.ground().end.saturating_sub(end);
    if over == 0 {
        return Ok(());
    }
    let spare = own_sectors(entry, sector).map_or(0, |own| entry.sectors.0.saturating_sub(own));
    if spare < over {
        let missing = counted(usize::try_from(over - spare).unwrap_or(usize::MAX), "sector is", "sectors are");
        return Err(NotDrafted(format!(
            "a GPT needs the last sectors of the drive, and the volume in entry {} reaches into them: {missing} missing; shrink it first",
            entry.slot
        )));
    }
    entry.sectors = SectorCount(entry.sectors.0 - over);
    told.push(format!("entry {} ends {over} sectors earlier: its volume does not reach there", entry.slot));
    Ok(())
}

fn to_mbr(draft: &mut Draft) -> Result<(), NotDrafted> {
    let sector = draft.sector;
    let mut told = Vec::new();
    // What means something on a GPT alone holds no files.
    let (gone, mut entries): (Vec<Drafted>, Vec<Drafted>) =
        draft.entries.drain(..).partition(|entry| entry.type_code.holds_no_volume() && entry.stands.is_none());
    for entry in &gone {
        told.push(format!("entry {} ({}) means nothing on an MBR: it is left out", entry.slot, entry.type_code.word()));
    }
    let efi = entries.iter().any(|entry| entry.type_code == TypeCode::Gpt(gpt::EFI_SYSTEM));
    if efi || !gone.is_empty() {
        told.push("a system that starts by EFI or by a loader of its own may start no longer from an MBR".into());
    }
    for entry in &entries {
        if entry.ground().end > 1 << 32 {
            let reach = keel_source::size_decimal((1u64 << 32) * sector.bytes());
            return Err(NotDrafted(format!("an MBR reaches {reach}, and entry {} ends behind that", entry.slot)));
        }
    }
    entries.sort_by_key(|entry| entry.first);
    let logical = logicals(&entries, sector)?;
    // An EBR in the slack of the entry before it takes that.
    for (index, ebr) in &logical {
        if let Some(before) =
            index.checked_sub(1).and_then(|before| entries.get_mut(before)).filter(|entry| entry.ground().end > ebr.0)
        {
            let over = before.ground().end - ebr.0;
            before.sectors = SectorCount(before.sectors.0 - over);
            told.push(format!("entry {} ends {over} sectors earlier: its volume does not reach there", before.slot));
        }
    }
    let mut slots = (1..=4u32, 5..);
    for (index, entry) in entries.iter_mut().enumerate() {
        let TypeCode::Gpt(guid) = entry.type_code else { continue };
        let code = code_for(guid, entry, entry.sectors.bytes(sector));
        let hidden = entry.attributes & HIDDEN != 0;
        let lost: Vec<&str> = [
            (!entry.name.is_empty(), "its name"),
            (entry.attributes & REQUIRED != 0, "that it is required"),
            (entry.attributes & (1 << 60 | 1 << 63) != 0, "that it is read-only or has no automatic mount"),
            (hidden && mbr::hidden_form(code | 0x10).is_none(), "that it is hidden"),
        ]
        .into_iter()
        .filter_map(|(is, what)| is.then_some(what))
        .collect();
        if !lost.is_empty() {
            told.push(format!("entry {}: an MBR cannot say {}", entry.slot, lost.join(", ")));
        }
        let code = if hidden && mbr::hidden_form(code | 0x10).is_some() { code | 0x10 } else { code };
        entry.type_code = TypeCode::Mbr(code);
        entry.attributes = if entry.attributes & LEGACY_ACTIVE != 0 { BOOT_INDICATOR } else { 0 };
        (entry.name, entry.unique) = (String::new(), None);
        entry.ebr = logical.get(&index).copied();
        (entry.role, entry.slot) = match entry.ebr {
            Some(_) => (Role::Logical, slots.1.next().unwrap_or(5)),
            None => (Role::Primary, slots.0.next().unwrap_or(4)),
        };
    }
    // One entry alone may be active.
    let mut actives = entries.iter_mut().filter(|entry| entry.attributes != 0).skip(1).peekable();
    if actives.peek().is_some() {
        told.push("several entries were marked to start from: the first one stays active".into());
    }
    actives.for_each(|entry| entry.attributes = 0);
    entries.sort_by_key(|entry| entry.slot);
    draft.entries = entries;
    draft.told.extend(told);
    Ok(())
}

/// Which entries, ascending on the drive, become logicals, and where their EBRs stand.
fn logicals(entries: &[Drafted], sector: keel_source::SectorSize) -> Result<std::collections::BTreeMap<usize, Lba>, NotDrafted> {
    if entries.len() <= BESIDE_EXTENDED + 1 {
        return Ok(std::collections::BTreeMap::new());
    }
    // The last sector before an entry that nothing holds: between entries, or behind the volume of the one before.
    let ebr = |index: usize| {
        let entry = entries.get(index)?;
        let before = entry.first.0.checked_sub(1)?;
        let end = match index.checked_sub(1).and_then(|before| entries.get(before)) {
            None => 1,
            Some(other) => other.first.0 + own_sectors(other, sector).unwrap_or(other.sectors.0).min(other.sectors.0),
        };
        (before >= end).then_some(Lba(before))
    };
    let count = entries.len() - BESIDE_EXTENDED;
    let run = (0..=BESIDE_EXTENDED).rev().find(|first| (*first..first + count).all(|index| ebr(index).is_some()));
    let Some(first) = run else {
        let lacking = (0..entries.len()).filter(|index| ebr(*index).is_none()).count();
        return Err(NotDrafted(format!(
            "{} volumes want logical partitions on an MBR, each with a free sector before it: {} missing",
            entries.len(),
            counted(lacking, "sector is", "sectors are")
        )));
    };
    Ok((first..first + count).filter_map(|index| Some((index, ebr(index)?))).collect())
}
