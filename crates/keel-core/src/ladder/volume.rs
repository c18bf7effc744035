//! Rungs 6 to 9: each volume.

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_format::content::{ContentMatch, matches_type};
use keel_format::table::{Partition, TableReading, TypeCode, gpt, mbr};
use keel_format::{
    Compute, Deleted, Entry, Finding, LeftOpen, NodeKind, Promise, Severity, Structure, Take, Volume, VolumeKind, WitnessKind,
    read_whole,
};
use keel_source::{SectorSize, SharedSource, Window, counted, printable};

use super::{Rung, RungName, RungState, VolumeLadder, worst};
use crate::find::{Find, outer};
use crate::job::Cancel;
use crate::nodes;

/// Files sampled for rung 9.
pub(crate) const SAMPLED_FILES: usize = 10;
/// The most of each that is read.
const SAMPLED_BYTES: usize = 1 << 20;
/// Entries of the tree among which samples are chosen.
const MOST_CANDIDATES: usize = 20_000;

pub(super) fn ladders(source: &SharedSource, table: &TableReading, finds: &[Find], cancel: &Cancel) -> Vec<VolumeLadder> {
    let mut ladders: Vec<VolumeLadder> =
        finds.iter().filter(|find| find.inside.is_none()).map(|find| of_find(source, table, find, finds, cancel)).collect();
    ladders.extend(without_find(source, table, finds).map(|partition| of_entry(source, partition)));
    ladders.sort_by_key(|ladder| ladder.start_byte);
    ladders
}

/// Rung 6 of every volume and entry, and nothing above it: no volume is opened.
pub(super) fn entries(source: &SharedSource, table: &TableReading, finds: &[Find]) -> Vec<VolumeLadder> {
    let mut ladders: Vec<VolumeLadder> =
        outer(finds).map(|find| VolumeLadder::of(find, vec![entry(source, table, find, finds)])).collect();
    ladders.extend(without_find(source, table, finds).map(|partition| of_entry(source, partition)));
    ladders
}

/// The entries on whose ground no volume was found.
fn without_find<'a>(source: &SharedSource, table: &'a TableReading, finds: &'a [Find]) -> impl Iterator<Item = &'a Partition> {
    let sector = source.sector_size();
    table.partitions.iter().filter(move |partition| {
        let range = partition.range(sector);
        !outer(finds).any(|find| find.range().overlap(range).is_some())
    })
}

/// Rungs 8 and 9 of a volume that reads by `volume`, which `find` describes.
pub(crate) fn of_volume(volume: &dyn Volume, find: &Find, cancel: &Cancel) -> Vec<Rung> {
    vec![file_system(volume, find), files(volume, cancel)]
}

fn of_find(source: &SharedSource, table: &TableReading, find: &Find, finds: &[Find], cancel: &Cancel) -> VolumeLadder {
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), find.range()));
    if find.is_former() {
        return of_former(&window, find, cancel);
    }
    let mut own = entry(source, table, find, finds);
    own.findings.extend(nodes::shown(source, find));
    let mut rungs = vec![own, boot_sector(&window, find)];
    if let Some(why) = find.kind.why_closed() {
        rungs.push(Rung::new(RungName::FileSystem, RungState::Untested, "not read").then(why));
        rungs.push(Rung::new(RungName::Files, RungState::Untested, "not read"));
        return VolumeLadder::of(find, rungs);
    }
    match find.geometry.open(window) {
        Ok(volume) => {
            if let Some(own) = rungs.first_mut() {
                left_open(own, volume.as_ref(), find);
            }
            rungs.extend(of_volume(volume.as_ref(), find, cancel));
        }
        Err(error) => {
            let finding = Finding::at(
                Severity::Broken,
                find.start_byte + error.at.0,
                "the core metadata cannot be read",
                error.to_string(),
            );
            rungs.push(Rung::new(RungName::FileSystem, RungState::Broken, "core gone").with(vec![finding]));
            rungs.push(Rung::new(RungName::Files, RungState::Untested, "nothing lists"));
        }
    }
    VolumeLadder::of(find, rungs)
}

