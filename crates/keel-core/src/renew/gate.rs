//! What would be lost by a renewal, what speaks against it, and the words that it wants.

use std::collections::BTreeMap;
use std::path::PathBuf;

use keel_format::VolumeKind;
use keel_source::{ByteRange, SharedSource, counted, size_decimal};
use serde::Serialize;

use super::draft::Draft;
use super::entry::Content;
use crate::case::{Case, lines};
use crate::edit::Edit;
use crate::find::{Find, outer};
use crate::ladder::Ladder;
use crate::mend::Look;
use crate::rung::{RungName, RungState};

/// Bytes at the start of some volumes that are left to the system: tables stand there on purpose.
const SYSTEM_AREA: u64 = 32 << 10;

/// The words with which what is on a drive is given up.
pub const GIVE_UP: &str = "I give up what is on it";

/// A find that would be lost.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Lost {
    /// The find.
    pub find: String,
    /// Its kind.
    pub kind: VolumeKind,
    /// Its label.
    pub label: Option<String>,
    /// Its length in bytes.
    pub bytes: u64,
    /// Files that it lists; none where they cannot be listed here.
    pub files: Option<u64>,
}

/// What stands between a draft and its plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Gate {
    /// Finds that would be lost.
    pub lost: Vec<Lost>,
    /// A copy of the whole drive that was verified, as the case knows it.
    pub copy: Option<PathBuf>,
    /// Why the drive is not worth renewing, with the evidence, as sentences.
    pub against: Vec<String>,
    /// The words that have to be typed.
    pub words: Option<&'static str>,
}

impl Gate {
    /// What is to be said before anything is written, a sentence each.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let mut said = Vec::new();
        for lost in &self.lost {
            let files =
                lost.files.map(|files| format!(", {}", counted(usize::try_from(files).unwrap_or(usize::MAX), "file", "files")));
            let label = lost.label.as_deref().unwrap_or("no label");
            let (kind, size) = (lost.kind.word(), size_decimal(lost.bytes));
            said.push(format!("lost by this: {} ({kind}, {label}, {size}{})", lost.find, files.unwrap_or_default()));
        }
        if !self.lost.is_empty() {
            said.push(match &self.copy {
                Some(copy) => format!("a verified copy of this drive exists: {}", copy.display()),
                None => "no verified copy of this drive is known to its case".into(),
            });
        }
        said.extend(self.against.iter().map(|why| format!("not worth renewing: {why}")));
        said.extend(self.words.map(|words| format!("this wants the words {words:?} (--override-words)")));
        said
    }
}

/// What `draft` and the `edits` that it comes to would lose of `finds`, by what was seen in them, and what the ladder says of the drive.
#[must_use]
pub fn gate(
    source: &SharedSource,
    (finds, looks): (&[Find], &BTreeMap<String, Look>),
    (draft, edits): (&Draft, &[Edit]),
    now: &Ladder,
) -> Gate {
    let sector = draft.sector;
    let stands: Vec<ByteRange> =
        draft.entries.iter().filter(|entry| entry.content == Content::Stands).map(|entry| entry.held(sector)).collect();
    // Its entry stays, with room for it, or one that it lies in.
    let end = |find: &Find| find.range().end.0.min(source.len());
    let is_kept = |find: &Find| stands.iter().any(|range| range.start <= find.start_byte && range.end.0 >= end(find));
    // What no entry led to stays as findable as it was, unless something is written over it.
    let had_entry = |find: &Find| draft.former.iter().any(|first| first.offset(sector) == find.start_byte);
    let is_touched = |find: &Find| {
        let own = if find.kind.leaves_room_for_tables() { SYSTEM_AREA } else { 0 };
        let ground = ByteRange::new((find.start_byte + own).min(find.range().end), find.range().end);
        edits.iter().any(|edit| edit.range().overlap(ground).is_some())
    };
    let is_lost = |find: &Find| !is_kept(find) && (draft.is_fresh || had_entry(find) || is_touched(find));
    let lost: Vec<Lost> = outer(finds)
        .filter(|find| is_lost(find))
        .map(|find| Lost {
            find: find.id.clone(),
            kind: find.kind,
            label: find.label.clone(),
            bytes: find.bytes,
            files: looks.get(&find.id).filter(|look| look.opens).map(|look| look.counted),
        })
        .collect();
    let broken = |name: RungName| now.rung(name).filter(|rung| rung.state == RungState::Broken);
    let against: Vec<String> = [RungName::Health, RungName::Reads]
        .into_iter()
        .filter_map(broken)
        .map(|rung| {
            let worst = rung.findings.iter().max_by_key(|finding| finding.severity);
            let what = worst.map_or_else(|| "it is broken".into(), |finding| finding.what.clone());
            format!("rung {} {}: {what}", rung.rung.number(), rung.rung.word())
        })
        .collect();
    let copy = verified_copy(source);
    let gives_up = !lost.is_empty() && copy.is_none();
    Gate { words: (gives_up || !against.is_empty()).then_some(GIVE_UP), lost, copy, against }
}

/// The copy of the drive that its case saw verified without a flaw, where it still lies there.
fn verified_copy(source: &SharedSource) -> Option<PathBuf> {
    let path = source.identity().path.clone()?;
    let case = Case::of(&path, Some(source.identity())).ok().flatten()?;
    let verified = lines(&case.folder).ok()?.into_iter().rev().find(|line| line.event == "verify")?;
    let of = |name: &str| verified.detail.get("verified").and_then(|verified| verified.get(name));
    let is_whole = of("rotten").and_then(|list| list.as_array()).is_some_and(Vec::is_empty)
        && of("unproven_bytes").and_then(serde_json::Value::as_u64) == Some(0)
        && of("cancelled").and_then(serde_json::Value::as_bool) == Some(false)
        && of("verified_bytes").and_then(serde_json::Value::as_u64) == Some(source.len());
    let copy = PathBuf::from(verified.detail.get("copy")?.as_str()?);
    (is_whole && copy.exists()).then_some(copy)
}
