//! Which entry each chosen find gets: kept ones, primaries, logicals, GPT entries.

use std::collections::BTreeMap;

use keel_format::table::gpt::{BASIC_DATA, HIDING_BITS};
use keel_format::table::{Partition, Role, Scheme, TableReading, TypeCode, mbr};
use keel_source::{ByteOffset, ByteRange, Lba, SharedSource};

use super::scheme::{MBR_REACH, former_extended, is_believable, usable_ground};
use super::{Choices, LayoutEntry, LeftOut, remains};
use crate::find::Find;

/// Primary entries of an MBR.
const PRIMARIES: usize = 4;

/// Entries for the chosen finds, which stand in the order of their starts. Entries of a sound old copy whose ground no
/// chosen find contradicts are kept as they are: a volume of a kind not known here must not vanish from the table.
pub(super) fn assign(
    source: &SharedSource,
    table: &TableReading,
    (scheme, choices): (Scheme, &Choices),
    chosen: &[&Find],
    left_out: &mut Vec<LeftOut>,
) -> Vec<LayoutEntry> {
    let sector = source.sector_size();
    let ground = usable_ground(source, table, scheme);
    let mut entries: Vec<LayoutEntry> = Vec::new();
    let former = former_entries(table, scheme, chosen, source);
    let supported = former.iter().any(|entry| chosen.iter().any(|find| entry.holds(find.range(), sector)));
    for mut partition in former {
        let find = chosen.iter().find(|find| partition.holds(find.range(), sector));
        // On a drive that stores less than it claims no entry can reach behind the end; a volume that was fitted to it
        // gives the length.
        let is_nowhere = source.identity().bytes > source.len();
        let cut = find.filter(|_| is_nowhere && partition.range(sector).end.0 > source.len());
        partition.sectors = cut.map_or(partition.sectors, |find| find.sectors);
        let range = partition.range(sector);
        let contradicted =
            chosen.iter().any(|other| find.is_none_or(|find| find.id != other.id) && other.range().overlap(range).is_some());
        let overlaps = entries.iter().any(|entry| entry.range(sector).overlap(range).is_some());
        // An entry that reaches behind the end of an image that was cut short is right all the same.
        let misplaced = find.is_none() && !ground.covers(range) && (is_nowhere || range.start < ground.start);
        let garbage = find.is_none() && !supported && !is_believable(source, &partition);
        if contradicted || overlaps || misplaced || garbage {
            continue;
        }
        let kept = kept_entry(&partition, find.copied());
        let why = match cut {
            Some(find) => format!("the entry reached behind the end of the drive; it ends with {} now", find.id),
            None => kept.why,
        };
        entries.push(LayoutEntry { why, ..kept });
    }
    let mut rest: Vec<&Find> = Vec::new();
    for find in chosen {
        if entries.iter().any(|entry| entry.find.as_ref() == Some(&find.id)) {
            continue;
        }
        if !find.start_byte.0.is_multiple_of(sector.bytes()) {
            let why = format!(
                "starts at byte {}, inside a sector of {} bytes: no table of this drive can point there; copy it to a drive with sectors of 512 bytes",
                find.start_byte.0,
                sector.bytes()
            );
            left_out.push(LeftOut { find: find.id.clone(), why });
            continue;
        }
        rest.push(find);
    }
    match scheme {
        Scheme::Gpt => add_gpt(&mut entries, &rest),
        Scheme::Mbr => add_mbr(source, table, &mut entries, &rest, left_out),
        Scheme::Apm => left_out.extend(rest.iter().map(|find| LeftOut {
            find: find.id.clone(),
            why: "has no entry in the Apple partition map, which is not written here; choose GPT or MBR".into(),
        })),
    }
    name_by_content(source, chosen, table, &mut entries);
    for entry in &mut entries {
        if let Some(code) = entry.find.as_ref().and_then(|find| choices.types.get(find))
            && *code != entry.type_code
            && code.scheme() == entry.role.scheme()
        {
            entry.why = format!("type {code} chosen by the technician, instead of {}", entry.type_code);
            entry.type_code = *code;
        }
    }
    entries.sort_by_key(|entry| entry.first);
    entries
}

