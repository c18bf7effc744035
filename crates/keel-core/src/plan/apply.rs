//! Applying a plan: bundle, writes, flush, read back.

use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use keel_source::{
    ByteOffset, ByteRange, COPY_LOG_VERSION, CopyHead, CopyLog, CopyState, PIECE, PageBuf, Payload, SharedSource, Source,
    WriteTarget, copy_log_of,
    own::{self, Over},
};

use super::Plan;
use crate::bundle::Bundle;
use crate::case;
use crate::edit::Edit;
use crate::error::{CoreError, Refusal, file_error};
use crate::leave::{Confirmation, Purpose, leave};
use crate::whose::not_on_its_own_medium;

/// What the journal says of a plan, or of its way back, that was written to its end.
pub(crate) const WRITTEN: &str = "written, read back and compared";

/// How to apply.
#[derive(Debug, Clone)]
pub struct ApplyOptions {
    /// The confirmation.
    pub confirmation: Confirmation,
    /// The words that override the rule of copying a failing drive first.
    pub override_words: Option<String>,
    /// Where the undo bundle goes; by default beside the other ones of the drive.
    pub bundle: Option<PathBuf>,
    /// Time of the apply, for the bundle's name: `2026-11-25T10-30-00`.
    pub stamp: String,
}

/// The most edits of a plan that the journal names.
const MOST_NOTED: usize = 1000;
/// The words that override the rule of copying a failing drive first.
pub(super) const OVERRIDE: &str = "I write without a copy";

/// A step of an apply that is behind it: everything up to it is on the drive or in the bundle.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// Every rule was asked and none stands against it; nothing is written yet.
    Allowed,
    /// The undo bundle is written and durable.
    BundleDurable,
    /// Edit number `n` of the plan, from 0, is written.
    Written(usize),
    /// Everything written is flushed.
    Flushed,
    /// Edit number `n` was read back and is right.
    Compared(usize),
}

/// A plan that was applied.
#[derive(Debug, Clone)]
pub struct Applied {
    /// Its undo bundle.
    pub bundle: PathBuf,
    /// Bytes written.
    pub bytes: u64,
}

/// Applies `plan` to `source`: checks the rules, writes and flushes the undo bundle, writes the edits in their order
/// with a flush between copies and primaries, flushes, reads back and compares. `each` hears of every step.
///
/// # Errors
/// [`CoreError::Refused`] before anything is written; [`CoreError::Source`] when a write fails — the bundle then puts
/// the drive back.
pub fn apply(
    source: &SharedSource,
    plan: &Plan,
    options: &ApplyOptions,
    each: &mut dyn FnMut(Step),
) -> Result<Applied, CoreError> {
    if plan.edits.is_empty() {
        return Err(CoreError::Nothing("the plan is empty: there is nothing to apply"));
    }
    let path = bundle_place(source, options);
    not_on_its_own_medium(source.as_ref(), &path)?;
    let leave = leave(source, &options.confirmation, Purpose::Apply)?;
    check(plan, options)?;
    own::may_stand(&path, Over::Nothing).map_err(file_error("create", &path))?;
    let mut target = source.open_target(&leave)?;
    // Again under the lock, and through what will be written: since staging another program may have written.
    unchanged(target.as_mut(), &plan.edits)?;
    let bundle = Bundle::new(source, &plan.edits);
    each(Step::Allowed);
    bundle.write(&path, &mut |at, buf| target.read_direct(at, buf).is_ok())?;
    case::note_bundle(source.identity(), &path, &options.stamp)?;
    each(Step::BundleDurable);
    let written = write_edits(target.as_mut(), &plan.edits, each);
    let edits: Vec<serde_json::Value> = plan.edits.iter().take(MOST_NOTED).map(noted).collect();
    let result = written.as_ref().map_or_else(|error| crate::chain(error), |()| WRITTEN.into());
    let detail =
        serde_json::json!({ "bundle": path, "edits": edits, "of": plan.edits.len(), "bytes": plan.bytes(), "result": result });
    case::note(source.as_ref(), "apply", &detail);
    written?;
    Ok(Applied { bundle: path, bytes: plan.bytes() })
}

/// An edit as the journal names it.
fn noted(edit: &Edit) -> serde_json::Value {
    let hash = |bytes: &[u8]| blake3::hash(bytes).to_hex().to_string();
    let after = match (edit.after.held(), edit.after.run()) {
        (_, Some(run)) => run.name().to_string(),
        (held, None) => hash(held.unwrap_or_default()),
    };
    // What stands under a long run is in the bundle alone.
    let before = if edit.after.run().is_some() { String::new() } else { hash(&edit.before) };
    serde_json::json!({
        "what": edit.structure, "at_byte": edit.at_byte, "bytes": edit.after.len(), "intent": edit.intent, "before": before,
        "after": after,
    })
}

/// Where the undo bundle of an apply goes.
#[must_use]
pub fn bundle_place(source: &SharedSource, options: &ApplyOptions) -> PathBuf {
    let by_default = || case::drive_folder(source.identity()).join(format!("undo-{}.ykundo", options.stamp));
    let path = options.bundle.clone().unwrap_or_else(by_default);
    std::path::absolute(&path).unwrap_or(path)
}