/// Why a volume that is whole may still not show, or show read-only: by how it was left. Notes: it is no worse for it.
fn left_open(rung: &mut Rung, volume: &dyn Volume, find: &Find) {
    for left in volume.left_open() {
        let (what, next) = match left {
            LeftOpen::Unclean => (
                "it was not cleanly unmounted: some systems check it before they show it, or show it read-only",
                "where the check finds nothing (ykeel check), the mark alone can be cleared; or let the system check it that it is of",
            ),
            LeftOpen::Journal => (
                "its journal holds what is not in its place yet: a system that may not write to the drive does not mount it",
                "here it is read as its journal would leave it; a system that may write finishes it when it mounts it",
            ),
            LeftOpen::Errors => (
                "a system noted errors on it: it may be mounted read-only, or wants a check first",
                "look at what the check says (ykeel check) before anything is written to it",
            ),
            LeftOpen::Asleep => (
                "a system sleeps on it: others mount it read-only or not at all, and what is written meanwhile is lost when it wakes",
                "start that system and shut it down wholly, or take the files out; write nothing to it before",
            ),
        };
        rung.findings.push(Finding::at(Severity::Note, find.start_byte, what, "how the system that used it last left it"));
        rung.next.push(next.to_string());
    }
}

/// What is left of an older generation: no rung of it is ever put back, so none is broken.
fn of_former(window: &SharedSource, find: &Find, cancel: &Cancel) -> VolumeLadder {
    let under = find.older_than.as_deref().unwrap_or("another volume");
    let untested = |rung, note: &str| Rung::new(rung, RungState::Untested, note);
    let entry = untested(RungName::Entry, "an older generation")
        .with(vec![Finding::at(
            Severity::Note,
            find.start_byte,
            format!("it is what is left of a volume that {under} was made over"),
            "metadata on ground that the present volume's own metadata does not reach",
        )])
        .then("look into it and take the files out: what was overwritten is told file by file");
    let files = match find.geometry.open(Arc::clone(window)) {
        Ok(volume) => files(volume.as_ref(), cancel),
        Err(_) => untested(RungName::Files, "nothing lists"),
    };
    let files = Rung { state: RungState::Untested, ..files };
    VolumeLadder::of(
        find,
        vec![entry, untested(RungName::BootSector, "overwritten"), untested(RungName::FileSystem, "overwritten"), files],
    )
}

/// Rung 6.
fn entry(source: &SharedSource, table: &TableReading, find: &Find, finds: &[Find]) -> Rung {
    let sector = source.sector_size();
    if find.needs_no_table(table) {
        // One that was fitted to what the drive stores ends with it.
        let reaches = find.behind.as_ref().filter(|_| find.range().end.0 > source.len());
        let Some(behind) = reaches else { return Rung::new(RungName::Entry, RungState::Sound, "needs none") };
        let how = "its own length, against the end that the drive shows";
        let finding = Finding::at(Severity::Doubt, find.start_byte, behind.sentence(), how);
        let rung = Rung::new(RungName::Entry, RungState::Doubtful, "reaches behind the end").with(vec![finding]);
        return rung.then("rung 4 tells what may hide the rest; what lies before the end reads as it is");
    }
    let Some(entry) = table.partitions.iter().find(|entry| entry.first.offset(sector) == find.start_byte) else {
        if let Some(rung) = overlaid(table, find, finds, sector) {
            return rung;
        }
        let near = table.partitions.iter().find(|entry| entry.range(sector).overlap(find.range()).is_some());
        let (what, at) = match near {
            Some(entry) => (
                format!(
                    "entry {} claims other ground: it starts at {}, the volume at {}",
                    entry.slot, entry.first, find.start_lba
                ),
                Some(entry.entry_at),
            ),
            None => (format!("no table entry points at the volume at {}", find.start_lba), None),
        };
        let finding = Finding {
            what,
            at_byte: at,
            how: "every entry of the table was compared with the start of the volume".into(),
            severity: Severity::Broken,
        };
        let findings = [finding].into_iter().chain(too_small(find, sector)).collect();
        return Rung::new(RungName::Entry, RungState::Broken, "no entry")
            .with(findings)
            .then("take the find into the layout and stage a table");
    };
    let mut findings = Vec::new();
    if let Some(behind) = &find.behind {
        let severity = if entry.range(sector).end.0 > source.len() { Severity::Broken } else { Severity::Note };
        findings.push(Finding::at(
            severity,
            entry.entry_at,
            behind.sentence(),
            "what the volume uses, against the true end of the drive",
        ));
    }
    if entry.sectors != find.sectors {
        let severity = if entry.sectors < find.sectors { Severity::Broken } else { Severity::Note };
        let what = format!("entry {} is {} sectors long, the volume {}", entry.slot, entry.sectors.0, find.sectors.0);
        findings.push(Finding::at(severity, entry.entry_at, what, "length in the entry against the volume's own"));
    }
    if !entry.type_code.fits(find.kind) {
        let hidden = matches!(entry.type_code, TypeCode::Mbr(code) if mbr::hidden_form(code).is_some());
        let what = format!(
            "type {} of entry {} {} {}: an operating system will not show the volume",
            entry.type_code,
            entry.slot,
            if hidden { "hides" } else { "does not fit" },
            find.kind.word()
        );
        findings.push(Finding::at(Severity::Broken, entry.entry_at, what, "type in the entry against what stands there"));
    }
    let hiding = if entry.type_code == TypeCode::Gpt(gpt::BASIC_DATA) { entry.attributes & gpt::HIDING_BITS } else { 0 };
    if hiding != 0 {
        let bits = [(60, "read-only"), (62, "hidden"), (63, "no automatic letter")];
        let words: Vec<&str> = bits.iter().filter(|(bit, _)| hiding >> bit & 1 == 1).map(|(_, word)| *word).collect();
        let what = format!("entry {} is marked {}: the volume is there and not shown", entry.slot, words.join(", "));
        let how = format!("Attributes 0x{:016x}", entry.attributes);
        findings.push(Finding::at(Severity::Doubt, entry.entry_at, what, how));
    }
    findings.extend(too_small(find, sector));
    Rung::new(RungName::Entry, worst(&findings), format!("entry {}", entry.slot)).with(findings)
}