/// Gives entries that are new the type that their volumes' content speaks for.
fn name_by_content(source: &SharedSource, chosen: &[&Find], table: &TableReading, entries: &mut [LayoutEntry]) {
    let sector = source.sector_size();
    for entry in entries.iter_mut() {
        let find = chosen.iter().find(|find| entry.find.as_ref() == Some(&find.id));
        let stated = |find: &&&Find| table.partitions.iter().any(|old| old.holds(find.range(), sector));
        let Some(find) = find.filter(|find| !stated(find)) else { continue };
        let told = remains::purpose(source, find).and_then(|purpose| purpose.type_code(entry.role.scheme(), find.kind));
        if let Some((code, why)) = told {
            entry.type_code = code;
            entry.why = format!("{}; {why}", entry.why);
        }
    }
}

/// The entries of the old table. Where both copies of a GPT are sound and differ, those of the copy that more of the
/// chosen finds agree with.
fn former_entries(table: &TableReading, scheme: Scheme, chosen: &[&Find], source: &SharedSource) -> Vec<Partition> {
    let sector = source.sector_size();
    let agrees = |partitions: &[Partition]| {
        chosen.iter().filter(|find| partitions.iter().any(|entry| entry.holds(find.range(), sector))).count()
    };
    match (scheme, table.primary.is_sound(), table.backup.is_sound()) {
        (Scheme::Mbr, _, _) => table.mbr.partitions.clone(),
        (Scheme::Apm, _, _) => table.apm.partitions.clone(),
        (Scheme::Gpt, true, true) if agrees(&table.backup.partitions) > agrees(&table.primary.partitions) => {
            table.backup.partitions.clone()
        }
        (Scheme::Gpt, true, _) => table.primary.partitions.clone(),
        (Scheme::Gpt, false, true) => table.backup.partitions.clone(),
        (Scheme::Gpt, false, false) => Vec::new(),
    }
}

fn kept_entry(partition: &Partition, find: Option<&Find>) -> LayoutEntry {
    let scheme = partition.role.scheme();
    let mut attributes = partition.attributes;
    let (type_code, why) = match find {
        Some(find) if partition.type_code.fits(find.kind) => {
            let hiding = if partition.type_code == TypeCode::Gpt(BASIC_DATA) { attributes & HIDING_BITS } else { 0 };
            attributes &= !hiding;
            let why = match hiding {
                0 => format!("a table entry of the drive states this start and length, and {} stands there", find.id),
                bits => {
                    format!("{} stands there; attribute bits 0x{bits:016x}, which keep it from being shown, are cleared", find.id)
                }
            };
            (partition.type_code, why)
        }
        Some(find) => {
            let wanted = TypeCode::for_volume(scheme, find.kind, find.bytes);
            let hidden = match partition.type_code {
                TypeCode::Mbr(code) => mbr::hidden_form(code).map(TypeCode::Mbr).filter(|shown| shown.fits(find.kind)),
                TypeCode::Gpt(_) | TypeCode::Apm(_) => None,
            };
            match hidden {
                Some(shown) => (shown, format!("type {} hides {}: changed to {shown}", partition.type_code, find.id)),
                None => (wanted, format!("the entry's type {} does not fit {}: changed", partition.type_code, find.kind.word())),
            }
        }
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
        attributes,
        ebr: None,
        why,
    }
}

fn new_entry(find: &Find, slot: u32, role: Role, why: String) -> LayoutEntry {
    let scheme = role.scheme();
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
        ebr: None,
        why,
    }
}

