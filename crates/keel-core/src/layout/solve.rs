//! Choosing the finds: best total evidence without overlap, exactly.

use keel_format::table::TableReading;
use keel_source::{ByteRange, SharedSource, printable};

use super::{Choices, LeftOut};
use crate::find::{Behind, Find, Grade};

/// Weight that a held find has above all evidence.
const HELD: i64 = 1 << 40;

/// The finds that stand together, by start, and the reasons of the others.
pub(super) fn choose<'a>(
    drive: (&SharedSource, &TableReading),
    finds: &'a [Find],
    choices: &Choices,
    ground: ByteRange,
    whole_drive: bool,
) -> (Vec<&'a Find>, Vec<LeftOut>) {
    let mut left_out = Vec::new();
    let mut candidates: Vec<&Find> = Vec::new();
    for find in finds {
        match refusal(drive, find, choices, ground, whole_drive) {
            Some(why) => left_out.push(LeftOut { find: find.id.clone(), why }),
            None => candidates.push(find),
        }
    }
    let chosen = best_set(&candidates, choices);
    for find in &candidates {
        if !chosen.iter().any(|other| other.id == find.id) {
            left_out.push(LeftOut { find: find.id.clone(), why: overlap_reason(find, &chosen, choices) });
        }
    }
    (chosen, left_out)
}

fn refusal(
    (source, table): (&SharedSource, &TableReading),
    find: &Find,
    choices: &Choices,
    ground: ByteRange,
    whole_drive: bool,
) -> Option<String> {
    if choices.drop.contains(&find.id) {
        return Some("dropped by the technician".into());
    }
    if let Some(present) = find.older_than.as_ref().filter(|_| find.is_former()) {
        return Some(format!("is what is left of an older generation under {present}: its files can be taken out"));
    }
    if let Some(outer) = &find.inside {
        return Some(match &find.inside_file {
            Some(file) => format!("lies inside {outer}: {} is a disk image stored there", printable(file)),
            None => format!("lies inside {outer}, which holds other volumes by design"),
        });
    }
    if whole_drive {
        return Some("a volume fills the drive without a table: no entry is needed".into());
    }
    let held = choices.hold.contains(&find.id);
    let (least, sector) = (find.geometry.least_sector(), source.sector_size().0);
    if least < sector && !held {
        return Some(format!(
            "was made for sectors of {least} bytes and this drive has {sector}: no entry would mount it; open the drive with \
             --sector-size {least} and save a repaired copy"
        ));
    }
    if find.grade == Grade::Contradicted && !held {
        return Some("its witnesses contradict one another; hold it to take it in".into());
    }
    let past_end = find.range().end.0.saturating_sub(source.len());
    if past_end > 0 {
        // Where the rest may be elsewhere the entry that states the volume is right, and stays.
        let is_nowhere = find.behind.as_ref().is_some_and(|behind| behind.is_nowhere);
        let stated = table.partitions.iter().any(|entry| entry.holds(find.range(), source.sector_size()));
        let why = || {
            find.behind.as_ref().map_or_else(|| format!("reaches {past_end} bytes behind the end of the drive"), Behind::sentence)
        };
        return (is_nowhere || !stated).then(why);
    }
    if let Some(behind) = find.behind.as_ref().filter(|behind| behind.why.is_some()) {
        return Some(behind.sentence());
    }
    if !ground.covers(find.range()) {
        return Some("lies on the sectors that the table itself needs".into());
    }
    None
}

fn weight(find: &Find, choices: &Choices) -> i64 {
    let held = if choices.hold.contains(&find.id) { HELD } else { 0 };
    held + i64::from(find.score.max(1))
}

/// Weighted interval scheduling: for finds sorted by their end, the best set up to each one either leaves it out or
/// joins it to the best set that ends before it starts. Exact, in n log n.
fn best_set<'a>(candidates: &[&'a Find], choices: &Choices) -> Vec<&'a Find> {
    let mut sorted: Vec<&Find> = candidates.to_vec();
    sorted.sort_by_key(|find| (find.range().end, find.range().start, find.id.len(), find.id.clone()));
    let before: Vec<usize> =
        sorted.iter().map(|find| sorted.partition_point(|other| other.range().end <= find.range().start)).collect();
    let mut best: Vec<i64> = vec![0];
    for (find, before) in sorted.iter().zip(&before) {
        let with = best.get(*before).copied().unwrap_or(0) + weight(find, choices);
        let without = best.last().copied().unwrap_or(0);
        best.push(with.max(without));
    }
    let mut chosen = Vec::new();
    let mut count = sorted.len();
    while count > 0 {
        let (find, skip) = (sorted[count - 1], before[count - 1]);
        if best[count] > best[count - 1] {
            chosen.push(find);
            count = skip;
        } else {
            count -= 1;
        }
    }
    chosen.reverse();
    chosen
}

fn overlap_reason(find: &Find, chosen: &[&Find], choices: &Choices) -> String {
    let rivals: Vec<&Find> = chosen.iter().filter(|other| other.range().overlap(find.range()).is_some()).copied().collect();
    if let Some(held) = rivals.iter().find(|rival| choices.hold.contains(&rival.id)) {
        return format!("overlaps {}, which the technician holds", held.id);
    }
    let ids = rivals.iter().map(|rival| rival.id.as_str()).collect::<Vec<_>>().join(" and ");
    let total: i32 = rivals.iter().map(|rival| rival.score).sum();
    let newest = rivals.iter().filter_map(|rival| rival.newest).max();
    let age = match (find.newest, newest) {
        (Some(own), Some(other)) if own < other => format!("; the newest name in its root is of {own}, theirs of {other}"),
        (Some(own), Some(other)) if own > other => format!("; its newest name is of {own}, later than {other} there"),
        _ => String::new(),
    };
    format!("overlaps {ids}: more evidence there (weight {total} against {}){age}", find.score)
}