/// A volume whose own sectors are smaller than the drive's.
fn too_small(find: &Find, sector: SectorSize) -> Option<Finding> {
    let least = find.geometry.least_sector();
    let what =
        format!("the volume was made for sectors of {least} bytes; behind sectors of {} no operating system mounts it", sector.0);
    let how = "sector or block size in the volume's own metadata";
    (least < sector.0).then(|| Finding::at(Severity::Broken, find.start_byte, what, how))
}

/// A volume without an entry on ground that the table gives to another volume that stands there: another generation.
fn overlaid(table: &TableReading, find: &Find, finds: &[Find], sector: SectorSize) -> Option<Rung> {
    let holder = finds.iter().find(|other| {
        other.id != find.id
            && other.is_outer()
            && other.range().overlap(find.range()).is_some()
            && table.partitions.iter().any(|entry| entry.holds(other.range(), sector))
    })?;
    let what = format!("a part of its ground is that of {}, which the table points at: it is of another time", holder.id);
    let finding = Finding::at(Severity::Note, find.start_byte, what, "ranges of both volumes against the entries of the table");
    let rung = Rung::new(RungName::Entry, RungState::Untested, "left out").with(vec![finding]);
    Some(rung.then("look into it and take the files out; hold it to have it instead"))
}

/// Rung 7: main against backup against the volume itself.
fn boot_sector(window: &SharedSource, find: &Find) -> Rung {
    if find.kind.why_closed().is_some() {
        return known_boot(window, find);
    }
    let main = find.geometry.is_stated_at(window, find.geometry.boot_at());
    let backup_at = find.geometry.copies().first().copied();
    let backup = backup_at.map(|at| find.geometry.is_stated_at(window, at));
    // Computing takes a walk over the volume; it is asked for only where the boot sector is gone.
    let best = || find.geometry.structures(window, find.start_byte, Compute::WhereNeeded).first().and_then(Structure::best);
    let best = if main { None } else { best() };
    let mut findings = Vec::new();
    if !main {
        let what = "the boot sector does not state this volume";
        findings.push(Finding::at(
            Severity::Broken,
            find.start_byte + find.geometry.boot_at().0,
            what,
            "its fields against the volume's own metadata",
        ));
    }
    if backup == Some(false) {
        let at = find.start_byte + backup_at.unwrap_or_default().0;
        findings.push(Finding::at(
            Severity::Doubt,
            at,
            "the backup boot sector does not state this volume",
            "its fields against the volume's own metadata",
        ));
    }
    let note = match (main, backup) {
        (true, Some(true)) => "both agree",
        (true, Some(false)) => "backup gone",
        (true, None) => "stands",
        (false, Some(true)) => "main gone",
        (false, _) => "gone",
    };
    let rung = Rung::new(RungName::BootSector, worst(&findings), note).with(findings);
    match best {
        _ if main => rung,
        Some(Take::Computed) => rung.then("mend: the boot sector can be computed from the volume itself"),
        Some(_) => rung.then("mend: put the boot sector back from its backup"),
        None => rung.then("look into it and take the files out: they do not need the boot sector"),
    }
}