fn add_gpt(entries: &mut Vec<LayoutEntry>, rest: &[&Find]) {
    for find in rest {
        let slot = (1..).find(|slot| entries.iter().all(|entry| entry.slot != *slot)).unwrap_or(u32::MAX);
        let aligned = find.start_byte.0.is_multiple_of(1 << 20);
        let why = format!("{} from {}{}", find.kind.word(), find.start_lba, if aligned { ", on a 1 MiB boundary" } else { "" });
        entries.push(new_entry(find, slot, Role::Gpt, why));
    }
}

/// A volume that needs a role: a kept entry or a new find.
struct Seat<'a> {
    range: ByteRange,
    find: Option<&'a Find>,
    kept: Option<Role>,
    in_container: bool,
    /// The EBR that still stands before it.
    ebr: Option<Lba>,
    weight: i64,
}

impl Seat<'_> {
    /// What it costs to make it a logical, or a primary where it is now the other.
    fn changes(&self, logical: bool) -> bool {
        match self.kept {
            Some(role) => (role == Role::Logical) != logical,
            None => self.in_container != logical,
        }
    }
}

/// Primaries and logicals. The logicals are neighbours in one extended partition, each with a free sector before it for
/// its EBR; at most four entries are left for it and the primaries.
fn add_mbr(
    source: &SharedSource,
    table: &TableReading,
    entries: &mut Vec<LayoutEntry>,
    rest: &[&Find],
    left_out: &mut Vec<LeftOut>,
) {
    let sector = source.sector_size();
    let containers: Vec<ByteRange> = former_extended(source, table).iter().map(|extended| extended.range(sector)).collect();
    let mut seats: Vec<Seat<'_>> = Vec::new();
    for entry in entries.iter() {
        let range = entry.range(sector);
        seats.push(Seat { range, find: None, kept: Some(entry.role), in_container: false, ebr: None, weight: 1 << 32 });
    }
    for find in rest {
        if find.start_lba.0 > MBR_REACH || find.sectors.0 > MBR_REACH {
            let why = "starts or ends behind what an MBR entry can number; choose GPT".to_string();
            left_out.push(LeftOut { find: find.id.clone(), why });
            continue;
        }
        let ebr = remains::ebr_before(source, find);
        let in_container = ebr.is_some() || containers.iter().any(|container| container.covers(find.range()));
        let weight = i64::from(find.score.max(1));
        seats.push(Seat { range: find.range(), find: Some(find), kept: None, in_container, ebr, weight });
    }
    seats.sort_by_key(|seat| seat.range.start);
    let gap = |index: usize| {
        let before =
            index.checked_sub(1).and_then(|before| seats.get(before)).map_or(ByteOffset(sector.bytes()), |seat| seat.range.end);
        seats.get(index).is_some_and(|seat| seat.range.start.0 >= before.0 + sector.bytes())
    };
    let decisions = decide(&seats, &gap);
    let any_logical = decisions.contains(&Decision::Logical);
    let mut primaries = 0;
    let mut logicals = entries.iter().filter(|entry| entry.role == Role::Logical).count();
    for (index, (seat, decision)) in seats.iter().zip(&decisions).enumerate() {
        let Some(find) = seat.find else { continue };
        if *decision == Decision::Drop {
            let why = match gap(index) {
                true => "all four entries are taken, and it is no neighbour of the logicals; choose GPT",
                false => {
                    "all four entries are taken, and it cannot be logical: no sector before it is free for its EBR; choose GPT"
                }
            };
            left_out.push(LeftOut { find: find.id.clone(), why: why.into() });
            continue;
        }
        if *decision == Decision::Logical {
            logicals += 1;
            let why = match seat.in_container {
                true if seat.ebr.is_some() => "logical: the EBR that states it still stands before it",
                true => "logical: it lies in the extended partition",
                false => "logical: more volumes than primary entries, and the sector before it is free for its EBR",
            };
            let entry = new_entry(find, 4 + u32::try_from(logicals).unwrap_or(0), Role::Logical, why.into());
            entries.push(LayoutEntry { ebr: seat.ebr, ..entry });
        } else {
            primaries += 1;
            let taken = |slot: &u32| entries.iter().any(|entry| entry.slot == *slot && entry.role == Role::Primary);
            let extended = former_extended(source, table).map(|extended| extended.slot).filter(|_| any_logical);
            let slot = (1..=4).find(|slot| !taken(slot) && Some(*slot) != extended).unwrap_or(primaries);
            let why = format!("primary: one of at most four entries, {slot} is free");
            entries.push(new_entry(find, slot, Role::Primary, why));
        }
    }
    renumber(entries);
}

