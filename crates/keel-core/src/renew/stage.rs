//! A draft as edits: the table's sectors, the structures of new volumes, and what of former ones has to go.

use std::collections::BTreeSet;
use std::sync::Arc;

use keel_format::make::{self, NewVolume};
use keel_format::table::{Scheme, TableReading};
use keel_format::{Geometry, VolumeKind};
use keel_source::{ByteOffset, ByteRange, Lba, Overlay, Payload, RangeSet, SharedSource, counted, size_decimal};
use uuid::{Builder, Uuid};

use super::draft::Draft;
use super::entry::{Content, Drafted, NotDrafted, START};
use super::fit::{self, Fitted};
use super::step::Wish;
use crate::edit::{Belongs, Edit, Intent, Order};
use crate::find::{Find, outer};
use crate::layout::{Layout, LayoutEntry};
use crate::mend::table::{Wanted, changed, stated};

/// Bytes at either end of a new volume in which nothing of a former one may stand: that is where systems look for signatures.
const CLEARED: u64 = 128 << 10;
/// The most signatures of one find that are cleared.
const MOST_SIGNATURES: usize = 64;
/// Sectors behind sector 0 in which an Apple partition map may stand.
const MAP_SECTORS: u64 = 63;

/// A volume that is made.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Made {
    /// Number of its entry.
    pub slot: u32,
    /// Its kind.
    pub kind: VolumeKind,
    /// Its label, as it was asked for.
    pub label: String,
    /// Its ground.
    pub range: ByteRange,
    /// What is needed to look into it.
    #[serde(skip)]
    pub geometry: Geometry,
}

/// A draft as edits.
#[derive(Debug, Clone)]
pub struct Staged {
    /// The table as it will state the drive.
    pub layout: Layout,
    /// The edits, in the order in which they are written.
    pub edits: Vec<Edit>,
    /// The volumes that are made.
    pub made: Vec<Made>,
    /// The volumes that get another length.
    pub fitted: Vec<Fitted>,
}

/// What is staged beside the draft.
#[derive(Debug, Clone, Copy)]
pub struct Beside<'a> {
    /// What was found on the drive.
    pub finds: &'a [Find],
    /// True when signatures of what is not kept are cleared, wherever they stand.
    pub clears_leftovers: bool,
    /// When it is made: seconds since 1970-01-01, UTC.
    pub made_at: u32,
}

/// The edits that make the drive what `draft` says.
///
/// # Errors
/// [`NotDrafted`] where a table or a volume cannot be made so.
pub fn stage(source: &SharedSource, table: &TableReading, draft: &Draft, beside: &Beside<'_>) -> Result<Staged, NotDrafted> {
    let kept_as_it_is = !draft.is_fresh && (draft.unsound.is_some() || draft.scheme == Some(Scheme::Apm));
    if beside.clears_leftovers && kept_as_it_is {
        let what = draft.unsound.as_deref().unwrap_or("an Apple partition map is not changed here");
        return Err(NotDrafted(format!("what is left over is told by a sound table ({what}): mend it first, or make a new one")));
    }
    let layout = layout(source, table, draft, beside.made_at);
    let mut edits = Vec::new();
    let mut made = Vec::new();
    // What the new table and the new volumes take: nothing else is written there.
    let mut taken = RangeSet::default();
    let sectors = table_sectors(source, table, draft, &layout)?;
    for wanted in &sectors {
        taken.add(ByteRange::sized(wanted.lba.offset(draft.sector), wanted.bytes.len() as u64));
    }
    if is_stated_anew(table, draft) {
        edits.extend(table_edits(source, draft, &layout, &sectors));
    }
    let of_table: BTreeSet<String> = edits.iter().map(|edit: &Edit| edit.belongs.group.clone()).collect();
    let (tables, mut fitted): (Vec<String>, Vec<Fitted>) = (of_table.iter().cloned().collect(), Vec::new());
    for entry in &draft.entries {
        if let Some((volume, changes)) = fit::stage(source, draft, entry, &tables)? {
            changes.iter().for_each(|edit| taken.add(edit.range()));
            edits.extend(changes);
            fitted.push(volume);
        }
    }
    let new = draft.entries.iter().filter_map(|entry| match &entry.content {
        Content::New(wish) => Some((entry, wish)),
        Content::Stands => None,
    });
    for (entry, wish) in new {
        let (volume, range) = volume(source, draft, entry, wish, beside.made_at)?;
        let group = format!("new/{} {}", entry.slot, wish.kind.word());
        let belongs = Belongs { group, needs: of_table.iter().cloned().collect() };
        let reason = format!("a new {} of {} is made{}", wish.kind.word(), size_decimal(range.len()), named(&wish.label));
        for part in &volume.parts {
            let at = range.start + part.at.0;
            taken.add(ByteRange::sized(at, part.bytes.len()));
            let order = if part.is_copy { Order::Copy } else { Order::Primary };
            let structure = format!("{} {}", wish.kind.word(), part.what);
            edits.push(written(source, (structure, at, part.bytes.clone()), Intent::Create, order, &belongs, &reason));
        }
        for (at, bytes) in ends(range, &taken) {
            let reason = "systems look for signatures at both ends of a volume: nothing of a former one stays there";
            let what = ("former signatures".to_string(), at, Payload::zeros(bytes));
            edits.push(written(source, what, Intent::Create, Order::Primary, &belongs, reason));
            taken.add(ByteRange::sized(at, bytes));
        }
        made.push(Made { slot: entry.slot, kind: wish.kind, label: wish.label.clone(), range, geometry: volume.geometry });
    }
    edits.extend(former_tables(source, table, draft, &taken));
    if beside.clears_leftovers {
        edits.extend(leftovers(source, draft, beside.finds, &taken));
    }
    // A stable sort: what is a copy stands before what it is a copy of is touched.
    edits.sort_by_key(|edit| edit.order);
    Ok(Staged { layout, edits, made, fitted })
}