/// Rung 7 of a kind that is recognised only: what its witnesses say.
fn known_boot(window: &SharedSource, find: &Find) -> Rung {
    let seen = |kind| find.witnesses.iter().any(|witness| witness.kind == kind && witness.weight > 0);
    // Where the structure can be read again it is: a plan may have put it back.
    let structure = find.geometry.structures(window, find.start_byte, Compute::WhereNeeded).into_iter().next();
    let main = structure.as_ref().map_or_else(|| seen(WitnessKind::BootSector), |structure| structure.main.holds());
    let (state, note) = match (main, seen(WitnessKind::BackupBootSector)) {
        (true, true) => (RungState::Sound, "both agree"),
        (true, false) => (RungState::Sound, "stands"),
        (false, _) => (RungState::Broken, "main gone"),
    };
    let rung = Rung::new(RungName::BootSector, state, note);
    if state == RungState::Sound {
        return rung;
    }
    let finding = Finding::at(
        Severity::Broken,
        find.start_byte,
        "no superblock of this volume stands at its start",
        "only copies of it were seen on the surface",
    );
    rung.with(vec![finding])
}

/// Rung 8.
fn file_system(volume: &dyn Volume, find: &Find) -> Rung {
    let findings: Vec<Finding> = volume.examine().into_iter().map(|finding| finding.moved(find.start_byte.0)).collect();
    let state = worst(&findings);
    let note = match (state, findings.is_empty()) {
        (RungState::Sound, false) => "sound, dirty".to_string(),
        (RungState::Sound, true) => "sound".to_string(),
        _ => counted(findings.len(), "finding", "findings"),
    };
    let rung = Rung::new(RungName::FileSystem, state, note).with(findings);
    let root = find.witnesses.iter().any(|witness| witness.kind == WitnessKind::RootDirectory && witness.weight > 0);
    if state == RungState::Broken && root { rung.then("take the files out before anything is changed") } else { rung }
}

/// Rung 9.
fn files(volume: &dyn Volume, cancel: &Cancel) -> Rung {
    let samples = samples(volume, cancel);
    let (mut matched, mut asked) = (0, 0);
    let mut findings = Vec::new();
    for (path, entry) in &samples {
        if cancel.is_cancelled() {
            break;
        }
        asked += 1;
        match sample(volume, entry) {
            Ok(()) => matched += 1,
            Err(why) => {
                let what = format!("{} {why}", printable(path));
                findings.push(Finding::of_all(
                    Severity::Doubt,
                    what,
                    "the file was opened and its first bytes compared with its type",
                ));
            }
        }
    }
    let state = match (matched, asked) {
        (_, 0) => RungState::Untested,
        (matched, asked) if matched == asked => RungState::Sound,
        (0, _) => RungState::Broken,
        _ => RungState::Doubtful,
    };
    let note = if asked == 0 { "no known type".to_string() } else { format!("{matched} of {asked} match") };
    Rung::new(RungName::Files, state, note).with(findings)
}