/// The writing half: copies, flush, primaries, flush, compare.
pub(super) fn write_edits(target: &mut dyn WriteTarget, edits: &[Edit], each: &mut dyn FnMut(Step)) -> Result<(), CoreError> {
    let mut order = edits.first().map(|edit| edit.order);
    for (index, edit) in edits.iter().enumerate() {
        // A primary is only touched once its copies are durable: a crash then leaves one of the two whole.
        if order != Some(edit.order) {
            target.flush()?;
            each(Step::Flushed);
            order = Some(edit.order);
        }
        target.write_payload(edit.at_byte, &edit.after)?;
        each(Step::Written(index));
    }
    target.flush()?;
    each(Step::Flushed);
    // What is compared is what the drive holds, not what the system keeps of it in memory.
    target.forget();
    let mut now = PageBuf::new(PIECE);
    for (index, edit) in edits.iter().enumerate() {
        kept(target, edit.at_byte, &edit.after, &mut now)?;
        each(Step::Compared(index));
    }
    Ok(())
}

/// Compares what the drive holds from `at` on with what was written there.
fn kept(target: &mut dyn WriteTarget, at: ByteOffset, payload: &Payload, now: &mut [u8]) -> Result<(), CoreError> {
    payload.each_piece(|from, piece| {
        let now = now.get_mut(..piece.len()).unwrap_or_default();
        target.read_direct(at + from, now)?;
        if now == piece { Ok(()) } else { Err(Refusal::NotKept { at: at + from }.into()) }
    })
}

fn check(plan: &Plan, options: &ApplyOptions) -> Result<(), CoreError> {
    if let Some(edit) = plan.edits.iter().find(|edit| !edit.can_be_undone()) {
        return Err(Refusal::Unsaved { at: edit.at_byte }.into());
    }
    if let Some(what) = plan.lowers.first() {
        return Err(Refusal::Lowers { what: what.clone() }.into());
    }
    if plan.copy_first && options.override_words.as_deref() != Some(OVERRIDE) {
        return Err(Refusal::NoCopy { words: OVERRIDE }.into());
    }
    if let Some(words) = plan.words.filter(|words| options.override_words.as_deref() != Some(*words)) {
        return Err(Refusal::NotGivenUp { words }.into());
    }
    Ok(())
}

fn unchanged(target: &mut dyn WriteTarget, edits: &[Edit]) -> Result<(), CoreError> {
    target.forget();
    for edit in edits {
        let mut now = vec![0; edit.before.len()];
        if target.read_back(edit.at_byte, &mut now).is_err() || now != edit.before {
            return Err(Refusal::Changed { at: edit.at_byte }.into());
        }
    }
    Ok(())
}

/// Saves the drive as it would be as a new sparse image at `path`; `each` hears the bytes done. Places that cannot be
/// read come back as ranges; a log beside the image says that they are missing, so that nobody takes them for zeros.
///
/// # Errors
/// [`CoreError::File`] when the image exists already or cannot be written.
pub fn save_as(view: &dyn Source, path: &Path, each: &mut dyn FnMut(u64)) -> Result<Vec<ByteRange>, CoreError> {
    const STEP: usize = 1 << 20;
    not_on_its_own_medium(view, path)?;
    let mut file = File::create_new(path).map_err(file_error("create", path))?;
    file.set_len(view.len()).map_err(file_error("write", path))?;
    let mut buf = vec![0; STEP];
    let mut bad = Vec::new();
    let mut at = ByteOffset(0);
    while let Some(data) = view.next_data(at) {
        at = data.start;
        while at < data.end {
            let len = usize::try_from(data.end - at).unwrap_or(STEP).min(STEP);
            let piece = &mut buf[..len];
            if let Err(error) = view.read_at(at, piece) {
                bad.extend(error.bad);
            }
            if piece.iter().any(|byte| *byte != 0) {
                file.seek(SeekFrom::Start(at.0)).and_then(|_| file.write_all(piece)).map_err(file_error("write", path))?;
            }
            at = at + len as u64;
            each(at.0);
        }
    }
    file.sync_all().map_err(file_error("flush", path))?;
    if !bad.is_empty() {
        note_missing(view, path, &bad)?;
    }
    let missing: u64 = bad.iter().map(|range| range.len()).sum();
    case::note(view, "save", &serde_json::json!({ "file": path, "bytes": view.len(), "missing_bytes": missing }));
    Ok(bad)
}

fn note_missing(view: &dyn Source, path: &Path, bad: &[ByteRange]) -> Result<(), CoreError> {
    let identity = view.identity();
    let sector = u32::try_from(identity.logical_sector.bytes()).unwrap_or(512);
    // Named after the repair, so that no copy of the drive goes on over it.
    let source = format!("{} repaired", identity.key());
    let head = CopyHead { version: COPY_LOG_VERSION, source, bytes: view.len(), sector, log: None };
    let mut log = CopyLog::create(&copy_log_of(path), &head)?;
    log.note(ByteRange::sized(ByteOffset(0), view.len()), CopyState::Copied, None);
    bad.iter().for_each(|range| log.note(*range, CopyState::Failed, None));
    Ok(log.flush()?)
}