fn named(label: &str) -> String {
    if label.is_empty() { String::new() } else { format!(", labelled {}", keel_source::printable(label)) }
}

/// An edit that writes `payload`, whatever stands there.
fn written(
    source: &SharedSource,
    (structure, at, payload): (String, ByteOffset, Payload),
    intent: Intent,
    order: Order,
    belongs: &Belongs,
    reason: &str,
) -> Edit {
    let mut before = vec![0; payload.held().map_or(0, <[u8]>::len)];
    if source.read_at(at, &mut before).is_err() {
        before.clear();
    }
    Edit { structure, at_byte: at, before, after: payload, intent, belongs: belongs.clone(), order, reason: reason.into() }
}

/// An identifier that no other purpose and no other time gives.
fn identifier(source: &SharedSource, purpose: &str, made_at: u32) -> Uuid {
    let hash = blake3::hash(format!("{} {made_at} {purpose}", source.identity().key()).as_bytes());
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&hash.as_bytes()[..16]);
    Builder::from_random_bytes(bytes).into_uuid()
}

/// The table of `draft`.
fn layout(source: &SharedSource, table: &TableReading, draft: &Draft, made_at: u32) -> Layout {
    let anew = draft.is_fresh || draft.is_marked || draft.is_converted;
    let disk = anew.then(|| identifier(source, "disk", made_at));
    let entry = |entry: &Drafted| LayoutEntry {
        find: None,
        slot: entry.slot,
        role: entry.role,
        type_code: entry.type_code,
        first: entry.first,
        sectors: entry.sectors,
        name: entry.name.clone(),
        unique: Some(
            entry.unique.unwrap_or_else(|| identifier(source, &format!("entry {} at {}", entry.slot, entry.first), made_at)),
        ),
        attributes: entry.attributes,
        ebr: entry.ebr,
        why: match &entry.content {
            Content::Stands => "what stands there stays".into(),
            Content::New(wish) => format!("a new {}{}", wish.kind.word(), named(&wish.label)),
        },
    };
    let scheme = draft.scheme.or(table.scheme).unwrap_or(Scheme::Mbr);
    let mut entries: Vec<LayoutEntry> = draft.entries.iter().map(entry).collect();
    entries.sort_by_key(|entry| entry.first);
    Layout {
        scheme,
        scheme_why: match (draft.is_fresh, draft.is_converted) {
            (true, _) => "it was asked for".into(),
            (_, true) => {
                format!("the table is converted; no volume moves ({})", counted(draft.entries.len(), "entry", "entries"))
            }
            _ => "the table stays".into(),
        },
        entries,
        left_out: Vec::new(),
        by_choice: BTreeSet::new(),
        new_ids: false,
        disk,
        whole_drive: draft.scheme.is_none(),
        by_hand: Vec::new(),
    }
}