/// Logicals count from 5 in the order of the chain.
fn renumber(entries: &mut [LayoutEntry]) {
    let mut logicals: Vec<&mut LayoutEntry> = entries.iter_mut().filter(|entry| entry.role == Role::Logical).collect();
    logicals.sort_by_key(|entry| entry.first);
    for (index, entry) in logicals.into_iter().enumerate() {
        entry.slot = 5 + u32::try_from(index).unwrap_or(0);
    }
}

/// What a seat becomes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Decision {
    Primary,
    Logical,
    Drop,
}

/// Where the walk over the seats stands with regard to the logicals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Phase {
    Before,
    Among,
    Behind,
}

/// How good the decisions so far are: evidence taken in, then few changed roles, then few logicals, then late ones.
type Worth = (i64, std::cmp::Reverse<usize>, std::cmp::Reverse<usize>, usize);

/// The decisions so far that are best for one state of the walk.
#[derive(Clone)]
struct Path {
    worth: Worth,
    decisions: Vec<Decision>,
}

/// Decides for every seat, exactly: for each number of primaries used, each phase, and whether the seat before is taken
/// in, the best decisions so far are all that the rest depends on. `gap` tells whether a sector is free before a seat
/// when the one before it is taken in.
fn decide(seats: &[Seat<'_>], gap: &dyn Fn(usize) -> bool) -> Vec<Decision> {
    type State = (Phase, usize, bool);
    let start = Path { worth: (0, std::cmp::Reverse(0), std::cmp::Reverse(0), 0), decisions: Vec::new() };
    let mut states: BTreeMap<State, Path> = [((Phase::Before, 0, false), start)].into();
    for (index, seat) in seats.iter().enumerate() {
        let mut next: BTreeMap<State, Path> = BTreeMap::new();
        for ((phase, primaries, taken), path) in &states {
            let mut offer = |state: State, decision: Decision| {
                let (weight, changes, logicals, begin) = path.worth;
                let logical = decision == Decision::Logical;
                let taken_in = decision != Decision::Drop;
                // What the table states now is neither dropped nor turned into the other role.
                let torn = seat.kept.is_some_and(|role| !taken_in || (role == Role::Logical) != logical);
                let gain = if taken_in { seat.weight } else { 0 } - if torn { 1 << 40 } else { 0 };
                let worth = (
                    weight + gain,
                    std::cmp::Reverse(changes.0 + usize::from(taken_in && seat.changes(logical))),
                    std::cmp::Reverse(logicals.0 + usize::from(logical)),
                    if logical && begin == 0 { index } else { begin },
                );
                if next.get(&state).is_none_or(|other| other.worth < worth) {
                    let decisions = [path.decisions.as_slice(), &[decision]].concat();
                    next.insert(state, Path { worth, decisions });
                }
            };
            let behind = if *phase == Phase::Among { Phase::Behind } else { *phase };
            let room = PRIMARIES - usize::from(behind != Phase::Before);
            if *primaries < room {
                offer((behind, primaries + 1, true), Decision::Primary);
            }
            let first_of_all = *phase == Phase::Before && *primaries < PRIMARIES;
            if (*phase == Phase::Among || first_of_all) && (gap(index) || (index > 0 && !taken)) {
                offer((Phase::Among, *primaries, true), Decision::Logical);
            }
            offer((*phase, *primaries, false), Decision::Drop);
        }
        states = next;
    }
    states.into_values().max_by_key(|path| path.worth).map(|path| path.decisions).unwrap_or_default()
}
