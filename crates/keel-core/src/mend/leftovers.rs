//! Leftovers of former tables and containers: signatures on ground that belongs to something else now. They keep operating
//! systems from mounting, or make them show what is no more.

use std::sync::Arc;

use keel_format::WitnessKind;
use keel_format::table::{Partition, Scheme, TableReading, gpt};
use keel_source::{ByteOffset, Lba, SharedSource, Window};

use super::{Belongs, Edit, Intent, Order, Withheld};
use crate::find::{Find, Grade, outer};
use crate::layout::Layout;

/// Bytes of a signature that are erased.
const SECTOR: u64 = 512;
/// The most signatures of one container that are looked at.
const MOST_SIGNATURES: usize = 8;

/// A signature that belongs to nothing any more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leftover {
    /// What it is.
    pub what: String,
    /// Its first byte; one sector of 512 bytes is erased.
    pub at: ByteOffset,
    /// The find whose ground it lies on; none outside of the volumes.
    pub on: Option<String>,
    /// The file that holds the sector now: it is not erased then.
    pub held_by: Option<String>,
}

/// Every leftover of a drive whose volumes are settled in `layout`.
#[must_use]
pub fn leftovers(source: &SharedSource, table: &TableReading, finds: &[Find], layout: &Layout) -> Vec<Leftover> {
    let chosen: Vec<&Find> = finds.iter().filter(|find| layout.holds(find)).collect();
    let mut found = gpt_headers(source, table, finds, layout);
    // What lies wholly inside a container, or holds the ground by itself, is no leftover.
    let stale = outer(finds).filter(|find| find.kind.why_closed().is_some() && !layout.holds(find));
    for container in stale {
        let beaten = chosen.iter().any(|find| disproves(find, container));
        let places = container.witnesses.iter().filter(|witness| witness.weight > 0).filter_map(|witness| witness.at_byte);
        for at in places.take(MOST_SIGNATURES).filter(|_| beaten) {
            let what = format!("signature of {} ({})", container.kind.word(), container.id);
            found.push(Leftover { what, at: ByteOffset(at.0 / SECTOR * SECTOR), on: None, held_by: None });
        }
    }
    found.sort_by_key(|leftover| leftover.at);
    found.dedup_by_key(|leftover| leftover.at);
    for leftover in &mut found {
        let host = chosen.iter().find(|find| find.range().contains(leftover.at));
        leftover.on = host.map(|find| find.id.clone());
        leftover.held_by = host.and_then(|find| holder(source, find, leftover.at));
    }
    found
}

/// True when a volume that certainly stands here shows that a container does not: it begins where the container would, or
/// holds the ground of the structure that the container begins with. Copies of what stands elsewhere prove nothing.
fn disproves(find: &Find, container: &Find) -> bool {
    let overlaps = find.range().overlap(container.range()).is_some();
    let stronger = find.grade == Grade::Certain && find.score > container.score;
    let main = container.witnesses.iter().find(|witness| witness.kind == WitnessKind::BootSector && witness.weight > 0);
    let taken = main.and_then(|witness| witness.at_byte).is_none_or(|at| find.range().contains(at));
    overlaps && stronger && (taken || find.start_byte == container.start_byte)
}

/// Headers of a GPT where there should be none: both places of a drive with an MBR or without a table.
fn gpt_headers(source: &SharedSource, table: &TableReading, finds: &[Find], layout: &Layout) -> Vec<Leftover> {
    let sector = source.sector_size();
    let last = Lba((source.len() / sector.bytes()).saturating_sub(1));
    let copies = [(&table.primary, Lba(1)), (&table.backup, last)];
    let own = layout.scheme == Scheme::Gpt && !layout.whole_drive;
    // A copy that states where volumes stand is in use, beside an MBR or in front of a boot image.
    let in_use = |copy: &gpt::GptReading| {
        let meets =
            |entry: &Partition| finds.iter().any(|find| !find.is_former() && entry.first.offset(sector) == find.start_byte);
        copy.is_sound() && copy.partitions.iter().any(meets)
    };
    let stale = copies.into_iter().filter(|(copy, _)| copy.is_present() && !own && !in_use(copy));
    let leftover = |(copy, lba): (&gpt::GptReading, Lba)| Leftover {
        what: format!("{} header of a former GPT", copy.copy.word()),
        at: lba.offset(sector),
        on: None,
        held_by: None,
    };
    stale.map(leftover).collect()
}

/// The file of the volume that holds byte `at` of the drive.
fn holder(source: &SharedSource, find: &Find, at: ByteOffset) -> Option<String> {
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), find.range()));
    let volume = find.geometry.open(window).ok()?;
    let place = ByteOffset(at - find.start_byte);
    let mut name = None;
    let looked = volume.claims(&mut |path, extents| {
        let here = extents.iter().any(|extent| extent.volume_at.is_some_and(|at| at <= place && place < at + extent.bytes));
        if here && name.is_none() {
            name = Some(keel_source::printable(path));
        }
    });
    // Whose it is was not seen: then it is not nobody's.
    name.or_else(|| looked.err().map(|_| "a file, perhaps: not all of them could be looked at".into()))
}

/// The edits that erase exactly the sectors of what is held by no file.
pub(super) fn edits(source: &SharedSource, leftovers: &[Leftover]) -> Vec<Edit> {
    let edit = |leftover: &Leftover| {
        let mut before = vec![0; SECTOR as usize];
        if source.read_at(leftover.at, &mut before).is_err() {
            before.clear();
        }
        Edit {
            structure: leftover.what.clone(),
            at_byte: leftover.at,
            before,
            after: vec![0; SECTOR as usize].into(),
            // What is left stays as it is: nothing may stand lower by it.
            intent: Intent::Repair,
            belongs: Belongs::to(format!("leftovers/{}", leftover.at.0)),
            order: Order::Primary,
            reason: "it belongs to nothing any more, and systems that see it take the ground for something else".into(),
        }
    };
    leftovers.iter().filter(|leftover| leftover.held_by.is_none()).map(edit).collect()
}

/// What is said of leftovers that are not erased.
pub(super) fn told(leftovers: Vec<Leftover>, asked: bool) -> Vec<Withheld> {
    let tell = |leftover: Leftover| {
        let why = match (&leftover.held_by, asked) {
            (Some(file), _) => format!("the sector at {} belongs to {file} now: it is not erased", leftover.at),
            (None, true) => return None,
            (None, false) => {
                format!(
                    "a leftover at {} on ground that belongs to something else; erased on request (mend --also leftovers)",
                    leftover.at
                )
            }
        };
        Some(Withheld { find: leftover.on.unwrap_or_else(|| "drive".into()), structure: leftover.what, why })
    };
    leftovers.into_iter().filter_map(tell).collect()
}