/// The drive as a table made anew finds it: no code in sector 0 where it is fresh, and nothing of another scheme.
fn bare(source: &SharedSource, draft: &Draft) -> SharedSource {
    let sector = source.sector_size().bytes();
    let mut bare = Overlay::new(SharedSource::clone(source));
    let zeros = Payload::zeros(sector.min(source.len()));
    let from = if draft.is_fresh { START } else { ByteOffset(sector) };
    for at in [from, ByteOffset(sector), ByteOffset(source.len().saturating_sub(sector))] {
        bare.lay_payload(at, zeros.clone());
    }
    Arc::new(bare)
}

/// Every sector of the table that states the draft; none for a drive without one.
fn table_sectors(source: &SharedSource, table: &TableReading, draft: &Draft, layout: &Layout) -> Result<Vec<Wanted>, NotDrafted> {
    if !matches!(draft.scheme, Some(Scheme::Gpt | Scheme::Mbr)) {
        return Ok(Vec::new());
    }
    let wanted = if draft.is_fresh || draft.is_converted {
        let bare = bare(source, draft);
        let mut reading = keel_format::table::read(bare.as_ref());
        // The former chain of logicals binds nothing.
        reading.mbr.extended.clear();
        stated(&bare, &reading, layout)
    } else {
        stated(source, table, layout)
    };
    let scheme = with_article(layout.scheme.word());
    wanted.ok_or_else(|| NotDrafted(format!("{scheme} cannot state these entries on {} sectors", draft.drive)))
}

/// The edits by which these sectors come to stand on the drive.
fn table_edits(source: &SharedSource, draft: &Draft, layout: &Layout, sectors: &[Wanted]) -> Vec<Edit> {
    let scheme = layout.scheme.word();
    let reason = match (draft.is_fresh, draft.is_converted, draft.is_marked) {
        (true, ..) => format!("a new {scheme} is made"),
        (_, true, _) => format!("the table becomes {}; no volume moves", with_article(scheme)),
        (.., true) => "signature and identifier are written anew; the entries stay".into(),
        _ => format!("the {scheme} is to state {}", counted(layout.entries.len(), "entry", "entries")),
    };
    let edit = |wanted| changed(source, wanted, &reason).map(|edit| Edit { intent: Intent::Create, ..edit });
    sectors.iter().filter_map(edit).collect()
}

/// `an MBR`, `a GPT`.
fn with_article(scheme: &str) -> String {
    let article = if scheme.starts_with('M') { "an" } else { "a" };
    format!("{article} {scheme}")
}

/// True where the table does not say already what the draft says.
fn is_stated_anew(table: &TableReading, draft: &Draft) -> bool {
    let same = |entry: &Drafted| {
        table.partitions.iter().any(|old| {
            let name = old.name.as_deref().unwrap_or_default();
            (old.slot, old.first, old.sectors, old.type_code, old.attributes, name)
                == (entry.slot, entry.first, entry.sectors, entry.type_code, entry.attributes, entry.name.as_str())
        })
    };
    let kept = draft.entries.len() == table.partitions.len() && draft.entries.iter().all(same);
    draft.is_fresh || draft.is_marked || draft.is_converted || !kept
}

/// The new volume of an entry and its ground.
fn volume(
    source: &SharedSource,
    draft: &Draft,
    entry: &Drafted,
    wish: &Wish,
    made_at: u32,
) -> Result<(NewVolume, ByteRange), NotDrafted> {
    let range = entry.range(draft.sector);
    let serial = identifier(source, &format!("{} at {}", wish.kind.word(), entry.first), made_at).as_u128();
    let wanted = make::Wanted {
        bytes: range.len(),
        sector: draft.sector,
        hidden_sectors: entry.first.0,
        label: wish.label.clone(),
        cluster_bytes: wish.cluster,
        serial,
        journal: wish.journal,
        made_at,
    };
    let volume = wish.kind.make(&wanted).map_err(|why| NotDrafted(format!("{}: {why}", wish.kind.word())))?;
    Ok((volume, range))
}

/// What of the ends of `range` is in nobody's hands.
fn ends(range: ByteRange, taken: &RangeSet) -> Vec<(ByteOffset, u64)> {
    let head = ByteRange::new(range.start, range.end.min(range.start + CLEARED));
    let tail = ByteRange::new(range.start.max(ByteOffset(range.end.0.saturating_sub(CLEARED))).max(head.end), range.end);
    [head, tail].iter().flat_map(|end| taken.lacking(*end)).map(|range| (range.start, range.len())).collect()
}

