//! A table of one scheme becomes one of the other; no volume moves.

use keel_format::table::{Role, Scheme, TypeCode, gpt, mbr};
use keel_format::{Geometry, VolumeKind};
use keel_source::{Lba, SectorCount, counted};

use super::draft::Draft;
use super::entry::{Drafted, NotDrafted, own_sectors};
use super::flags::{BOOT_INDICATOR, HIDDEN_TYPE};

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

/// The type of `scheme` for what stands behind an entry; where nothing known does, for the kind whose customary type it has.
fn translated(entry: &Drafted, scheme: Scheme, bytes: u64) -> TypeCode {
    const EFI: (TypeCode, TypeCode) = (TypeCode::Mbr(0xEF), TypeCode::Gpt(gpt::EFI_SYSTEM));
    const RECOVERY: (TypeCode, TypeCode) = (TypeCode::Mbr(0x27), TypeCode::Gpt(gpt::RECOVERY));
    let plain = match entry.type_code {
        TypeCode::Mbr(code) => TypeCode::Mbr(mbr::hidden_form(code).unwrap_or(code)),
        other => other,
    };
    // EFI and recovery volumes are told by their types; the others by what they hold.
    for (of_mbr, of_gpt) in [EFI, RECOVERY] {
        if plain == of_mbr || plain == of_gpt {
            return if scheme == Scheme::Gpt { of_gpt } else { of_mbr };
        }
    }
    let customary = |kind: &VolumeKind| match plain {
        TypeCode::Mbr(code) => kind.facts().mbr.usual == code,
        TypeCode::Gpt(guid) => kind.facts().gpt.0 == guid,
        TypeCode::Apm(_) => false,
    };
    let kind = entry.stands.as_ref().map(Geometry::kind).or_else(|| VolumeKind::ALL.iter().copied().find(customary));
    TypeCode::for_volume(scheme, kind.unwrap_or(VolumeKind::Ntfs), bytes)
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
        let active = if entry.attributes & BOOT_INDICATOR != 0 { gpt::LEGACY_BOOTABLE } else { 0 };
        entry.attributes = active | if plain.is_some() { gpt::HIDDEN } else { 0 };
        entry.type_code = translated(entry, Scheme::Gpt, entry.sectors.bytes(sector));
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
        let TypeCode::Mbr(code) = translated(entry, Scheme::Mbr, entry.sectors.bytes(sector)) else { continue };
        let hidden = entry.attributes & gpt::HIDDEN != 0;
        let hides = mbr::hidden_form(code | HIDDEN_TYPE).is_some();
        let lost: Vec<&str> = [
            (!entry.name.is_empty(), "its name"),
            (entry.attributes & gpt::REQUIRED != 0, "that it is required"),
            (
                entry.attributes & (gpt::READ_ONLY | gpt::NO_AUTOMATIC_MOUNT) != 0,
                "that it is read-only or has no automatic mount",
            ),
            (hidden && !hides, "that it is hidden"),
        ]
        .into_iter()
        .filter_map(|(is, what)| is.then_some(what))
        .collect();
        if !lost.is_empty() {
            told.push(format!("entry {}: an MBR cannot say {}", entry.slot, lost.join(", ")));
        }
        entry.type_code = TypeCode::Mbr(if hidden && hides { code | HIDDEN_TYPE } else { code });
        entry.attributes = if entry.attributes & gpt::LEGACY_BOOTABLE != 0 { BOOT_INDICATOR } else { 0 };
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