/// Up to [`SAMPLED_FILES`] present files of known types, spread over the tree.
pub(crate) fn samples(volume: &dyn Volume, cancel: &Cancel) -> Vec<(String, Entry)> {
    let mut candidates = Vec::new();
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        let entry = found.entry;
        let known = matches_type(&entry.name, b"?") != ContentMatch::Unknown;
        if entry.kind == NodeKind::File && entry.bytes > 0 && known {
            candidates.push((format!("{}/{}", found.folder, entry.name), entry.clone()));
        }
        let full = candidates.len() >= MOST_CANDIDATES || cancel.is_cancelled();
        if full { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    let step = candidates.len().div_ceil(SAMPLED_FILES).max(1);
    candidates.into_iter().step_by(step).collect()
}

fn sample(volume: &dyn Volume, entry: &Entry) -> Result<(), String> {
    let mut stream = volume.open(entry.id, "").map_err(|error| format!("cannot be opened: {error}"))?;
    let (bytes, whole) = read_whole(stream.as_mut(), SAMPLED_BYTES);
    if !whole {
        return Err("cannot be read whole".into());
    }
    match matches_type(&entry.name, &bytes) {
        ContentMatch::Mismatch => Err("does not hold what its type promises".into()),
        ContentMatch::Match | ContentMatch::Unknown => Ok(()),
    }
}

/// Rung 7 of a table entry behind which no volume was found: its first sectors, against what its type promises.
fn nothing_stated(source: &SharedSource, partition: &Partition) -> Rung {
    if partition.type_code.holds_no_volume() {
        return Rung::new(RungName::BootSector, RungState::Untested, format!("{}: holds no volume", partition.type_code.word()));
    }
    let at = partition.range(source.sector_size()).start;
    // Superblocks stand up to 1024 bytes in.
    let mut first = [0; 4096];
    let readable = source.read_at(at, &mut first).is_ok();
    let blank = readable && first.iter().all(|byte| *byte == 0);
    let promises =
        |promise: Promise| VolumeKind::ALL.iter().any(|kind| kind.facts().promised == promise && partition.type_code.fits(*kind));
    if !promises(Promise::Known) && !promises(Promise::Any) {
        let note = format!("type {}: no kind known here", partition.type_code);
        return Rung::new(RungName::BootSector, RungState::Untested, note);
    }
    let (severity, what, how) = match (blank, readable) {
        (true, _) => (Severity::Broken, "the first 4096 bytes of the entry hold only zeros", "they were read without error"),
        (false, false) => (Severity::Broken, "the first 4096 bytes of the entry cannot be read whole", "they were asked for"),
        // What Linux keeps behind its types may be of a kind that is not known here.
        (false, true) if promises(Promise::Any) => {
            (Severity::Doubt, "nothing at the start of the entry states a volume of a kind known here", STATED_BY)
        }
        (false, true) => (Severity::Broken, "nothing at the start of the entry states a volume, as its type promises", STATED_BY),
    };
    let finding = Finding::at(severity, at, what, how);
    let note = if severity == Severity::Broken { "gone" } else { "none known here" };
    let rung = Rung::new(RungName::BootSector, worst(std::slice::from_ref(&finding)), note).with(vec![finding]);
    rung.then("sweep the surface for the volume")
}

/// How it was seen that no volume is stated.
const STATED_BY: &str = "boot sectors and superblocks of every kind known here were looked for in its first 4096 bytes";

/// A table entry behind which no volume of a known kind was found.
fn of_entry(source: &SharedSource, partition: &Partition) -> VolumeLadder {
    let range = partition.range(source.sector_size());
    // A drive that lies keeps nothing of what lies behind its true end.
    let lost = range.start.0 >= source.len();
    let entry = match lost {
        false => Rung::new(RungName::Entry, RungState::Sound, format!("entry {}", partition.slot)),
        true => {
            let what = "the entry lies wholly behind the end of the drive: nothing of its volume is there";
            let how = "start of the entry against the length of the drive";
            Rung::new(RungName::Entry, RungState::Broken, format!("entry {}", partition.slot)).with(vec![Finding::at(
                Severity::Broken,
                partition.entry_at,
                what,
                how,
            )])
        }
    };
    let boot = match lost {
        true => Rung::new(RungName::BootSector, RungState::Untested, "not there"),
        false => nothing_stated(source, partition),
    };
    let nothing = |rung| Rung::new(rung, RungState::Untested, "");
    VolumeLadder {
        id: format!("p{}", partition.slot),
        kind: None,
        label: partition.name.as_deref().map(printable),
        start_byte: range.start,
        bytes: range.len(),
        rungs: vec![entry, boot, nothing(RungName::FileSystem), nothing(RungName::Files)],
    }
}