/// The sectors of tables of other schemes, which would speak against the new one.
fn former_tables(source: &SharedSource, table: &TableReading, draft: &Draft, taken: &RangeSet) -> Vec<Edit> {
    if !draft.is_fresh && !draft.is_converted {
        return Vec::new();
    }
    let sector = source.sector_size();
    let last = Lba((source.len() / sector.bytes()).saturating_sub(1));
    let mut places: Vec<(&str, ByteRange)> = Vec::new();
    for (copy, lba) in [(&table.primary, Lba(1)), (&table.backup, last)] {
        if copy.is_present() {
            places.push(("header of the former GPT", ByteRange::sized(lba.offset(sector), sector.bytes())));
        }
    }
    if table.apm.present {
        let map = ByteRange::new(Lba(1).offset(sector), Lba(1 + MAP_SECTORS).offset(sector).min(ByteOffset(source.len())));
        places.push(("former Apple partition map", map));
    }
    let ebrs = draft.former_ebrs.iter().map(|ebr| ByteRange::sized(ebr.offset(sector), sector.bytes()));
    places.extend(ebrs.map(|range| ("EBR of the former table", range)));
    if draft.scheme.is_none() && table.scheme.is_some() {
        places.push(("former MBR", ByteRange::sized(START, sector.bytes())));
    }
    let mut kept = taken.clone();
    draft.entries.iter().filter(|entry| entry.content == Content::Stands).for_each(|entry| kept.add(entry.range(sector)));
    cleared(source, places.into_iter().map(|(what, range)| (what.to_string(), range)), &kept, "the table is another one now")
}

/// Signatures of what is not kept, wherever they stand.
fn leftovers(source: &SharedSource, draft: &Draft, finds: &[Find], taken: &RangeSet) -> Vec<Edit> {
    let sector = source.sector_size();
    let stands: Vec<ByteRange> =
        draft.entries.iter().filter(|entry| entry.content == Content::Stands).map(|entry| entry.range(sector)).collect();
    let mut kept = taken.clone();
    stands.iter().for_each(|range| kept.add(*range));
    let gone = outer(finds).filter(|find| !stands.iter().any(|range| range.contains(find.start_byte)));
    let places = gone.flat_map(|find| {
        let at = find.witnesses.iter().filter(|witness| witness.weight > 0).filter_map(|witness| witness.at_byte);
        let starts = at.chain([find.start_byte]).take(MOST_SIGNATURES);
        let what = format!("signature of {} ({})", find.kind.word(), find.id);
        starts.map(move |at| (what.clone(), ByteRange::sized(at.lba(sector).offset(sector), sector.bytes()))).collect::<Vec<_>>()
    });
    // Beside volumes that stay a second table may be in use: the ends are cleared where none does.
    let ends = [START, ByteOffset(source.len().saturating_sub(CLEARED).next_multiple_of(sector.bytes()))];
    let ends = ends.into_iter().filter(|_| stands.is_empty());
    let ends =
        ends.map(|at| ("end of the drive".to_string(), ByteRange::new(at, ByteOffset((at.0 + CLEARED).min(source.len())))));
    let reason = "it belongs to nothing that stays, and systems that see it take the ground for something else";
    cleared(source, places.chain(ends), &kept, reason)
}

/// Edits that clear of `places` what is in nobody's hands.
fn cleared(source: &SharedSource, places: impl Iterator<Item = (String, ByteRange)>, kept: &RangeSet, reason: &str) -> Vec<Edit> {
    let mut kept = kept.clone();
    let mut edits = Vec::new();
    for (what, range) in places {
        for gap in kept.lacking(range) {
            kept.add(gap);
            let zeros = vec![0; usize::try_from(gap.len()).unwrap_or(0)];
            let belongs = Belongs::to(format!("leftovers/{}", gap.start.0));
            let edit = written(source, (what.clone(), gap.start, zeros.into()), Intent::Create, Order::Primary, &belongs, reason);
            // What is zeros already is left alone.
            if edit.before.len() != edit.after.len() as usize || edit.before.iter().any(|byte| *byte != 0) {
                edits.push(edit);
            }
        }
    }
    edits
}
